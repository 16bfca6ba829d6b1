"""Logs as devices write them, good and bad."""

from __future__ import annotations

import gzip
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
import polars as pl
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.amount import some
from tests.making import discharge, piecewise, write_log
from wintry_tally.core.analysis import Options, analyse
from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.errors import LogError
from wintry_tally.core.trace.beside import named_by
from wintry_tally.exchange import Choices, read_log
from wintry_tally.exchange.columns import assign, parse_header, plain, scale_of
from wintry_tally.exchange.content import encoding_of
from wintry_tally.exchange.layout import find_layout, split
from wintry_tally.exchange.sign import discharge_sign
from wintry_tally.exchange.writer import write_log as export_log

TRACE = discharge()
BEGUN = datetime(2026, 1, 20, 22, 0, tzinfo=UTC)


def clock(seconds: float) -> str:
    total = int(seconds)
    return f"{total // 3600}:{total // 60 % 60:02}:{total % 60:02}"


def charge(path: Path, choices: Choices | None = None) -> float:
    test = analyse(read_log(path, choices).trace, Options(FAMILIES["lfp"], 40.0)).capacity
    assert test is not None
    return test.count.charge.value


VARIANTS = {
    "plain": {},
    "semicolon and comma": {"header": "Zeit / s;Spannung / V;Strom / A", "delimiter": ";", "decimal": ",", "time": lambda s: f"{s:.1f}".replace(".", ",")},
    "tab": {"header": "t [s]\tU [V]\tI [A]", "delimiter": "\t"},
    "millis": {"header": "time_s,voltage_mV,current_mA", "scale": (1000.0, 1000.0)},
    "negative discharge": {"sign": -1.0},
    "preamble": {"preamble": "Logger 7\nSerial: 123\nFirmware, 1.2\n\n"},
    "unit row": {"header": "Time,Voltage,Current\ns,V,A"},
    "unit row in minutes": {"header": "Time,Voltage,Current\nmin,V,A", "time": lambda s: f"{s / 60:.6f}"},
    "hours": {"header": "Elapsed (h),Voltage (V),Current (A)", "time": lambda s: f"{s / 3600:.8f}"},
    "clock": {"header": "Time,Voltage,Current", "time": clock},
    "iso": {"header": "timestamp,voltage,current", "time": lambda s: (BEGUN + timedelta(seconds=s)).strftime("%Y-%m-%dT%H:%M:%SZ")},
    "iso local": {"header": "Date Time,Volts,Amps", "time": lambda s: (BEGUN + timedelta(seconds=s)).strftime("%Y-%m-%d %H:%M:%S")},
    "german dates": {"header": "Zeitstempel,Spannung,Strom", "time": lambda s: (BEGUN + timedelta(seconds=s)).strftime("%d.%m.%Y %H:%M:%S")},
    "epoch": {"header": "time,v,a", "time": lambda s: f"{BEGUN.timestamp() + s:.1f}"},
    "epoch ms": {"header": "timestamp,voltage,current", "time": lambda s: f"{(BEGUN.timestamp() + s) * 1000:.0f}"},
    "utf-16": {"encoding": "utf-16"},
    "latin-1": {"header": "Zeit / s,Spannung / V,Strom / A,Temperatur in °C", "extra": ",23.1", "encoding": "latin-1"},
    "bom": {"encoding": "utf-8-sig"},
    "french": {"header": "Temps (s);Tension (V);Intensité (A)", "delimiter": ";"},
    "trailing delimiter": {"extra": ","},
    "minutes and seconds": {"header": "Elapsed,Volts,Amps", "time": lambda s: f"{int(s // 60)}:{s % 60:04.1f}"},
    "minutes begun anew each hour": {"header": "Elapsed,Volts,Amps", "time": lambda s: f"{int(s % 3600 // 60):02}:{s % 60:04.1f}"},
    "mm:ss": {"header": "Time (mm:ss),Volts,Amps", "time": lambda s: f"{int(s // 60)}:{int(s % 60):02}"},
    "thousands": {"header": "Time (s),Voltage (mV),Current (mA)", "scale": (1000.0, 1000.0), "time": lambda s: f'"{s:,.0f}"'},
    "thousands late": {"header": "Time (h),Voltage (V),Current (A),No", "time": lambda s: f"{s / 3600:.6f}", "extra": ',"1,000"'},
    "points between thousands": {"header": "Zeit / s;Spannung / V;Strom / A", "delimiter": ";", "decimal": ",", "time": lambda s: f"{s:,.0f}".replace(",", ".")},
    "spaces round everything": {"header": '"Time, s" ; "Voltage, V" ; "Current, A"', "delimiter": " ; "},
    "bars": {"header": "time|voltage|current", "delimiter": "|"},
    "spaces": {"header": "time voltage current", "delimiter": " "},
}  # fmt: skip


