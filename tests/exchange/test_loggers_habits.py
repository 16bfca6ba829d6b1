"""What loggers write beside the plain: marks of thousands, clocks without a unit, several channels, rows twice.

Common practice, no published source; invented data.
"""

from __future__ import annotations

import gzip
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np
import polars as pl
import pytest

from tests.exchange.test_reading import TRACE, charge
from tests.making import discharge, write_log
from wintry_tally.core.analysis import Options, analyse
from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.errors import LogError
from wintry_tally.core.trace.repair import mend
from wintry_tally.exchange import Choices, read_log
from wintry_tally.exchange.cells import last_digit
from wintry_tally.exchange.columns import assign, parse_header
from wintry_tally.exchange.layout import find_layout


@pytest.mark.parametrize(
    ("cells", "decimal"),
    [
        (["13,520", "13,519", "0,003"], ","),  # below one: a comma that groups has a figure other than 0 before it
        (["13,520", "13,519", "13,518"], ","),  # may be either: as most write it
        (["1,013,520", "990", "7"], "."),
        (["1,013.5", "990.1", "7.2"], "."),
        (["1,000", "990", "980", "970"], "."),
        (["1,000", "990", "980"], ","),  # two whole numbers below a thousand show nothing yet
        (["8,001", "7,998", "8", "7,99"], ","),
    ],
)  # fmt: skip
def test_what_a_comma_before_three_digits_is_shown_by_its_column(cells: list[str], decimal: str) -> None:
    rows = "\n".join(f'{second};"{cell}";{index}' for index, (second, cell) in enumerate(enumerate(cells)))
    assert find_layout(f"time_s;voltage;x\n{rows}\n", "utf-8", Choices(), "log").decimal == decimal


def test_thousands_that_begin_beyond_the_rows_looked_at(tmp_path: Path) -> None:
    def rows(mark: str, decimal: str, ends: str) -> str:
        clock = [f"{second:,}".replace(",", mark) for second in range(1500)]
        return "".join(f"{ends}{second}{ends};13{decimal}2;8{decimal}0\n" for second in clock)

    for number, text in enumerate((rows(",", ".", '"'), rows(".", ",", ""), rows("'", ".", ""))):
        path = tmp_path / f"{number}.csv"
        path.write_text("Time (s);Voltage (V);Current (A)\n" + text, encoding="utf-8")
        trace = read_log(path).trace
        assert list(trace.time_s) == list(range(1500)) and set(trace.voltage_V) == {13.2}
    # a point that does not group stays one, though the other columns have commas
    path.write_text(
        "Zeit (s);U (V);I (A)\n" + "".join(f"{n * 0.25:.3f};13,2;8,0\n" for n in range(9)), encoding="utf-8"
    )
    assert read_log(path).trace.time_s[-1] == 2.0


def test_what_nothing_names_the_unit_of_is_said(tmp_path: Path) -> None:
    def unnamed(header: str, clock: str = "0:10", choices: Choices | None = None) -> set[str]:
        rows = "".join(f"{second if clock == 's' else clock},13.2,8.0,23.4\n" for second in range(5))
        (tmp_path / "log.csv").write_text(f"{header},Voltage,Current,Temp\n{rows}", encoding="utf-8")
        return set(read_log(tmp_path / "log.csv", choices).trace.unnamed)

    assert unnamed("Time", "s") == {"time", "temperature"} and unnamed("time_s", "s") == {"temperature"}
    assert unnamed("Seconds", "s") == unnamed("Time", "s", Choices(time_unit="s")) == {"temperature"}
    assert unnamed("Time") == {"time", "clock", "temperature"}
    assert unnamed("Time", "14:05") == {"temperature"}, "a clock on the wall"
    named = (unnamed("Time (mm:ss)"), unnamed("Time (hh:mm)"), unnamed("Time", "0:00:10"), unnamed("Time", "0:10.5"))
    assert all(found == {"temperature"} for found in named)
    assert unnamed("Time", choices=Choices(time_unit="min")) == {"temperature"}
    (tmp_path / "log.csv").write_text("Time,V,A\n0:00,13.2,8\n0:10,13.2,8\n1:05,13.2,8\n", encoding="utf-8")
    last = [read_log(tmp_path / "log.csv", Choices(time_unit=unit)).trace.time_s[-1] for unit in (None, "min", "h")]
    assert last == [3900.0, 65.0, 3900.0]


