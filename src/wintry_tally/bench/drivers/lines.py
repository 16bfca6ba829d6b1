"""Meters that send a line by themselves over a serial port, and files that another program lengthens."""

from __future__ import annotations

import re
import threading
import time
from pathlib import Path
from typing import Any

from wintry_tally.bench.drivers.dialect import MOST_LINE, AskedDialect, FileDialect, LineDialect, matched
from wintry_tally.bench.drivers.link import Exchange
from wintry_tally.bench.drivers.quantities import value_in
from wintry_tally.bench.interfaces import Reads
from wintry_tally.core.errors import InstrumentError

FRESH_S = 3.0
"""A line older than this is no reading any more."""
MOST_TAIL = 4096
"""Bytes of the end of a file that are looked at."""


def values_in(text: str, dialect: LineDialect | AskedDialect, name: str) -> dict[str, float]:
    """What a line tells, in kept units; empty where its pattern does not fit.

    Raises:
        InstrumentError: a value that is no whole number, or a pattern that takes too long.
    """
    found: dict[str, str] = {}
    for match in matched(dialect.pattern, text):
        groups = match.groupdict()
        if dialect.pairs:
            quantity = dialect.pairs.get(str(groups.get("key")))
            if quantity is not None:
                found[quantity] = groups["value"]
            continue
        found = {quantity: value for quantity, value in groups.items() if value is not None}
        break
    return {
        quantity: value_in(shown, quantity, f"{name}, {quantity}", dialect.decimal, dialect.units.get(quantity, ""))
        for quantity, shown in found.items()
    }


class LineMeter(Reads):
    """Listens on a serial port in a thread of its own; the newest line that fits the pattern counts."""

    def __init__(self, name: str, port: str, dialect: LineDialect) -> None:
        self.name, self.port, self.dialect = name, port, dialect
        self.exchange = Exchange()
        self._lock = threading.Lock()
        self._values: dict[str, float] = {}
        self._at = 0.0
        self._odd = ""
        self._failure = ""
        self._halt = threading.Event()
        self._thread: threading.Thread | None = None

    def quantities(self) -> dict[str, float]:
        """See Reads; waits for the first line within the time a line stays fresh."""
        if self._thread is None or not self._thread.is_alive():
            self._begin()
        until = time.monotonic() + FRESH_S
        while True:
            with self._lock:
                if self._values and time.monotonic() - self._at <= FRESH_S:
                    return dict(self._values)
                failure, odd, heard = self._failure, self._odd, bool(self._values)
            if failure or heard or time.monotonic() > until:
                break
            time.sleep(0.02)
        if failure:
            raise InstrumentError(f"{self.name} on {self.port}: {failure}", mend="check its plug and its port")
        if odd:
            raise InstrumentError(f"{self.name} sends {odd}")
        raise InstrumentError(f"{self.name} on {self.port} has sent nothing for {FRESH_S:g} s", mend="check its plug")

    def _begin(self) -> None:
        self._halt.clear()
        self._failure, self._values, self._odd = "", {}, ""
        self._thread = threading.Thread(target=self._listen, name=f"line {self.name}", daemon=True)
        self._thread.start()

    def _listen(self) -> None:
        import serial

        try:
            with serial.Serial(self.port, self.dialect.baud, timeout=0.2) as line:
                pending = b""
                while not self._halt.is_set():
                    pending += line.read(min(MOST_LINE, max(1, line.in_waiting)))
                    *whole, pending = re.split(rb"[\r\n]+", pending)
                    for raw in whole:
                        self._take(raw.decode("utf-8", errors="replace"))
                    if len(pending) > MOST_LINE:
                        with self._lock:
                            self._odd = f"more than {MOST_LINE} bytes without an end of line"
                        pending = b""
        except (OSError, ValueError, serial.SerialException) as error:
            with self._lock:
                self._failure = (str(error).splitlines() or ["lost"])[0][:120]

    def _take(self, text: str) -> None:
        if not text.strip():
            return
        self.exchange.heard(text)
        try:
            values, told = values_in(text, self.dialect, self.name), text
        except InstrumentError as error:
            values, told = {}, error.what
        with self._lock:
            if not values:
                self._odd = f"“{told[:40]}”, which its pattern does not know"
                return
            self._values = values
            self._at, self._odd = time.monotonic(), ""

    def close(self) -> None:
        """See Reads."""
        self._halt.set()
        if self._thread is not None:
            self._thread.join(timeout=1.0)


class WatchedFile(Reads):
    """The last whole line of a CSV that grows; a file that has stood still for a while gives no reading."""

    def __init__(self, name: str, path: str, dialect: FileDialect, stale_s: float = 10.0) -> None:
        self.name, self.path, self.dialect, self.stale_s = name, Path(path), dialect, stale_s
        self.exchange = Exchange()
        self._places: dict[str, int] = {}
        self._seen_size = -1
        self._grew = 0.0

    def quantities(self) -> dict[str, float]:
        """See Reads."""
        try:
            if not self.path.is_file():
                raise InstrumentError(f"{self.name}: {self.path} cannot be read (no such file)", mend="check its path")
            known = self.path.stat()
            size = known.st_size
            with self.path.open("rb") as file:
                if not self._places or size < self._seen_size:
                    self._find(file.readline(MOST_TAIL).decode("utf-8", errors="replace"))
                file.seek(max(0, size - MOST_TAIL))
                lines = file.read().decode("utf-8", errors="replace").split("\n")
        except OSError as error:
            raise InstrumentError(f"{self.name}: {self.path} cannot be read ({error.strerror or error})") from None
        if size != self._seen_size:
            # a file that is looked at for the first time may have stood still for long
            stood_s = max(0.0, time.time() - known.st_mtime) if self._seen_size < 0 else 0.0
            self._seen_size, self._grew = size, time.monotonic() - stood_s
        if time.monotonic() - self._grew > self.stale_s:
            raise InstrumentError(f"{self.name}: {self.path.name} has not grown for {self.stale_s:g} s")
        last = lines[-2] if len(lines) > 1 else ""
        self.exchange.heard(last)
        cells = [cell.strip() for cell in last.split(self.dialect.delimiter)]
        found = {}
        for quantity, place in self._places.items():
            if place >= len(cells):
                raise InstrumentError(f"{self.name}: the last line “{last[:40]}” is too short")
            unit = self.dialect.units.get(quantity, "")
            found[quantity] = value_in(cells[place], quantity, f"{self.name}, {quantity}", self.dialect.decimal, unit)
        return found

    def close(self) -> None:
        """See Reads: nothing stays open between readings."""
        return

    def _find(self, header: str) -> None:
        titles = [title.strip().strip('"') for title in header.split(self.dialect.delimiter)]
        self._places = {}
        for quantity, pattern in self.dialect.columns.items():
            place = next((index for index, title in enumerate(titles) if matched(pattern, title)), None)
            if place is not None:
                self._places[quantity] = place
        if not self._places:
            raise InstrumentError(f"{self.name}: no column of {self.path.name} is known", mend="choose another dialect")


def exchange_of(instrument: Any) -> list[str]:
    """What was said and heard lately, oldest first."""
    holder = getattr(instrument, "link", instrument)
    exchange = getattr(holder, "exchange", None)
    return exchange.lines() if isinstance(exchange, Exchange) else []
