"""Remarks: what was noticed about a log, with its rows and, where there is one, the offered repair."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from wintry_tally.core.message import NOTHING, Message

REMARK_CODES: dict[str, str] = {
    "gap": "an interval longer than five usual ones",
    "clock-backwards": "the clock was set back or restarted",
    "clock-set": "the clock was set forward by years",
    "daylight-saving": "the clock jumped by about an hour",
    "duplicate-times": "rows with the same time",
    "blank-rows": "rows without a voltage, a current or a time",
    "amps-not-noted": "rows with a voltage whose current was not noted",
    "begins-under-load": "the first row already carries a current",
    "counter-not-zero": "a counter that does not begin at zero or at its preset",
    "counter-reset": "a counter that jumped in mid-run",
    "counter-disagrees": "a counter and the integrated current differ beyond their doubts",
    "current-from-counter": "the current was derived from a counter",
    "current-from-power": "the current was derived from power and voltage",
    "mean-voltage-implausible": "energy divided by charge is outside the family's window",
    "pack-voltage": "a pack of more or fewer cells than a 12 V one",
    "pack-voltage-open": "voltages that fit two packs",
    "voltage-outside-family": "readings outside the family's voltages",
    "outlier-reading": "single readings that cannot be",
    "temperature-suspect": "temperatures that look like another unit's",
    "readings-stand-still": "readings repeated to the last digit where the meter flickers before and after",
    "zero-offset": "the current is steadily off zero at rest",
    "sign-flipped": "a stretch whose current has the other sign",
    "full-undecided": "a full mark below what the meter may be off at zero",
    "efficiency-above": "more came out than went in",
    "unit-suspect": "numbers that look like another unit's",
    "more-than-possible": "more charge in one go than any battery of the rating holds",
    "rest-too-short": "the discharge began too soon after the charge",
    "coarse-sampling": "too much charge between two readings",
    "not-to-protection": "ended where charge was left in the cells",
    "past-cutoff": "the load stayed on below the cut-off that was given",
    "end-unclear": "the trace does not tell apart two causes of the end",
    "charger-setting": "charged at a voltage of another family, or floated",
    "rate-changed": "the load was changed in mid-run",
    "below-floor": "discharged, or set to be, below the family's floor",
    "ended-early": "a lead-acid test broken off above its end of discharge",
    "gauge-on-voltage": "a charge gauge that jumps with the load",
    "meters-disagree": "two measurements of one quantity differ beyond their doubts",
    "voltage-from-cells": "the pack's voltage was added up from its cells",
    "cells-apart": "cells of one pack far apart under load",
    "several-channels": "rows of several channels, of which one is read",
    "parts-joined": "several files joined into one log",
    "frame-clock": "the time was made from frame numbers and their interval",
    "family-doubt": "the voltages do not look like the declared family",
}
"""Every code with its meaning; the one list of them."""


@dataclass(frozen=True)
class Remark:
    """One remark.

    Parts:
        code: a key of REMARK_CODES.
        message: what a user reads, with the numbers as its parts.
        rows: first and last data row, 1-based and inclusive, or None when it is not about rows.
        offer: the repair offered; nothing when there is none.
    """

    code: str
    message: Message
    rows: tuple[int, int] | None = None
    offer: Message = NOTHING

    def __post_init__(self) -> None:
        assert self.code in REMARK_CODES, self.code

    @property
    def place(self) -> str:
        """Where it is, in words: "row 7", "rows 7 to 12"; empty when it is not about rows."""
        if self.rows is None:
            return ""
        first, last = self.rows
        return f"row {first}" if first == last else f"rows {first} to {last}"

    def as_dict(self) -> dict[str, Any]:
        """The shape of the command-line contract."""
        data: dict[str, Any] = {
            "code": self.code,
            "message": self.message,
            "rows": None if self.rows is None else list(self.rows),
        }
        if self.offer:
            data["offer"] = self.offer
        return data