@pytest.mark.parametrize("name", sorted(VARIANTS))
def test_every_way_of_writing_gives_the_same_charge(tmp_path: Path, name: str) -> None:
    path = write_log(tmp_path / "log.csv", TRACE, **VARIANTS[name])
    log = read_log(path)
    assert log.rows == len(TRACE) and log.discharge_sign == ("-" if name == "negative discharge" else "+")
    assert charge(path) == pytest.approx(40.0, rel=1e-3)
    assert log.trace.time_s[-1] - log.trace.time_s[0] == pytest.approx(TRACE.time_s[-1], abs=0.2)


def test_gzip_and_parquet(tmp_path: Path) -> None:
    plain_log = write_log(tmp_path / "log.csv", TRACE)
    packed = tmp_path / "log.csv.gz"
    packed.write_bytes(gzip.compress(plain_log.read_bytes()))
    parquet = tmp_path / "log.parquet"
    pl.read_csv(plain_log).write_parquet(parquet)
    packed_parquet = tmp_path / "log.parquet.gz"
    packed_parquet.write_bytes(gzip.compress(parquet.read_bytes()))
    stamped = tmp_path / "stamped.parquet"
    moments = [BEGUN.replace(tzinfo=None) + timedelta(seconds=float(s)) for s in TRACE.time_s]
    pl.DataFrame({"Time": moments, "Voltage": TRACE.voltage_V, "Current": TRACE.current}).write_parquet(stamped)
    for path in (packed, parquet, packed_parquet, stamped):
        assert charge(path) == pytest.approx(charge(plain_log), rel=1e-6)


def test_resolution_is_the_last_place_printed(tmp_path: Path) -> None:
    flat = piecewise((100, 0.0, 13.0), (3600, 8.0, 13.0), (60, 0.0, 13.1))
    log = read_log(write_log(tmp_path / "x.csv", flat))
    # 8.000 everywhere: trailing zeros are printed digits too
    assert log.trace.resolution["current_A"] == pytest.approx(0.001)
    milli = read_log(write_log(tmp_path / "m.csv", flat, header="t_s,U_mV,I_mA", scale=(1000.0, 1000.0)))
    assert milli.trace.resolution["current_A"] == pytest.approx(1e-6)


def test_a_time_of_day_rolls_over_midnight(tmp_path: Path) -> None:
    path = write_log(
        tmp_path / "x.csv", TRACE, header="Time,Voltage,Current", time=lambda s: clock((79200 + s) % 86400)
    )
    log = read_log(path)
    assert np.all(np.diff(log.trace.time_s) > 0) and charge(path) == pytest.approx(40.0, rel=1e-3)


def test_date_and_time_in_two_columns(tmp_path: Path) -> None:
    path = write_log(
        tmp_path / "x.csv", TRACE, header="Date,Time,Voltage,Current",
        time=lambda s: (BEGUN + timedelta(seconds=s)).strftime("%Y-%m-%d,%H:%M:%S"),
    )  # fmt: skip
    log = read_log(path)
    assert log.started == BEGUN and charge(path) == pytest.approx(40.0, rel=1e-3)


def local(seconds: float) -> str:
    """Local time of Oslo as a clock on the wall shows it over the end of summer time, 2025-10-26 01:00 UTC."""
    from zoneinfo import ZoneInfo

    begun = datetime(2025, 10, 25, 22, 0, tzinfo=UTC)
    return (begun + timedelta(seconds=seconds)).astimezone(ZoneInfo("Europe/Oslo")).strftime("%Y-%m-%d %H:%M:%S")


