"""`wintry-tally run` and its kin, as a bench computer without a monitor uses them; the contract, to the letter."""

from __future__ import annotations

import json
import signal
import sqlite3
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.bench.live import LiveBench, recipe
from wintry_tally.app.safety import Inspection, lift_quarantine, quarantine_of
from wintry_tally.book import Book, RunStatus
from wintry_tally.cli.main import invoke


@pytest.fixture
def bench(tmp_path: Path, own_places: Path) -> Iterator[LiveBench]:
    made = LiveBench(tmp_path)
    yield made
    made.stop()


def of(events: list[dict], kind: str) -> list[dict]:
    return [event for event in events if event["event"] == kind]


def test_a_whole_test_is_proved_run_and_ends_with_zero(bench: LiveBench) -> None:
    code, events, err = bench.run(recipe(bench.folder, 3.0, proof=True), "one", "--every", "0.5").end()
    assert code == 0, err
    assert events[0] == {"event": "step", "run": 1, "at_s": 0.0, "index": -1, "title": "Draw 1", "phase": "ready"}
    last = events[-1]
    assert (last["event"], last["cause"], last["outputs"]) == ("ended", "time-limit", "off")
    readings = of(events, "reading")
    assert len(readings) >= 6 and all(event["run"] == 1 for event in events)
    assert set(readings[0]) == {"event", "run", "at_s", "voltage_V", "current_A", "temperature_C", "usable"}
    assert any(reading["current_A"] == pytest.approx(5.0, abs=0.1) for reading in readings) and not bench.flows
    assert "Leads" in err and "fuse within reach" in err and "pack's protection both" not in err
    with Book.open(bench.path) as book:
        run = book.runs.get(1)
        usable = [reading for reading in readings if reading["usable"]]
        assert run.status is RunStatus.FINISHED and len(book.runs.trace(1)) == len(usable)
        proof = next(event for event in book.runs.events(1) if event.kind == "proof")
        assert "mΩ at the meter's leads" in proof.message and "Ah were moved for it" in proof.message
        assert json.loads(book.meta("resistance:1"))["draw"][0] > 0


@pytest.mark.parametrize(("number", "code"), [(signal.SIGINT, 130), (signal.SIGTERM, 143), (signal.SIGHUP, 143)])
def test_a_signal_parks_it_with_everything_off(
    bench: LiveBench, number: signal.Signals, code: int, capsys: pytest.CaptureFixture[str]
) -> None:
    program = bench.run(recipe(bench.folder), "one")
    bench.until(lambda: bench.flows)
    program.send(number)
    found, events, _ = program.end()
    assert found == code and not bench.flows
    assert (events[-1]["cause"], events[-1]["outputs"]) == ("parked", "off")
    assert invoke(["list", str(bench.path), "--json"]) == 0
    listed = json.loads(capsys.readouterr().out)
    assert listed["schema"] == "wintry-tally.list/1"
    run = listed["samples"][0]["runs"][0]
    assert {key: run[key] for key in ("run", "title", "status", "channel")} == {
        "run": 1, "title": "Draw 1", "status": "running", "channel": "one",
    }  # fmt: skip


def test_a_closed_standard_output_is_a_terminated_run(bench: LiveBench) -> None:
    program = bench.run(recipe(bench.folder), "one")
    bench.until(lambda: bench.flows)
    assert program.process.stdout is not None
    program.process.stdout.close()
    program.process.stdout = None
    assert program.wait(20) == 143 and not bench.flows


def test_prompts_wait_for_a_line(bench: LiveBench) -> None:
    program = bench.run(recipe(bench.folder, kind="prompt"), "one", stdin=subprocess.PIPE)
    assert program.process.stdin is not None and program.process.stdout is not None
    events = []
    while not events or events[-1]["event"] != "prompt":
        events.append(json.loads(program.process.stdout.readline()))
    assert events[-1]["message"] == "Switch the kettle on."
    program.process.stdin.write("done it\nand more\n")  # the second line answers nothing
    program.process.stdin.flush()
    code, more, err = program.end()
    assert code == 0 and more[-1]["cause"] == "confirmed" and "over already" not in err, more


def test_without_hands_a_prompt_parks_it(bench: LiveBench) -> None:
    code, events, _ = bench.run(recipe(bench.folder, kind="prompt"), "one").end()
    assert code == 3 and events[-1]["cause"] == "parked" and of(events, "prompt")


FAULTS = [
    ("meter", "silence", "instrument-lost", 3), ("meter", "error-text", "instrument-lost", 3),
    ("load", "other-hands", "disturbed", 3), ("load", "switched-off", "disturbed", 3),
]  # fmt: skip


