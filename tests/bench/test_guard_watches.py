"""The guard's own script in this process: whom it hears, how long it waits, what it does, writes down and shouts.

Its standard input, output and clock are the test's. Common practice, no published source.
"""

from __future__ import annotations

import json
import os
import select as real_select
import signal
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest

from wintry_tally.bench.guard import process
from wintry_tally.bench.guard.process import Guard, end_program


class Place:
    """What a guard hears and says: its standard input is a pipe, what it writes is kept, time passes as the test says."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch) -> None:
        self.reads, self.writes = os.pipe()
        self.out, self.err, self.now = list[dict[str, Any]](), list[bytes](), 1000.0
        self.open = True
        place = self

        class Os:
            def __getattr__(self, name: str) -> Any:
                return getattr(os, name)

            def read(self, number: int, most: int) -> bytes:
                return os.read(place.reads if number == 0 else number, most)

            def write(self, number: int, content: bytes) -> int:
                if number == 1:
                    place.out.append(json.loads(content))
                elif number == 2:
                    place.err.append(content)
                else:
                    return os.write(number, content)
                return len(content)

        def chosen(reading: list[int], writing: list[int], odd: list[int], seconds: float) -> Any:
            place.waits.append(seconds)
            found = real_select.select([place.reads if one == 0 else one for one in reading], writing, odd, 0.0)
            if not any(found):
                place.now += seconds
                place.passes()
            return ([0] if place.reads in found[0] else found[0]), found[1], found[2]

        self.waits = list[float]()
        self.passes: Callable[[], None] = lambda: None
        monkeypatch.setattr(process, "os", Os())
        monkeypatch.setattr(process, "select", SimpleNamespace(select=chosen))
        monkeypatch.setattr(
            process,
            "time",
            SimpleNamespace(monotonic=lambda: self.now, time=lambda: 5000.0 + self.now, sleep=self.slept),
        )

    def slept(self, seconds: float) -> None:
        self.now += seconds
        self.passes()

    def say(self, *words: bytes) -> None:
        os.write(self.writes, b"".join(word + b"\n" for word in words))

    def hang_up(self) -> None:
        if self.open:
            os.close(self.writes)
            self.open = False


@pytest.fixture
def place(monkeypatch: pytest.MonkeyPatch) -> Iterator[Place]:
    made = Place(monkeypatch)
    yield made
    made.hang_up()
    os.close(made.reads)


def guard(tmp_path: Path, *names: str, alone: bool = False, **more: Any) -> Guard:
    return Guard(
        {
            "instruments": [{"name": name, "plug": f"the {name}'s lead", "alone": alone} for name in names or ("load",)],
            "run": 7, "book": "b.wintry", "title": "Capacity", "late_s": 3.0, "record": str(tmp_path / "record.json"), "sound": "",
            "program": 0, "program_started": "", **more,
        }
    )  # fmt: skip


@pytest.fixture
def seen(monkeypatch: pytest.MonkeyPatch) -> dict[str, list]:
    """What is seen of each instrument, look by look, and whether it was told or only looked at."""
    found: dict[str, list] = {"load": [(True, "off")], "told": []}

    def switched(item: dict, *, say: bool = True) -> tuple[bool, str]:
        found["told"].append((item["name"], say))
        of_it = found[item["name"]]
        told: tuple[bool, str] = of_it.pop(0) if len(of_it) > 1 else of_it[0]
        return told

    monkeypatch.setattr(process, "switch_off", switched)
    return found


def test_it_waits_as_long_as_the_program_speaks(place: Place, tmp_path: Path) -> None:
    """A word every 2.9 s is enough; after 3 s without one the program has stood still; a word in two parts is one."""
    made = guard(tmp_path)
    spoken = iter((2.9, 5.8, 8.7))
    due = [next(spoken)]

    def passes() -> None:
        if due and place.now - 1000.0 >= due[0] - 1e-6:
            place.say(b"b")
            due[:] = [one for one in [next(spoken, None)] if one is not None]

    place.passes = passes
    assert made.watch() == process.SILENT
    assert place.now - 1000.0 == pytest.approx(8.7 + 3.0, abs=0.25) and max(place.waits) <= 0.1


@pytest.mark.parametrize(
    ("words", "comes"), [((b"x",), ""), ((b"b", b"b", b"x"), ""), ((b"t",), "asked"), ((b"b", b"t"), "asked"), ((b"x", b"t"), "")]
)  # fmt: skip
def test_it_is_told_that_it_is_over_or_to_act(words: tuple, comes: str, place: Place, tmp_path: Path) -> None:
    place.say(*words)
    assert guard(tmp_path).watch() == comes


def test_a_word_that_came_in_half_is_waited_for_and_a_closed_pipe_is_a_program_that_is_gone(
    place: Place, tmp_path: Path
) -> None:
    os.write(place.writes, b"b\nx")
    place.passes = lambda: os.write(place.writes, b"\n") if place.now < 1000.15 else None  # type: ignore[assignment, func-returns-value]
    assert guard(tmp_path).watch() == ""
    place.passes = lambda: None
    place.hang_up()
    assert guard(tmp_path).watch() == "gone"


def test_it_looks_ten_times_before_it_calls_a_program_silent_and_ends_when_it_is_told_to(
    place: Place, tmp_path: Path
) -> None:
    """The machine stood still for an hour, and the guard with it: the program gets its ten looks."""
    made, looked = guard(tmp_path), [0]

    def passes() -> None:
        looked[0] += 1
        place.now += 3600.0 if looked[0] == 1 else 0.0

    place.passes = passes
    assert made.watch() == process.SILENT and looked[0] == 10
    made.ended = True
    assert made.watch() == "ended"


@pytest.mark.parametrize("reason", ["gone", "asked", "ended", "silent"])
def test_it_switches_off_writes_down_and_holds_until_it_is_known(
    reason: str, place: Place, seen: dict, tmp_path: Path
) -> None:
    made = guard(tmp_path)
    place.say(b"b", b"a")
    assert made.act(reason) is False, "the program lives on"
    why = {"gone": "the program is gone", "asked": "the program could not", "ended": "the guard was told to end"}
    words = why.get(reason, "the program has stood still for 3 s")
    assert place.out == [{"acted": "off", "why": words, "reason": reason}] and seen["told"] == [("load", True)]
    record = json.loads((tmp_path / "record.json").read_text())
    assert record == {
        "run": 7, "book": "b.wintry", "title": "Capacity", "why": words, "guard": os.getpid(), "at": pytest.approx(6000.0, abs=5.0),
        "done": True, "results": {"load": {"off": True, "words": "off"}},
    }  # fmt: skip
    assert not place.err and not list(tmp_path.glob("*.new"))


@pytest.mark.parametrize("word", [b"x", None])
def test_it_is_over_when_the_program_says_so_or_has_gone(
    word: bytes | None, place: Place, seen: dict, tmp_path: Path
) -> None:
    if word:
        place.say(word)
    else:
        place.hang_up()
    assert guard(tmp_path).act("asked") is True


def test_what_is_switched_on_while_it_holds_is_switched_off_again(place: Place, seen: dict, tmp_path: Path) -> None:
    """Looked at every second; told again only where it says that it is on."""
    made = guard(tmp_path)
    seen["load"] = [
        (True, "off"),
        (True, "off"),
        (False, "does not answer"),
        (False, "says that it is still on"),
        (True, "off"),
    ]
    place.passes = lambda: place.say(b"a") if len(seen["told"]) >= 5 else None
    assert made.act("silent") is False
    assert [say for _, say in seen["told"]] == [True, False, False, False, True, False]
    assert place.now - 1000.0 == pytest.approx(4.0, abs=0.3)


def test_one_that_serves_one_program_only_is_not_looked_at_again(place: Place, seen: dict, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:  # fmt: skip
    """Its line is the program's again, if that lives; a program that is silent is ended first, so that its line is free."""
    ended: list[tuple[int, str]] = []
    monkeypatch.setattr(process, "end_program", lambda number, started: ended.append((number, started)))
    for reason, times in (("silent", 1), ("asked", 0)):
        ended.clear()
        made = guard(tmp_path, alone=True, program=4711, program_started="99")
        place.now, seen["told"] = 1000.0, []
        place.passes = lambda: place.say(b"a") if place.now > 1004.0 else None
        assert made.act(reason) is False and seen["told"] == [("load", True)]
        assert ended == [(4711, "99")] * times