def test_daylight_saving_with_and_without_a_zone(tmp_path: Path) -> None:
    path = write_log(tmp_path / "x.csv", TRACE, header="Time,Voltage,Current", time=local)
    zoned = read_log(path, Choices(timezone="Europe/Oslo"))
    assert np.all(np.diff(zoned.trace.time_s) > 0) and not zoned.remarks
    assert charge(path, Choices(timezone="Europe/Oslo")) == pytest.approx(40.0, rel=1e-3)
    naive = read_log(path)
    assert [remark.code for remark in naive.remarks] == ["daylight-saving"] and "back" in naive.remarks[0].message
    assert charge(path) == pytest.approx(40.0, rel=2e-3), "joined where the order is clear"
    with pytest.raises(LogError, match="Europe/Oslo"):
        read_log(path, Choices(timezone="Nowhere/Here"))


def test_only_a_counter(tmp_path: Path) -> None:
    counter = np.cumsum(TRACE.current) * 10 / 3600
    lines = ["Time / s,Voltage / V,Capacity / mAh"]
    lines += [f"{t:.0f},{v:.3f},{1000 * c:.0f}" for t, v, c in zip(TRACE.time_s, TRACE.voltage_V, counter, strict=True)]
    path = tmp_path / "x.csv"
    path.write_text("\n".join(lines))
    assert charge(path) == pytest.approx(40.0, rel=3e-3)


def test_rows_with_words_and_blanks_between(tmp_path: Path) -> None:
    path = write_log(tmp_path / "x.csv", TRACE)
    lines = path.read_text().splitlines()
    lines[500] = "lead moved,,"
    lines[700] = ",,"
    path.write_text("\n".join([*lines, "end of log,,", ""]))
    log = read_log(path)
    analysis = analyse(log.trace, Options(FAMILIES["lfp"], 40.0))
    assert [remark.code for remark in analysis.remarks] == ["blank-rows"]
    assert analysis.remarks[0].rows is not None and analysis.remarks[0].rows[0] == 500
    assert charge(path) == pytest.approx(40.0, rel=2e-3)


@pytest.mark.parametrize(
    ("header", "expected"),
    [
        ("Voltage / V", ("voltage", "V")), ("U [mV]", ("u", "mV")), ("Current(A)", ("current", "A")), ("voltage_mV", ("voltage", "mV")),
        ("Temperature / degC", ("temperature", "degC")), ("Strom, A", ("strom", "A")), ("# time", ("time", "")),
        ("batteryVoltage", ("battery voltage", "")), ("Intensité (A)", ("intensite", "A")), ("Temp (°C)", ("temp", "°C")),
    ],
)  # fmt: skip
def test_headers_taken_apart(header: str, expected: tuple[str, str]) -> None:
    made = parse_header(header)
    assert (made.name, made.unit) == expected


@pytest.mark.parametrize(
    ("titles", "expected"),
    [
        (["Time", "Cell 1 / V", "Battery Voltage / V", "Current / A"], {"time": 0, "voltage": 2, "current": 3}),
        (["Test Time / s", "Set Current / A", "Current / A", "Voltage / V"], {"time": 0, "current": 2, "voltage": 3}),
        (["t", "V", "A", "W", "Ah", "Wh", "Temp"], {"time": 0, "voltage": 1, "current": 2, "power": 3, "counter_Ah": 4, "counter_Wh": 5, "temperature": 6}),
        (["Zeit", "Spannung", "Strom", "Ladung", "Energie", "Leistung"], {"time": 0, "voltage": 1, "current": 2, "counter_Ah": 3, "counter_Wh": 4, "power": 5}),
        (["sec", "volt", "ampere", "T (°C)"], {"time": 0, "voltage": 1, "current": 2, "temperature": 3}),
        (["T (°C)", "V", "A"], {"voltage": 1, "current": 2, "temperature": 0}),
        (["Zeit", "U", "I", "T"], {"time": 0, "voltage": 1, "current": 2, "temperature": 3}),
        (["t", "U", "I", "T"], {"time": 0, "voltage": 1, "current": 2, "temperature": 3}),
        (["Sec", "V load", "V sense", "I bat", "I set"], {"time": 0, "voltage": 2, "current": 3}),
        (["T", "U", "I"], {"time": 0, "voltage": 1, "current": 2}),
        (["x", "y", "z"], {}),
    ],
)  # fmt: skip
def test_columns_are_told_by_name_and_unit(titles: list[str], expected: dict[str, int]) -> None:
    assert assign([parse_header(title) for title in titles]) == expected


