"""The reader's units: what is shown in °F, lb, in and AWG is what was worked out, and nothing else changes."""

import re
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wintry_tally.core.compare.typed_need import parse_need
from wintry_tally.core.errors import InputError
from wintry_tally.core.quantity import format_plain, parse_typed
from wintry_tally.core.quantity.display import MINUS
from wintry_tally.core.quantity.preferred import METRIC, US, Units, name_in, typed_in, value_in, words_in
from wintry_tally.core.quantity.wires import awg_area_mm2, gauge_of


# 0 °C is 32 °F, 100 °C is 212 °F, -40 is both; 1 lb is 0.45359237 kg, 1 in is 25.4 mm (international yard and pound, 1959)
@pytest.mark.parametrize(
    ("kept", "shown"),
    [
        ("refused below 0 °C", "refused below 32 °F"),
        ("100 °C", "212 °F"),
        (f"{MINUS}40 °C", f"{MINUS}40 °F"),
        ("soaked at -18 °C overnight", "soaked at 0 °F overnight"),
        ("23.4 ± 1.0 °C", "74.1 ± 1.8 °F"),
        (f"{MINUS}20 to 60 °C", f"{MINUS}4 to 140 °F"),
        ("between 5 and 45 °C, 3 and more", "between 41 and 113 °F, 3 and more"),
        ("20-60 °C", "68-140 °F"),
        ("10 K warmer, at 2.0 K/min", "18 °F warmer, at 3.6 °F/min"),
        ("4.536 kg", "10 lb"),
        ("4.40 ± 0.05 kg", "9.70 ± 0.11 lb"),
        ("4.40 ± 0 kg", "9.70 ± 0.00 lb"),
        ("4.581 ± ? kg", "10.1 ± ? lb"),
        ("23.0 ± ? °C", "73.4 ± ? °F"),
        ("330 × 172 × 214 mm", "12.99 × 6.772 × 8.425 in"),
        ("197/165/170 mm", "7.756/6.496/6.693 in"),
        ("100 Wh/kg", "45.36 Wh/lb"),
        ("102 Wh per kg", "46.27 Wh per lb"),
        ("9.1 ± 0.1 Ah/kg", "4.128 ± 0.045 Ah/lb"),
        ("on leads of 6 mm²", "on leads of 6 mm² (AWG 10)"),
        ("2.5 mm² (AWG 13) or thicker", "2.5 mm² (AWG 13) or thicker"),
        ("the label says “4.4 kg, 0 °C”, it weighs 4.4 kg", "the label says “4.4 kg, 0 °C”, it weighs 9.7 lb"),
    ],
)
def test_words_in_the_units_of_a_reader(kept: str, shown: str) -> None:
    assert words_in(kept, US) == shown
    assert words_in(kept, METRIC) == kept


@pytest.mark.parametrize(
    "text", ["12.8 V", "40 Ah", "IP67", "run M12 kg1", "5 min 30 s", "log_4.kg", "C/20", "-5.2 A", "0.05 C", "70 %", ""]
)
def test_what_has_no_choice_stays(text: str) -> None:
    assert words_in(text, US) == text


def test_one_choice_leaves_the_others() -> None:
    told = "4.4 kg, 197 mm, 23 °C, 100 Wh/kg, 6 mm², 2 K"
    assert words_in(told, Units(mass="lb")) == "9.7 lb, 197 mm, 23 °C, 45.36 Wh/lb, 6 mm², 2 K"
    assert words_in(told, Units(temperature="°F")) == "4.4 kg, 197 mm, 73 °F, 100 Wh/kg, 6 mm², 4 °F"
    assert words_in(told, Units(length="in")) == "4.4 kg, 7.756 in, 23 °C, 100 Wh/kg, 6 mm², 2 K"
    assert name_in("°C", Units(mass="lb")) == "°C" and name_in("Ah/kg", US) == "Ah/lb" and name_in("V", US) == "V"


@given(st.sampled_from(["temperature", "mass", "length"]), st.integers(-400, 9000), st.integers(0, 2))
def test_what_is_shown_can_be_typed_back(dimension: str, whole: int, decimals: int) -> None:
    """The reader of a figure who types it again, with its unit or bare, means the same, to its last digit."""
    kept_unit = {"temperature": "°C", "mass": "kg", "length": "mm"}[dimension]
    kept = float(f"{whole / 10**decimals:.{decimals}f}")
    if dimension != "temperature":
        kept = abs(kept)
    shown = words_in(f"{kept:.{decimals}f} {kept_unit}".replace("-", MINUS), US)
    number, unit = shown.rsplit(" ", 1)
    assert unit == US.of(dimension)
    again = parse_typed(shown.replace(MINUS, "-"), dimension).value
    bare = parse_typed(typed_in(number.replace(MINUS, "-"), dimension, US), dimension).value
    assert bare == again
    last_digit = {"temperature": 0.56 * 10.0**-decimals, "mass": 5.1e-4 * kept, "length": 5.1e-4 * kept}[dimension]
    assert again == pytest.approx(kept, abs=last_digit + 3e-4)


