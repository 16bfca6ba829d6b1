"""Hand readings: the one just within what is taken as it is typed, the one just beyond.

Common practice, no published source, where nothing else is said; every value is worked out beside its rule.
"""

from __future__ import annotations

from datetime import datetime, timedelta

import pytest

from wintry_tally.bench.hand import HandReading, Slip, check_reading, parse_moment
from wintry_tally.core.battery import family_named, pack_of
from wintry_tally.core.errors import InputError

LFP = family_named("lfp")
NOON = datetime(2026, 11, 30, 12, 0)


def slips(
    volts: float | None, amps: float | None = None, counter: float | None = None, after: timedelta = timedelta(hours=1),
    last: HandReading | None = None, expected_A: float | None = None, nominal_V: float = 12.8,
) -> list[Slip]:  # fmt: skip
    before = last or HandReading(NOON, 13.0 * nominal_V / 12.8, None, None)
    typed = HandReading(NOON + after, volts, amps, counter)
    return check_reading(typed, [before], pack_of(LFP, nominal_V), expected_A, NOON + timedelta(days=2))


@pytest.mark.parametrize("nominal_V", [12.8, 25.6, 51.2])
@pytest.mark.parametrize(("away_V", "told"), [(1.19, False), (-1.19, False), (1.21, True), (-1.21, True)])
def test_a_voltage_far_from_the_one_before_is_looked_at_again(nominal_V: float, away_V: float, told: bool) -> None:
    """1.2 V of 12.8 V; of a pack of more cells, as much a cell."""
    times = nominal_V / 12.8
    assert bool(slips((13.0 + away_V) * times, nominal_V=nominal_V)) is told


def test_what_is_offered_for_a_voltage_lies_near_the_one_before() -> None:
    """11.30 for 13.10: between 0.4 V below and 0.2 V above 13.0 V, of a pack of 16 cells four times as far."""
    assert slips(11.3)[0].offered == pytest.approx(13.1)
    far = slips(42.0, nominal_V=51.2, last=HandReading(NOON, 52.0, None, None))
    assert far and far[0].offered is not None and 52.0 - 1.6 <= far[0].offered <= 52.0 + 0.8


@pytest.mark.parametrize(
    ("amps", "told", "offered"),
    [
        (8.0 * 1.79, False, None), (8.0 * 1.81, True, None), (8.0 * 0.41, False, None), (8.0 * 0.39, True, None),
        (8.0 * 599, True, None), (8.0 * 601, True, 4.808), (8.0 * 1699, True, 13.592), (8.0 * 1701, True, None),
        (-8.0, True, 8.0), (0.0, False, None), (80.0, True, 8.0),
    ],
)  # fmt: skip
def test_a_current_is_held_against_what_the_load_was_set_to(amps: float, told: bool, offered: float | None) -> None:
    """8 A were set: from 0.4 to 1.8 times it may be read; 600 to 1700 times is a thousand times, in mA."""
    found = slips(13.0, amps, expected_A=8.0)
    assert bool(found) is told
    if offered is not None:
        assert found[0].offered == pytest.approx(offered)


@pytest.mark.parametrize(
    ("after", "words"),
    [
        (timedelta(0), "does not go forward"), (timedelta(seconds=1), ""), (timedelta(hours=20), ""),
        (timedelta(hours=20, minutes=1), "right day"),
    ],
)  # fmt: skip
def test_a_time_too_late_or_too_early_is_looked_at_again(after: timedelta, words: str) -> None:
    found = slips(13.0, after=after)
    assert bool(found) is bool(words) and (
        not words or (words in found[0].message and found[0].may_be is (after > timedelta(0)))
    )


def test_a_time_still_to_come_is_told_past_ten_minutes() -> None:
    for minutes, told in ((10, False), (11, True)):
        typed = HandReading(NOON + timedelta(minutes=minutes), 13.0, None, None)
        assert bool(check_reading(typed, [], LFP, None, NOON)) is told


@pytest.mark.parametrize(
    ("moved_Ah", "told"), [(8.0, False), (6.01, False), (5.99, True), (9.99, False), (10.01, True), (-0.06, True)]
)
def test_a_counter_moves_by_current_times_time(moved_Ah: float, told: bool) -> None:
    """8 A for an hour: 8 Ah, a quarter more or less."""
    before = HandReading(NOON - timedelta(hours=1), 13.0, 8.0, 0.0), HandReading(NOON, 13.0, 8.0, 8.0)
    typed = HandReading(NOON + timedelta(hours=1), 13.0, 8.0, 8.0 + moved_Ah)
    assert bool(check_reading(typed, list(before), LFP, 8.0, NOON + timedelta(days=1))) is told


@pytest.mark.parametrize(("counter", "told"), [(0.0, False), (4.99, True), (5.0, False)])
def test_a_counter_that_does_not_begin_at_nothing(counter: float, told: bool) -> None:
    typed = HandReading(NOON, 13.0, 8.0, counter)
    assert bool(check_reading(typed, [], LFP, 8.0, NOON)) is told


@pytest.mark.parametrize(
    ("text", "second"), [("14:59", 0), ("23:59:59", 59), ("0:59", 0), ("00:00", 0), ("14.05", 0), ("14h05", 0)]
)
def test_the_last_minute_and_second_of_an_hour_are_times(text: str, second: int) -> None:
    assert parse_moment(text, NOON, None).second == second


@pytest.mark.parametrize("text", ["24:00", "12:60", "12:30:60", "1230", "12:5"])
def test_what_no_clock_shows_is_no_time(text: str) -> None:
    with pytest.raises(InputError, match="is not a time"):
        parse_moment(text, NOON, None)
