"""Wintry Tally: plans, watches, counts, remembers and judges battery tests, with the working for every figure."""

__version__ = "0.1.0"
