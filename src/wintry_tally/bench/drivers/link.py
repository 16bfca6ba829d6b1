"""A line to an instrument, whatever carries it, with what was said on it lately. Bounded in bytes and in time."""

from __future__ import annotations

import contextlib
import select
import socket
import threading
import time
from abc import ABC, abstractmethod
from collections import deque
from typing import Any

from wintry_tally.bench.drivers.address import Address, address_of
from wintry_tally.core.errors import InstrumentError, SilentError

TIME_LIMIT_S = 0.6
"""For one answer."""
MOST_BYTES = 4096
"""For one answer; whoever sends more without an end of line says nothing that could be read."""
LATELY = 40


class Exchange:
    """The last lines said and heard, for "show me the raw exchange"."""

    def __init__(self) -> None:
        self._lines: deque[str] = deque(maxlen=LATELY)
        self._lock = threading.Lock()

    def said(self, text: str) -> None:
        """To the instrument."""
        self._add("→", text)

    def heard(self, text: str) -> None:
        """From it."""
        self._add("←", text)

    def _add(self, way: str, text: str) -> None:
        with self._lock:
            self._lines.append(f"{time.strftime('%H:%M:%S')} {way} {text.strip()[:200]}")

    def lines(self) -> list[str]:
        """Oldest first."""
        with self._lock:
            return list(self._lines)


class Wire(ABC):
    """Bytes to and from one place. Every call ends within its time; errors are the library's own."""

    @abstractmethod
    def write(self, content: bytes, limit_s: float) -> None:
        """All of it, or an exception."""

    @abstractmethod
    def read(self, most: int, limit_s: float) -> bytes:
        """What there is, at least one byte, at most `most`; empty when the time is over."""

    @abstractmethod
    def close(self) -> None:
        """Let go; may be called twice, and while another thread reads."""


class SocketWire(Wire):
    """TCP."""

    def __init__(self, host: str, port: int, limit_s: float) -> None:
        self._socket = socket.create_connection((host, port), timeout=limit_s)

    def write(self, content: bytes, limit_s: float) -> None:
        """See Wire."""
        self._socket.settimeout(limit_s)
        self._socket.sendall(content)

    def read(self, most: int, limit_s: float) -> bytes:
        """See Wire."""
        ready, _, _ = select.select([self._socket], [], [], limit_s)
        if not ready:
            return b""
        found = self._socket.recv(most)
        if not found:
            raise ConnectionResetError("it hung up")
        return found

    def close(self) -> None:
        """See Wire."""
        with contextlib.suppress(OSError):  # nobody at the other end
            self._socket.shutdown(socket.SHUT_RDWR)
        self._socket.close()


class SerialWire(Wire):
    """A serial port."""

    def __init__(self, path: str, baud: int, limit_s: float) -> None:
        import serial

        self._port = serial.Serial(path, baud, timeout=0, write_timeout=limit_s)
        self._port.reset_input_buffer()

    def write(self, content: bytes, limit_s: float) -> None:
        """See Wire."""
        self._port.write(content)

    def read(self, most: int, limit_s: float) -> bytes:
        """See Wire."""
        ready, _, _ = select.select([self._port.fileno()], [], [], limit_s)
        return bytes(self._port.read(most)) if ready else b""

    def close(self) -> None:
        """See Wire."""
        self._port.close()


class VisaWire(Wire):
    """Whatever else VISA reaches (VXI-11, HiSLIP); measured with, never driven: the guard could not switch it off."""

    def __init__(self, address: str, limit_s: float) -> None:
        self._resource = _manager().open_resource(address, open_timeout=int(1000 * limit_s))
        self._resource.timeout = int(1000 * limit_s)

    def write(self, content: bytes, limit_s: float) -> None:
        """See Wire."""
        self._resource.write_raw(content)

    def read(self, most: int, limit_s: float) -> bytes:
        """See Wire."""
        found, _status = self._resource.visalib.read(self._resource.session, most)
        return bytes(found)

    def close(self) -> None:
        """See Wire."""
        self._resource.close()


