"""The thread of a run: what it does in which order, and that whatever fails leaves nothing on.

Its loop is a scripted one, its clock where it matters one that only the test moves. Common practice, no published source.
"""

from __future__ import annotations

import logging
import math
import threading
import time
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import pytest

from wintry_tally.bench import worker as module
from wintry_tally.bench.snapshot import Snapshot
from wintry_tally.bench.worker import CURVE_POINTS, FAULTS_MOST, RunWorker
from wintry_tally.core.engine import OFF, Phase, Request, RunState
from wintry_tally.core.errors import BookError, InputError, InstrumentError

LIVE = Snapshot(RunState(Phase.DISCHARGING), 0.0, 13.0, 8.0, None, settled=False)
OVER = replace(LIVE, state=RunState(Phase.ENDED), settled=True)


class Guard:
    def __init__(self) -> None:
        self.beats = self.offs = 0

    def beat(self) -> None:
        self.beats += 1

    def switch_off(self) -> None:
        self.offs += 1


class Channel:
    def __init__(self, fails: bool = False) -> None:
        self.fails, self.told = fails, list[Any]()

    def carry_out(self, command: Any) -> None:
        self.told.append(command)
        if self.fails:
            raise InstrumentError("its line is gone")


class Scripted:
    """A loop of so many ticks; `fails`: what it raises, by the number of the tick; `off`: what is seen of its outputs, look by look."""

    interval_s = 1.0

    def __init__(
        self, ticks: int = 3, settles: int = 0, fails: dict[int, BaseException] | None = None,
        off: tuple[bool, ...] = (True,), trouble: str = "", guard: Guard | None = None, channel: Channel | None = None,
    ) -> None:  # fmt: skip
        self.ticks, self.settles, self.fails, self.off = ticks, settles, fails or {}, list(off)
        self.trouble, self.guard, self.channel = trouble, guard, channel
        self.done, self.said = 0, list[str]()
        self.failing_fails = False
        self.at_tick: Callable[[], None] = lambda: None

    def snapshot(self) -> Snapshot:
        over = self.done >= self.ticks
        seen = replace(OVER if over else LIVE, elapsed_s=float(self.done), trouble=self.trouble, fresh=self.done > 0)
        return replace(seen, settled=over and self.done >= self.ticks + self.settles)

    def start(self) -> Snapshot:
        self.said.append("start")
        if -1 in self.fails:
            raise self.fails[-1]
        return self.snapshot()

    def tick(self) -> Snapshot:
        self.done += 1
        self.at_tick()
        if self.done in self.fails:
            raise self.fails[self.done]
        return self.snapshot()

    def ask(self, request: Request) -> Snapshot:
        self.said.append(f"ask {request.kind}")
        if request.kind == "skip":
            raise InputError("nothing to skip")
        if request.kind == "lost":
            self.ticks = self.done
        return self.snapshot()

    def fail(self, words: str) -> None:
        self.said.append(f"fail {words}")
        if self.failing_fails:
            raise RuntimeError("and again")

    def park(self) -> bool:
        self.said.append("park")
        return self.look_off()

    def look_off(self) -> bool:
        self.said.append("look")
        return self.off.pop(0) if len(self.off) > 1 else self.off[0]

    def let_go(self) -> bool:
        self.said.append("let go")
        return True


class Clock:
    """In the place of the time of this program: it goes on by what is waited, and stops a worker that waits too long."""

    def __init__(self) -> None:
        self.now, self.waits = 100.0, list[float]()

    def monotonic(self) -> float:
        self.now += 1e-6
        return self.now

    def sleep(self, seconds: float) -> None:
        self.waits.append(seconds)
        self.now += seconds


@pytest.fixture
def clock(monkeypatch: pytest.MonkeyPatch) -> Clock:
    made = Clock()
    monkeypatch.setattr(module, "time", made)
    return made


def ran(loop: Scripted, clock: Clock, **more: Any) -> RunWorker:
    """A worker that did all of its work in this thread."""
    made = timed(RunWorker(loop, **{"speed": 1.0, **more}), clock)
    made._run()
    return made


def timed(worker: RunWorker, clock: Clock) -> RunWorker:
    """What it waits for passes by the test's clock."""

    def wait(seconds: float = 0.0) -> bool:
        clock.sleep(seconds)
        return worker._halt.is_set()

    worker._halt.wait = wait  # type: ignore[method-assign, assignment]
    return worker


