"""The command line, to the letter of its contract."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from tests.making import discharge, write_log
from wintry_tally.cli.main import invoke
from wintry_tally.demo import scratch_copy

ACCURACY = ["--voltage-accuracy", "0.5%+2d", "--current-accuracy", "1%+0.01"]


@pytest.fixture
def log(tmp_path: Path) -> Path:
    return write_log(tmp_path / "run.csv", discharge())


def call(capsys: pytest.CaptureFixture[str], *arguments: object) -> tuple[int, str, str]:
    code = invoke([str(item) for item in arguments])
    out = capsys.readouterr()
    return code, out.out, out.err


def analysed(capsys: pytest.CaptureFixture[str], *arguments: object) -> dict:
    code, out, err = call(capsys, "analyse", *arguments, "--json")
    assert code == 0 and err == "" and out.count("\n") == 1
    return json.loads(out)


def test_analyse_has_every_key_of_the_contract(capsys, log: Path) -> None:
    data = analysed(
        capsys, log, "--family", "lfp", "--rated-ah", 40, "--device-dropout", 12.5, "--device-dropout", 12.0, *ACCURACY
    )
    assert data["schema"] == "wintry-tally.analysis/1"
    assert set(data) >= {
        "schema", "log", "stages", "capacity", "usable", "charge", "reserve", "resistance", "trips", "remarks",
    }  # fmt: skip
    assert data["log"]["rows"] == data["log"]["rows_used"] == len(discharge())
    assert data["log"]["columns"] == {
        "time": "Time / s",
        "voltage": "Voltage / V",
        "current": "Current / A",
        "temperature": None,
    }
    assert (
        data["log"]["discharge_sign"] == "+"
        and data["log"]["repair"] == "safe"
        and data["log"]["median_interval_s"] == 10.0
    )
    stage = data["stages"][1]
    assert set(stage) == {
        "kind", "control", "start_s", "end_s", "charge", "energy", "mean_voltage", "mean_current", "voltage_start",
        "voltage_end", "temperature_mean", "ended_by",
    }  # fmt: skip
    assert (stage["kind"], stage["control"], stage["ended_by"]) == ("discharge", "current", "battery-protection")
    assert data["stages"][0]["ended_by"] is None and data["stages"][0]["mean_voltage"]["value"] == pytest.approx(
        13.3, abs=0.01
    )
    capacity = data["capacity"]
    assert capacity["charge"]["value"] == pytest.approx(40.0, rel=1e-3) and capacity["charge"]["k"] == 2
    assert set(capacity["charge"]) == {"value", "expanded", "k", "unit"}
    # 1 % and 0.01 A as two uniform limits over 40 Ah and 5 h: 2·√((0.4/√3)² + (0.05/√3)²) = 0.466 Ah, resolution on top
    assert capacity["charge"]["expanded"] == pytest.approx(0.466, rel=0.01)
    assert capacity["c_rate"] == pytest.approx(0.2, rel=1e-3)
    assert capacity["percent_of_rated"]["value"] == pytest.approx(100, rel=1e-3)
    assert [round(item["dropout_V"], 1) for item in data["usable"]] == [12.5, 12.0]
    assert data["usable"][0]["charge"]["value"] < data["usable"][1]["charge"]["value"]
    assert (data["charge"], data["reserve"]) == (None, None)
    assert set(data["resistance"][0]) == {"at_s", "from_A", "to_A", "before_s", "after_s", "ohm"}
    assert data["trips"][0]["kind"] == "low-voltage" and set(data["trips"][0]) == {
        "kind",
        "at_s",
        "current_A",
        "voltage_V",
        "latency_s",
    }
    assert data["remarks"] == []


def test_without_accuracy_the_doubt_is_null(capsys, log: Path) -> None:
    data = analysed(capsys, log)
    assert data["capacity"]["charge"]["expanded"] is None and data["capacity"]["c_rate"] is None


def test_options_reach_the_analysis(capsys, log: Path, tmp_path: Path) -> None:
    cut = analysed(capsys, log, "--cutoff", 12.0, "--family", "lfp")
    assert cut["capacity"]["ended_by"] == "set-cutoff"
    odd = write_log(tmp_path / "odd.csv", discharge(), header="a,b,c")
    mapped = analysed(
        capsys, odd, "--map", "time=a", "--map", "voltage=b", "--map", "current=c", "--discharge-sign", "+"
    )
    assert mapped["capacity"]["charge"]["value"] == pytest.approx(40.0, rel=1e-3)


def test_several_logs_one_line_each(capsys, log: Path, tmp_path: Path) -> None:
    missing = tmp_path / "none.csv"
    code, out, _ = call(capsys, "analyse", log, missing, log, "--json")
    lines = [json.loads(line) for line in out.splitlines()]
    assert code == 2 and [line["schema"].split("/")[0] for line in lines] == [
        "wintry-tally.analysis", "wintry-tally.error", "wintry-tally.analysis",
    ]  # fmt: skip
    assert lines[1]["path"] == str(missing) and "no such file" in lines[1]["message"]


@pytest.mark.parametrize(
    "arguments",
    [
        ["analyse"],
        ["analyse", "none.csv"],
        ["analyse", "LOG", "--family", "lipo"],
        ["analyse", "LOG", "--voltage-accuracy", "good"],
        ["analyse", "LOG", "--rated-ah", "many"],
        ["analyse", "LOG", "--rated-ah", "-5"],
        ["analyse", "LOG", "--rated-ah", "nan"],
        ["analyse", "LOG", "--map", "voltage"],
        ["analyse", "LOG", "--map", "colour=b"],
        ["analyse", "LOG", "--map", "voltage=zzz"],
        ["analyse", "LOG", "--nonsense"],
        ["analyse", "LOG", "--repair", "all"],
        ["judge", "none.toml"],
        ["judge"],
        ["nonsense"],
        ["export", "none.wintry", "1", "--out", "x.csv"],
        ["report", "none.wintry", "M1", "--out", "x.html"],
    ],
)
def test_wrong_arguments_are_one_line_and_exit_2(capsys, log: Path, arguments: list[str]) -> None:
    code, out, err = call(capsys, *[str(log) if item == "LOG" else item for item in arguments])
    assert code == 2 and out == "" and err.count("\n") == 1 and "Traceback" not in err


def test_help_everywhere(capsys) -> None:
    for command in ([], ["analyse"], ["judge"], ["report"], ["export"], ["list"]):
        code, out, _ = call(capsys, *command, "--help")
        assert code == 0 and "Usage" in out
    assert call(capsys, "--version")[0] == 0


def test_readable_without_json(capsys, log: Path) -> None:
    code, out, _ = call(capsys, "analyse", log, "--family", "lfp", "--device-dropout", 12.5, *ACCURACY)
    assert (
        code == 0
        and "40.00 ± 0.47 Ah" in out
        and "the battery's own protection opened" in out
        and "Above 12.5 V" in out
    )


CLAIMS = """
[battery]
maker = "Invented"
family = "lfp"
nominal_V = 12.8
rated_Ah = 40
[[claim]]
kind = "capacity"
value = 39.0
unit = "Ah"
direction = "at-least"
source = "label"
[[claim]]
kind = "capacity"
value = 44000
unit = "mAh"
source = "web page"
[[claim]]
kind = "energy"
value = 500
[[claim]]
kind = "mass"
value = 4.4
tolerance = 0.1
direction = "within"
[[claim]]
kind = "cycles"
value = 4000
[[claim]]
kind = "feature"
value = true
[[evidence]]
method = "capacity"
log = "run.csv"
options = {voltage_accuracy = "0.5%+2d", current_accuracy = "1%+0.01", ambient = 24}
[[evidence]]
method = "measured"
claim = "mass"
measured = {value = 4.31, expanded = 0.01, unit = "kg"}
"""


def test_judge(capsys, log: Path, tmp_path: Path) -> None:
    (tmp_path / "claims.toml").write_text(CLAIMS)
    code, out, err = call(capsys, "judge", tmp_path / "claims.toml", "--json")
    data = json.loads(out)
    assert code == 0 and err == "" and data["schema"] == "wintry-tally.verdict/1" and data["school"] == "strict"
    assert set(data) == {"schema", "school", "battery", "claims", "findings"}
    outcomes = [claim["outcome"] for claim in data["claims"]]
    assert outcomes == ["met", "missed", "met", "met", "cannot-test", "not-tested"]
    first = data["claims"][0]
    assert set(first) == {
        "kind", "source", "required", "measured", "shown", "outcome", "probability", "conditions", "evidence", "advice", "working",
    }  # fmt: skip
    assert first["evidence"] == ["run.csv"] and first["probability"] > 0.99
    assert set(first["working"][0]) >= {"label", "formula", "inputs", "result", "source"}
    assert data["claims"][1]["required"]["value"] == 44.0 and data["claims"][1]["required"]["unit"] == "Ah"
    assert {condition["name"] for condition in first["conditions"]} >= {"rate", "temperature"}
    assert any("44 Ah on the web page" in finding for finding in data["findings"])
    code, out, _ = call(capsys, "judge", tmp_path / "claims.toml", "--school", "lenient")
    assert code == 0 and "Decision rule: lenient" in out and "Finding:" in out


def test_judge_agrees_with_analyse(capsys, log: Path, tmp_path: Path) -> None:
    (tmp_path / "claims.toml").write_text(CLAIMS)
    _, out, _ = call(capsys, "judge", tmp_path / "claims.toml", "--json")
    analysis = analysed(capsys, log, "--family", "lfp", "--rated-ah", 40, *ACCURACY)
    assert json.loads(out)["claims"][0]["measured"] == {**analysis["capacity"]["charge"], "bound": None}


def test_judge_takes_json_and_a_school_in_the_file(capsys, log: Path, tmp_path: Path) -> None:
    file = tmp_path / "claims.json"
    file.write_text(json.dumps({
        "battery": {"family": "lfp"}, "school": "plain", "claim": [{"kind": "capacity", "value": 40.5, "unit": "Ah"}],
        "evidence": [{"method": "capacity", "log": "run.csv"}, {"method": "hold", "log": "run.csv"}],
    }))  # fmt: skip
    data = json.loads(call(capsys, "judge", file, "--json")[1])
    assert data["school"] == "plain" and data["battery"]["rated_Ah"] == 40.5
    assert data["claims"][0]["outcome"] == "missed" and data["claims"][0]["probability"] is None


@pytest.mark.parametrize(
    ("before", "after", "place"),
    [
        ('kind = "capacity"', 'kind = "capacty"', 'claim[1].kind: "capacty" is not known; perhaps "capacity"'),
        ('unit = "Ah"', 'unit = "furlong"', 'claim[1].unit: "furlong" is not known'),
        ('unit = "Ah"', 'unit = "V"', 'claim[1].unit: "V" is no unit of charge'),
        ('direction = "at-least"', 'direction = "atleast"', "claim[1].direction"),
        ('family = "lfp"', 'family = "lifepo"', "battery.family"),
        ('log = "run.csv"', 'log = "gone.csv"', "evidence[1].log"),
        ('method = "capacity"', 'method = "capacities"', "evidence[1].method"),
        ('claim = "mass"', 'claim = "masss"', "evidence[2].claim"),
        ('value = 39.0', 'value = "much"', "claim[1].value"),
        ('maker = "Invented"', 'makker = "Invented"', "battery.makker"),
        ('ambient = 24', 'ambience = 24', "ambience"),
        ('ambient = 24', 'ambient = "warm"', "ambient"),
        ('[battery]', '[battery', "TOML"),
    ],
)  # fmt: skip
def test_judge_says_where_a_claims_file_is_wrong(
    capsys, log: Path, tmp_path: Path, before: str, after: str, place: str
) -> None:
    (tmp_path / "claims.toml").write_text(CLAIMS.replace(before, after, 1))
    code, out, err = call(capsys, "judge", tmp_path / "claims.toml", "--json")
    assert code == 2 and out == "" and err.count("\n") == 1 and place in err and "claims.toml" in err


def test_an_internal_failure_is_one_line_and_exit_1(capsys, log: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def broken(*_: object) -> None:
        raise RuntimeError("deep inside")

    monkeypatch.setattr("wintry_tally.cli.logs.analyse_log", broken)
    code, out, err = call(capsys, "analyse", log, "--json")
    assert code == 1 and out == "" and err.count("\n") == 1 and "internal failure" in err


def test_no_window_library_is_loaded_without_a_window(log: Path) -> None:
    program = (
        "import sys; from wintry_tally.cli.main import invoke; "
        f"code = invoke(['analyse', {str(log)!r}, '--json']); "
        "assert code == 0; assert not [name for name in sys.modules if name.startswith(('PySide6', 'pyqtgraph', 'sqlalchemy'))]"
    )
    done = subprocess.run(
        [sys.executable, "-c", program], capture_output=True, text=True, env={**os.environ, "DISPLAY": ""}
    )
    assert done.returncode == 0, done.stderr


def test_book_commands(capsys, tmp_path: Path) -> None:
    book = scratch_copy(tmp_path)
    code, out, _ = call(capsys, "list", book)
    assert code == 0 and "M1  Firnwerk Spur 40" in out and "run 1  Capacity 1" in out
    page = tmp_path / "m1.html"
    assert call(capsys, "report", book, "M1", "--out", page)[0] == 0 and "Spur 40" in page.read_text()
    code, _, err = call(capsys, "report", book, "M9", "--out", page)
    assert code == 2 and "there are M1" in err
    readings = tmp_path / "r.csv"
    assert call(capsys, "export", book, 1, "--out", readings)[0] == 0
    data = analysed(capsys, readings, "--family", "lfp", "--rated-ah", 40)
    assert data["capacity"]["charge"]["value"] == pytest.approx(41.4, abs=0.3)
    code, _, err = call(capsys, "export", book, 1, "--out", readings, "--original")
    assert code == 2 and "was not imported" in err
