"""Where an instrument is, in whatever way it was written, as one thing that can be compared, opened and guarded."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

_SOCKET = re.compile(r"TCPIP\d*::(?P<host>[^:]+|\[[^]]+\])::(?P<port>\d+)::SOCKET", re.IGNORECASE)
_SERIAL = re.compile(r"ASRL(?P<port>/.+?)(?:::INSTR)?", re.IGNORECASE)
_PLAIN = re.compile(r"(?:tcp:(?://)?)?(?P<host>[^:/\s]+|\[[^]]+\]):(?P<port>\d+)", re.IGNORECASE)


@dataclass(frozen=True)
class Address:
    """A TCP port ("tcp"), a serial port or other path ("serial"), or something only VISA knows ("visa").

    `key` is the same for every way of writing the same place.
    """

    kind: str
    text: str
    host: str = ""
    port: int = 0
    path: str = ""

    @property
    def key(self) -> str:
        """What two programs that mean the same place both come to."""
        if self.kind == "tcp":
            return f"tcp:{self.host}:{self.port}"
        if self.kind == "serial":
            return f"serial:{Path(self.path).resolve()}"
        return f"visa:{self.text.upper()}"


def address_of(text: str) -> Address:
    """An address as it is typed: VISA, "host:port", "tcp:host:port", or the path of a serial port."""
    cleaned = text.strip()
    found = _SOCKET.fullmatch(cleaned) or _PLAIN.fullmatch(cleaned)
    if found is not None:
        host = found["host"].strip("[]").lower()
        return Address("tcp", cleaned, "127.0.0.1" if host in {"localhost", "::1"} else host, int(found["port"]))
    serial = _SERIAL.fullmatch(cleaned)
    if serial is not None or cleaned.startswith("/"):
        return Address("serial", cleaned, path=serial["port"] if serial is not None else cleaned)
    return Address("visa", cleaned)