def test_a_run_is_ticked_once_an_interval_to_its_end_and_closed(clock: Clock) -> None:
    seen, closed = list[float](), list[Snapshot]()
    loop = Scripted(5)
    loop.at_tick = lambda: seen.append(clock.now)
    worker = ran(loop, clock, closing=closed.append, flush=lambda _: True)
    assert loop.done == 5 and loop.said == ["start", "let go"] and not worker.refusal and not worker.parked
    assert [after - before for before, after in zip(seen, seen[1:], strict=False)] == [pytest.approx(1.0, abs=0.03)] * 4
    assert seen[0] - 100.0 == pytest.approx(1.0, abs=0.03), "nothing is owed at the start"
    assert closed == [worker.latest] and worker.latest.ended and worker.latest.elapsed_s == 5.0


def test_time_that_a_machine_stood_still_is_not_caught_up_with_on_a_real_bench(clock: Clock) -> None:
    """After ten seconds without a look there is one reading at once, and the next an interval later; a simulation goes on
    by two of its seconds and an interval, no more."""
    for speed, most in ((1.0, 2), (4.0, 9)):
        loop, stood = Scripted(30), [False]
        times: list[float] = []

        def tick(loop: Scripted = loop, stood: list[bool] = stood, times: list[float] = times) -> None:
            times.append(clock.now)
            if loop.done == 3 and not stood[0]:
                stood[0] = True
                clock.now += 10.0

        loop.at_tick = tick
        ran(loop, clock, speed=speed)
        assert sum(at - times[2] < 10.2 for at in times[3:]) <= most, speed
        assert sum(at - times[2] < 10.2 for at in times[3:]) >= (1 if speed == 1.0 else 5), speed


def test_a_quick_run_comes_up_for_air_every_twentieth_of_a_second(clock: Clock) -> None:
    """What is asked is answered between two bursts, however much is owed."""
    loop = Scripted(400)
    bursts = [0]

    def tick() -> None:
        clock.now += 0.01
        bursts[-1] += 1

    loop.at_tick = tick
    made = RunWorker(loop, speed=1000.0)

    def wait(seconds: float = 0.0) -> bool:
        clock.now += seconds
        bursts.append(0)
        return False

    made._halt.wait = wait  # type: ignore[method-assign, assignment]
    made._run()
    assert max(bursts) <= 6 and loop.done == 400


def test_the_guard_hears_of_every_look_and_waits_are_short(clock: Clock) -> None:
    """A guard that is not spoken to for 3 s switches off: it is spoken to at least ten times a second."""
    guard = Guard()
    ran(Scripted(3, guard=guard), clock)
    assert guard.beats >= 30 and guard.offs == 0 and max(clock.waits) <= 0.1


def test_a_run_that_ended_is_looked_after_until_everything_is_off(clock: Clock) -> None:
    closed: list[Snapshot] = []
    loop = Scripted(2, settles=4)
    worker = ran(loop, clock, closing=closed.append)
    assert loop.done == 6 and worker.latest.settled and len(closed) == 1


def test_what_is_asked_is_answered_and_what_is_refused_says_why(clock: Clock) -> None:
    loop = Scripted(3)
    worker = RunWorker(loop)
    worker.ask(Request("skip"))
    assert worker.busy
    worker._answer()
    assert worker.refusal == "nothing to skip" and not worker.busy
    worker.ask(Request("pause"))
    worker._answer()
    assert worker.refusal == "" and loop.said == ["ask skip", "ask pause"]


def test_what_is_asked_while_it_answers_is_busy() -> None:
    loop, worker, seen = Scripted(3), None, list[bool]()
    worker = RunWorker(loop)
    ask = loop.ask

    def slow(request: Request) -> Snapshot:
        seen.append(worker.busy)
        return ask(request)

    loop.ask = slow  # type: ignore[method-assign]
    worker.ask(Request("pause"))
    worker._answer()
    assert seen == [True] and not worker.busy


def test_what_was_asked_at_the_very_end_is_answered_too(clock: Clock) -> None:
    loop = Scripted(1)
    worker = timed(RunWorker(loop), clock)
    worker._halt.set()
    worker.ask(Request("note"))
    worker._run()
    assert "ask note" in loop.said


def test_a_bench_that_cannot_be_begun_on_is_lost(clock: Clock) -> None:
    loop = Scripted(3, fails={-1: InstrumentError("nobody answers")})
    worker = ran(loop, clock)
    assert loop.said == ["start", "ask lost", "let go"] and worker.latest.ended and not worker.parked


