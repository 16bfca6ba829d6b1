"""The application without a window: an open book, its edits and live runs, safety; for the desk and the shell alike."""
