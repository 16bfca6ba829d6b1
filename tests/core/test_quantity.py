"""Uncertain numbers, accuracies, units, typing and display."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wintry_tally.core.errors import InputError
from wintry_tally.core.quantity import (
    Accuracy,
    Quantity,
    Term,
    amps_words,
    combine_linear,
    format_duration,
    format_number,
    format_quantity,
    format_set_time,
    parse_accuracy,
    parse_duration,
    parse_typed,
)
from wintry_tally.core.quantity.display import decimals_for, decimals_without_doubt
from wintry_tally.core.quantity.typed import parse_number
from wintry_tally.core.quantity.typed_slips import digit_neighbours, plausible_neighbour
from wintry_tally.core.quantity.units import KEPT, find_unit


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("0.5% + 2 digits", Accuracy(0.5, 0.0, 2.0)),
        ("0.5%+2d", Accuracy(0.5, 0.0, 2.0)),
        ("±0.01 V", Accuracy(0.0, 0.01, 0.0)),
        ("1%+0.05", Accuracy(1.0, 0.05, 0.0)),
        ("±(0,5 % + 2 dgt)", Accuracy(0.5, 0.0, 2.0)),
        ("0.1 % of reading + 3 counts", Accuracy(0.1, 0.0, 3.0)),
        ("1% + 10 mA", Accuracy(1.0, 0.01, 0.0)),
        ("0.2%", Accuracy(0.2, 0.0, 0.0)),
        ("±(0.8%+3)", Accuracy(0.8, 0.0, 3.0)),
        ("(1.5 % of reading + 5)", Accuracy(1.5, 0.0, 5.0)),
        ("±(1%+0.05)", Accuracy(1.0, 0.05, 0.0)),
        ("1%+2", Accuracy(1.0, 2.0, 0.0)),
        ("±0.5% ± 2 digits", Accuracy(0.5, 0.0, 2.0)),
        ("100 ppm + 2d", Accuracy(0.01, 0.0, 2.0)),
    ],
)
def test_accuracy_as_manuals_write_it(text: str, expected: Accuracy) -> None:
    assert parse_accuracy(text) == expected
    assert parse_accuracy(str(expected)) == expected


@pytest.mark.parametrize("text", ["", "good", "1%+", "5 apples", "80 %", "%", "1%%"])
def test_accuracy_refused_with_a_mend(text: str) -> None:
    with pytest.raises(InputError) as caught:
        parse_accuracy(text)
    assert "0.5%+2d" in str(caught.value)


def test_a_share_of_a_range_is_asked_for_in_units() -> None:
    for text in ("0.05% + 0.02% FS", "0.1 % of range", "0.5%+0.1% f.s."):
        with pytest.raises(InputError, match="range that is not known") as caught:
            parse_accuracy(text)
        assert "in volts or amperes" in str(caught.value)


def test_uniform_limits_become_standard_uncertainties() -> None:
    # JCGM 100:2008 (GUM), 4.3.7: u = a/√3 (value from memory)
    accuracy = parse_accuracy("0.6%+2d")
    assert accuracy.gain_standard() == pytest.approx(0.006 / math.sqrt(3))
    assert accuracy.offset_standard(0.01) == pytest.approx(0.02 / math.sqrt(3))
    assert accuracy.limit(10.0, 0.01) == pytest.approx(0.06 + 0.02)


@given(st.lists(st.tuples(st.floats(-50, 50), st.floats(0.01, 5.0), st.floats(0.01, 3.0)), min_size=1, max_size=5))
def test_correlated_sums_agree_with_the_covariance_matrix(parts: list[tuple[float, float, float]]) -> None:
    # JCGM 100:2008, 5.2.2: u_c² = cᵀ V c, with the covariance matrix of the inputs; NumPy does the product
    mine = []
    for coefficient, shared, own in parts:
        terms = (Term("gain", shared, "meter:gain"), Term("own", own))
        mine.append((coefficient, Quantity.from_terms(10.0, "Ah", terms)))
    coefficients, gains, owns = (np.array(column) for column in zip(*parts, strict=True))
    covariance = np.outer(gains, gains) + np.diag(owns**2)
    total = combine_linear(mine, "Ah")
    assert total.value == pytest.approx(10.0 * coefficients.sum(), abs=1e-9)
    assert total.standard == pytest.approx(np.sqrt(coefficients @ covariance @ coefficients), rel=1e-7, abs=1e-7)


def test_a_shared_gain_cancels_in_a_difference() -> None:
    first = Quantity.from_terms(40.0, "Ah", [Term("gain", 0.2, "m:gain"), Term("edges", 0.01)])
    second = Quantity.from_terms(39.5, "Ah", [Term("gain", 0.2, "m:gain"), Term("edges", 0.01)])
    apart = combine_linear([(1.0, first), (-1.0, second)], "Ah")
    assert apart.value == pytest.approx(0.5)
    assert apart.standard == pytest.approx(0.01 * math.sqrt(2))


def test_an_unknown_doubt_stays_unknown() -> None:
    known = Quantity.from_terms(1.0, "Ah", [Term("x", 0.1)])
    assert combine_linear([(1.0, known), (1.0, Quantity(2.0, None, "Ah"))], "Ah").standard is None
    assert Quantity(2.0, None, "Ah").as_dict() == {"value": 2.0, "expanded": None, "k": 2, "unit": "Ah"}
    assert known.scaled(-3.0).standard == pytest.approx(0.3)


@pytest.mark.parametrize(
    ("text", "dimension", "value"),
    [
        ("12,9", "voltage", 12.9),
        ("12.9", "voltage", 12.9),
        ("1280 Wh", "energy", 1280.0),
        ("1.28 kWh", "energy", 1280.0),
        ("1.280,5", "energy", 1280.5),
        ("1,280.5", "energy", 1280.5),
        ("1 280", "energy", 1280.0),
        ("21.7 lb", "mass", 21.7 * 0.45359237),  # the pound is 0.45359237 kg by definition (1959 agreement)
        ("8h42", "duration", 8 * 3600 + 42 * 60),
        ("12900 mV", "voltage", 12.9),
        ("-18 C", "temperature", -18.0),
        ("−18 °C", "temperature", -18.0),
        ("0 F", "temperature", -160 / 9),
        ("€ 289", "money", 289.0),
        ("289 €", "money", 289.0),
        ("11 in", "length", 279.4),
        ("3 % ", "share", 3.0),
    ],
)
def test_what_people_type(text: str, dimension: str, value: float) -> None:
    typed = parse_typed(text, dimension)
    assert typed.value == pytest.approx(value)
    assert typed.unit == KEPT[dimension]


@pytest.mark.parametrize(
    ("text", "dimension", "part"),
    [
        ("40 Ah", "voltage", "is a charge"),
        ("12.9.3", "voltage", "two decimal marks"),
        ("twelve", "voltage", "does not begin with a number"),
        ("", "voltage", "nothing is typed"),
        ("12 parsec", "voltage", "not known"),
        ("8 x 42", "duration", "not a duration"),
        ("1e999", "voltage", "too large"),
    ],
)
def test_what_is_refused(text: str, dimension: str, part: str) -> None:
    with pytest.raises(InputError) as caught:
        parse_typed(text, dimension)
    assert part in str(caught.value)
    assert caught.value.mend


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("8h42", 31320), ("8 h 42 min", 31320), ("10:53", 39180), ("1:02:03", 3723), ("90 min", 5400), ("1.5 h", 5400),
        ("2d 4h", 187200), ("42 s", 42), ("30 m", 1800), ("8h", 28800), ("1 h 5", 3900), ("1,5 h", 5400),
    ],
)  # fmt: skip
def test_durations(text: str, seconds: float) -> None:
    assert parse_duration(text) == pytest.approx(seconds)


@given(st.floats(-1e6, 1e6, allow_nan=False))
def test_a_number_written_with_either_mark_reads_the_same(value: float) -> None:
    text = f"{value:.3f}"
    assert parse_number(text) == pytest.approx(float(text))
    if abs(value) < 1000:
        assert parse_number(text.replace(".", ",")) == pytest.approx(float(text))


@given(st.text(max_size=30), st.sampled_from(sorted(KEPT)))
def test_typing_anything_never_breaks(text: str, dimension: str) -> None:
    try:
        value = parse_typed(text, dimension).value
    except InputError:
        return
    assert math.isfinite(value)


@pytest.mark.parametrize(
    ("value", "standard", "text"),
    [
        (41.2666, 0.21, "41.27 ± 0.42 Ah"),
        (508.93, 1.5, "508.9 ± 3.0 Ah"),
        (12.6211, 0.0038, "12.6211 ± 0.0076 Ah"),
        (40.0, 0.494, "40.00 ± 0.99 Ah"),
        (40.0, 0.4999, "40.0 ± 1.0 Ah"),
        (1234.0, 75.0, "1230 ± 150 Ah"),
        (-0.4, 0.05, "−0.40 ± 0.10 Ah"),
        (40.0, None, "40.00 ± ? Ah"),
        (40.0, 0.0, "40.00 Ah"),
    ],
)
def test_two_significant_digits_of_doubt(value: float, standard: float | None, text: str) -> None:
    # JCGM 100:2008, 7.2.6: an uncertainty is usually quoted to two significant digits at most
    assert format_quantity(Quantity(value, standard, "Ah")) == text


def test_display_of_odd_numbers() -> None:
    assert format_number(float("nan"), 2) == "–"
    assert format_number(-0.0001, 2) == "0.00"
    assert decimals_for(0.0) == 3
    assert decimals_for(1e-12) == 9
    assert decimals_without_doubt(0.0) == 2


@pytest.mark.parametrize(
    ("seconds", "text"),
    [
        (42, "42 s"),
        (90, "1 min 30 s"),
        (18120, "5 h 02 min"),
        (200000, "2 d 8 h"),
        (-90, "−1 min 30 s"),
        (math.inf, "–"),
    ],
)
def test_durations_in_words(seconds: float, text: str) -> None:
    assert format_duration(seconds) == text


def test_a_set_time_has_no_digits_that_nobody_set() -> None:
    texts = {300: "5 min", 3600: "1 h", 5400: "1 h 30 min", 90: "1 min 30 s", 60: "1 min", 39 * 3600: "39 h", 172800: "2 d 0 h", 0: "0 s"}  # fmt: skip
    assert {seconds: format_set_time(float(seconds)) for seconds in texts} == texts


def test_units_do_not_clash() -> None:
    assert find_unit("C") is not None and find_unit("C").dimension == "c-rate"
    assert find_unit("C", "temperature").dimension == "temperature"
    assert find_unit("nonsense") is None


def test_a_slipped_digit_is_found_again() -> None:
    # T9, common practice, no published source: 109.72 Ah typed for 102 Ah gave 11.66 V with 1279 Wh
    assert 1.311 * 10 in digit_neighbours(1.311)
    assert 102.72 in digit_neighbours(109.72)
    assert 12.94 in digit_neighbours(12.49)
    expected = Quantity(12.9, 0.05, "V")
    assert plausible_neighbour(129.4, expected) == pytest.approx(12.94)
    assert plausible_neighbour(55.5, expected) is None


def test_a_current_is_written_alike_everywhere() -> None:
    """Drawn as it is, flowing in with a true minus sign, nothing where no meter says it."""
    assert amps_words(8.03) == "8.0 A" and amps_words(-8.03) == "−8.0 A" and amps_words(-8.03, 2) == "−8.03 A"
    assert amps_words(-0.04) == "0.0 A" and amps_words(float("nan")) == ""
