"""The same capabilities from the shell. No Qt is imported unless a window is asked for."""