def test_it_goes_on_once_a_second_until_it_is_off_and_says_what_to_unplug_every_other(
    place: Place, seen: dict, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    ended: list[tuple[int, str]] = []
    monkeypatch.setattr(process, "end_program", lambda number, started: ended.append((number, started)))
    seen["load"] = [(False, "says that it is still on")] * 5 + [(True, "off")]
    seen["supply"] = [(True, "off")]
    made = guard(tmp_path, "load", "supply", program=4711, program_started="99")
    monkeypatch.setattr(process.shutil, "which", lambda _: None)
    written: list[bool] = []
    write = made.write
    made.write = lambda *, done: (written.append(done), write(done=done))[1]  # type: ignore[method-assign, assignment]
    place.passes = lambda: place.say(b"x") if made.results["load"][0] else None
    assert made.act("silent") is True
    assert written == [False] * 5 + [True] and ended == [(4711, "99")] * 5
    assert [item["acted"] for item in place.out] == ["unknown"] * 5 + ["off"]
    assert place.out[0] == {
        "acted": "unknown", "why": "the program has stood still for 3 s", "reason": "silent",
        "left": {"load": "says that it is still on"},
    }  # fmt: skip
    # shouted at 0, 2 and 4 s, of tries at 0 to 5 s
    assert (
        place.err
        == [
            b"\aCapacity: the program has stood still for 3 s, and load says that it is still on: unplug the load's lead at the battery.\n"
        ]
        * 3
    )
    assert 5.0 <= place.now - 1000.0 <= 7.0


@pytest.mark.parametrize(("word", "over"), [(b"x", True), (b"a", False)])
def test_the_program_may_end_its_shouting(word: bytes, over: bool, place: Place, seen: dict, tmp_path: Path) -> None:
    """ "Over, and seen off" does; that it knows does not: it is still on."""
    seen["load"] = [(False, "does not answer")] * 3 + [(True, "off")]
    place.say(word)
    place.passes = lambda: place.say(b"x") if place.out[-1]["acted"] == "off" else None
    assert guard(tmp_path).act("asked") is True
    assert ("off" in [item["acted"] for item in place.out]) is not over


def test_one_that_is_told_to_end_stops_at_the_next_try(place: Place, seen: dict, tmp_path: Path) -> None:
    seen["load"] = [(False, "does not answer")]
    made = guard(tmp_path)
    made.ended = True
    assert made.act("ended") is True and len(place.err) == 1


def test_what_the_program_says_is_waited_for_and_no_longer(place: Place, tmp_path: Path) -> None:
    made = guard(tmp_path)
    assert made._heard(0.5) == "" and place.now - 1000.0 == pytest.approx(0.5)
    place.say(b"b", b"a")
    assert made._heard(0.5) == "a"
    place.say(b"a", b"x")
    assert made._heard(0.5) == "x"
    place.say(b"b")
    assert made._heard(0.5) == ""
    place.hang_up()
    assert made._heard(0.5) == "gone" and made.plan["closed"]
    begun = place.now
    assert made._heard(0.5) == "gone" and place.now - begun == pytest.approx(0.5), (
        "once gone it waits, and does not spin"
    )


def test_a_record_that_cannot_be_written_stops_nothing(place: Place, seen: dict, tmp_path: Path) -> None:
    made = guard(tmp_path, record=str(tmp_path / "no folder" / "record.json"))
    place.say(b"a")
    assert made.act("asked") is False and place.out


def test_one_that_has_not_acted_writes_since_when_it_watches(place: Place, tmp_path: Path) -> None:
    made = guard(tmp_path)
    place.now += 50.0
    made.write(done=False)
    record = json.loads((tmp_path / "record.json").read_text())
    assert record["at"] == 6000.0 and not record["done"] and record["why"] == ""
    assert record["results"] == {"load": {"off": False, "words": "not told yet"}}


@pytest.mark.parametrize(
    ("there", "sound", "runs"),
    [
        ((), "beep.wav", []), (("notify-send",), "", ["notify-send"]), (("paplay", "aplay"), "beep.wav", ["paplay"]),
        (("notify-send", "pw-play", "paplay"), "beep.wav", ["notify-send", "pw-play"]), (("aplay",), "", []),
    ],
)  # fmt: skip
def test_it_shouts_by_what_the_machine_has(
    there: tuple, sound: str, runs: list[str], place: Place, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    begun: list[list[str]] = []
    monkeypatch.setattr(process.shutil, "which", lambda name: name if name in there else None)
    monkeypatch.setattr(process.subprocess, "Popen", lambda command, **more: begun.append(command) or more)
    made = guard(tmp_path, sound=sound)
    made.results["load"] = (False, "is on")
    for _ in range(2):  # not twice within two seconds
        made.shout(["load"])
    assert [command[0] for command in begun] == runs and len(place.err) == 1
    assert all(command[-1] == sound for command in begun if command[0] != "notify-send")
    assert all("unplug the load's lead" in command[-1] for command in begun if command[0] == "notify-send")
    place.now += 2.1
    made.shout(["load"])
    assert len(place.err) == 2


@pytest.mark.parametrize(("same", "ends"), [(True, True), (False, False)])
def test_a_program_is_ended_only_while_it_is_the_same_one(same: bool, ends: bool) -> None:
    with subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"]) as program:
        started = Path(f"/proc/{program.pid}/stat").read_text().rpartition(")")[2].split()[19]
        end_program(program.pid, started if same else str(int(started) + 1))
        if not ends:
            assert program.poll() is None
            program.kill()
        assert program.wait(10.0) == -signal.SIGKILL
    end_program(program.pid, started)  # it is gone, and nothing happens


def test_what_hangs_on_one_instrument_does_not_keep_the_others_on(
    place: Place, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """All at once, and none waited for longer than four of its exchanges."""
    free, told = threading.Event(), list[str]()
    monkeypatch.setattr(process, "LIMIT_S", 0.05)

    def switched(item: dict, *, say: bool = True) -> tuple[bool, str]:
        told.append(item["name"])
        if item["name"] == "load":
            free.wait(30.0)
        return True, "off"

    monkeypatch.setattr(process, "switch_off", switched)
    made = guard(tmp_path, "load", "supply")
    made._all(say=True)
    assert sorted(told) == ["load", "supply"] and made.results["supply"] == (True, "off")
    assert made.results["load"] == (False, "not told yet")
    free.set()