@pytest.mark.parametrize(("instrument", "fault", "cause", "code"), FAULTS)
def test_what_goes_wrong_ends_it_in_time(bench: LiveBench, instrument: str, fault: str, cause: str, code: int) -> None:
    program = bench.run(recipe(bench.folder), "one")
    bench.until(lambda: bench.flows)
    time.sleep(2.0)
    bench.world.fault(instrument, fault)
    took = bench.until(lambda: not bench.world.load_on, 20.0)
    assert took < 5.0, "three readings at a second, each with its time to answer"
    found, events, _ = program.end()
    assert found == code and events[-1]["cause"] == cause and events[-1]["outputs"] == "off"
    if fault in {"silence", "error-text"}:
        bad = [event for event in of(events, "reading") if not event["usable"]]
        assert bad and bad[0]["reason"] and bad[0]["voltage_V"] is None


def test_a_meter_that_is_lost_while_the_rebound_is_watched_is_no_good_end(bench: LiveBench) -> None:
    program = bench.run(recipe(bench.folder, 2.0, rest_s=60.0), "one")
    bench.until(lambda: bench.flows)
    bench.until(lambda: not bench.world.load_on, 20.0)
    bench.world.fault("meter", "silence")
    found, events, _ = program.end()
    last = events[-1]
    assert (found, last["cause"], last["outputs"]) == (3, "instrument-lost", "off") and last["detail"]
    with Book.open(bench.path) as book:
        assert book.runs.get(1).cause == "time-limit", "what ended the draw stays what it is judged by"


@pytest.mark.parametrize(("fault", "code"), [("ignores-off", "not-off"), ("lies-off", "flows-though-off")])
def test_what_stays_on_is_said_until_it_is_off(bench: LiveBench, fault: str, code: str) -> None:
    program = bench.run(recipe(bench.folder, 4.0), "one")
    bench.until(lambda: bench.flows)
    bench.world.fault("load", fault)
    time.sleep(8.0)
    assert bench.flows and program.process.poll() is None, "it goes on saying so"
    bench.world.fault("load", fault, on=False)
    bench.until(lambda: not bench.flows)
    found, events, err = program.end()
    assert found == 3 and events[-1]["outputs"] == "off"
    assert [event["code"] for event in of(events, "trouble")] == [code]
    assert err.count("unplug") >= 2, "said again and again"
    assert any("after all" in event["message"] for event in of(events, "warning"))


def test_ended_by_a_signal_before_it_is_off_it_says_unknown(bench: LiveBench) -> None:
    program = bench.run(recipe(bench.folder, 4.0), "one")
    bench.until(lambda: bench.flows)
    bench.world.fault("load", "ignores-off")
    time.sleep(6.0)
    program.send(signal.SIGTERM)
    code, events, err = program.end()
    assert code == 4 and events[-1]["outputs"] == "unknown" and "guard goes on" in err
    assert bench.flows
    bench.world.fault("load", "ignores-off", on=False)
    assert bench.until(lambda: not bench.flows) < 5.0, "the guard goes on by itself"


def test_off_typed_makes_everything_safe_and_the_battery_waits(bench: LiveBench) -> None:
    program = bench.run(recipe(bench.folder), "one", stdin=subprocess.PIPE)
    bench.until(lambda: bench.flows)
    assert program.process.stdin is not None
    program.process.stdin.write("off\n")
    program.process.stdin.flush()
    assert bench.until(lambda: not bench.flows) < 2.0
    code, events, err = program.end()
    assert code == 3 and events[-1]["cause"] == "made-safe" and events[-1]["outputs"] == "off"
    assert "supply: off" in err and "call the fire service" in err and "quarantine" in err
    barred = bench.run(bench.folder / "r.toml", "one")
    found, events, err = barred.end()
    assert found == 2 and not events and "quarantine" in err
    with Book.open(bench.path) as book:
        assert quarantine_of(book, 1) is not None
        lift_quarantine(book, 1, Inspection("cool, no smell", ("cool", "shape", "dry", "leads")))
        assert quarantine_of(book, 1) is None and "cool, no smell" in book.meta("quarantine-log:1")


def test_a_locked_book_is_told_watched_and_caught_up_with(bench: LiveBench) -> None:
    program = bench.run(recipe(bench.folder, 12.0), "one")
    bench.until(lambda: bench.flows)
    time.sleep(2.0)
    lock = sqlite3.connect(bench.path, isolation_level=None)
    lock.execute("BEGIN IMMEDIATE")
    time.sleep(7.0)
    assert bench.flows, "watched and drawn from all the same"
    lock.execute("ROLLBACK")
    lock.close()
    code, events, _ = program.end(60.0)
    assert code == 0 and not bench.flows
    trouble = of(events, "trouble")
    assert [event["code"] for event in trouble] == ["not-saved"]
    with Book.open(bench.path) as book:
        kept = len(book.runs.trace(1))
    readings = of(events, "reading")
    assert kept == len(readings), "nothing is lost"
    gaps = [after["at_s"] - before["at_s"] for before, after in zip(readings, readings[1:], strict=False)]
    assert max(gaps) < 2.0, "and none was late"


