"""Ends on the clock, across a change to or from daylight saving and with their day. Zones as in the IANA database."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta, timezone
from zoneinfo import ZoneInfo

import pytest

from wintry_tally.core.protocol.attended import Attendance, offers_for, parse_attended
from wintry_tally.core.protocol.leads import KCMIL_AMPACITY, KCMIL_MM2, ampacity_A, awg_area_mm2
from wintry_tally.core.quantity.moments import clock_words, later

OSLO = ZoneInfo("Europe/Oslo")


@pytest.mark.parametrize(
    ("begins", "clock"),
    [
        (datetime(2026, 10, 24, 22, 0, tzinfo=OSLO), "07:00"),  # ten hours later, summer time having ended at 3:00
        (datetime(2027, 3, 27, 22, 0, tzinfo=OSLO), "09:00"),  # and begun at 2:00
        (datetime(2026, 11, 24, 22, 0, tzinfo=OSLO), "08:00"),
        (datetime(2026, 11, 24, 22, 0), "08:00"),
        (datetime(2026, 11, 24, 22, 0, tzinfo=timezone(timedelta(hours=9))), "08:00"),
    ],
)
def test_ten_hours_later_by_the_clock_that_hangs_there_then(begins: datetime, clock: str) -> None:
    ends = later(begins, 36_000.0)
    assert f"{ends:%H:%M}" == clock
    if begins.tzinfo is not None:
        assert ends.astimezone(UTC) - begins.astimezone(UTC) == timedelta(hours=10)
    assert Attendance(begins, parse_attended("always")).ends(36_000.0) == ends


def test_an_end_carries_its_day_where_that_is_another() -> None:
    now = datetime(2026, 11, 26, 9, 0)
    for days, words in ((0, "08:10"), (1, "Fri 08:10"), (6, "Wed 08:10"), (7, "Thu 3 Dec 08:10"), (40, "Tue 5 Jan 08:10"), (-1, "Wed 25 Nov 08:10")):  # fmt: skip
        assert clock_words(datetime(2026, 11, 26, 8, 10) + timedelta(days=days), now) == words


def test_the_wait_for_somebody_goes_by_true_hours() -> None:
    evening = Attendance(datetime(2026, 10, 24, 18, 0, tzinfo=OSLO), parse_attended("7-20"))
    wait = offers_for(evening, 4 * 3600.0, 0.0, 0.0)[0]
    # it would end at 22:00; begun at 4:00 winter time, eleven true hours on, it ends at 8:00 - and at 7:00 after ten
    assert wait.value == pytest.approx(10 * 3600.0) and wait.words == "Begin at Sun 03:00"


def test_thick_leads_carry_what_the_table_says() -> None:
    # NFPA 70, table 310.16, copper, 60 °C column (from memory): 4/0 195 A, 500 kcmil 320 A; 1 kcmil is 0.5067 mm²
    assert ampacity_A(awg_area_mm2(-3)) == 195.0 and ampacity_A(150.0) == 240.0 and ampacity_A(70.0) == 145.0
    assert ampacity_A(500 * KCMIL_MM2) == 320.0 and ampacity_A(500.0) == max(KCMIL_AMPACITY.values())
    assert ampacity_A(awg_area_mm2(0)) == 125.0
