"""Claims files, times, spellings: the tables and the strictness around them."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
import polars as pl
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.amount import some
from wintry_tally.cli.judging import judge_file
from wintry_tally.core.battery import CLAIM_KINDS, Direction
from wintry_tally.core.errors import InputError, LogError, WintryError
from wintry_tally.exchange.claims_file import METHODS, claim_of, read_claims, to_kept
from wintry_tally.exchange.columns import FIELDS, SCALES, SPELLINGS, assign, parse_header, plain
from wintry_tally.exchange.layout import Choices, find_layout, is_value
from wintry_tally.exchange.reader import read_log
from wintry_tally.exchange.times import moment_of, seconds_from_numbers, seconds_from_text


def file(tmp_path: Path, **parts: object) -> Path:
    path = tmp_path / "claims.json"
    path.write_text(json.dumps({"battery": {"family": "lfp"}, **parts}))
    return path


# --- claims files ---


@pytest.mark.parametrize("key", sorted(CLAIM_KINDS))
def test_every_kind_can_stand_in_a_claims_file(tmp_path: Path, key: str) -> None:
    kind = CLAIM_KINDS[key]
    value: object = 10.0 if kind.dimension else True
    found = judge_file(file(tmp_path, claim=[{"kind": key, "value": value}]))["claims"][0]
    assert found["kind"] == key and found["outcome"] in {"not-tested", "cannot-test"}
    assert found["required"]["direction"] == kind.direction.value


@pytest.mark.parametrize("direction", [item.value for item in Direction])
def test_every_direction(tmp_path: Path, direction: str) -> None:
    path = file(
        tmp_path,
        claim=[{"kind": "mass", "value": 5.0, "tolerance": 0.2, "direction": direction}],
        evidence=[{"method": "measured", "claim": "mass", "measured": {"value": 5.1, "expanded": 0.02, "unit": "kg"}}],
    )
    outcome = judge_file(path)["claims"][0]["outcome"]
    assert outcome == {"at-least": "met", "at-most": "missed", "within": "met", "is": "met"}[direction]


def test_units_are_turned_with_their_tolerance(tmp_path: Path) -> None:
    parsed = read_claims(
        file(tmp_path, claim=[{"kind": "mass", "value": 11.0, "tolerance": 0.5, "unit": "lb", "direction": "within"}])
    )
    claim = claim_of(parsed.claim[0], 1, "x")
    assert claim.value == pytest.approx(11 * 0.45359237) and claim.tolerance == pytest.approx(0.5 * 0.45359237)
    assert to_kept(50.0, "°F", "temperature", "x", "y") == (pytest.approx(10.0), "°C")
    assert to_kept(5.0, "NOK", "money", "x", "y") == (5.0, "NOK")
    hot = read_claims(
        file(
            tmp_path,
            claim=[{"kind": "heater-stop", "value": 50.0, "tolerance": 9.0, "unit": "°F", "direction": "within"}],
        )
    )
    claim = claim_of(hot.claim[0], 1, "x")
    assert claim.value == pytest.approx(10.0) and claim.tolerance == pytest.approx(5.0)


def test_measured_without_a_doubt_and_yes_no(tmp_path: Path) -> None:
    path = file(
        tmp_path,
        claim=[{"kind": "mass", "value": 5.0}, {"kind": "feature", "value": False}, {"kind": "ingress", "value": True}],
        evidence=[
            {"method": "measured", "claim": "mass", "measured": {"value": 5.0, "unit": "kg"}},
            {"method": "measured", "claim": "feature", "measured": {"value": False}},
            {"method": "measured", "claim": "ingress", "measured": {"value": 1}},
        ],
    )
    found = judge_file(path)["claims"]
    assert found[0]["outcome"] == "met" and found[0]["measured"]["expanded"] == pytest.approx(0.1 / 3**0.5), (
        "to its last digit"
    )
    assert [item["outcome"] for item in found[1:]] == ["met", "met"]


def test_a_yes_is_no_number(tmp_path: Path) -> None:
    for kind in CLAIM_KINDS.values():
        for value in (True, False):
            part = read_claims(file(tmp_path, claim=[{"kind": kind.key, "value": value}])).claim[0]
            if kind.dimension and not kind.bare:
                with pytest.raises(
                    InputError, match=rf"claim\[3\].value: {str(value).lower()} says no {kind.key}"
                ) as told:
                    claim_of(part, 3, "x")
                assert str(told.value).endswith(f"number in {kind.shown_unit}" if kind.shown_unit else "give a number")
            else:
                claim = claim_of(part, 3, "x")
                assert claim.value is None and claim.wanted is value
                with pytest.raises(TypeError):
                    _ = claim.figure
    assert {kind.key.split("-")[-1] for kind in CLAIM_KINDS.values() if kind.bare} == {
        "trip",
        "cut",
        "release",
        "block",
    }


def test_k_other_than_two(tmp_path: Path) -> None:
    path = file(
        tmp_path,
        claim=[{"kind": "mass", "value": 5.0}],
        evidence=[
            {"method": "measured", "claim": "mass", "measured": {"value": 5.0, "expanded": 0.3, "k": 3, "unit": "kg"}}
        ],
    )
    assert judge_file(path)["claims"][0]["measured"]["expanded"] == pytest.approx(0.2)


@pytest.mark.parametrize(
    ("content", "part"),
    [
        ("", "battery"),
        ("{", "TOML or JSON"),
        ("[battery]\nfamily = 3\n", "battery.family"),
        ("[battery]\nfamily = 'lfp'\nrated_Ah = -1\n", "battery.rated_Ah"),
        ("[battery]\nfamily = 'lfp'\n[[claim]]\nkind = 'capacity'\n", "claim[1].value"),
        ("[battery]\nfamily = 'lfp'\n[[claim]]\nvalue = 3\n", "claim[1].kind"),
        ("[battery]\nfamily = 'lfp'\n[[claim]]\nkind = 'mass'\nvalue = nan\n", "claim[1].value"),
        ("[battery]\nfamily = 'lfp'\n[[evidence]]\nmethod = 'measured'\nclaim = 'mass'\n", "evidence[1].measured"),
        ("[battery]\nfamily = 'lfp'\n[[evidence]]\nmethod = 'capacity'\n", "evidence[1].log"),
        ("[battery]\nfamily = 'lfp'\nschool = 3\n[other]\n", "battery.school"),
    ],
)
def test_faulty_claims_files_name_their_place(tmp_path: Path, content: str, part: str) -> None:
    path = tmp_path / "claims.toml"
    path.write_text(content)
    with pytest.raises(InputError) as caught:
        judge_file(path)
    assert part in str(caught.value) and "\n" not in str(caught.value)


def test_files_that_are_no_text(tmp_path: Path) -> None:
    path = tmp_path / "claims.toml"
    path.write_bytes(b"\xff\xfe\x00bad")
    with pytest.raises(InputError, match="UTF-8"):
        judge_file(path)
    with pytest.raises(InputError):
        judge_file(tmp_path)


json_values = st.recursive(
    st.none() | st.booleans() | st.floats() | st.text(max_size=8) | st.sampled_from(["lfp", "capacity", "Ah", "measured", "mass"]),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(
        st.sampled_from(["battery", "claim", "evidence", "family", "kind", "value", "unit", "method", "measured", "log", "options"]), inner, max_size=4
    ),
    max_leaves=20,
)  # fmt: skip


@settings(max_examples=some(67, 200), suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(json_values)
def test_any_json_is_judged_or_refused(tmp_path: Path, data: object) -> None:
    path = tmp_path / "claims.json"
    path.write_text(json.dumps(data))
    try:
        judge_file(path)
    except WintryError as error:
        assert "\n" not in str(error)


def test_methods_are_those_of_the_contract() -> None:
    assert set(METHODS) >= {kind.evidence for kind in CLAIM_KINDS.values() if kind.evidence}


# --- times ---

START = datetime(2026, 3, 1, 12, 0, tzinfo=UTC)


@pytest.mark.parametrize(
    "form",
    ["%Y-%m-%dT%H:%M:%SZ", "%Y-%m-%dT%H:%M:%S+00:00", "%Y-%m-%d %H:%M:%S+00:00", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%d %H:%M",
     "%d.%m.%Y %H:%M:%S", "%Y/%m/%d %H:%M:%S", "%d/%m/%Y %H:%M:%S", "%m/%d/%Y %I:%M:%S %p"],
)  # fmt: skip
def test_dated_times(form: str) -> None:
    moments = [START + timedelta(days=14, minutes=10 * index) for index in range(20)]
    seconds, epoch, _ = seconds_from_text(pl.Series([moment.strftime(form) for moment in moments]), "", "x")
    assert np.allclose(np.diff(seconds), 600.0) and epoch is not None
    assert moment_of(epoch) == moments[0]


def test_a_zone_s_offset_is_heeded() -> None:
    texts = [f"2026-03-01T{12 + index}:00:00+0{index}:00" for index in range(3)]
    seconds, _, _ = seconds_from_text(pl.Series(texts), "", "x")
    assert np.allclose(seconds, 0.0)


@pytest.mark.parametrize(
    ("texts", "expected"),
    [
        (["0:00", "0:30", "1:00"], [0, 1800, 3600]),
        (["0:00:00", "0:00:01.5", "30:00:00"], [0, 1.5, 108000]),
        (["1 d 00:00:00", "1 d 00:00:10"], [0, 10]),
        (["23:59:50", "00:00:10"], [0, 20]),
    ],
)
def test_clock_times(texts: list[str], expected: list[float]) -> None:
    assert seconds_from_text(pl.Series(texts), "", "x")[0].tolist() == expected


@pytest.mark.parametrize(
    ("header", "begins"),
    [("Elapsed (h:mm:ss)", 780.0), ("Test Time", 780.0), ("Duration [hh:mm:ss]", 780.0), ("Time (h:mm:ss)", 780.0),
     ("Laufzeit", 780.0), ("Time", 0.0), ("Uhrzeit", 0.0), ("Time (hh:mm:ss)", 0.0)],
)  # fmt: skip
def test_a_clock_that_counts_from_a_start_keeps_what_it_had_counted(header: str, begins: float) -> None:
    for texts in (["0:13:00", "0:13:05"], ["0:13:00.0", "0:13:05.0"]):
        seconds, epoch, _ = seconds_from_text(pl.Series(texts), "", "log", header)
        assert list(seconds) == [begins, begins + 5.0] and epoch is None
    # the quarter past nine may be on the wall
    morning, _, _ = seconds_from_text(pl.Series(["9:15:00", "9:15:05"]), "", "log", header)
    counts = begins > 0.0 and header != "Time (h:mm:ss)"
    assert list(morning) == ([33_300.0, 33_305.0] if counts else [0.0, 5.0])


def test_numbers_as_times() -> None:
    values = START.timestamp() + np.arange(5.0)
    for scale in (1.0, 1e3, 1e6):
        seconds, epoch = seconds_from_numbers(values * scale, 1.0, False)
        assert np.allclose(seconds, np.arange(5.0), atol=1e-3) and epoch == pytest.approx(START.timestamp())
    assert seconds_from_numbers(np.arange(4.0), 60.0, True)[0].tolist() == [0, 60, 120, 180]
    days = 46082.5 + np.arange(5.0) / 1440
    seconds, epoch = seconds_from_numbers(days, 1.0, False)
    assert np.allclose(np.diff(seconds), 60.0, atol=1e-3) and moment_of(epoch) == datetime(2026, 3, 1, 12, tzinfo=UTC)
    blank = np.full(3, np.nan)
    seconds, epoch = seconds_from_numbers(blank, 1.0, False)
    assert np.isnan(seconds).all() and epoch is None
    assert moment_of(None) is None


@pytest.mark.parametrize("texts", [["noon", "later"], ["", ""], ["2026-13-45 99:99", "x"]])
def test_texts_that_are_no_times(texts: list[str]) -> None:
    with pytest.raises(LogError):
        seconds_from_text(pl.Series(texts), "", "x")


# --- the table of spellings ---


def test_spellings_are_plain_and_belong_to_one_field() -> None:
    owners: dict[str, str] = {}
    for field in FIELDS:
        for name in SPELLINGS[field]:
            assert plain(name) == name, f"{name} would never be met"
            assert owners.setdefault(name, field) == field, f"{name} stands for {owners[name]} and {field}"


@pytest.mark.parametrize("field", [field for field in FIELDS if field in SCALES])
def test_every_spelling_with_every_unit_finds_its_field(field: str) -> None:
    for name in SPELLINGS[field]:
        for unit in SCALES[field]:
            header = parse_header(f"{name} / {unit}")
            assert assign([header]).get(field) == 0, f"{name} / {unit}"


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("12.5", True),
        ("12,5", True),
        ("-3e4", True),
        ("12:30", True),
        ("2026-01-01", True),
        ("x1", False),
        ("", False),
        ("1.2.3.4", False),
    ],
)
def test_what_counts_as_a_value(text: str, value: bool) -> None:
    assert is_value(text) is value


@settings(max_examples=some(50, 150))
@given(
    st.sampled_from([",", ";", "\t", "|"]),
    st.sampled_from([".", ","]),
    st.integers(0, 5),
    st.integers(2, 6),
    st.integers(3, 30),
)
def test_layouts_are_found_whatever_the_combination(
    delimiter: str, decimal: str, preamble: int, width: int, rows: int
) -> None:
    if delimiter == decimal:
        return
    titles = ["time", "voltage", "current", "temperature", "power", "energy"][:width]
    lines = [f"note {index}" for index in range(preamble)] + [delimiter.join(titles)]
    for row in range(rows):
        lines.append(delimiter.join(f"{row + index + 0.25:.2f}".replace(".", decimal) for index in range(width)))
    found = find_layout("\n".join(lines), "utf-8", Choices(), "x")
    assert (found.delimiter, found.decimal, found.header_line, found.first_line) == (
        delimiter,
        decimal,
        preamble,
        preamble + 1,
    )
    assert [header.text for header in found.headers] == titles
    assert set(found.decimals) == {2}


DATES = (
    *(
        "%Y-%m-%d",
        "%Y/%m/%d",
        "%Y.%m.%d",
        "%d.%m.%y",
        "%d.%m.%Y",
        "%d/%m/%y",
        "%d/%m/%Y",
        "%m/%d/%y",
        "%m/%d/%Y",
        "%d-%m-%y",
    ),
    *(
        "%d-%m-%Y",
        "%m-%d-%Y",
        "%d-%b-%Y",
        "%d-%b-%y",
        "%d %b %Y",
        "%d %B %Y",
        "%b %d %Y",
        "%B %d, %Y",
        "%Y%m%d",
        "%a %d %b %Y",
    ),
    *("%A, %d %B %Y", "%-d/%-m/%Y", "%-m/%-d/%Y", "%-d.%-m.%Y"),
)
CLOCKS = (
    "%H:%M:%S", "%H:%M", "%H:%M:%S.%f", "%I:%M:%S %p", "%-I:%M:%S %p", "%I:%M %p", "%I:%M:%S%p", "%H-%M-%S", "%H.%M.%S", "%-H:%M:%S",
)  # fmt: skip
BETWEEN = (" ", ", ", "_", " - ", "  ", "T")


@pytest.mark.parametrize("date", DATES)
def test_dated_times_are_read_however_they_are_written(date: str) -> None:
    """Written by Python's strftime (POSIX.1-2017), from before midnight to after it."""
    moments = [datetime(2026, 11, 27, 22, 30, 17, 250000) + timedelta(minutes=2 * n) for n in range(90)]
    for number, clock in enumerate(CLOCKS):
        written = f"{date}{BETWEEN[(number + len(date)) % len(BETWEEN)]}{clock}"
        texts = [moment.strftime(written) for moment in moments]
        elapsed, began, naive = seconds_from_text(pl.Series(texts), "", "log")
        assert naive and np.allclose(elapsed, 120.0 * np.arange(90)), texts[0]
        assert began == pytest.approx(moments[0].replace(tzinfo=UTC).timestamp(), abs=20), texts[0]
    if not date.startswith("%a") and "%A" not in date:
        turned, _, _ = seconds_from_text(pl.Series([moment.strftime(f"%H:%M {date}") for moment in moments]), "", "log")
        assert np.allclose(turned, 120.0 * np.arange(90))


