"""The test book: one file on disk that holds samples, claims, runs, readings and traces."""

from wintry_tally.book.book import Book, Run, RunSettings, RunStatus

__all__ = ["Book", "Run", "RunSettings", "RunStatus"]
