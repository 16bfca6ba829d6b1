"""Words for instruments: what they may be, and how they are said."""

from __future__ import annotations

from contextlib import nullcontext
from typing import Any

import pytest

from wintry_tally.bench.drivers.dialect import dialect_from
from wintry_tally.bench.drivers.quantities import UNITS, kept_unit, units_of, value_in
from wintry_tally.bench.drivers.scpi import ScpiLoad
from wintry_tally.core.errors import InputError, InstrumentError

TEXT = {"current": "I {setting}", "off": "OFF", "is_off": "O?"}
WORDS = {"current": [{"register": 1, "value": "setting"}], "off": [{"coil": 2, "value": 0}], "is_off": {"coil": 2}}


@pytest.mark.parametrize(
    ("kind", "change", "says"),
    [
        ("scpi", {"off": ""}, "off is empty"), ("scpi", {"off": "OFF {setting}"}, "off is said as it stands"),
        ("scpi", {"is_off": ""}, "say how it is seen to be off"), ("scpi", {"is_off": " "}, "a question of nothing but blanks"), ("scpi", {"is_off": "O{limit}?"}, "a question is said as it stands"),
        ("scpi", {"refused": "E{setting}?"}, "a question is said as it stands"), ("scpi", {"accepts": "("}, "pattern"),
        ("scpi", {"current": " "}, "needs words for"), ("scpi", {"off": ["OFF", ""]}, "one of its commands is empty"),
        ("scpi", {"off": []}, "off is empty"), ("scpi", {"watchdog": {"arm": "", "feed": "W"}}, "arm"), ("scpi", {"watchdog": {"arm": "W", "feed": []}}, "feed"), ("scpi", {"current": "I {amps}"}, "{amps} is not known"),
        ("scpi", {"power": "P {limit}"}, "{limit} is not known"),
        ("modbus", {"off": [{"coil": 2, "value": "setting"}]}, "coil is 0 or 1"), ("modbus", {"off": [{"coil": 2, "value": 2}]}, "coil is 0 or 1"),
        ("modbus", {"off": [{"register": 2, "value": "limit"}]}, "off writes numbers"), ("modbus", {"off": []}, "off"),
        ("modbus", {"off": [{"register": 2, "coil": 2, "value": 0}]}, "either a coil or a register"),
        ("modbus", {"off": [{"value": 0}]}, "either a coil or a register"), ("modbus", {"is_off": {}}, "either a coil or a register"),
        ("modbus", {"is_off": None}, "say how it is seen to be off"), ("modbus", {"off": [{"register": 2, "value": 0, "scale": 0}]}, "scale"),
    ],
)  # fmt: skip
def test_words_for_a_load_that_cannot_be_say_what_is_wrong(kind: str, change: dict[str, Any], says: str) -> None:
    usual = TEXT if kind == "scpi" else WORDS
    assert dialect_from({"kind": kind, "title": "x", "load": usual}, "mine").name == "mine"
    assert dialect_from({"kind": kind, "title": "x", "name": "own", "load": usual}, "mine").name == "own"
    with pytest.raises(InputError) as told:
        dialect_from({"kind": kind, "title": "x", "load": usual | change}, "mine")
    assert says in str(told.value)


@pytest.mark.parametrize(
    ("answers", "refuses"),
    [(["0", "0"], False), (["-113", "-222", "+0,No error", "0"], False), (["0", "-222,Out of range"], True)],
)
def test_a_setting_is_refused_by_an_error_of_its_own_and_not_by_an_old_one(answers: list[str], refuses: bool) -> None:
    # SCPI-99, from memory: an error queue is read until 0, "No error"
    said, left = list[str](), iter(answers)

    class Link:
        name, address = "x", "tcp://127.0.0.1:1"

        def tell(self, text: str) -> None:
            said.append(text)

        def ask(self, text: str) -> str:
            said.append(text)
            return next(left) if text == "E?" else "0"

    load = ScpiLoad("x", Link(), dialect_from({"kind": "scpi", "title": "x", "load": TEXT | {"refused": "E?"}}, "d"))  # type: ignore[arg-type]
    with pytest.raises(InstrumentError, match=r"refuses the setting .-222") if refuses else nullcontext():
        load.draw("current", 5.0)
    assert [text for text in said if text == "E?"] == ["E?"] * len(answers), "asked before it and after it"
    assert said.index("I 5.0") == len(answers) - 1 and ("OFF" in said[len(answers) :]) == refuses