def test_small_parts_of_the_reader() -> None:
    assert split('a,"b,c",d', ",") == ["a", "b,c", "d"]
    assert plain("Kapazität-Ä 1") == "kapazitat a 1"
    assert scale_of("temperature", "°F") == (pytest.approx(5 / 9), pytest.approx(-160 / 9))
    assert scale_of("voltage", "furlong") == (1.0, 0.0)


def test_the_user_can_correct_everything(tmp_path: Path) -> None:
    path = tmp_path / "x.csv"
    body = "\n".join(
        f"{t:.0f};{a:.3f};{v:.3f}" for t, v, a in zip(TRACE.time_s, TRACE.voltage_V, TRACE.current, strict=True)
    )
    path.write_text(f"alpha;beta;gamma\n{body}")
    with pytest.raises(LogError, match="--map voltage=COLUMN"):
        read_log(path)
    named = Choices(columns={"time": "alpha", "current": "beta", "voltage": "gamma"})
    assert charge(path, named) == pytest.approx(40.0, rel=1e-3)
    numbered = Choices(columns={"time": "1", "current": "2", "voltage": "3"})
    assert charge(path, numbered) == pytest.approx(40.0, rel=1e-3)
    minutes = Choices(columns=named.columns, time_unit="min")
    assert charge(path, minutes) == pytest.approx(2400.0, rel=1e-3)
    with pytest.raises(LogError, match='no column "delta"'):
        read_log(path, Choices(columns={"voltage": "delta"}))
    forced = find_layout(
        path.read_text(), "utf-8", Choices(delimiter=";", decimal=".", header_line=0, columns=named.columns), "x"
    )
    assert forced.header_line == 0 and forced.first_line == 1 and forced.label("voltage") == "gamma"
    negative = read_log(path, Choices(columns=named.columns, discharge_sign="-"))
    assert float(np.min(negative.trace.current)) < -7


@pytest.mark.parametrize(
    ("heading", "seconds"),
    [("s", 1.0), ("sec", 1.0), ("Seconds", 1.0), ("Elapsed seconds", 1.0), ("ms", 1e-3), ("minutes", 60.0), ("h", 3600.0), ("hrs", 3600.0)],
)  # fmt: skip
def test_a_heading_that_is_but_a_unit_of_time_is_a_clock(tmp_path: Path, heading: str, seconds: float) -> None:
    path = tmp_path / "a.csv"
    path.write_text(f"{heading},V,A\n" + "".join(f"{n * 10},{13 - 0.001 * n:.3f},5\n" for n in range(40)))
    read = read_log(path)
    assert read.trace.time_s[-1] == pytest.approx(390 * seconds) and not read.trace.unnamed


def test_next_to_no_move_of_the_voltage_says_nothing_of_the_sign() -> None:
    # a load comes on and one last digit goes up: the fall of a whole discharge says more
    volts = np.concatenate([np.full(5, 13.8), np.linspace(13.81, 11.96, 400).round(2), np.full(5, 11.96)])
    amps = np.concatenate([np.zeros(5), np.full(400, 1.0), np.zeros(5)])
    assert discharge_sign(amps, volts, "Current") == "+" and discharge_sign(-amps, volts, "Current") == "-"


