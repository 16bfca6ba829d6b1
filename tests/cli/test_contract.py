"""The command-line contract, held to the letter on logs of every kind: shapes, types, nulls, units, exit codes."""

from __future__ import annotations

import gzip
import json
import math
from pathlib import Path
from typing import Any

import numpy as np
import polars as pl
import pytest

from tests.making import discharge, piecewise
from wintry_tally.cli.main import invoke
from wintry_tally.core.trace import Trace

ACCURACY = ["--voltage-accuracy", "0.5%+2d", "--current-accuracy", "1%+0.01"]
KINDS = {"rest", "charge", "discharge", "pause"}
CONTROLS = {"current", "voltage", "power", "resistance", "mixed", "none"}
ENDS = {
    "battery-protection", "set-cutoff", "device-dropout", "current-taper", "charge-protection", "set-point", "operator",
    "log-end",
}  # fmt: skip


def is_quantity(value: Any, unit: str, known: bool = True) -> None:
    assert set(value) >= {"value", "expanded", "k", "unit"} and value["unit"] == unit and value["k"] == 2
    assert isinstance(value["value"], (int, float)) and math.isfinite(value["value"])
    if known:
        assert isinstance(value["expanded"], (int, float)) and value["expanded"] >= 0
    else:
        assert value["expanded"] is None


def holds_the_contract(data: dict[str, Any], known: bool = True) -> None:
    assert data["schema"] == "wintry-tally.analysis/1"
    log = data["log"]
    assert log["rows"] >= log["rows_used"] > 0 and log["span_s"] > 0 and log["median_interval_s"] > 0
    assert set(log["columns"]) >= {"time", "voltage", "current", "temperature"}
    assert log["discharge_sign"] in {"+", "-"} and log["repair"] in {"none", "safe", "offered"}
    last = 0.0
    for stage in data["stages"]:
        assert stage["kind"] in KINDS and stage["control"] in CONTROLS
        assert last - 1e-6 <= stage["start_s"] <= stage["end_s"]
        last = stage["start_s"]
        is_quantity(stage["charge"], "Ah", known)
        is_quantity(stage["energy"], "Wh", known)
        assert stage["charge"]["value"] >= 0 and stage["energy"]["value"] >= 0
        assert stage["ended_by"] in ENDS | {None}
        assert (stage["ended_by"] is None) == (stage["kind"] in {"rest", "pause"})
        assert stage["temperature_mean"] is None or isinstance(stage["temperature_mean"], float)
        for name in ("voltage_start", "voltage_end"):
            assert isinstance(stage[name], float)
    if data["capacity"] is not None:
        capacity = data["capacity"]
        for name, unit in (("charge", "Ah"), ("energy", "Wh"), ("mean_voltage", "V")):
            is_quantity(capacity[name], unit, known)
        assert capacity["duration_s"] > 0 and capacity["ended_by"] in ENDS
        assert capacity["c_rate"] is None or capacity["c_rate"] > 0
        assert (capacity["c_rate"] is None) == (capacity["percent_of_rated"] is None)
    if data["charge"] is not None:
        charge = data["charge"]
        is_quantity(charge["charge"], "Ah", known)
        assert 0.0 <= charge["share_constant_current"] <= 1.0 and charge["ended_by"] in ENDS
        assert charge["time_to_full_s"] is None or charge["time_to_full_s"] > 0
        if charge["heating"] is not None:
            assert charge["heating"]["duration_s"] > 0
            is_quantity(charge["heating"]["energy"], "Wh", known)
    for usable in data["usable"]:
        assert usable["dropout_V"] > 0 and usable["duration_s"] >= 0
        is_quantity(usable["charge"], "Ah", known)
    if data["reserve"] is not None:
        is_quantity(data["reserve"]["minutes"], "min", known)
    for step in data["resistance"]:
        assert step["before_s"] <= 0 < step["after_s"] <= 12 or step["before_s"] >= 0
        is_quantity(step["ohm"], "Ω", known)
    for trip in data["trips"]:
        assert (
            trip["kind"] in {"over-current", "low-voltage", "over-voltage", "low-temperature"}
            and trip["latency_s"] >= 0
        )
    for remark in data["remarks"]:
        assert set(remark) >= {"code", "message", "rows"}
        assert remark["rows"] is None or (len(remark["rows"]) == 2 and 1 <= remark["rows"][0] <= remark["rows"][1])