@pytest.mark.parametrize(
    ("first", "second", "third"),
    [
        ("2026-01-31 23:59:50 UTC", "2026-02-01 00:00:00 UTC", "2026-02-01 00:00:10 UTC"),
        ("2026-01-31 23:59:50 CET", "2026-02-01 00:00:00 CET", "2026-02-01 00:00:10 CET"),
        ("[2026-01-31 23:59:50]", "[2026-02-01 00:00:00]", "[2026-02-01 00:00:10]"),
        ("2026-01-31 23:59:50,250", "2026-02-01 00:00:00,250", "2026-02-01 00:00:10,250"),
        ("31.01.2026 23.59.50", "01.02.2026 00.00.00", "01.02.2026 00.00.10"),
        ("23:59:50", "1.00:00:00", "1.00:00:10"),
        ("1795000000000000000", "1795000010000000000", "1795000020000000000"),
    ],
)
def test_the_same_ten_seconds_as_loggers_write_them(tmp_path: Path, first: str, second: str, third: str) -> None:
    rows = "".join(f"{time};13.{n};8.0\n" for n, time in enumerate((first, second, third)))
    (tmp_path / "log.csv").write_text(f"Time;Voltage / V;Current / A\n{rows}", encoding="utf-8")
    trace = read_log(tmp_path / "log.csv").trace
    assert (trace.time_s - trace.time_s[0]).tolist() == pytest.approx([0.0, 10.0, 20.0], abs=1e-3)


@pytest.mark.parametrize(
    "unfinished", ["2026-01-31", "2026", "2026-01-31T10:0", "2026-01-31T10:00:20,1", "T10:00:20,13.2,8.0"]
)
def test_one_unfinished_row_costs_itself_and_not_the_log(tmp_path: Path, unfinished: str) -> None:
    rows = [f"2026-01-31T10:00:{second:02d},13.{second},8.0" for second in range(10, 50)]
    rows[10] = unfinished
    (tmp_path / "log.csv").write_text("\n".join(["Timestamp,Volts [V],Amps [A]", *rows]) + "\n", encoding="utf-8")
    mended, remarks = mend(read_log(tmp_path / "log.csv").trace)
    assert [remark.code for remark in remarks] == ["blank-rows"] and remarks[0].rows == (11, 11)
    assert mended.time_s.tolist() == pytest.approx([n for n in range(40) if n != 10])


def test_only_an_energy_counter(tmp_path: Path) -> None:
    given = np.cumsum(np.append(0.0, np.diff(TRACE.time_s) * (TRACE.current * TRACE.voltage_V)[1:])) / 3600.0
    pl.DataFrame({"time_s": TRACE.time_s, "voltage": TRACE.voltage_V, "Wh": np.round(given, 2)}).write_csv(
        tmp_path / "wh.csv"
    )
    assert charge(tmp_path / "wh.csv") == pytest.approx(40.0, rel=2e-3)