@pytest.mark.parametrize("ask", ["", " ", "V{setting}?"])
def test_a_question_is_asked_as_it_stands(ask: str) -> None:
    with pytest.raises(InputError, match=r"voltage|a question"):
        dialect_from({"kind": "scpi", "title": "x", "reads": {"voltage": ask}}, "mine")


@pytest.mark.parametrize(
    "data",
    [
        {"kind": "scpi", "reads": {"voltage": "V?"}}, {"kind": "line", "pattern": "(?P<voltage>.+)"},
        {"kind": "asked", "ask": "?", "pattern": "(?P<voltage>.+)"},
    ],
)  # fmt: skip
def test_a_serial_line_whose_speed_nobody_names_goes_at_9600(data: dict[str, Any]) -> None:
    assert dialect_from({"title": "x"} | data, "mine").baud == 9600


@pytest.mark.parametrize("part", ["arm", "feed", "disarm"])
def test_a_watchdog_is_told_nothing_that_would_have_to_be_filled_in(part: str) -> None:
    watchdog = {"arm": "W 5", "feed": "W", "disarm": "W 0"}
    words = {"current": "I {setting}", "off": "OFF", "is_off": "O?"}
    told = {"kind": "scpi", "title": "x", "load": words | {"watchdog": watchdog | {part: "W {setting}"}}}
    with pytest.raises(InputError, match="watchdog is said as it stands"):
        dialect_from(told, "mine")


def test_units_on_a_wire() -> None:
    """Freezing and boiling points by the definitions of the scales (SI brochure, from memory)."""
    shown = {
        "voltage": "13.2 V, 13200 mV", "current": "0.5 A, 500 mA", "charge": "2.5 Ah, 2500 mAh", "energy": "100 Wh, 0.1 kWh",
        "temperature": "100 °C, 100 C, 212 °F, 212 F, 373.15 K", "charge_state": "40 %", "cell_3_V": "3.3 V, 3300 mV",
    }  # fmt: skip
    assert set(UNITS) == set(shown) - {"cell_3_V"}
    for quantity, texts in shown.items():
        values = [value_in(text, quantity, "m") for text in texts.split(", ")]
        assert len(values) == len(units_of(quantity)), quantity
        assert values == pytest.approx([float(texts.split()[0])] * len(values)), quantity
    kept = ["V", "A", "°C", "Ah", "Wh", "%", "V", ""]
    assert [kept_unit(quantity) for quantity in (*UNITS, "cell_2_V", "pressure")] == kept


@pytest.mark.parametrize(
    ("pattern", "pairs", "says"),
    [
        ("(?P<voltage>[0-9.]+)", {}, ""), ("(?P<key>[a-z]+)=(?P<value>[0-9.]+)", {"u": "voltage"}, ""),
        ("(?P<key>[a-z]+)=([0-9.]+)", {"u": "voltage"}, "the groups key and value"), ("(?P<value>.+)", {"u": "voltage"}, "the groups key and value"),
        ("([0-9.]+)", {}, "a group named after a quantity"), ("(?P<pressure>.+)", {}, "is no quantity"),
        ("(?P<key>[a-z]+)=(?P<value>[0-9.]+)", {"p": "pressure"}, "is no quantity"), ("(", {}, "pattern"),
    ],
)  # fmt: skip
def test_a_pattern_names_what_it_reads(pattern: str, pairs: dict[str, str], says: str) -> None:
    data = {"kind": "line", "title": "x", "pattern": pattern, "pairs": pairs}
    with pytest.raises(InputError) if says else nullcontext() as told:
        dialect_from(data, "mine")
    assert not says or says in str(told.value)