@pytest.mark.parametrize("rows", [1, 2, 6])
def test_a_charge_refused_at_once_leaves_the_charger_s_voltage(rows: int) -> None:
    volts = np.concatenate([np.full(60, 12.75), np.full(rows, 12.76), np.full(300, 14.39), np.full(30, 12.75)])
    noise = 0.01 * np.random.default_rng(3).integers(-1, 2, len(volts))
    amps = np.concatenate([np.zeros(60), np.full(rows, -9.9), np.zeros(330)]) + noise
    assert discharge_sign(amps, volts, "Current") == "+" and discharge_sign(-amps, volts, "Current") == "-"


@pytest.mark.parametrize("flip", [1.0, -1.0])
def test_the_sign_of_a_discharge(flip: float) -> None:
    cases = [
        discharge(),
        discharge(opened=False),
        discharge(rest_s=0.0, after_s=0.0),
        piecewise((600, 0.0, 13.2), (3600, -8.0, 13.6), (600, 0.0, 13.4), (3600, 8.0, 13.1)),
        piecewise((600, 0.0, 13.2), (3600, -8.0, 14.0), (60, 0.0, 14.4)),
    ]
    for trace in cases:
        assert discharge_sign(flip * trace.current, trace.voltage_V, "Current") == ("+" if flip > 0 else "-")
    assert discharge_sign(np.zeros(9), np.full(9, 13.0), "x") == "+"


# --- bad files ---


def bad(path: Path, content: bytes) -> str:
    path.write_bytes(content)
    with pytest.raises(LogError) as caught:
        log = read_log(path)
        analyse(log.trace, Options())
    text = str(caught.value)
    assert "\n" not in text and len(text) < 600
    return text


def test_bad_files_are_refused_in_one_clear_line(tmp_path: Path) -> None:
    path = tmp_path / "bad.csv"
    assert "empty" in bad(path, b"")
    assert "binary" in bad(path, bytes(range(256)) * 40)
    assert "zip archive" in bad(path, b"PK\x03\x04" + b"x" * 100)
    assert "voltage" in bad(path, b"time,current\n0,1\n1,1\n2,1\n")
    assert "no current" in bad(path, b"time,voltage\n0,13\n1,13\n2,13\n")
    assert "no time" in bad(path, b"voltage,current\n13,1\n13,1\n13,1\n")
    assert "at least two" in bad(path, b"time,voltage,current\n0,13,1\n")
    assert "numbers" in bad(path, b"time,voltage,current\n\n\n\n")
    assert "numbers" in bad(path, b"time,voltage,current\n,,\n,,\n,,\n")
    assert "numbers" in bad(path, b"all is well\nnothing here\n")
    assert "damaged" in bad(path, b"\x1f\x8bgarbage")
    assert "damaged" in bad(path, b"PAR1garbagePAR1")
    assert "50000 columns" in bad(path, b",".join([b"a"] * 50_000) + b"\n" + b",".join([b"1"] * 50_000) + b"\n")
    bad(path, b'time,voltage,current\n"' * 3000)
    bad(path, b'"' * 100_000)
    assert "line ends" in bad(path, b"x" * 400_000)
    assert "empty once unpacked" in bad(path, gzip.compress(b""))
    with pytest.raises(LogError, match="directory"):
        read_log(tmp_path)
    with pytest.raises(LogError, match="no such file"):
        read_log(tmp_path / "none.csv")


def test_a_decompression_bomb_is_not_unpacked(tmp_path: Path) -> None:
    path = tmp_path / "bomb.csv.gz"
    path.write_bytes(gzip.compress(b"0" * (300 << 20), 6))
    with pytest.raises(LogError, match="unpacks to more than"):
        read_log(path)


GOOD = "\n".join(
    ["Time / s,Voltage / V,Current / A", *(f"{i * 10},{13.2 - i / 100:.2f},8.00" for i in range(60))]
).encode()


