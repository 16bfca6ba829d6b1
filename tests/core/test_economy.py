"""Sums of a data sheet, banks, and what is left of a life: arithmetic anyone can follow."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wintry_tally.core.battery import FAMILIES, Arrival, Sample, parse_claim
from wintry_tally.core.battery.economy import (
    bank,
    derived_sums,
    price_per_kWh,
    replacements,
    usual_depth,
    years_of_cycles,
)
from wintry_tally.core.errors import InputError


def sample(*claims: str, mass_kg: float | None = None, family: str = "lfp") -> Sample:
    return Sample(1, "B1", "m", "x", family, tuple(parse_claim(text) for text in claims), Arrival(mass_kg=mass_kg))


def test_years_and_prices() -> None:
    # common practice, no published source: 3500 cycles, one a day, are 9.6 years
    assert years_of_cycles(3500) == pytest.approx(9.58, abs=0.01)
    assert years_of_cycles(3500, per_day=2.0) == pytest.approx(4.79, abs=0.01)
    # 400 for 512 Wh used to 80 % over 3500 cycles is 0.279 a kWh
    assert price_per_kWh(400.0, 3500, 0.8 * 512) == pytest.approx(0.279, abs=0.001)
    assert usual_depth(FAMILIES["agm"]) == 0.5 and usual_depth(FAMILIES["lfp"]) == 0.8


@pytest.mark.parametrize(("years", "life", "count"), [(10, 10, 0), (10, 9.58, 1), (20, 4, 4), (3, 9.58, 0), (20, 5, 3)])
def test_replacements(years: float, life: float, count: int) -> None:
    assert replacements(years, life) == count


def test_banks_in_series_and_parallel() -> None:
    # common practice: series adds V, parallel adds Ah; four of 12.8 V 100 Ah in four strings
    whole = bank(12.8, 100.0, 4, 4)
    assert (whole.nominal_V, whole.capacity_Ah, whole.units) == (pytest.approx(51.2), 400.0, 16)
    assert whole.energy_Wh == pytest.approx(20480.0)
    for series, parallel, most_series, most_parallel in ((0, 1, 0, 0), (1, -1, 0, 0), (5, 1, 4, 0), (1, 5, 0, 4)):
        with pytest.raises(InputError):
            bank(12.8, 100.0, series, parallel, most_series, most_parallel)


@given(st.integers(1, 8), st.integers(1, 8), st.floats(3.0, 60.0), st.floats(1.0, 500.0))
def test_a_bank_holds_what_its_units_hold(series: int, parallel: int, volts: float, amp_hours: float) -> None:
    whole = bank(volts, amp_hours, series, parallel)
    assert whole.energy_Wh == pytest.approx(whole.units * volts * amp_hours, rel=1e-9)


def test_sums_follow_from_what_is_printed() -> None:
    sums = {item.key: item for item in derived_sums(sample("40 Ah", "512 Wh", "400 EUR", "3500 cycles", "4.4 kg"))}
    assert sums["price-Ah"].value == pytest.approx(10.0) and "Ah" in sums["price-Ah"].unit
    assert sums["price-Wh"].value == pytest.approx(400 / 512)
    assert sums["Wh-kg"].value == pytest.approx(512 / 4.4)
    assert sums["years"].value == pytest.approx(9.58, abs=0.01)
    assert all(item.working.formula and item.working.result for item in sums.values())


def test_weighing_goes_before_the_printed_mass_and_nominal_before_nothing() -> None:
    sums = {item.key: item for item in derived_sums(sample("40 Ah", "4.4 kg", mass_kg=5.0))}
    assert sums["Wh-kg"].value == pytest.approx(40 * 12.8 / 5.0)
    assert "price-Ah" not in sums
    assert derived_sums(sample()) == []


def test_volume_needs_all_three_sizes() -> None:
    three = sample("512 Wh", "length 200 mm", "width 170 mm", "height 170 mm")
    sums = {item.key: item for item in derived_sums(three)}
    if "Wh-L" in sums:
        assert sums["Wh-L"].value == pytest.approx(512 / (0.2 * 0.17 * 0.17 * 1000), rel=1e-6)
    assert "Wh-L" not in {item.key for item in derived_sums(sample("512 Wh", "length 200 mm"))}
