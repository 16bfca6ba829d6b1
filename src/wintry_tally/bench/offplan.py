"""How an instrument is switched off and seen to be off, as plain bytes: what the guard outside the program is given.

The guard knows no dialects and no libraries: only where to connect, what to send, and which answer means off.
"""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import Any


@dataclass(frozen=True)
class Exchange:
    """Bytes to send, and the answer to wait for: up to `end`, or of `size` bytes; neither: none comes."""

    send: bytes
    end: bytes = b""
    size: int = 0

    def data(self) -> dict[str, Any]:
        """Plain data, bytes as hexadecimal digits."""
        return {"send": self.send.hex(), "end": self.end.hex(), "size": self.size}


@dataclass(frozen=True)
class OffPlan:
    """How one instrument is switched off from outside.

    Parts:
        host, port: a TCP port; or path, baud: a serial port.
        says: in order; asks: whether it is off. `off_answer`: the very bytes that mean off; empty: a word or number.
        current: asks another meter for its current, whose zero is `zero_A`, at `meter` (a plan with nothing to say).
        plug: what to pull when it stays on; alone: only one program at a time can be connected.
    """

    name: str
    plug: str
    host: str = ""
    port: int = 0
    path: str = ""
    baud: int = 9600
    says: tuple[Exchange, ...] = ()
    asks: Exchange | None = None
    off_answer: bytes = b""
    alone: bool = False
    meter: OffPlan | None = None
    current: Exchange | None = None
    zero_A: float = 0.0
    extra: dict[str, Any] = field(default_factory=dict)

    def data(self) -> dict[str, Any]:
        """Plain data for the guard."""
        return {
            **{key: value for key, value in asdict(self).items() if key not in {"says", "asks", "current", "meter", "extra", "off_answer"}},
            "says": [item.data() for item in self.says],
            "asks": self.asks.data() if self.asks is not None else None,
            "off_answer": self.off_answer.hex(),
            "current": self.current.data() if self.current is not None else None,
            "meter": self.meter.data() if self.meter is not None else None,
        }  # fmt: skip