LOGS: dict[str, Trace] = {
    "capacity": discharge(8.0, 5.0),
    "charge": piecewise(
        (600, 0, 13.0), (7200, -8, 13.6), (3600, -4, 14.4), (1800, -1, 14.4), (600, 0, 13.5), interval_s=5
    ),
    "cycle": piecewise(
        (600, 0, 13.2), (9000, 8, 12.9), (1800, 0, 13.0), (9500, -8, 13.6), (900, 0, 13.5), interval_s=5
    ),
    "trip": piecewise((60, 0, 13.3), (30, 40, 12.9), (8, 120, 12.0), (120, 0, 0.4), interval_s=0.5),
    "steps": piecewise((60, 0, 13.3), (10, 8, 13.15), (1, 40, 12.7), (60, 0, 13.2), interval_s=0.5),
    "rest": piecewise((3600, 0, 13.2), interval_s=10),
}


def written(trace: Trace, path: Path, sign: float = 1.0) -> Path:
    rows = zip(trace.time_s, trace.voltage_V, trace.current, strict=True)
    text = "Time / s,Voltage / V,Current / A\n" + "".join(f"{t:.1f},{v:.3f},{sign * a:.3f}\n" for t, v, a in rows)
    path.write_text(text)
    return path


@pytest.mark.parametrize("name", sorted(LOGS))
@pytest.mark.parametrize("accuracy", [True, False])
def test_every_kind_of_log(name: str, accuracy: bool, tmp_path: Path, capsys) -> None:
    path = written(LOGS[name], tmp_path / "log.csv")
    arguments = ["analyse", str(path), "--family", "lfp", "--rated-ah", "40", "--device-dropout", "12.5", "--json"]
    assert invoke([*arguments, *(ACCURACY if accuracy else [])]) == 0
    captured = capsys.readouterr()
    assert captured.out.count("\n") == 1 and not captured.err
    data = json.loads(captured.out)
    holds_the_contract(data, accuracy)
    assert (data["capacity"] is not None) == (name not in {"charge", "rest"})
    assert (data["charge"] is not None) == (name in {"charge", "cycle"})


def test_each_part_is_found_where_it_is(tmp_path: Path, capsys) -> None:
    def analysed(name: str) -> dict[str, Any]:
        assert (
            invoke(
                [
                    "analyse",
                    str(written(LOGS[name], tmp_path / f"{name}.csv")),
                    "--family",
                    "lfp",
                    "--rated-ah",
                    "40",
                    "--json",
                ]
            )
            == 0
        )
        found: dict[str, Any] = json.loads(capsys.readouterr().out)
        return found

    assert [stage["kind"] for stage in analysed("cycle")["stages"]] == ["rest", "discharge", "rest", "charge", "rest"]
    trip = analysed("trip")["trips"][0]
    assert trip["kind"] == "over-current" and trip["current_A"] == pytest.approx(120.0, abs=0.5)
    assert trip["latency_s"] == pytest.approx(8.0, abs=1.0)
    step = analysed("steps")["resistance"]
    assert any(item["ohm"]["value"] == pytest.approx((13.15 - 12.7) / 32.0, rel=0.05) for item in step)
    charge = analysed("charge")["charge"]
    assert charge["charge"]["value"] == pytest.approx(8 * 2 + 4 + 0.5, rel=0.02) and charge["time_to_full_s"] > 9000
    rested = analysed("rest")
    assert rested["capacity"] is None and rested["charge"] is None and rested["trips"] == []


def as_bytes(trace: Trace, how: str) -> tuple[str, bytes]:
    frame = pl.DataFrame({"Time / s": trace.time_s, "Voltage / V": trace.voltage_V, "Current / A": trace.current})
    plain = frame.write_csv()
    if how == "gz":
        return "log.csv.gz", gzip.compress(plain.encode())
    if how == "utf-16":
        return "log.csv", plain.encode("utf-16")
    if how == "latin-1":
        return "log.csv", ("Gerät: Prüfstand\n\n" + plain).encode("latin-1")
    if how == "semicolon":
        body = (
            plain.replace(",", ";")
            .replace(".", ",")
            .replace("Time / s", "Zeit / s")
            .replace("Voltage", "Spannung")
            .replace("Current", "Strom")
        )
        return "log.txt", body.encode()
    if how == "crlf":
        return "log.csv", plain.replace("\n", "\r\n").encode("utf-8-sig")
    if how == "minus":
        return "log.csv", frame.with_columns(-pl.col("Current / A")).write_csv().encode()
    if how == "milli":
        return "log.csv", frame.select(
            pl.col("Time / s").alias("t [min]") / 60, pl.col("Voltage / V").alias("U [mV]") * 1000, pl.col("Current / A").alias("I [mA]") * 1000
        ).write_csv().encode()  # fmt: skip
    raise AssertionError(how)