@settings(max_examples=some(50, 150), suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.data())
def test_mutated_files_are_read_or_refused_never_crashed_on(tmp_path: Path, data: st.DataObject) -> None:
    content = bytearray(GOOD)
    for _ in range(data.draw(st.integers(1, 6))):
        at = data.draw(st.integers(0, len(content) - 1))
        kind = data.draw(st.integers(0, 3))
        if kind == 0:
            content[at] = data.draw(st.integers(0, 255))
        elif kind == 1:
            del content[at : at + data.draw(st.integers(1, 400))]
            content = content or bytearray(b"x")
        elif kind == 2:
            content[at:at] = data.draw(
                st.sampled_from(
                    [b'"', b"\n\n", b",,,", b"\x00", b"\xff", b";", b"\t", b"1e999", b"nan", b"-", b"99:99:99"]
                )
            )
        else:
            content[at:at] = content[: data.draw(st.integers(1, 200))]
    path = tmp_path / "x.csv"
    path.write_bytes(bytes(content))
    try:
        log = read_log(path)
        analysis = analyse(log.trace, Options(FAMILIES["lfp"], 40.0, dropouts_V=(12.9,)))
    except LogError as error:
        assert "\n" not in str(error)
        return
    assert np.all(np.diff(analysis.trace.time_s) > 0)


# --- export ---


def test_what_is_exported_imports_to_the_same_figures(tmp_path: Path) -> None:
    path = tmp_path / "out.csv"
    export_log(TRACE, path)
    assert path.read_text().splitlines()[0] == "Test Time / s,Voltage / V,Current / A"
    again = read_log(path)
    first = analyse(TRACE, Options(FAMILIES["lfp"], 40.0)).capacity
    second = analyse(again.trace, Options(FAMILIES["lfp"], 40.0)).capacity
    assert first is not None and second is not None
    assert second.count.charge.value == pytest.approx(first.count.charge.value, rel=1e-9)
    assert again.discharge_sign == "-"
    with pytest.raises(LogError, match="cannot be written"):
        export_log(TRACE, tmp_path / "no" / "out.csv")


@pytest.mark.parametrize("flaw", ["", "lead moved,,", "5000.0,n/a,8.0", "5000.0,13.0"])
def test_a_large_log_is_mapped_and_a_flaw_in_it_read_leniently(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, flaw: str
) -> None:
    path = write_log(tmp_path / "x.csv", TRACE)
    lines = path.read_text().splitlines()
    if flaw:
        lines[700] = flaw
        path.write_text("\n".join(lines))
    monkeypatch.setattr("wintry_tally.exchange.content.MAPPED", 100)
    log = read_log(path)
    assert log.rows == len(TRACE) and charge(path) == pytest.approx(40.0, rel=2e-3)
    with pytest.raises(LogError, match="no ordinary file"):
        read_log(Path("/dev/null"))


def _rows(form) -> str:
    return "\n".join(form(t, v, a) for t, v, a in zip(TRACE.time_s, TRACE.voltage_V, TRACE.current, strict=True))


ODD = {
    "decimal commas between commas": '"Zeit","Spannung (V)","Strom (A)"\n'
    + _rows(lambda t, v, a: f'"{t:.0f}","{v:.3f}","{a:.3f}"'.replace(".", ",")),
    "units in the cells": "Time,Voltage,Current\n" + _rows(lambda t, v, a: f"{t:.0f} s,{v:.3f} V,{a * 1000:.0f} mA"),
    "grouped thousands": "Time;Voltage;Current\n" + _rows(lambda t, v, a: f"{t:,.1f};{v:.3f};{a:.3f}"),
    "old line ends": ("Time,Voltage,Current\n" + _rows(lambda t, v, a: f"{t:.0f},{v:.3f},{a:.3f}")).replace("\n", "\r"),
    "newest first": "Time,Voltage,Current\n"
    + "\n".join(reversed(_rows(lambda t, v, a: f"{t:.0f},{v:.3f},{a:.3f}").splitlines())),
    "twelve-hour clock": "Time,Voltage,Current\n"
    + _rows(lambda t, v, a: f"{(10 + int(t) // 3600 - 1) % 12 + 1}:{int(t) // 60 % 60:02}:{int(t) % 60:02} {'AM' if t < 7200 else 'PM'},{v:.3f},{a:.3f}"),
    "headers of bare units": "time_ms,mV,mA\n" + _rows(lambda t, v, a: f"{t * 1000:.0f},{v * 1000:.0f},{-a * 1000:.0f}"),
    "terse names": "ts,volt,amp\n" + _rows(lambda t, v, a: f"{1.7e12 + t * 1000:.0f},{v:.3f},{a:.3f}"),
    "a mode column": "Time,Mode,Voltage,Current\n" + _rows(lambda t, v, a: f"{t:.0f},DSG,{v:.3f},{a:.3f}"),
    "comments before": "# made by a logger\n# a,b,c\nTime (s),Voltage (V),Current (A)\n" + _rows(lambda t, v, a: f"{t:.0f},{v:.3f},{a:.3f}"),
}  # fmt: skip


