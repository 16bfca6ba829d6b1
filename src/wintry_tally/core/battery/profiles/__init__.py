"""One file a chemistry, each with the profiles of its families."""
