"""A recipe walked through by hand: what is asked, what is counted, what is taken back, and what a closed program loses."""

from __future__ import annotations

import math
from datetime import UTC, datetime
from pathlib import Path

import pytest

from wintry_tally.bench.guided import GuidedLoop, Typed, guided
from wintry_tally.bench.journal import Journal
from wintry_tally.book import Book, RunSettings
from wintry_tally.book.recipes import recipe_data
from wintry_tally.core.analysis import analyse
from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.engine import Observation, Phase, Request, RunState
from wintry_tally.core.engine.proof import Expected
from wintry_tally.core.errors import BookError, InputError
from wintry_tally.core.protocol import EndCause
from wintry_tally.core.protocol.method import Method
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.exchange.recipe_file import shipped_recipe

FACTS = Facts(FAMILIES["lfp"], 40.0)
BEGUN = datetime(2026, 1, 20, 8, 0, tzinfo=UTC)
HOUR = 3600.0


class Hand:
    """A person at a book, with a clock that only the test moves."""

    def __init__(self, folder: Path, recipe: str = "capacity-reference") -> None:
        self.recipe = fill(shipped_recipe(recipe), FACTS)
        self.book = Book.create(folder / "b.wintry")
        sample = self.book.samples.add("B1", "", "", "lfp")
        settings = RunSettings(rated_Ah=40.0, voltage_accuracy="0.5%+2d", current_accuracy="1%+2d")
        self.run = self.book.runs.begin(sample, "Capacity 1", Method.GUIDED, BEGUN, settings, recipe_data(self.recipe))
        self.now = 0.0
        self.loop = self.made()
        self.loop.start()

    def made(self, state: RunState | None = None, last_s: float | None = None) -> GuidedLoop:
        journal = Journal(self.book.runs, self.run)
        return GuidedLoop(self.recipe, journal, lambda: self.now, state, last_s=last_s)

    def reads(self, at_s: float, volts: float, amps: float = 0.0, **beside: float):
        self.now = max(self.now, at_s)
        self.loop.put(Typed(at_s, Observation(volts, amps, beside=beside)))
        return self.loop.tick()

    def waits(self, until_s: float):
        self.now = until_s
        return self.loop.tick()


@pytest.fixture
def hand(tmp_path: Path):
    made = Hand(tmp_path)
    yield made
    made.book.close()


def test_a_capacity_test_from_rest_to_end(hand: Hand) -> None:
    assert hand.loop.snapshot().state.phase is Phase.RESTING and "everything off" in hand.loop.asks
    hand.reads(60.0, 13.35)
    assert hand.waits(HOUR - 1).state.phase is Phase.RESTING
    seen = hand.waits(HOUR + 1)
    assert seen.state.phase is Phase.DISCHARGING, "a rest is over when its time is, with or without a reading"
    assert "at 8 A" in seen.asks and "cut-off at 10 V" in seen.asks and "due now" in seen.asks
    seen = hand.reads(HOUR + 60.0, 13.34, 0.0)
    assert seen.state.charge_Ah == 0.0 and "switch the load on" in seen.asks, "the rested voltage, still off"
    begun = HOUR + 90.0
    for minute in range(0, 300, 30):
        seen = hand.reads(begun + 60.0 * minute, 13.1 - 0.001 * minute, 8.0, counter_Ah=8.0 * minute / 60.0)
        assert not seen.ended and hand.loop.due_in_s == 1800.0
    seen = hand.reads(begun + 298 * 60.0, 10.3, 8.0)
    assert hand.loop.due_in_s == pytest.approx(360.0), "near the end readings are wanted more often"
    seen = hand.reads(begun + 300 * 60.0, 9.9, 8.0, counter_Ah=40.0)
    assert seen.state.phase is Phase.RESTING and seen.state.cause is EndCause.SET_CUTOFF, "one low reading is enough"
    assert "everything off" in seen.asks and seen.state.charge_Ah == pytest.approx(40.0, rel=1e-6)
    assert not seen.settled
    seen = hand.waits(hand.now + 301)
    assert seen.ended and seen.settled
    hand.book.runs.finish(hand.run, "set-cutoff", "", BEGUN)
    found = analyse(hand.book.runs.trace(hand.run), hand.book.runs.get(hand.run).settings.options())
    assert found.capacity is not None and found.capacity.count.charge.value == pytest.approx(40.0, rel=0.01)
    assert found.counted.charge is not None and found.counted.charge.moved.value == pytest.approx(40.0, rel=1e-6)


def test_a_step_goes_from_its_first_reading(tmp_path: Path) -> None:
    hold = Hand(tmp_path, "resistance-steps")
    while hold.loop.state.phase is not Phase.DISCHARGING:
        hold.loop.ask(Request("skip"))
    limit = next(rule.value for rule in hold.recipe.steps[hold.loop.state.index].ends if rule.kind == "time")
    index = hold.loop.state.index
    amps = hold.recipe.steps[index].setting
    hold.waits(40.0)  # the person takes a moment to switch on
    hold.reads(40.0, 13.1, amps)
    hold.waits(40.0 + limit + 1)
    assert "time of this step is over" in hold.loop.asks and hold.loop.state.index == index, "a reading ends it"
    hold.reads(40.0 + limit + 2, 13.05, amps)
    assert hold.loop.state.index == index + 1
    hold.book.close()


