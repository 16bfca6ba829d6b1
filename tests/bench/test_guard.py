"""The guard outside the program: kills, freezes, one-connection lines, a guard that dies, what it writes down."""

from __future__ import annotations

import json
import os
import select
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from pymodbus.framer import FramerRTU

from tests.bench.live import LiveBench, Program, recipe
from tests.guards import guards
from wintry_tally.app.bench_book import bench_from, equipment_of, keep_equipment
from wintry_tally.app.headless import Terminal
from wintry_tally.app.live import LiveRuns
from wintry_tally.bench.connect import BenchChannel
from wintry_tally.bench.drivers.modbus import _crc
from wintry_tally.bench.guard import ProcessGuard, guardian, take_records
from wintry_tally.bench.guard.process import says_off
from wintry_tally.bench.offplan import Exchange, OffPlan
from wintry_tally.book import Book, RunStatus
from wintry_tally.core.engine import Command
from wintry_tally.core.errors import InputError, InstrumentError

GUARD_S = 5.0


@pytest.fixture
def bench(tmp_path: Path, own_places: Path) -> Iterator[LiveBench]:
    made = LiveBench(tmp_path)
    yield made
    made.stop()


def flowing(bench: LiveBench, channel: str = "one") -> Program:
    program = bench.run(recipe(bench.folder), channel)
    bench.until(lambda: bench.flows)
    return program


@pytest.mark.parametrize("channel", ["one", "asked", "registers"])
def test_killed_while_it_draws(bench: LiveBench, channel: str) -> None:
    program = flowing(bench, channel)
    time.sleep(1.5)  # until the book has some of it
    program.send(signal.SIGKILL)
    assert bench.until(lambda: not bench.flows) < GUARD_S
    program.wait(5)
    bench.until(lambda: not guards() or not bench.world.load_on)
    with Book.open(bench.path) as book:
        run = book.runs.all()[0]
        bench.until(lambda: bool(list(Path(os.environ["XDG_STATE_HOME"]).rglob("*.json"))))
        record = take_records(bench.path)[0]
        assert record.run == run.id and record.done and "the program is gone" in record.words
        assert not take_records(bench.path), "told once"
        # and it can be taken up: OFF and a look first, then on from where it stood
        assert run.status is RunStatus.RUNNING
    if channel != "one":
        return  # taken up it is by its book, whatever its line speaks
    again = bench.run(resume=run.id)
    bench.until(lambda: bench.flows)
    again.send(signal.SIGINT)
    code, events, _ = again.end()
    assert code == 130 and events[-1]["cause"] == "parked" and events[-1]["outputs"] == "off" and not bench.flows
    assert [event["phase"] for event in events if event["event"] == "step"][:3] == ["ready", "paused", "discharging"]


def test_frozen_and_woken_it_knows_and_parks(bench: LiveBench) -> None:
    program = flowing(bench)
    program.send(signal.SIGSTOP)
    assert bench.until(lambda: not bench.flows) < GUARD_S
    time.sleep(0.5)
    program.send(signal.SIGCONT)
    code, events, err = program.end()
    assert not bench.flows and code == 3 and events[-1]["cause"] == "parked" and events[-1]["outputs"] == "off"
    assert "stood still for 3 s" in err


@pytest.mark.parametrize("told", [True, False], ids=["as its dialect says", "as it turns out"])
def test_frozen_on_a_line_that_serves_one_program_it_is_ended_first(
    bench: LiveBench, tmp_path: Path, told: bool
) -> None:
    for role in ("load", "supply"):
        bench.world.fault(role, "one-connection")
    if told:
        own = (Path(__file__).parents[2] / "src/wintry_tally/bench/dialects/plain-scpi.toml").read_text()
        (tmp_path / "one.toml").write_text(own.replace("[load]", "[load]\none_connection = true"))
        data = bench.bench()
        data["instrument"][0] |= {"dialect": "one.toml", "way": "scpi"}
        with Book.open(bench.path) as book:
            keep_equipment(book, bench_from(data, "bench", tmp_path))
    program = flowing(bench)
    program.send(signal.SIGSTOP)
    assert bench.until(lambda: not bench.flows) < (GUARD_S if told else GUARD_S + 2.0)
    assert program.wait(5) == -signal.SIGKILL


