"""The one family of errors a user can meet: what is wrong, where, and the mend."""

from __future__ import annotations


class WintryError(Exception):
    """The world's error (bad input, a broken file, a silent device), never a bug of ours.

    Parts:
        what: what is wrong, with the value and the limit.
        where: the file, row, column or field, or an empty string.
        mend: what the user can do about it.
    """

    def __init__(self, what: str, where: str = "", mend: str = "") -> None:
        super().__init__(what, where, mend)
        self.what = what
        self.where = where
        self.mend = mend

    def __str__(self) -> str:
        """One line: where, what, and the mend."""
        head = f"{self.where}: {self.what}" if self.where else self.what
        text = f"{head}; {self.mend}" if self.mend else head
        return " ".join(text.split())


class InputError(WintryError):
    """Something typed or given on a command line cannot be understood."""


class LogError(WintryError):
    """A log file cannot be read or does not hold what an analysis needs."""


class BookError(WintryError):
    """The test book cannot be opened or written."""


class InstrumentError(WintryError):
    """An instrument is silent, returns nonsense or lies outside its range."""


class SilentError(InstrumentError):
    """An instrument does not answer in time, or is not to be reached."""


class StillOnError(InstrumentError):
    """An instrument is not surely off; the mend says what to unplug."""


class StuckError(InstrumentError):
    """An instrument's driver did not come back at all: nothing is waited for any longer."""