def test_of_several_channels_one_is_read(tmp_path: Path) -> None:
    other = discharge(4.0, 5.0, top_V=13.0)
    rows = [(1, *row) for row in zip(TRACE.time_s, TRACE.voltage_V, TRACE.current, strict=True)]
    rows2 = [(2, *row) for row in zip(other.time_s, other.voltage_V, other.current, strict=True)]
    mixed = [row for pair in zip(rows, rows2, strict=True) for row in pair]
    for number, written in enumerate((mixed, rows + rows2)):
        path = tmp_path / f"{number}.csv"
        pl.DataFrame(written, schema=["Channel", "Time (s)", "Voltage (V)", "Current (A)"], orient="row").write_csv(
            path
        )
        first, second = read_log(path), read_log(path, Choices(channel="2"))
        assert first.channels == ("1", "2") and first.rows == 2 * len(TRACE) and len(first.trace) == len(TRACE)
        (remark,) = first.remarks
        assert remark.code == "several-channels" and "channel 1" in remark.message and "those of 2" in remark.message
        assert charge(path) == pytest.approx(40.0, rel=1e-3)
        assert charge(path, Choices(channel="2")) == pytest.approx(20.0, rel=1e-3)
        assert second.trace.row_at(5) == (12 if number == 0 else len(TRACE) + 6)
        with pytest.raises(LogError, match=r'no row is of channel "3".*1, 2'):
            read_log(path, Choices(channel="3"))
    one = tmp_path / "one.csv"
    pl.DataFrame(rows, schema=["Ch", "Time (s)", "Voltage (V)", "Current (A)"], orient="row").write_csv(one)
    assert read_log(one).channels == () and not read_log(one).remarks and charge(one) == pytest.approx(40.0, rel=1e-3)
    assert charge(one, Choices(channel="1")) == pytest.approx(40.0, rel=1e-3)
    with pytest.raises(LogError, match="no column names the channels"):
        read_log(write_log(tmp_path / "none.csv", TRACE), Choices(channel="1"))