@pytest.mark.parametrize("how", ["gz", "utf-16", "latin-1", "semicolon", "crlf", "minus", "milli", "parquet"])
def test_every_dress_of_a_log_gives_the_same_figures(how: str, tmp_path: Path, capsys) -> None:
    trace = LOGS["capacity"]
    if how == "parquet":
        name = "log.parquet"
        pl.DataFrame(
            {"Time / s": trace.time_s, "Voltage / V": trace.voltage_V, "Current / A": trace.current}
        ).write_parquet(tmp_path / name)
    else:
        name, content = as_bytes(trace, how)
        (tmp_path / name).write_bytes(content)
    assert invoke(["analyse", str(tmp_path / name), "--family", "lfp", "--rated-ah", "40", *ACCURACY, "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    holds_the_contract(data)
    true = float(np.trapezoid(trace.current, trace.time_s)) / 3600.0
    assert data["capacity"]["charge"]["value"] == pytest.approx(true, rel=2e-3)
    assert data["capacity"]["ended_by"] == "battery-protection"


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["analyse"], "LOG"),
        (["analyse", "{log}", "--family", "tin"], "tin"),
        (["analyse", "{log}", "--rated-ah", "-3"], "rated"),
        (["analyse", "{log}", "--rated-ah", "many"], "many"),
        (["analyse", "{log}", "--map", "voltage"], "map"),
        (["analyse", "{log}", "--map", "voltage=Nothing"], "Nothing"),
        (["analyse", "{log}", "--map", "colour=Voltage / V"], "colour"),
        (["analyse", "{log}", "--voltage-accuracy", "good"], "good"),
        (["analyse", "{log}", "--current-accuracy", "-1%"], "1%"),
        (["analyse", "{log}", "--repair", "all"], "all"),
        (["analyse", "{log}", "--timezone", "Mars/Olympus"], "Mars"),
        (["analyse", "{none}"], "no such file"),
        (["analyse", "{folder}"], "directory"),
        (["analyse", "--join", "{log}", "{none}"], "no such file"),
        (["judge", "{none}"], "no such"),
        (["judge", "{log}"], "log.csv"),
        (["forecast-the-weather"], "forecast-the-weather"),
        (["export", "{log}", "1", "--out", "x.csv"], "not a test book"),
        (["report", "{none}", "M1", "--out", "x.html"], "no such book"),
    ],
)
def test_what_cannot_be_is_one_line_and_exit_2(arguments: list[str], says: str, tmp_path: Path, capsys) -> None:
    log = written(LOGS["rest"], tmp_path / "log.csv")
    places = {"{log}": str(log), "{none}": str(tmp_path / "none.csv"), "{folder}": str(tmp_path)}
    assert invoke([places.get(item, item) for item in arguments]) == 2
    captured = capsys.readouterr()
    assert not captured.out and captured.err.count("\n") == 1 and says in captured.err, captured.err
    assert "Traceback" not in captured.err


def test_a_failed_log_among_many_stands_in_its_place(tmp_path: Path, capsys) -> None:
    good = written(LOGS["capacity"], tmp_path / "good.csv")
    (tmp_path / "empty.csv").write_text("")
    assert invoke(["analyse", str(good), str(tmp_path / "empty.csv"), str(good), "--json"]) == 2
    lines = [json.loads(line) for line in capsys.readouterr().out.splitlines()]
    assert [line["schema"] for line in lines] == [
        "wintry-tally.analysis/1",
        "wintry-tally.error/1",
        "wintry-tally.analysis/1",
    ]
    assert set(lines[1]) == {"schema", "path", "message"} and "empty" in lines[1]["message"]


def test_a_column_s_last_digit_is_looked_for_in_all_of_it(tmp_path: Path, capsys) -> None:
    # "A digit is one unit of the last decimal place printed in that column": a long rest may print 0.0 only
    rows = (
        ["t/s,U/V,I/A"]
        + [f"{10 * n},13.3,0.0" for n in range(800)]
        + [f"{8000 + 10 * n},13.0,8.003" for n in range(900)]
    )
    (tmp_path / "log.csv").write_text("\n".join(rows) + "\n")
    assert (
        invoke(
            [
                "analyse",
                str(tmp_path / "log.csv"),
                "--current-accuracy",
                "0%+1d",
                "--voltage-accuracy",
                "0.1%",
                "--json",
            ]
        )
        == 0
    )
    charge = json.loads(capsys.readouterr().out)["capacity"]["charge"]
    assert charge["expanded"] < 0.05, "a tenth of an ampere over hours would be more"
