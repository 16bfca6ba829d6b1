"""A finding about a battery: a message, how grave, and its working where there is one."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from wintry_tally.core.message import Message
from wintry_tally.core.working import Working

Weight = Literal["good", "note", "warning", "contradiction"]


@dataclass(frozen=True)
class Finding:
    """What a check makes of the facts so far."""

    code: str
    message: Message
    weight: Weight
    working: Working | None = None