@pytest.mark.parametrize("name", sorted(ODD))
def test_odd_ways_of_writing(tmp_path: Path, name: str) -> None:
    path = tmp_path / "x.csv"
    path.write_bytes(ODD[name].encode())
    log = read_log(path)
    assert log.rows == len(TRACE) and charge(path) == pytest.approx(40.0, rel=1e-3)
    assert log.trace.resolution["voltage_V"] == pytest.approx(0.001)


@pytest.mark.parametrize("number", ["1e308", "1e200", "-1e9", "inf"])
def test_numbers_no_instrument_could_show_are_no_readings(tmp_path: Path, number: str) -> None:
    path = tmp_path / "x.csv"
    path.write_text("Time,Voltage,Current\n" + "".join(f"{i},{number},8.0\n" for i in range(50)))
    with pytest.raises(LogError):
        analyse(read_log(path).trace, Options())
    path.write_text("Time,Voltage,Current\n" + "".join(f"{i},{number if i == 20 else 13.0},8.0\n" for i in range(50)))
    analysis = analyse(read_log(path).trace, Options())
    assert analysis.remarks[0].code == "blank-rows" and analysis.remarks[0].rows == (21, 21)
    assert analysis.capacity is not None and analysis.capacity.count.charge.value == pytest.approx(8 * 49 / 3600)


