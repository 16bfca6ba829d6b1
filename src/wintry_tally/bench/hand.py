"""Hand readings: what is typed at the bench, with the slips a tired hand makes caught before they are kept.

A catch is an offer; what was typed is never changed without a click.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import datetime, timedelta

from wintry_tally.core.battery import Family
from wintry_tally.core.errors import InputError
from wintry_tally.core.quantity import parse_typed
from wintry_tally.core.quantity.typed_slips import digit_neighbours

DAY = timedelta(days=1)
CLOCK_LIMIT_S = 30.0
"""A clock read by hand is good to so many seconds; common practice, no published source."""
APART_V, FALLS_V, RISES_V = 1.2, 0.4, 0.2
"""Of 12 V: a reading so far from the one before is looked at again; how far below and above it a slip is looked for."""


@dataclass(frozen=True)
class HandReading:
    """One reading typed by hand; current positive while drawn, counters as shown on the instrument."""

    at: datetime
    voltage_V: float | None
    current_A: float | None
    counter_Ah: float | None
    note: str = ""
    temperature_C: float | None = None


@dataclass(frozen=True)
class Slip:
    """A likely slip: which field, why, and the value offered in its place (None: only look again).

    `may_be`: whether a person may keep the reading as typed all the same; `unlike`: it is only another current than was expected.
    """

    field: str
    message: str
    offered: float | None = None
    may_be: bool = True
    unlike: bool = False


def parse_moment(text: str, now: datetime, previous: datetime | None) -> datetime:
    """A time of day ("14:05", "2.05pm", "14:05:30"), "now" or empty, or "+30 min" after the reading before.

    A time earlier in the day than the reading before means the day after: hand logs roll over at midnight.

    Raises:
        InputError: not a time.
    """
    stripped = text.strip().lower()
    if stripped in {"", "now"}:
        return now.replace(microsecond=0)
    if stripped.startswith("+") and previous is not None:
        return previous + timedelta(
            seconds=parse_typed(stripped[1:], "duration").value * (60.0 if re.fullmatch(r"\+\s*\d+", stripped) else 1.0)
        )
    match = re.fullmatch(r"(\d{1,2})[:.h](\d{2})(?:[:.](\d{2}))?\s*(am|pm)?", stripped)
    if match is None or int(match[1]) > 23 or int(match[2]) > 59 or int(match[3] or 0) > 59:
        raise InputError(f'"{text.strip()}" is not a time', mend='write it like "14:05", "now" or "+30 min"')
    hour = int(match[1])
    if match[4] == "pm" and hour < 12:
        hour += 12
    elif match[4] == "am" and hour == 12:
        hour = 0
    base = previous or now
    moment = base.replace(hour=hour, minute=int(match[2]), second=int(match[3] or 0), microsecond=0)
    if previous is not None and moment < previous:
        moment += DAY
    elif previous is None and moment > now + timedelta(minutes=5):
        moment -= DAY
    return moment


def check_reading(
    reading: HandReading, earlier: list[HandReading], family: Family, expected_A: float | None, now: datetime
) -> list[Slip]:
    """Likely slips in a reading, against the family's voltages, the readings before and the load's setting."""
    slips: list[Slip] = []
    last = earlier[-1] if earlier else None
    if reading.voltage_V is not None:
        slips += _voltage(reading.voltage_V, last, family, reading.current_A)
    if reading.current_A is not None:
        slips += _current(reading.current_A, last, expected_A)
    if reading.counter_Ah is not None:
        slips += _counter(reading, earlier, expected_A)
    if last is not None:
        elapsed = (reading.at - last.at).total_seconds()
        if elapsed <= 0:
            slips.append(
                Slip(
                    "time",
                    "the clock does not go forward: the reading before has the same time or a later one",
                    may_be=False,
                )
            )
        elif elapsed > 20 * 3600:
            slips.append(Slip("time", f"{elapsed / 3600:.1f} h after the reading before: is it the right day?"))
    if reading.at > now + timedelta(minutes=10):
        slips.append(Slip("time", "this time is still to come"))
    return slips


def _nearest(typed: float, low: float, high: float, aim: float) -> float | None:
    fits = [candidate for candidate in digit_neighbours(typed) if low <= candidate <= high]
    return min(fits, key=lambda candidate: abs(candidate - aim)) if fits else None


def _voltage(volts: float, last: HandReading | None, family: Family, amps: float | None) -> list[Slip]:
    low, high = family.plausible_V
    aim = last.voltage_V if last is not None and last.voltage_V is not None else 0.5 * (low + high)
    if family.lithium and 0.0 <= volts < 1.5 and not amps:
        return []
    if 1000 * low <= volts <= 1000 * high:
        return [Slip("voltage", f"{volts:g} looks like millivolts", volts / 1000)]
    if not low <= volts <= high:
        outside = f"{volts:g} V is outside {low:g} to {high:g} V for a {family.words} battery"
        pointed = next((value for value in (volts / 10.0, volts / 100.0) if low <= value <= high), None)
        if pointed is not None:
            return [Slip("voltage", f"{outside}: the decimal point lost?", pointed)]
        return [Slip("voltage", f"{outside}: a digit lost or swapped?", _nearest(volts, low, high, aim))]
    if last is not None and last.voltage_V is not None and abs(volts - last.voltage_V) > APART_V * family.share:
        low, high = last.voltage_V - FALLS_V * family.share, last.voltage_V + RISES_V * family.share
        near = _nearest(volts, low, high, last.voltage_V)
        return [Slip("voltage", f"{abs(volts - last.voltage_V):.2f} V away from the reading before", near)]
    return []


def _current(amps: float, last: HandReading | None, expected_A: float | None) -> list[Slip]:
    expected = expected_A or (last.current_A if last is not None and last.current_A else None)
    if not expected or amps == 0:
        return []
    if amps < 0:
        return [Slip("current", "a negative current while discharging", -amps)]
    if 600 * expected <= amps <= 1700 * expected:
        return [Slip("current", f"{amps:g} looks like milliamperes", amps / 1000)]
    if amps > 1.8 * expected or amps < 0.4 * expected:
        return [
            Slip(
                "current",
                f"{amps:g} A where about {expected:g} A was expected: a digit, or Ah read for A?",
                _nearest(amps, 0.85 * expected, 1.15 * expected, expected),
                unlike=True,
            )
        ]
    return []


def _counter(reading: HandReading, earlier: list[HandReading], expected_A: float | None) -> list[Slip]:
    counted = [item for item in earlier if item.counter_Ah is not None]
    value = reading.counter_Ah
    assert value is not None
    if not counted:
        if 0 < value < 5:
            return [Slip("counter", f"the counter begins at {value:g} Ah: reset it, or keep this as the start", None)]
        return []
    last = counted[-1]
    assert last.counter_Ah is not None
    hours = (reading.at - last.at).total_seconds() / 3600.0
    down = len(counted) > 1 and (counted[0].counter_Ah or 0) > last.counter_Ah
    moved = (
        (last.counter_Ah - value)
        if down or (len(counted) == 1 and value < last.counter_Ah)
        else value - last.counter_Ah
    )
    if moved < -0.05:
        return [Slip("counter", f"the counter went from {last.counter_Ah:g} back to {value:g} Ah: reset, or misread?")]
    current = expected_A or reading.current_A or last.current_A
    if current and hours > 0:
        should = current * hours
        if abs(moved - should) > max(0.3, 0.25 * should):
            aim = last.counter_Ah - should if value < last.counter_Ah else last.counter_Ah + should
            slack = max(0.3, 0.1 * should)
            near = _nearest(value, aim - slack, aim + slack, aim)
            return [
                Slip(
                    "counter",
                    f"the counter moved {moved:.2f} Ah in {hours:.2f} h; {current:g} A would be {should:.2f} Ah",
                    near,
                )
            ]
    return []
