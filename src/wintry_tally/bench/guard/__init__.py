"""The last line: a process outside the program that switches everything off when the program is gone or stands still."""

from wintry_tally.bench.guard.guardian import Guardian, NoGuard, ProcessGuard
from wintry_tally.bench.guard.record import GuardRecord, take_records

__all__ = ["GuardRecord", "Guardian", "NoGuard", "ProcessGuard", "take_records"]