def test_people_take_their_time_and_short_steps_are_read_more_often(tmp_path: Path) -> None:
    slow = Hand(tmp_path, "resistance-steps")
    assert math.isinf(slow.loop.recipe.stops.time_most_s), "a pause for coffee stops nothing"
    while slow.loop.state.phase is not Phase.DISCHARGING:
        slow.loop.ask(Request("skip"))
    slow.waits(7200.0)
    slow.reads(7200.0, 13.1, slow.recipe.steps[slow.loop.state.index].setting)
    assert not slow.loop.snapshot().ended and slow.loop.due_in_s == 30.0, "half a minute apart at the least"
    slow.book.close()


def test_a_rest_until_settled_wants_readings(tmp_path: Path) -> None:
    rest = Hand(tmp_path, "rest-until-settled")
    assert rest.loop.due_in_s == 1800.0
    for minutes, volts in ((5, 13.40), (40, 13.36), (75, 13.355), (110, 13.354)):
        seen = rest.reads(60.0 * minutes, volts)
    assert seen.ended and seen.state.cause is EndCause.SETTLED
    rest.book.close()


def test_a_reading_is_taken_back_with_its_trace_in_the_record(hand: Hand) -> None:
    hand.waits(HOUR + 1)
    hand.reads(HOUR + 60, 13.1, 8.0)
    before = hand.loop.state
    hand.reads(HOUR + 660, 13.1, 80.0 / 8.5)
    assert len(hand.book.runs.readings(hand.run)) == 2
    hand.loop.ask(Request("take-back"))
    assert hand.loop.state == before and len(hand.book.runs.readings(hand.run)) == len(hand.loop.kept) == 1
    assert any("taken back: 13.1 V" in event.message for event in hand.book.runs.events(hand.run))
    with pytest.raises(InputError, match="moved the run on"):
        hand.loop.ask(Request("take-back"))
    hand.reads(HOUR + 900, 9.5, 8.0)
    with pytest.raises(InputError, match="moved the run on"):
        hand.loop.ask(Request("take-back"))


def test_a_program_closed_for_the_night_has_lost_nothing(hand: Hand) -> None:
    hand.waits(HOUR + 1)
    hand.reads(HOUR + 60, 13.1, 8.0)
    hand.reads(HOUR + 1860, 13.08, 8.0)
    hand.loop.park()
    kept = hand.book.runs.get(hand.run)
    hand.now = 3.5 * HOUR
    rows = hand.book.runs.readings(hand.run)
    hand.loop = hand.made(RunState.from_dict(kept.state), rows[-1][0])
    seen = hand.loop.start()
    assert seen.state.phase is Phase.DISCHARGING and "The load is on" in seen.asks, "it is as it was left"
    assert hand.loop.due_in_s is not None and hand.loop.due_in_s < 0, "and a reading is overdue"
    seen = hand.reads(3.5 * HOUR + 60, 13.0, 8.0)
    assert seen.state.charge_Ah == pytest.approx(8.0 * 2.5, rel=1e-6), "what was drawn meanwhile is counted once"
    assert not any(event.kind in {"pause", "interrupted"} for event in hand.book.runs.events(hand.run))


def test_pause_resume_and_stop_are_asked_of_hands(hand: Hand) -> None:
    hand.waits(HOUR + 1)
    hand.reads(HOUR + 60, 13.1, 8.0)
    assert "while it is paused" in hand.loop.ask(Request("pause")).asks
    hand.waits(HOUR + 7200)
    assert "at 8 A" in hand.loop.ask(Request("resume")).asks
    seen = hand.reads(HOUR + 7260, 13.1, 8.0)
    assert seen.state.charge_Ah == pytest.approx(0.0, abs=0.14), "a pause is not counted"
    assert "at 5 A" in hand.loop.ask(Request("set", 5.0)).asks
    seen = hand.loop.ask(Request("stop"))
    assert seen.ended and "everything off now" in seen.asks and seen.state.cause is EndCause.OPERATOR


def test_a_disk_that_is_full_holds_what_was_typed(hand: Hand, monkeypatch: pytest.MonkeyPatch) -> None:
    def full(*_: object) -> None:
        raise BookError("the book cannot be written (full)")

    monkeypatch.setattr(hand.book.runs, "append", full)
    seen = hand.reads(60.0, 13.3)
    assert "held and written as soon as it can be" in seen.trouble and not hand.book.runs.readings(hand.run)
    monkeypatch.undo()
    assert not hand.waits(70.0).trouble and len(hand.book.runs.readings(hand.run)) == 1


def test_every_recipe_can_be_asked_of_hands() -> None:
    from wintry_tally.exchange.recipe_file import shipped

    walked = 0
    for template in shipped().values():
        family = next(one for one in FAMILIES.values() if template.fits(one))
        try:
            recipe = guided(fill(template, Facts(family, 40.0)))
        except InputError:
            continue  # wants a claim first
        assert all(rule.readings == 1 for part in recipe.steps for rule in part.ends)
        walked += 1
    assert walked >= 25, "all but those that want a claim"


def test_the_first_two_readings_prove_the_connection(tmp_path: Path) -> None:
    """Rested, then with current: a voltage that rises under load is no battery's that gives."""
    known = Expected(
        FACTS.family, 0.010, (8.0, 14.8), digit_V=0.01, digit_A=0.01, counted_apart=False, voltage_apart=False
    )
    for loaded, codes in ((13.1, []), (13.4, ["voltage-turned"]), (12.0, ["resistance-high"])):
        folder = tmp_path / str(loaded)
        folder.mkdir()
        hand = Hand(folder)
        hand.loop._expected = known
        while hand.loop.state.phase is not Phase.DISCHARGING:
            hand.loop.ask(Request("skip"))
        hand.reads(10.0, 13.3)
        hand.reads(40.0, loaded, 8.0)
        assert [code for code, _ in hand.loop.state.warned] == codes
        hand.book.close()
