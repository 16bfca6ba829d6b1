"""The world outside: instruments, the loop that feeds the engine, and the journal that keeps every reading."""
