"""Drivers for instruments: one file a way of speaking; device libraries are used here alone."""