def test_what_is_refused_is_refused_in_a_line(bench: LiveBench, capsys: pytest.CaptureFixture[str]) -> None:
    book, made = str(bench.path), str(recipe(bench.folder))
    for arguments, says in (
        (["run", book, "M1", "--recipe", made, "--channel", "one"], "cautions above are to be heeded"),
        (["run", book, "M1", "--recipe", made, "--channel", "none"], "no channel"),
        (["run", book, "M9", "--recipe", made, "--channel", "one"], "no sample"),
        (["run", book, "M1", "--recipe", "dance", "--channel", "one"], "no recipe"),
        (["run", book, "M1", "--recipe", made], "needs a sample"),
        (["run", book, "--resume", "7"], "no run 7"),
        (["new", book], "exists already"),
        (["add", book, "M1"], "is taken"),
        (["add", book, "M2", "--set", "colour=red"], "not known"),
        (["add", book, "M2", "--family", "lemon"], "lemon"),
        (["bench", book, "--set", made], "no part of a bench"),
    ):
        assert invoke(arguments) == 2, arguments
        err = capsys.readouterr().err
        assert says in err.splitlines()[-1], err
    assert not bench.flows


def test_a_bench_is_set_from_a_file_shown_and_asked(
    bench: LiveBench, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    at = bench.stand_ins.addresses()
    good = f'[[instrument]]\nname = "m"\naddress = "{at["meter"]}"\n[[channel]]\nname = "c"\nvoltage = "m"\nleads = {{mm2 = 6, length_m = 1.5}}\n'
    path = tmp_path / "bench.toml"
    for text, says in (
        (good.replace('voltage = "m"', 'voltage = "x"'), 'channel[1].voltage: there is no instrument "x"'),
        (good.replace("address", "adress"), "instrument[1].adress: not known"),
        (good.replace("[[channel]]", 'kind = "load"\ndialect = "mine.toml"\n[[channel]]'), "mine.toml"),
        (good + '[[channel]]\nname = "c"\nvoltage = "m"\n', "stands there already"),
        (good.replace("mm2 = 6", "mm2 = 0"), "leads"),
        (good.replace('name = "m"', 'name = "m"\nvoltage_accuracy = "fine"'), "accuracy"),
    ):
        path.write_text(text)
        assert invoke(["bench", str(bench.path), "--set", str(path)]) == 2
        assert says in capsys.readouterr().err
    (tmp_path / "mine.toml").write_text(
        'kind = "scpi"\ntitle = "Mine"\n[load]\ncurrent = ["C {setting}", "ON {amps}"]\noff = "OFF"\nis_off = "O?"\n'
    )
    path.write_text(good.replace("[[channel]]", 'kind = "load"\ndialect = "mine.toml"\n[[channel]]'))
    assert invoke(["bench", str(bench.path), "--set", str(path)]) == 2 and "{amps}" in capsys.readouterr().err
    path.write_text(good)
    assert invoke(["bench", str(bench.path), "--set", str(path), "--ask", "--json"]) == 0
    shown = json.loads(capsys.readouterr().out)
    assert [item["name"] for item in shown["instrument"]] == ["m"] and shown["channel"][0]["leads"]["mm2"] == 6.0
    assert shown["instrument"][0]["answers"]["values"]["voltage"] > 12.0
    bench.world.fault("meter", "silence")
    assert invoke(["bench", str(bench.path), "--ask"]) == 3 and "no answer in time" in capsys.readouterr().out


def test_a_sample_is_added_with_printed_claims(bench: LiveBench, tmp_path: Path) -> None:
    printed = tmp_path / "label.txt"
    printed.write_text("100 Ah\n1280 Wh\n\n")
    assert invoke(["add", str(bench.path), "M2", "--claims", str(printed), "--maker", "Firn", "--set", "rested_V=13,2", "--set", "tight=yes"]) == 0  # fmt: skip
    claims = tmp_path / "c.toml"
    claims.write_text('[battery]\nfamily = "agm"\nrated_Ah = 75\n[[claim]]\nkind = "mass"\nvalue = 22\nunit = "kg"\n')
    assert invoke(["add", str(bench.path), "M3", "--claims", str(claims)]) == 0
    with Book.open(bench.path) as book:
        two, three = book.samples.all()[1:]
    assert two.rated_Ah == 100.0 and two.maker == "Firn" and two.arrival.rested_V == 13.2 and two.arrival.tight is True
    assert three.family_key == "agm" and three.rated_Ah == 75.0 and len(three.claims) == 2


def test_a_book_whose_file_is_moved_in_mid_run_is_told_at_once_and_loses_nothing(bench: LiveBench) -> None:
    program = bench.run(recipe(bench.folder, 8.0), "one")
    bench.until(lambda: bench.flows, 30.0)
    bench.path.rename(bench.path.with_name("elsewhere.wintry"))
    code, events, said = program.end(60.0)
    assert code == 0 and of(events, "ended")[0]["outputs"] == "off"
    assert said.count("Nothing is lost") == 2, "while it runs, and at its end"
    kept = next(bench.folder.glob("*rescued*.wintry"))
    with Book.open(kept) as book:
        run = book.runs.all()[-1]
        assert run.status is RunStatus.FINISHED and len(book.runs.trace(run.id)) >= len(of(events, "reading"))
