"""The application without a window: live runs and safety, for the desk and the shell alike. No Qt."""