@pytest.mark.parametrize("raised", [RuntimeError("a fault\nof more lines"), KeyError("x"), SystemExit(3)])
def test_whatever_is_raised_switches_off_is_said_and_goes_on(
    raised: BaseException, clock: Clock, caplog: pytest.LogCaptureFixture
) -> None:
    seen: list[Snapshot] = []
    loop = Scripted(4, fails={2: raised})
    worker = ran(loop, clock, observer=seen.append)
    words = f"{type(raised).__name__}: {str(raised).splitlines()[0]}"
    assert loop.said == ["start", f"fail {words}", "let go"] and loop.done == 4
    assert worker.refusal == f"this program failed ({words}); everything is switched off"
    assert "a run failed" in caplog.text and "Traceback" in caplog.text
    assert 2.0 in [item.elapsed_s for item in seen], "what it is doing after the fault is shown"


def test_one_that_fails_while_switching_off_leaves_it_to_its_guard(
    clock: Clock, caplog: pytest.LogCaptureFixture
) -> None:
    for guard in (Guard(), None):
        loop = Scripted(3, fails={1: RuntimeError("a fault")}, guard=guard)
        loop.failing_fails = True
        ran(loop, clock)
        assert guard is None or guard.offs == 1
    assert "and again while switching off" in caplog.text


def test_five_faults_are_enough(clock: Clock) -> None:
    """It is left as it stands then, not tried for ever."""
    loop = Scripted(100, fails={number: RuntimeError("a fault") for number in range(1, 100)})
    worker = ran(loop, clock)
    assert loop.done == FAULTS_MOST == 5 and worker.parked and loop.said[-3:] == ["park", "look", "let go"]


@pytest.mark.parametrize(
    ("trouble", "off", "left", "looks"),
    [
        ("unplug the load", (False,), "unplug the load", 31), ("", (False,), "it is not seen to be off", 31),
        ("unplug the load", (False, False, True), "", 3), ("", (True,), "", 1),
    ],
)  # fmt: skip
def test_a_run_that_is_left_says_what_is_still_on(
    trouble: str, off: tuple[bool, ...], left: str, looks: int, clock: Clock
) -> None:
    """It is looked at ten times a second for three seconds."""
    loop = Scripted(100, trouble=trouble, off=off)
    loop.at_tick = lambda: worker.halt() if loop.done == 2 else None
    closed: list[Snapshot] = []
    worker = RunWorker(loop, closing=closed.append)
    timed(worker, clock)
    worker._run()
    assert worker.left == left and worker.parked and not closed
    assert loop.said[0:2] == ["start", "park"] and loop.said[-1] == "let go"
    assert loop.said.count("look") == pytest.approx(looks, abs=1)


def test_a_run_that_is_over_and_not_seen_to_be_off_is_closed_all_the_same_and_says_so(clock: Clock) -> None:
    closed: list[Snapshot] = []
    loop = Scripted(2, settles=100, off=(False,))
    loop.at_tick = lambda: worker.halt() if loop.done == 5 else None
    worker = timed(RunWorker(loop, closing=closed.append), clock)
    worker._run()
    assert "park" not in loop.said and "look" in loop.said and not worker.parked
    assert worker.left == "it is not seen to be off" and len(closed) == 1


@pytest.mark.parametrize("leaving", [False, True])
def test_a_run_is_not_closed_before_the_book_has_every_reading(leaving: bool, clock: Clock) -> None:
    """A window that stays open asks again every second, twenty seconds each; one that closes leaves it after two."""
    closed, limits, refusals = list[Snapshot](), list[float](), list[str]()
    loop = Scripted(1)

    def flush(limit_s: float) -> bool:
        limits.append(limit_s)
        refusals.append(worker.refusal)
        return not leaving and len(limits) == 3

    worker = RunWorker(loop, closing=closed.append, flush=flush)
    timed(worker, clock)
    if leaving:
        loop.at_tick = worker.halt
    worker._run()
    assert limits == ([2.0] if leaving else [20.0] * 3) and len(closed) == (not leaving)
    assert refusals == ["", *["the book has not taken the last readings"] * (len(limits) - 1)]
    assert worker.refusal == ("the book has not taken the last readings" if leaving else "")
    assert leaving or clock.waits[-2:] == [1.0, 1.0]


