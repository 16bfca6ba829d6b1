"""A line to an instrument, whatever carries it, with what was said on it lately."""

from __future__ import annotations

import threading
import time
from collections import deque
from typing import Any

from wintry_tally.core.errors import InstrumentError

TIME_LIMIT_S = 0.6
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


class VisaLink:
    """Text to and from an instrument at a VISA address (TCPIP socket, serial, USB where present).

    A question that is not answered in time closes the line; the next one opens it anew.
    """

    def __init__(self, name: str, address: str, line_end: str = "\n") -> None:
        self.name, self.address, self.line_end = name, address, line_end
        self.exchange = Exchange()
        self._resource: Any = None
        self._lock = threading.RLock()

    def tell(self, text: str) -> None:
        """Send a command.

        Raises:
            InstrumentError: the instrument cannot be reached.
        """
        with self._lock:
            self._guarded(text, lambda resource: resource.write(text))

    def ask(self, text: str) -> str:
        """Send a question and give back the answer, stripped.

        Raises:
            InstrumentError: no answer within the time limit, or the instrument cannot be reached.
        """
        with self._lock:
            answer = str(self._guarded(text, lambda resource: resource.query(text))).strip()
            self.exchange.heard(answer)
            return answer

    def _guarded(self, text: str, act: Any) -> Any:
        try:
            resource = self._open()
            self.exchange.said(text)
            return act(resource)
        except InstrumentError:
            raise
        except Exception as error:  # a driver library raises what it likes; here it ends in one kind
            self.close()
            reason = "no answer in time" if "imeout" in f"{type(error).__name__}{error}" else _first_line(error)
            self.exchange.heard(f"({reason})")
            raise InstrumentError(
                f"{self.name}: {reason} ({self.address})", mend="check its power, its line and its address"
            ) from None

    def _open(self) -> Any:
        if self._resource is None:
            manager = _manager()
            try:
                resource = manager.open_resource(self.address, open_timeout=int(1000 * TIME_LIMIT_S))
            except Exception as error:
                raise InstrumentError(
                    f"{self.name} at {self.address} cannot be reached ({_first_line(error)})",
                    mend="check its power, its line and its address",
                ) from None
            resource.timeout = int(1000 * TIME_LIMIT_S)
            resource.read_termination = resource.write_termination = self.line_end
            self._resource = resource
        return self._resource

    def close(self) -> None:
        """Let go of the line."""
        with self._lock:
            resource, self._resource = self._resource, None
            if resource is not None:
                try:
                    resource.close()
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