class TextLink:
    """Text to and from an instrument, a line at a time.

    A question that is not answered whole and in time closes the line; the next one opens it anew, so that no late
    answer is taken for another question's. A thread that was given up (`disown`) can say nothing more.
    """

    def __init__(self, name: str, address: str, line_end: str = "\n", baud: int = 9600) -> None:
        self.name, self.address, self.line_end, self.baud = name, address, line_end, baud
        self.exchange = Exchange()
        self._end = line_end.encode()
        self._wire: Wire | None = None
        self._lock = threading.RLock()
        self._disowned: set[threading.Thread] = set()

    def tell(self, text: str) -> None:
        """Send a command.

        Raises:
            InstrumentError: the instrument cannot be reached.
        """
        with self._lock:
            self._guarded(text, asked=False)

    def ask(self, text: str) -> str:
        """Send a question and give back the answer, stripped.

        Raises:
            InstrumentError: no whole answer within the time limit, or the instrument cannot be reached.
        """
        with self._lock:
            answer = self._guarded(text, asked=True)
            self.exchange.heard(answer)
            return answer.strip()

    def disown(self, thread: threading.Thread) -> None:
        """Never mind what this thread still has to say: it was given up while it was stuck."""
        self._disowned.add(thread)
        self._lock = threading.RLock()  # the old one is held by whoever is stuck
        wire, self._wire = self._wire, None
        if wire is not None:
            threading.Thread(target=_closed, args=(wire,), name="closing", daemon=True).start()

    def _guarded(self, text: str, *, asked: bool) -> str:
        try:
            if threading.current_thread() in self._disowned:
                raise InstrumentError(f"{self.name}: given up")
            wire = self._open()
            self.exchange.said(text)
            wire.write(text.encode() + self._end, TIME_LIMIT_S)
            return self._line(wire) if asked else ""
        except InstrumentError:
            raise
        except Exception as error:  # a device library raises what it likes; here it ends in one kind
            self.close()
            late = isinstance(error, TimeoutError) or "imeout" in type(error).__name__
            reason = "no answer in time" if late else _first_line(error)
            self.exchange.heard(f"({reason})")
            raise (SilentError if late else InstrumentError)(
                f"{self.name}: {reason} ({self.address})", mend="check its power, its line and its address"
            ) from None

    def _line(self, wire: Wire) -> str:
        """One line, whole."""
        until, found = time.monotonic() + TIME_LIMIT_S, b""
        while True:
            left = until - time.monotonic()
            if left <= 0:
                raise TimeoutError
            found += wire.read(MOST_BYTES - len(found), left)
            head, end, rest = found.partition(self._end)
            if end:
                if rest.strip():
                    raise ValueError(f"more than one answer to one question (“{rest.decode(errors='replace')[:20]}”)")
                return head.decode("utf-8", errors="replace")
            if len(found) >= MOST_BYTES:
                raise ValueError(f"more than {MOST_BYTES} bytes without an end of line")

    def _open(self) -> Wire:
        if self._wire is None:
            try:
                self._wire = opened(address_of(self.address), self.baud)
            except Exception as error:
                raise SilentError(
                    f"{self.name} at {self.address} cannot be reached ({_first_line(error)})",
                    mend="check its power, its line and its address",
                ) from None
        return self._wire

    def close(self) -> None:
        """Let go of the line."""
        wire, self._wire = self._wire, None
        if wire is not None:
            _closed(wire)


def opened(address: Address, baud: int) -> Wire:
    """A wire to an address; raises what the library at hand raises."""
    if address.kind == "tcp":
        return SocketWire(address.host, address.port, TIME_LIMIT_S)
    if address.kind == "serial":
        return SerialWire(address.path, baud, TIME_LIMIT_S)
    return VisaWire(address.text, TIME_LIMIT_S)


def _closed(wire: Wire) -> None:
    try:
        wire.close()
    except Exception:
        return  # a broken line closes as it can


_shared: Any = None


def _manager() -> Any:
    global _shared
    if _shared is None:
        import pyvisa

        _shared = pyvisa.ResourceManager("@py")
    return _shared


def _first_line(error: Exception) -> str:
    return (str(error).splitlines() or [type(error).__name__])[0][:120]