@pytest.mark.parametrize(("locked", "says"), [(3, ""), (100, "the book is locked")])
def test_a_book_that_is_locked_just_now_is_asked_for_a_minute(locked: int, says: str, clock: Clock) -> None:
    tries: list[float] = []

    def closing(_: Snapshot) -> None:
        tries.append(clock.now)
        if len(tries) <= locked:
            raise BookError("the book is locked")

    worker = ran(Scripted(1), clock, closing=closing)
    assert worker.refusal == says and len(tries) == pytest.approx(min(locked + 1, 61), abs=1)
    assert [after - before for before, after in zip(tries, tries[1:], strict=False)] == [
        pytest.approx(1.0, abs=0.01)
    ] * (len(tries) - 1)


def test_a_fault_stays_told_when_the_run_was_closed(clock: Clock) -> None:
    worker = ran(Scripted(3, fails={1: RuntimeError("a fault")}), clock, closing=lambda _: None)
    assert "a fault" in worker.refusal


# --- all off, from another thread ---


@pytest.mark.parametrize(("fails", "offs"), [(False, 0), (True, 1)])
def test_all_off_does_not_wait_for_the_loop_and_falls_back_on_the_guard(fails: bool, offs: int) -> None:
    guard, channel = Guard(), Channel(fails)
    worker = RunWorker(Scripted(3, guard=guard, channel=channel))
    worker.make_safe()
    assert channel.told == [OFF] and guard.offs == offs and worker.busy


def test_all_off_of_a_run_by_hand_and_of_one_without_a_guard_is_asked_for() -> None:
    for channel in (None, Channel(fails=True)):
        loop = Scripted(3, channel=channel)
        worker = RunWorker(loop)
        worker.make_safe()
        worker._answer()
        assert loop.said == ["ask make-safe"]


# --- what others look at ---


def test_it_shows_what_it_does_and_what_the_guard_did() -> None:
    loop = Scripted(3)
    worker = RunWorker(loop)
    assert worker.latest == loop.snapshot() and worker.stood_still == "" and worker.channel is None and not worker.alive
    loop.stood_still = "12 s"  # type: ignore[attr-defined]
    assert worker.stood_still == "12 s"


def test_its_curve_is_thinned_by_halves_and_holds_no_reading_twice() -> None:
    worker = RunWorker(Scripted(3))
    for at in range(1, CURVE_POINTS + 1):
        worker._publish(replace(LIVE, elapsed_s=float(at)))
    assert [point[0] for point in worker.curve()] == [float(at) for at in range(1, CURVE_POINTS + 1)]
    for at in range(CURVE_POINTS + 1, CURVE_POINTS + 8):
        worker._publish(replace(LIVE, elapsed_s=float(at)))
    # one too many: every other one is kept, and from then on every other one is taken
    assert [point[0] for point in worker.curve()[:3]] == [1.0, 3.0, 5.0]
    assert [point[0] for point in worker.curve()[-4:]] == [6001.0, 6002.0, 6004.0, 6006.0]
    assert worker.curve()[0] == (1.0, 13.0, 8.0, 0.0)
    before = worker.curve()
    worker._publish(replace(LIVE, elapsed_s=7000.0, fresh=False))
    worker._publish(replace(LIVE, elapsed_s=7001.0, voltage_V=math.nan))
    worker._publish(replace(LIVE, elapsed_s=7002.0, voltage_V=math.nan))
    assert worker.curve() == before


def test_its_past_stands_before_what_was_read_since() -> None:
    worker = RunWorker(Scripted(3))
    for at in (4.0, 5.0, 6.0):
        worker._publish(replace(LIVE, elapsed_s=at))
    past = [(3.0, 13.1, 8.0, 0.0), (5.0, 13.0, 8.0, 0.0)]
    worker.seed_curve(past)
    assert [point[0] for point in worker.curve()] == [3.0, 5.0, 6.0]
    worker.seed_curve([])
    assert [point[0] for point in worker.curve()] == [3.0, 5.0, 6.0]


def test_a_thread_of_its_own_is_left_when_it_is_told(caplog: pytest.LogCaptureFixture) -> None:
    caplog.set_level(logging.WARNING)
    loop = Scripted(10**9)
    worker = RunWorker(loop, speed=50.0)
    worker.start()
    until = time.monotonic() + 20.0
    while loop.done < 3 and time.monotonic() < until:
        time.sleep(0.01)
    assert worker.alive and worker._thread.daemon and worker._thread.name == "run"
    assert worker._thread is not threading.current_thread()
    worker.stop_thread()
    assert not worker.alive and worker.parked and loop.said[-1] == "let go" and not caplog.text
    worker.stop_thread()  # once more does nothing