def test_rows_that_were_written_twice_count_once(tmp_path: Path) -> None:
    def joined(*parts: slice, changed: float = 0.0) -> Path:
        picked = np.concatenate([np.arange(len(TRACE))[part] for part in parts])
        volts = TRACE.voltage_V[picked] + np.where(np.arange(len(picked)) >= len(TRACE) // 2, changed, 0.0)
        again = replace(TRACE.taking(picked), voltage_V=np.round(volts, 3))
        return write_log(tmp_path / "log.csv", again)

    assert charge(joined(slice(0, 1200), slice(600, None))) == pytest.approx(40.0, rel=1e-3)
    assert charge(joined(slice(0, 900), slice(700, 1300), slice(1290, None))) == pytest.approx(40.0, rel=1e-3)
    (remark,) = analyse(
        read_log(joined(slice(0, 1200), slice(600, None))).trace, Options(FAMILIES["lfp"], 40.0)
    ).remarks
    assert remark.code == "duplicate-times" and remark.rows == (1201, 1800)
    # one or two rows that come again are rows whose time cannot be, and other volts at the same times are another log's
    assert charge(joined(slice(0, 1200), slice(1198, None))) == pytest.approx(40.0, rel=1e-5)
    assert charge(joined(slice(0, 1020), slice(600, None), changed=0.01)) > 48.0


def test_a_clock_set_back_by_a_day_does_not_turn_the_log_about(tmp_path: Path) -> None:
    # its first time is later than its last: so is that of a log written newest first
    early = np.where(np.arange(len(TRACE)) < 900, TRACE.time_s + 90_000.0, TRACE.time_s)
    assert charge(write_log(tmp_path / "log.csv", replace(TRACE, time_s=early))) == pytest.approx(40.0, rel=1e-3)
    assert charge(write_log(tmp_path / "log.csv", TRACE.taking(np.arange(len(TRACE))[::-1]))) == pytest.approx(40.0, rel=1e-3)  # fmt: skip


@pytest.mark.parametrize("encoding", ["utf-8", "utf-16"])
def test_zero_bytes_where_the_power_was_lost_cost_the_rows_they_lie_over(tmp_path: Path, encoding: str) -> None:
    text = write_log(tmp_path / "log.csv", TRACE).read_text(encoding="utf-8")
    path = tmp_path / "holed.csv"
    path.write_bytes(text.encode(encoding) + bytes(4096))
    assert charge(path) == pytest.approx(40.0, rel=1e-3)
    path.write_bytes(gzip.compress(path.read_bytes()))
    assert charge(path) == pytest.approx(40.0, rel=1e-3)
    for nothing in (bytes(4096), gzip.compress(bytes(4096))):
        path.write_bytes(nothing)
        with pytest.raises(LogError, match="binary file"):
            read_log(path)
    if encoding == "utf-8":
        content = text.encode()
        for begin, end in ((content.find(b"\n900") + 1, 30), (len(content) // 2, 400), (len(content) - 200, 100)):
            path.write_bytes(content[:begin] + bytes(4096) + content[begin + end :])
            log = read_log(path)
            found = analyse(log.trace, Options(FAMILIES["lfp"], 40.0))
            assert found.capacity is not None and found.capacity.count.charge.value == pytest.approx(40.0, rel=2e-3)
            assert "blank-rows" in {remark.code for remark in found.remarks}


def _log(tmp_path: Path, header: str, rows: list[str]) -> np.ndarray:
    path = tmp_path / "log.csv"
    path.write_text("\n".join([header, *rows]) + "\n", encoding="utf-8")
    return read_log(path).trace.time_s


@pytest.mark.parametrize("form", ["%m/%d/%Y,%H:%M:%S", "%d/%m/%Y,%H:%M:%S"])
def test_a_night_tells_the_day_from_the_month(tmp_path: Path, form: str) -> None:
    begins = datetime(2027, 3, 4, 22, 0)
    rows = [f"{begins + timedelta(seconds=30 * n):{form}},13.2,8" for n in range(480)]
    assert _log(tmp_path, "Date,Time,V,A", rows)[-1] == 479 * 30.0


def test_readings_a_month_apart_are_left_a_month_apart(tmp_path: Path) -> None:
    # 1 March to 1 August as they are written; the other way round they would be of six days in a row
    rows = [f"01/{month:02d}/2027 12:00:00,13.2,0" for month in range(3, 9)]
    assert _log(tmp_path, "Time,V,A", rows)[-1] == 153 * 86400.0
    assert _log(tmp_path, "Time,V,A", [row.replace("01/", "13/", 1) for row in rows])[-1] == 153 * 86400.0


def test_a_clock_in_words_and_a_comment_under_the_header(tmp_path: Path) -> None:
    rows = ["# begun", ",,"] + [f"{n // 3600}h {n % 3600 // 60}m {n % 60}s,13.2,8" for n in range(0, 7200, 30)]
    assert _log(tmp_path, "Elapsed,V,A", rows)[-1] == 7170.0


@pytest.mark.parametrize(
    ("titles", "voltage"),
    [(("V load (V)", "V sense (V)"), 1), (("Battery (V)", "Charger (V)"), 0), (("Load voltage (V)", "Current (A)"), 0)],
)
def test_of_two_voltages_the_battery_s_own_is_read(titles: tuple[str, str], voltage: int) -> None:
    assert assign([parse_header(title) for title in titles])["voltage"] == voltage


@pytest.mark.parametrize(
    ("readings", "digit"),
    [
        ([10 * n for n in range(20)], 0.01),
        ([100 * n for n in range(20)], 0.1),
        ([10 * n for n in range(11)], 0.001),  # too few to tell
        ([0, 8000] * 20, 0.001),
        ([*(10 * n for n in range(20)), 7], 0.001),
    ],
)
def test_a_digit_is_the_last_place_that_moves(tmp_path: Path, readings: list[int], digit: float) -> None:
    path = tmp_path / "log.csv"
    rows = "".join(f"{n},13200,{amps}\n" for n, amps in enumerate(readings))
    path.write_text("time_s,voltage_mV,current_mA\n" + rows, encoding="utf-8")
    assert read_log(path).trace.resolution["current_A"] == pytest.approx(digit)


@pytest.mark.parametrize(
    ("amps", "digit"),
    [
        ((0.04, -2.19), 0.01), ((0.04, -2.19, -2.2), 0.01),  # a clamp of 10 mA whose logger writes mA, its zero off by four
        ((0.1, 200.8), 0.1), ((0.4, 200.8), 0.1),
        ((0.0, -2.19), 0.001), ((0.0, 5.0), 0.001), ((5.0, 10.0), 0.001),  # nothing shows that it moves by tens
        ((0.4, -12.0), 0.001),  # two set values of round numbers
        ((0.25, 1.5), 0.001), ((0.021, 2.0), 0.001),
    ],
)  # fmt: skip
def test_a_zero_that_never_moves_tells_the_digit(amps: tuple[float, ...], digit: float) -> None:
    column = np.repeat(amps, 40)
    assert last_digit(column, 3) == pytest.approx(digit)
    assert last_digit(column[35:45], 3) == pytest.approx(0.001), "too few readings"