def test_damaged_parquet_is_refused_in_one_line_and_nothing_else_is_printed(
    tmp_path: Path, capfd: pytest.CaptureFixture[str]
) -> None:
    whole = tmp_path / "whole.parquet"
    pl.DataFrame({"Time": TRACE.time_s, "Voltage": TRACE.voltage_V, "Current": TRACE.current}).write_parquet(whole)
    content = whole.read_bytes()
    damaged = tmp_path / "damaged.parquet"
    for at in range(8, len(content) - 4, len(content) // 60):
        damaged.write_bytes(content[:at] + bytes([content[at] ^ 0xFF]) + content[at + 1 :])
        try:
            analyse(read_log(damaged).trace, Options())
        except LogError as error:
            assert "\n" not in str(error)
    damaged.write_bytes(content[: len(content) // 2])
    with pytest.raises(LogError, match="its end is missing"):
        read_log(damaged)
    assert capfd.readouterr().err == ""


def test_an_infinite_number_is_no_reading(tmp_path: Path) -> None:
    rows = [f"{n},{'inf' if n == 5 else 13.0},{'1e999' if n == 9 else 8.0}" for n in range(60)]
    (tmp_path / "log.csv").write_text("t/s,U/V,I/A\n" + "\n".join(rows) + "\n")
    trace = read_log(tmp_path / "log.csv").trace
    assert np.isnan(trace.voltage_V[5]) and np.isnan(trace.current[9])
    assert np.isfinite(np.delete(trace.voltage_V, 5)).all()


def test_a_log_of_cells_alone_is_added_up_to_the_pack(tmp_path: Path) -> None:
    trace = discharge(interval_s=30.0)
    millivolts = [np.round(1000 * trace.voltage_V / 4 + offset).astype(int) for offset in (0, 3, -2, 1)]
    frame = {"Time (s)": trace.time_s, "Current (A)": trace.current}
    cells = {f"Cell{number} (mV)": values for number, values in enumerate(millivolts, 1)}
    pl.DataFrame(frame | cells).write_csv(tmp_path / "cells.csv")
    pl.DataFrame(frame | cells).write_parquet(tmp_path / "cells.parquet")
    for name in ("cells.csv", "cells.parquet"):
        log = read_log(tmp_path / name)
        assert [remark.code for remark in log.remarks] == ["voltage-from-cells"]
        np.testing.assert_allclose(log.trace.voltage_V, np.sum(millivolts, axis=0) / 1000.0)
        assert log.trace.resolution["voltage_V"] == pytest.approx(0.004), "one unit of each cell's last digit"
        assert log.columns["voltage"] == "Cell1 (mV) + Cell2 (mV) + Cell3 (mV) + Cell4 (mV)"
        assert set(log.trace.beside) == {f"cell_{number}_V" for number in (1, 2, 3, 4)}
    chosen = read_log(tmp_path / "cells.csv", Choices(columns={"voltage": "Cell2 (mV)"}))
    assert chosen.trace.voltage_V[0] == pytest.approx(millivolts[1][0] / 1000.0) and not chosen.remarks
    with_pack = frame | {"Pack Voltage (V)": trace.voltage_V} | cells
    pl.DataFrame(with_pack).write_csv(tmp_path / "both.csv")
    both = read_log(tmp_path / "both.csv")
    assert both.columns["voltage"] == "Pack Voltage (V)" and len(both.trace.beside) == 4 and not both.remarks


def test_one_cell_alone_is_what_was_tested(tmp_path: Path) -> None:
    trace = discharge(interval_s=30.0)
    frame = {"Time (s)": trace.time_s, "Current (A)": trace.current, "Cell 1 Voltage (V)": trace.voltage_V / 4}
    pl.DataFrame(frame).write_csv(tmp_path / "one.csv")
    log = read_log(tmp_path / "one.csv")
    assert log.columns["voltage"] == "Cell 1 Voltage (V)" and not log.trace.beside and not log.remarks


@pytest.mark.parametrize(
    ("headers", "field", "column"),
    [
        (["time_s", "voltage_V", "current_A", "case_C"], "temperature", "case_C"),
        (["time", "V_batt", "I_batt", "T_batt", "T_amb"], "temperature", "T_batt"),
        (["time", "voltage", "current", "case C", "core C"], "temperature", "core C"),
        (["h:mm:ss", "V", "A"], "time", "h:mm:ss"),
        (["t", "U", "I", "Ah_left"], "counter_Ah", "Ah_left"),
        (["Time", "Volts", "Amps", "Ah remaining"], "counter_Ah", "Ah remaining"),
        (["Time", "V", "A", "Coulombs / C"], "counter_Ah", "Coulombs / C"),
        (["Zeitpunkt", "Spannung / V", "Strom / A"], "time", "Zeitpunkt"),
        (["Time", "Voltage", "Current", "Ambient (°C)", "Battery temp (°C)"], "temperature", "Battery temp (°C)"),
    ],
)
def test_columns_as_people_head_them(headers: list[str], field: str, column: str) -> None:
    assert headers[assign([parse_header(text) for text in headers])[field]] == column


@pytest.mark.parametrize("heading", ["ambient_C", "Ambient temperature / °C", "Room temp", "Umgebungstemperatur [C]"])
def test_the_rooms_temperature_is_not_the_packs(heading: str) -> None:
    headers = [parse_header(text) for text in ("time_s", "V", "A", heading)]
    assert "temperature" not in assign(headers) and named_by(heading) == ("ambient_C", 1.0)


@pytest.mark.parametrize("encoding", ["cp1252", "cp1250", "mac_roman"])
@pytest.mark.parametrize(
    "head",
    [
        "Gerät;Messplatz 3\n\nZeit [s];Spannung [V];Strom [A];Temperatur [°C]", "Time,Volt,Amp,T (°C)", "Größe;µA;Lüfter",
        "Temps;Tension (V);Intensité (A);Température [°C];Résistance", "Tid;Spänning;Ström;°C", "Temp °C,Volt",
    ],
)  # fmt: skip
def test_signs_and_letters_are_read_as_they_were_written(head: str, encoding: str) -> None:
    try:
        written = (head + "\n" + "0,13.20,5.00,21.5\n" * 40).encode(encoding)
    except UnicodeEncodeError:
        return
    assert written.decode(encoding_of(written, "log")).startswith(head)
