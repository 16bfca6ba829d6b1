"""The computation: no interface, no files, no devices, no database."""