@pytest.mark.parametrize("offset", [" +0100", " +01:00", "+01", " +01", "+01:00"])
def test_a_zone_behind_a_time_counts(offset: str) -> None:
    texts = [f"2026-11-27 22:{minute}:00{offset}" for minute in range(30, 40)]
    elapsed, began, naive = seconds_from_text(pl.Series(texts), "Europe/Oslo", "log")
    assert not naive and began == datetime(2026, 11, 27, 21, 30, tzinfo=UTC).timestamp() and elapsed[-1] == 540.0


def test_a_year_of_two_digits_is_none_of_the_first_century() -> None:
    elapsed, began, _ = seconds_from_text(pl.Series(["3.4.26 08:00", "3.4.26 09:00"]), "", "log")
    assert began == datetime(2026, 4, 3, 8, tzinfo=UTC).timestamp() and elapsed[-1] == 3600.0


@pytest.mark.parametrize(("minutes", "hours", "told"), [(1, 1, True), (10, 1, False), (1, 2, False)])
def test_a_clock_that_jumps_an_hour_ahead_is_told_once_and_of_no_reading_by_hand(
    tmp_path: Path, minutes: int, hours: int, told: bool
) -> None:
    at, rows = datetime(2026, 3, 28, 20, 0), []
    for number in range(60):
        at += timedelta(minutes=minutes + 60 * (number in (20, 40)[:hours]))
        rows.append(f"{at:%Y-%m-%d %H:%M:%S},{13.2 - 0.01 * number:.2f},5.0")
    path = tmp_path / "log.csv"
    path.write_text("time,voltage (V),current (A)\n" + "\n".join(rows) + "\n")
    assert ("daylight-saving" in {one.code for one in read_log(path).remarks}) is told
