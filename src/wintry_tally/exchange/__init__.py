"""Open formats in and out: logs as delimited text and Parquet, raw export, the analysis as JSON."""

from wintry_tally.exchange.layout import Choices, Layout
from wintry_tally.exchange.reader import LogFile, read_log

__all__ = ["Choices", "Layout", "LogFile", "read_log"]
