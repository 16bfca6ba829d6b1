"""The shared widgets, each its own file; none knows the book."""
