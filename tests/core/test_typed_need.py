"""Needs as people type them: how many, how long a day, several on a line; what is not understood is asked about."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as some

from wintry_tally.core.compare.need import Device, Need
from wintry_tally.core.compare.typed_need import devices_of, need_words, parse_need, with_device
from wintry_tally.core.errors import InputError


@pytest.mark.parametrize(
    ("typed", "device"),
    [
        ("lights 2 x 5 W", Device("lights", W=10.0)),
        ("lights 5 W x 3", Device("lights", W=15.0)),
        ("pumps 2 × 1.5 A 10 %", Device("pumps", A=3.0, duty=0.1)),
        ("kettle 1.2 kW 5 %", Device("kettle", W=1200.0, duty=0.05)),
        ("230 V kettle 900 W by an inverter of 88 %", Device("230 V kettle", W=900.0, inverter=0.88)),
        ("12 V pump 4 A", Device("12 V pump", A=4.0)),
        ("breathing apparatus 30W 8h/day", Device("breathing apparatus", W=30.0, duty=0.333333)),
        ("lamp 5 W 6 hours a day", Device("lamp", W=5.0, duty=0.25)),
        ("pump 4 A 12 min an hour", Device("pump", A=4.0, duty=0.2)),
        ("pump 4 A 36 minutes per day", Device("pump", A=4.0, duty=0.025)),
        ("fridge 45 W 40 % 12 h daily", Device("fridge", W=45.0, duty=0.2)),
        ("radio 2 12 W", Device("radio 2", W=12.0)),
    ],
)
def test_a_thing_that_draws(typed: str, device: Device) -> None:
    for line in (f"van: {typed}; 48 h", f"van: 48 h; {typed}"):
        assert parse_need(line) == Need("van", 48.0, (device,))


def test_several_on_a_line_are_parted_where_each_draws() -> None:
    need = parse_need(
        "boat: fridge 45 W, 40 %, down to 11 V, starting with 12 A for 1 s, lamp 10 W 6 h a day; 2 days at 0 °C"
    )
    assert need.devices == (
        Device("fridge", W=45.0, duty=0.4, least_V=11.0, surge_A=12.0, surge_s=1.0), Device("lamp", W=10.0, duty=0.25),
    )  # fmt: skip
    assert (need.hours, need.coldest_C) == (48.0, 0.0)


@pytest.mark.parametrize(
    ("part", "says"),
    [
        ("fridge 45 W and lamp 10 W", "“10 W”"), ("fridge 3 A 11 V", "“11 V”"), ("lamp 5 W 3 h 20 min", "“20 min”"),
        ("fridge 45 W 40 % 20 %", "“20 %”"), ("2 lamps 5 W", "of one, or of all"), ("heater 1.200 W", "could be 1200 or 1.2"),
        ("heater 1,000 W", "could be 1000 or 1"), ("lamp 5 W 30 h a day", "cannot be drawn"), ("lamp 5 W 4 Ah", "“4 Ah”"),
    ],
)  # fmt: skip
def test_what_is_not_understood_is_asked_about_and_nothing_is_dropped(part: str, says: str) -> None:
    with pytest.raises(InputError, match=says):
        parse_need(f"van: {part}; 48 h")


@given(
    some.lists(
        some.tuples(some.booleans(), some.integers(1, 900), some.integers(1, 100), some.sampled_from([0, 11])),
        min_size=1, max_size=4,
    ),
    some.integers(1, 400),
)  # fmt: skip
def test_a_need_in_words_is_read_as_it_was(things: list[tuple[bool, int, int, int]], hours: int) -> None:
    devices = tuple(
        Device(
            f"thing {number}", *((0.0, float(amount)) if watts else (amount / 10.0, 0.0)), share / 100.0, float(least)
        )
        for number, (watts, amount, share, least) in enumerate(things)
    )
    need = Need("all of it", float(hours), devices, -5.0)
    assert parse_need(need_words(need)) == need


def test_what_else_is_asked_of_a_need() -> None:
    need = parse_need(
        "van: fan 2 A; 24 h at 14 F; full again in 5 h with 20 A; 250 cycles a year; for 10 years; charger costs 120; 0.3 a kWh"
    )
    assert (need.coldest_C, need.full_again_h, need.charger_A) == (-10.0, 5.0, 20.0)
    assert (need.cycles_a_year, need.years, need.charger_price, need.kWh_price) == (250.0, 10.0, 120.0, 0.3)
    assert parse_need("fan 2 A; 24 h").years is None and parse_need("2 A; 24 h; 3 A").devices == (
        Device("device 1", A=2.0),
        Device("device 2", A=3.0),
    )


@pytest.mark.parametrize(
    ("part", "good"),
    [
        ("200 years", True), ("201 years", False), ("99999 cycles a year", True), ("100000 cycles a year", False), ("0 years", False),
        ("60 °C", True), ("61 °C", False), ("-60 °C", True), ("-61 °C", False), ("full again in 0 h with 5 A", False),
    ],
)  # fmt: skip
def test_what_may_be_asked(part: str, good: bool) -> None:
    if good:
        parse_need(f"fan 2 A; 24 h; {part}")
        return
    with pytest.raises(InputError):
        parse_need(f"fan 2 A; 24 h; {part}")


@pytest.mark.parametrize(
    ("part", "device"),
    [
        ("pump 5 A down to 11 V starting with 20 A", Device("pump", A=5.0, least_V=11.0, surge_A=20.0, surge_s=1.0)),
        ("pump 5 A down to 11 V starting at 20 A for 3 s", Device("pump", A=5.0, least_V=11.0, surge_A=20.0, surge_s=3.0)),
        ("kettle 900 W by an inverter", Device("kettle", W=900.0, inverter=0.88)),
        ("kettle 900 W by an inverter of 100 %", Device("kettle", W=900.0, inverter=1.0)),
        ("kettle 900 W by an inverter of 10 %", Device("kettle", W=900.0, inverter=0.1)),
        ("kettle 900 W by an inverter of 9 %", None), ("kettle 900 W by an inverter of 101 %", None), ("lamp 0 W", None),
        ("lamp 5 W 100 %", Device("lamp", W=5.0)), ("lamp 5 W 101 %", None), ("lamp 5 W 0 %", None), ("lamp 1000000 W", None),
    ],
)  # fmt: skip
def test_what_may_draw(part: str, device: Device | None) -> None:
    if device is None:
        with pytest.raises(InputError):
            parse_need(f"{part}; 5 h")
        return
    need = parse_need(f"{part}; 5 h")
    assert need.devices == (device,) and parse_need(need_words(need)) == Need("need", 5.0, (device,))


def test_one_more_thing_stands_before_what_is_asked() -> None:
    assert with_device("van: fan 2 A; 24 h; 5 °C", "lamp 5 W") == "van: fan 2 A; lamp 5 W; 24 h; 5 °C"
    assert (
        with_device("", "lamp 5 W") == "need: lamp 5 W"
        and with_device("van: 24 h", "lamp 5 W") == "van: lamp 5 W; 24 h"
    )
    assert devices_of(["van: fan 2 A; 24 h", "2 lamps 5 W; 3 h", "hut: lamp 5 W; fan 2 A; 3 h"]) == [
        "fan 2 A",
        "lamp 5 W",
    ]
