"""A finished run's card as data, held against the demo book's own figures (invented)."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pytest

from tests.making import discharge
from wintry_tally.app.dossiers import dossier_of
from wintry_tally.app.facts import facts_of
from wintry_tally.app.run_card import RunCard, run_card
from wintry_tally.book import Book
from wintry_tally.book.keeping import keep_log
from wintry_tally.core.analysis import Options, analyse
from wintry_tally.core.analysis.cells import Cells, Spread
from wintry_tally.core.analysis.ending import ENDING_WORDS, GONE, LOG_END, OPERATOR, PROTECTION, SET_CUTOFF
from wintry_tally.core.analysis.second_meter import SecondMeter
from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.protocol.kinds import TEST_KINDS
from wintry_tally.core.protocol.method import Method
from wintry_tally.core.protocol.recipe import CAUSE_WORDS, EndCause
from wintry_tally.core.trace.remarks import Remark
from wintry_tally.core.verdict import School
from wintry_tally.core.working import Working
from wintry_tally.demo import scratch_copy


@pytest.fixture(scope="module")
def cards(tmp_path_factory: pytest.TempPathFactory) -> dict[str, tuple[object, object, RunCard]]:
    found = {}
    with Book.open(scratch_copy(tmp_path_factory.mktemp("cards"))) as book:
        for sample in book.samples.all():
            runs = {run.id: run for run in book.runs.all()}
            for report in dossier_of(book, sample, School.STRICT).runs:
                run = runs[report.facts.id]
                found[f"{sample.code} {run.title}"] = (run, report, run_card(run, report))
    return found


def test_a_hold_and_an_overload_are_told_in_their_own_terms(cards) -> None:
    hold, overload = cards["M1 Hold"][2], cards["M1 Overload"][2]
    assert hold.headline.startswith("39.97 A for 5 min 00 s: from ") and hold.figures == () and hold.pictured
    assert any("It warmed" in line for line in hold.lines) and hold.quiet == frozenset(hold.lines)
    assert overload.headline.startswith("It opened at ") and not any(
        "Protection opened" in line for line in overload.lines
    )


def test_a_capacity_test_has_its_charge_first_and_a_reserve_its_minutes(cards) -> None:
    _, report, card = cards["M1 Capacity 1"]
    assert [one.label for one in card.figures[0]] == ["Charge", "Energy", "Mean voltage"] and card.headline == ""
    assert card.figures[0][0].quantity is report.analysis.capacity.count.charge
    assert [one.working().label for one in card.figures[0]] == [
        report.working(key).label for key in ("charge", "energy", "voltage")
    ]
    assert "under load · 0.200 C · " in card.lines[0] and card.lines[0] in card.quiet
    assert card.lines[1].startswith("Protection opened (low-voltage)") and card.lines[1] not in card.quiet
    assert any(line.endswith("s after it came to the limit") for line in cards["M3 Capacity 1"][2].lines)
    assert not card.pictured and "simulated bench" in card.when
    _, report, card = cards["M4 Reserve"]
    assert [one.label for one in card.figures[0]][:2] == ["Reserve at 25 °C", "Charge"]
    assert card.figures[0][0].quantity is report.analysis.reserve.minutes_at_25C
    short = replace(
        report,
        analysis=replace(report.analysis, reserve=replace(report.analysis.reserve, reached=False, minutes_at_25C=None)),
    )
    assert run_card(cards["M4 Reserve"][0], short).figures[0][0].label == "Reserve, at least"


def test_a_charge_says_what_went_in_and_when_it_was_full(cards) -> None:
    run, report, card = cards["M1 Charge"]
    assert [one.label for one in card.figures[0]] == ["Charge put in", "Energy put in"] and card.pictured
    assert card.lines[0].startswith("full after 5 h 09 min · ")
    assert card.figures[0][0].working().label and card.figures[0][1].quantity is report.analysis.charge.count.energy
    never = replace(
        report, analysis=replace(report.analysis, charge=replace(report.analysis.charge, time_to_full_s=None))
    )
    assert run_card(run, never).lines[0].startswith("never full · ")
    assert "heater for 48 min" in cards["M3 Heater"][2].lines[0]


def test_what_stands_beside_and_what_is_offered(cards) -> None:
    run, report, _ = cards["M1 Capacity 1"]
    working = Working("w", "", {}, "", "")
    cells = Cells((1, 2), (Spread("full", 0.0123, 1, 2, 3.3, 3.4),), working)
    second = SecondMeter(0.0456, None, None, None, None, 0.0, working)
    remarks = (
        Remark("unit-suspect", "mA.", offer="read it as mA"),
        Remark("zero-offset", "off."),
        Remark("gap", "g.", offer="x"),
    )
    more = replace(report, analysis=replace(report.analysis, cells=cells, second=second, remarks=remarks))
    card = run_card(run, more)
    beside = {one.label: one.text for one in card.figures[-1]}
    assert beside["By the second meter"] == ("+0.046", "V")
    counted = replace(more, analysis=replace(more.analysis, second=replace(second, charge_Ah=41.234)))
    assert run_card(run, counted).figures[-1][0].text == ("41.23", "Ah")
    assert beside["Cells apart, full"] == ("12", "mV") and card.figures[-1][-1].working() is working
    assert [(one.weight, one.offered) for one in card.remarks] == [
        ("warning", True),
        ("note", False),
        ("warning", False),
    ]
    assert card.remarks[0].message == "mA. Offer: read it as mA."
    done = run_card(replace(run, repair="offered", left_out=True), more)
    assert done.repaired and done.left_out and not any(one.offered for one in done.remarks)
    bare = run_card(run, replace(report, analysis=None, problem="it cannot be read"))
    assert bare.problem == "it cannot be read" and bare.figures == () and bare.lines == ()


@pytest.mark.parametrize(
    ("family", "ended_by", "may_say"),
    [
        ("lfp", GONE, (PROTECTION, OPERATOR)),
        ("agm", GONE, (OPERATOR,)),
        ("lfp", LOG_END, (PROTECTION, SET_CUTOFF)),
        ("agm", LOG_END, (SET_CUTOFF,)),
        ("lfp", PROTECTION, ()),
        ("lfp", OPERATOR, ()),
    ],
)
def test_of_an_end_that_no_reading_tells_it_is_asked_what_can_have_been(cards, family, ended_by, may_say) -> None:
    run, report, _ = cards["M1 Capacity 1"]
    options = replace(report.analysis.options, family=FAMILIES[family])
    test = replace(report.analysis.capacity, ended_by=ended_by)
    ended = replace(report, analysis=replace(report.analysis, options=options, capacity=test))
    card = run_card(replace(run, cause=ended_by), ended)
    assert card.may_say == may_say and card.saw_end == ""
    here = run_card(replace(run, cause=EndCause.OPERATOR), ended)  # why the readings stop is known then
    assert here.may_say == (() if ended_by == LOG_END else may_say)
    told = replace(run, settings=replace(run.settings, saw_end=SET_CUTOFF))
    seen = replace(report.facts, options=replace(report.facts.options, ended_by=SET_CUTOFF))
    cut = replace(ended, facts=seen, analysis=replace(ended.analysis, capacity=replace(test, ended_by=SET_CUTOFF)))
    card = run_card(told, cut)
    assert card.may_say == () and card.saw_end == SET_CUTOFF and card.lines[0].endswith(" · the load's set cut-off")


def test_how_it_ended_is_as_recorded_and_as_the_trace_looks_where_that_is_another_thing(cards) -> None:
    run, report, _ = cards["M1 Capacity 1"]

    def words(cause: str, shown: str) -> tuple[str, str]:
        test = replace(report.analysis.capacity, ended_by=shown)
        ended = replace(
            report, facts=replace(report.facts, cause=cause), analysis=replace(report.analysis, capacity=test)
        )
        return run_card(run, ended).lines[0].rpartition(" · ")[2], ended.ended_words()

    opened, gone, off = (str(ENDING_WORDS[end]) for end in (PROTECTION, GONE, OPERATOR))
    timed = str(CAUSE_WORDS[EndCause.TIME])
    assert words(PROTECTION, PROTECTION) == (opened, opened) and words("", OPERATOR) == (off, off)
    assert words("gone", GONE) == (gone, gone)  # an import has no cause of its own
    assert words(EndCause.TIME, OPERATOR) == (timed, f"{timed}; the trace looks like: {off}")
    assert words(PROTECTION, GONE) == (2 * (f"{opened}; the trace looks like: {gone}",))
    assert replace(report, analysis=None).ended_words() == ""


def test_what_somebody_saw_is_kept_apart_from_what_the_log_shows(cards, tmp_path: Path) -> None:
    trace = discharge()
    under_load = trace.taking(np.arange(0, len(trace) * 3 // 4))
    with Book.create(tmp_path / "b.wintry") as book:
        sample = book.samples.get(book.samples.add("B1", "", "", "lfp"))
        for saw, cause in (("", LOG_END), (SET_CUTOFF, "")):
            found = analyse(under_load, Options(family=FAMILIES["lfp"], ended_by=saw))
            assert found.capacity is not None and found.capacity.ended_by == (saw or LOG_END)
            begun = datetime(2026, 1, 2, tzinfo=UTC)
            number = keep_log(book, sample, TEST_KINDS["capacity"], under_load, found, begun, ("a.csv", b"1"))
            run = book.runs.get(number)
            assert (run.cause, run.settings.saw_end, facts_of(run).options.ended_by) == (cause, saw, saw)
    by_hand = replace(run, method=Method.HAND, cause=OPERATOR, settings=replace(run.settings, saw_end=""))
    assert facts_of(by_hand).options.ended_by == OPERATOR
    seen = replace(by_hand, settings=replace(by_hand.settings, saw_end=PROTECTION))
    assert facts_of(seen).options.ended_by == PROTECTION