def test_no_guard_no_output(bench: LiveBench, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(guardian, "SCRIPT", Path("/nowhere/guard.py"))
    with Book.open(bench.path) as book:
        channel = BenchChannel(bench.equipment, bench.equipment.channel("one"))
        guard = ProcessGuard(channel.off_plans(), 1, str(book.path), "x")
        with pytest.raises(InstrumentError, match="guard outside the program could not be started"):
            guard.begin()
        channel.close()


def test_a_guard_that_dies_is_replaced_before_anything_more_is_switched_on(bench: LiveBench) -> None:
    channel = BenchChannel(bench.equipment, bench.equipment.channel("one"))
    guard = ProcessGuard(channel.off_plans(), 1, str(bench.path), "x")
    guard.begin()
    first = guard.pid
    assert int(Path(f"/proc/{first}/statm").read_text().split()[1]) * 4096 < 30e6
    os.kill(first, signal.SIGKILL)
    bench.until(lambda: not guard.lives)
    guard.begin()
    assert guard.lives and guard.pid != first
    channel.carry_out(Command("draw", "current", 5.0))
    bench.until(lambda: bench.flows)
    guard.switch_off()
    bench.until(lambda: not bench.flows)
    bench.until(lambda: guard.acted() is not None)
    guard.release()
    bench.until(lambda: not guards())
    channel.close()
    assert not list(Path(os.environ["XDG_STATE_HOME"]).rglob("*.json")), "released, it leaves nothing behind"


def test_a_guard_that_is_asked_to_end_switches_off_first(bench: LiveBench) -> None:
    # a computer that is shut down asks every program to end, in no order
    channel = BenchChannel(bench.equipment, bench.equipment.channel("one"))
    guard = ProcessGuard(channel.off_plans(), 1, str(bench.path), "x")
    guard.begin()
    channel.carry_out(Command("draw", "current", 5.0))
    bench.until(lambda: bench.flows)
    os.kill(guard.pid, signal.SIGTERM)
    bench.until(lambda: not bench.flows)
    bench.until(lambda: not guard.lives)
    guard.release()
    channel.close()


def test_a_guard_that_was_held_up_itself_lets_the_program_speak_first(tmp_path: Path) -> None:
    # a computer that stood still, program and guard alike, is nothing that the program did
    plan = {
        "instruments": [], "late_s": 2.0, "run": 1, "book": "b", "title": "x", "record": str(tmp_path / "r.json"),
        "sound": "", "program": 0, "program_started": "never",
    }  # fmt: skip
    guard = subprocess.Popen(
        [sys.executable, "-I", "-S", str(guardian.SCRIPT)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0
    )
    assert guard.stdin is not None and guard.stdout is not None
    guard.stdin.write(json.dumps(plan).encode() + b"\n")
    assert b"ready" in guard.stdout.readline()
    guard.send_signal(signal.SIGSTOP)
    time.sleep(2.5)
    guard.send_signal(signal.SIGCONT)
    heard = select.select([guard.stdout], [], [], 0.4)[0]
    guard.stdin.write(b"b\n")
    assert not heard and not select.select([guard.stdout], [], [], 1.0)[0], "it speaks: nothing is done"
    began = time.monotonic()
    assert b"stood still for 2 s" in guard.stdout.readline() and time.monotonic() - began > 0.5
    guard.stdin.write(b"x\n")
    assert guard.wait(60.0) == 0
    guard.stdout.close()
    guard.stdin.close()


def test_it_goes_on_shouting_until_it_is_off(bench: LiveBench, capfd: pytest.CaptureFixture[str]) -> None:
    channel = BenchChannel(bench.equipment, bench.equipment.channel("one"))
    guard = ProcessGuard(channel.off_plans(), 7, str(bench.path.resolve()), "Draw 1", terminal=2)
    guard.begin()
    channel.carry_out(Command("draw", "current", 5.0))
    bench.world.fault("load", "ignores-off")
    guard.leave()
    bench.until(lambda: bool(guards()))
    time.sleep(2.5)
    said = capfd.readouterr().err
    assert "load says that it is still on: unplug the load's lead at the battery" in said and bench.flows
    record = take_records(bench.path)[0]
    assert not record.done and record.guard in guards() and record.results["supply"][0]
    bench.world.fault("load", "ignores-off", on=False)
    bench.until(lambda: not bench.flows and not guards())
    assert take_records(bench.path)[0].done
    channel.close()


def test_what_answers_mean_off() -> None:
    off = [b"0", b"+0", b"-0", b"0.0", b"OFF", b"off\r"]
    assert all(says_off(answer, "") for answer in off)
    assert not any(says_off(answer, "") for answer in (b"1", b"ON", b"", b"?", None, b"0x0"))
    assert says_off(b"\x01\x00", "0100") and not says_off(b"\x01\x01", "0100") and not says_off(b"0", "0100")


def test_frames_for_the_guard_are_modbus_frames() -> None:
    # Modbus over serial line 1.02: the checksum, held against pymodbus
    for body in (b"\x01\x05\x00\x00\x00\x00", b"\x11\x03\x00\x6b\x00\x03", bytes(range(40))):
        assert int.from_bytes(_crc(body), "little") == int.from_bytes(
            FramerRTU.compute_CRC(body).to_bytes(2, "big"), "little"
        )


def test_an_instrument_out_of_its_reach_may_not_drive(bench: LiveBench) -> None:
    data = bench.bench()
    data["instrument"][0]["address"] = "TCPIP::127.0.0.1::inst0::INSTR"
    equipment = bench_from(data, "bench", bench.folder)
    channel = BenchChannel(equipment, equipment.channel("one"))
    with pytest.raises(InstrumentError, match="may not drive"):
        channel.off_plans()
    channel.close()


def test_without_an_answer_another_meter_is_looked_at(own_places: Path) -> None:
    """A load that cannot be asked is seen to be off by three readings of a meter that can."""
    amps = {"now": 5.0}
    heard: list[str] = []

    def serve(listener: socket.socket, answer) -> None:
        while True:
            try:
                line, _ = listener.accept()
            except OSError:
                return
            with line, line.makefile("rw") as lines:
                for text in lines:
                    told = answer(text.strip())
                    if told is not None:
                        lines.write(told + "\n")
                        lines.flush()

    def load(text: str) -> None:
        heard.append(text)
        amps["now"] = 0.01

    places = []
    for answer in (load, lambda _text: f"{amps['now']:.3f}"):
        listener = socket.create_server(("127.0.0.1", 0))
        places.append(listener)
        threading.Thread(target=serve, args=(listener, answer), daemon=True).start()
    ports = [place.getsockname()[1] for place in places]
    meter = OffPlan("meter", "", "127.0.0.1", ports[1])
    plan = OffPlan(
        "load",
        "it",
        "127.0.0.1",
        ports[0],
        says=(Exchange(b"HALT\n"),),
        meter=meter,
        current=Exchange(b"I?\n", b"\n"),
        zero_A=0.05,
    )
    guard = ProcessGuard([plan], 1, "b", "x")
    guard.begin()
    guard.switch_off()
    acted = None
    until = time.monotonic() + 5
    while acted is None and time.monotonic() < until:
        acted = guard.acted()
        time.sleep(0.02)
    assert acted is not None and not acted.left and heard == ["HALT"]
    guard.release()
    for place in places:
        place.close()


def test_one_run_at_a_time_on_a_battery_and_on_an_instrument(bench: LiveBench, tmp_path: Path) -> None:
    program = flowing(bench)
    other = LiveBench.__new__(LiveBench)  # the same instruments, from another book
    other.path = tmp_path / "other.wintry"
    with Book.create(other.path) as book:
        book.samples.add("Z9", "", "", "lfp")
        keep_equipment(book, bench.equipment)
        runs = LiveRuns(book, lambda: equipment_of(book), Terminal(as_json=True))
        from wintry_tally.app.run_settings import bench_settings
        from wintry_tally.cli.simulating import template_named
        from wintry_tally.core.protocol.setpoints import Facts
        from wintry_tally.core.protocol.template import fill

        sample = book.samples.all()[0]
        made = fill(template_named(str(bench.folder / "r.toml")), Facts(sample.family, 40.0))
        settings = bench_settings(sample, made, bench.equipment, "one")
        with pytest.raises(InputError, match=r"instrument (load|supply|meter) is taken by Draw 1 of M1"):
            runs.start(sample, made, settings, (), "load", "one")
        assert not book.runs.all(), "a run that could not begin leaves nothing"
    second = bench.run(bench.folder / "r.toml", "asked")
    code, events, err = second.end()
    assert code == 2 and not events and "battery M1 is taken by Draw 1 of M1" in err
    taken_up = bench.run(resume=1)
    code, events, err = taken_up.end()
    assert code == 2 and not events and "runs in another window or process" in err
    assert bench.flows
    program.send(signal.SIGTERM)
    assert program.end()[0] == 143