def test_numbers_and_curves_too() -> None:
    assert value_in(25.0, "°C", US) == pytest.approx(77.0)
    assert np.allclose(value_in(np.array([0.0, 100.0]), "°C", US), [32.0, 212.0])
    assert value_in(10.0, "Ah/kg", US) == pytest.approx(4.5359237)
    assert value_in(10.0, "Ah/kg", METRIC) == 10.0 and value_in(3.0, "V", US) == 3.0
    assert typed_in("73", "temperature", METRIC) == "73" and typed_in(" 73 ", "temperature", US) == "73 °F"
    assert typed_in("23 °C", "temperature", US) == "23 °C" and typed_in("12,9", "voltage", US) == "12,9"


# P12: AWG 10 is 5.26 mm², AWG 16 1.31 mm²; 4/0 is 0.46 in, 107 mm²; a circular mil is 5.067e-4 mm² (ASTM B258, from memory)
def test_gauges() -> None:
    for number in range(-3, 37):
        assert gauge_of(awg_area_mm2(number)) == (f"AWG {number}" if number > 0 else f"AWG {1 - number}/0")
        assert gauge_of(0.95 * awg_area_mm2(number)) != gauge_of(awg_area_mm2(number)), "never thicker than it is"
    assert gauge_of(5.26) == "AWG 10" and gauge_of(1.31) == "AWG 16" and gauge_of(107.2) == "AWG 4/0"
    found = re.fullmatch(r"(\d+) kcmil", gauge_of(240.0))
    assert found is not None and int(found[1]) == round(240.0 / 5.067075e-1)


def test_a_need_is_asked_for_in_either_unit_and_nothing_of_it_is_dropped() -> None:
    asked = "mast: logger 0.85 A down to 11.4 V; 120 h at {}"
    assert parse_need(asked.format("14 °F")).coldest_C == pytest.approx(-10.0)
    assert parse_need(asked.format("-10 °C")).coldest_C == -10.0
    with pytest.raises(InputError, match="14 parsec"):
        parse_need(asked.format("14 parsec"))


@pytest.mark.parametrize(
    ("told", "wanted"),
    [
        ("41.27 ± 0.42 Ah", "41,27 ± 0,42 Ah"),
        ("−18.5 °C, 10.5 V and 0.2C", "−18,5 °C, 10,5 V and 0,2C"),
        ("12,880 readings of 4.385 kg", "12,880 readings of 4,385 kg"),
        (
            "on 127.0.0.1:5025 with 0.9.1 of log.1.csv at 10:05.5",
            "on 127.0.0.1:5025 with 0.9.1 of log.1.csv at 10:05.5",
        ),
        ("2026-11-25 21:00 and run2.5x", "2026-11-25 21:00 and run2.5x"),
        ("as printed: “12.8 V”, so 12.8 V", "as printed: “12.8 V”, so 12,8 V"),
        ("it fell to 12.5. Then it rested.", "it fell to 12,5. Then it rested."),
        ("JCGM 100:2008, 5.2; 4.2.3", "JCGM 100:2008, 5.2; 4.2.3"),
        ("rows 3, 200 and 12.5, 11.2", "rows 3, 200 and 12,5, 11,2"),
    ],
)
def test_a_decimal_comma(told: str, wanted: str) -> None:
    assert words_in(told, Units(decimal=",")) == wanted
    assert words_in(wanted, Units(decimal=",")) == wanted, "a label says what it was given, whoever worded it before"
    assert words_in(told, Units()) == told


def test_with_units_changed_too() -> None:
    assert words_in("4.40 ± 0.05 kg at −18.5 °C", replace(US, decimal=",")) == "9,70 ± 0,11 lb at −1,3 °F"


@given(st.floats(0.001, 99999.0))
def test_what_is_written_with_a_comma_is_read_as_it_was(value: float) -> None:
    """A field writes a number and reads it again: 1,285 is never taken for thousands."""
    comma = Units(decimal=",")
    shown = words_in(format_plain(value, "V"), comma)
    assert parse_typed(typed_in(shown, "voltage", comma), "voltage").value == pytest.approx(float(format_plain(value)))
