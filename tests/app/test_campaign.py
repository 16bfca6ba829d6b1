"""The campaign of a book: where samples stand, what is wished, the day's lines, and a simulated fortnight by plan.

The rules are those of docs/architecture.md and of the trade (recharge within hours, nothing ends while nobody is there):
common practice, no published source.
"""

from __future__ import annotations

import pickle
import shlex
import sys
import time
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from tests.amount import thorough
from tests.app.test_open_book import at
from wintry_tally.app import planner as planner_module
from wintry_tally.app import solver_apart
from wintry_tally.app.campaign import Drawn, draw_up, keep_plan, kept_plan, last_left, running_of, standing_of
from wintry_tally.app.day_of import day_of
from wintry_tally.app.days import chart
from wintry_tally.app.dossiers import dossier_of
from wintry_tally.app.planner import Planner
from wintry_tally.app.today import Item, Seen, today
from wintry_tally.app.wishes import Wishes, wishes_of
from wintry_tally.bench.equipment import Equipment
from wintry_tally.bench.simulation import SimulatedBattery, simulate
from wintry_tally.book import Book, Run, RunSettings
from wintry_tally.book.feed import Topic
from wintry_tally.book.recipes import recipe_data
from wintry_tally.core.battery import family_named, parse_claim
from wintry_tally.core.errors import InputError, WintryError
from wintry_tally.core.plan.campaign import Task
from wintry_tally.core.plan.planning import plan
from wintry_tally.core.plan.programme import Asked
from wintry_tally.core.plan.solver import HERE
from wintry_tally.core.plan.standing import Standing
from wintry_tally.core.plan.why import cannot_stand, why
from wintry_tally.core.protocol.attended import parse_attended
from wintry_tally.core.protocol.in_programme import Charged
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.core.verdict.outcome import Outcome, School
from wintry_tally.demo import begin_now, scratch_copy
from wintry_tally.exchange.plan_file import own_zone
from wintry_tally.exchange.recipe_file import shipped_recipe

NOW = datetime(2027, 1, 11, 8, 0, tzinfo=UTC)
HOURS = "7:00-19:00"


@pytest.fixture
def book(tmp_path: Path, own_places: Path) -> Iterator[Book]:
    with Book.create(tmp_path / "b.wintry") as made:
        for code, family, claims in (
            ("B1", "lfp", ("40 Ah", "self-discharge < 3 %/month")),
            ("B2", "agm", ("55 Ah at C/20",)),
        ):
            number = made.samples.add(code, "", "", family)
            for text in claims:
                made.samples.add_claim(number, parse_claim(text))
        yield made


def _run(
    book: Book, sample: int, recipe: str, ended: datetime | None, cause: str = "set-cutoff", hours: float = 5.0
) -> Run:
    of = book.samples.get(sample)
    facts = Facts(of.family, of.rated_Ah or 1.0, of.claims)
    data = recipe_data(fill(shipped_recipe(recipe), facts))
    begun = (ended or NOW) - timedelta(hours=hours)
    number = book.runs.begin(sample, recipe, "simulated", begun, RunSettings(rated_Ah=of.rated_Ah), data, "capacity")
    if ended is not None:
        book.runs.finish(number, cause, "", ended)
    return next(run for run in book.runs.all(sample) if run.id == number)


def _standing(book: Book, sample: int, running: object = None) -> Standing:
    made = standing_of(
        book.samples.get(sample), book.runs.all(sample), None, running, wishes_of(book), Equipment(), NOW
    )  # type: ignore[arg-type]
    assert made is not None
    return made


def _drawn(book: Book, now: datetime = NOW, before: dict[str, datetime] | None = None, **standings: Standing) -> Drawn:
    found = {int(name[1:]): one for name, one in standings.items()} or {1: _standing(book, 1), 2: _standing(book, 2)}
    return draw_up(found, Equipment(), HOURS, wishes_of(book), before or {}, now, 0.0, thorough=False)


def test_how_a_test_leaves_a_battery(book: Book) -> None:
    assert last_left(book.runs.all(1)) == (Charged.ANY, None)
    steps = [
        ("capacity-reference", "battery-protection", Charged.EMPTY), ("capacity-reference", "operator", Charged.ANY),
        ("charge-lithium-usual", "current-taper", Charged.FULL), ("capacity-reference", "connection-not-proven", Charged.FULL),
        ("rest-hour", "time-limit", Charged.FULL), ("hold", "time-limit", Charged.CHARGED), ("hold", "instrument-lost", Charged.ANY),
        ("capacity-power", "set-cutoff", Charged.EMPTY), ("reference-cycle", "current-taper", Charged.FULL),
        ("shelf-start", "confirmed", Charged.FULL), ("arrival-check", "confirmed", Charged.FULL),
    ]  # fmt: skip
    for number, (recipe, cause, left) in enumerate(steps):
        _run(book, 1, recipe, NOW + timedelta(hours=10 * number), cause)
        assert last_left(book.runs.all(1))[0] is left, (recipe, cause)
    assert _standing(book, 1).shelved == NOW + timedelta(hours=90)
    book.runs.change(max(run.id for run in book.runs.all(1)) - 1, left_out=True)
    assert _standing(book, 1).shelved is None


def test_a_battery_left_empty_is_charged_first_and_that_is_due(book: Book) -> None:
    _run(book, 2, "capacity-reference", NOW - timedelta(hours=2))
    drawn = _drawn(book)
    first = drawn.next_task(2)
    assert first is not None and first.recipe == "charge-lead-acid" and first.due is not None
    assert drawn.moment(first.due) - timedelta(hours=first.slots / 12) == NOW + timedelta(hours=2)
    lines = _today(book, drawn, NOW + timedelta(minutes=1))
    assert next((i.code, i.group) for i in lines if "Charge in three stages" in i.words) == ("B2", "now")
    # the hours have passed, and nothing is planned yet: it is said
    late = [i for i in _today(book, None, NOW + timedelta(hours=3)) if i.group == "late"]
    assert late[0].words == "Left empty for 5 h 00 min: charge it" and "within 4 h" in late[0].beside
    assert late[0].recipe == "charge-lead-acid"
    assert not [i for i in _today(book, None, NOW + timedelta(hours=1)) if i.group == "late"]


def _today(
    book: Book, drawn: Drawn | None, now: datetime, live: tuple[Seen, ...] = (), held: dict[int, str] | None = None
) -> list[Item]:
    samples = book.samples.all()
    return today(
        samples, {s.id: book.runs.all(s.id) for s in samples}, live, drawn, held or {}, now.astimezone(own_zone())
    )


def test_a_running_test_stands_and_what_follows_waits(book: Book) -> None:
    run = _run(book, 2, "capacity-reference", None, hours=3.0)
    running = running_of(run, NOW, NOW + timedelta(hours=10), Equipment())
    drawn = _drawn(book, s1=_standing(book, 1), s2=_standing(book, 2, running))
    own = drawn.task(f"run {run.id}")
    assert own is not None and drawn.plan.starts[own.id] == -36
    assert drawn.moment(drawn.plan.ends(own)) >= NOW + timedelta(hours=11)  # and an eighth of the rest in hand
    follows = drawn.next_task(2)
    assert follows is not None and follows.recipe == "charge-lead-acid"
    assert drawn.plan.starts[follows.id] >= drawn.plan.ends(own)
    assert "capacity" not in [
        kind
        for task in drawn.plan.campaign.tasks
        if task.sample == "B2" and task.fixed is None
        for kind in task.settles
    ]
    # the other battery wants the same load: it waits
    other = drawn.task("B1-capacity-reference")
    assert other is None or other.id not in drawn.plan.starts or drawn.plan.starts[other.id] >= drawn.plan.ends(own)
    seen = _today(book, drawn, NOW, (Seen(run.id, "", "drawing", NOW + timedelta(hours=10)),))
    assert [i.group for i in seen if i.words == "capacity-reference"] == ["running"]
    wanted = _today(book, drawn, NOW, (Seen(run.id, "waits for you: connect", "", None),))
    assert [(i.group, i.words) for i in wanted if "waits" in i.words] == [
        ("now", "capacity-reference: waits for you: connect")
    ]
    # nobody holds it: it was interrupted, and hands are needed
    assert any("interrupted" in i.words and i.group == "now" for i in _today(book, drawn, NOW))
    # it would end at 19:07 at the latest, when nobody is there: the battery would stand empty over night
    assert [(i.code, i.group) for i in seen if "stand empty" in i.words] == [("B2", "late")]


def test_what_lies_on_the_shelf_stays_there(book: Book) -> None:
    _run(book, 1, "shelf-start", NOW - timedelta(days=29), "confirmed")
    drawn = _drawn(book, s1=_standing(book, 1))
    names = [task.id for task in drawn.plan.campaign.tasks]
    assert names[:2] == ["B1-shelf-before-shelf-end", "B1-shelf-end"]
    shelf, end = drawn.plan.campaign.tasks[:2]
    assert shelf.fixed is not None and drawn.moment(shelf.fixed) <= NOW - timedelta(days=29)
    assert drawn.moment(drawn.plan.starts[end.id]) >= NOW - timedelta(days=29) + timedelta(days=30.44)
    lines = [i for i in _today(book, drawn, NOW) if i.recipe == "shelf-end"]
    assert [i.group for i in lines] == ["next"]


def test_wishes_are_kept_and_taken_back(book: Book, tmp_path: Path) -> None:
    assert wishes_of(book) == Wishes()
    at_ = datetime(2027, 1, 12, 9, 0, tzinfo=UTC)
    made = replace(Wishes(), away=("2027-01-13", "2027-01-15/2027-01-16"), freezers=0, shelves=2)
    made = made.pinned("B1-capacity-reference", at_).without("B2", "capacity-reference", "lent out")
    book.close()
    one, _ = at(tmp_path / "b.wintry")
    other, heard = at(tmp_path / "b.wintry")
    edit = one.edits.set_wishes("set it", made)
    assert edit is not None
    one.do(edit)
    assert wishes_of(one.book) == made and len(made.days()) == 3
    assert one.edits.set_wishes("again", made) is None
    other.catch_up()
    assert heard.told == [(Topic.PLAN, None)]
    one.undo(edit)
    assert wishes_of(one.book) == Wishes()
    assert made.pinned("B1-capacity-reference", None).pins == {}
    assert made.without("B2", "capacity-reference", None).left_out == {}
    with pytest.raises(InputError, match="are no days"):
        replace(made, away=("soon",)).days()
    for opened in (one, other):
        opened.close()


def test_pins_days_away_and_left_out_shape_the_plan(book: Book) -> None:
    free = _drawn(book)
    at_ = (NOW + timedelta(days=2)).replace(hour=9)
    wishes = Wishes(
        ("2027-01-20",),
        pins={"B1-capacity-reference": at_.isoformat()},
        left_out={"B2": {"capacity-reference": "lent"}},
    )
    found = draw_up({1: _standing(book, 1), 2: replace(_standing(book, 2), asked=Asked({"capacity-reference": "lent"}))},
                    Equipment(), HOURS, wishes, {}, NOW, 0.0, thorough=False)  # fmt: skip
    task = found.task("B1-capacity-reference")
    assert task is not None and found.moment(found.plan.starts[task.id]) == at_
    charge = found.next_task(1)
    assert charge is not None and found.plan.ends(charge) <= found.plan.starts[task.id]
    assert found.next_task(2) is None and free.next_task(2) is not None
    assert not [t for t in found.plan.campaign.tasks if t.id in found.plan.starts and t.presence != "none"
                and f"{found.moment(found.plan.starts[t.id]):%d}" == "20"]  # fmt: skip
    # why it stands there, and where it cannot
    assert why(found.plan, task) == "it is pinned there"
    assert why(free.plan, free.next_task(1)) == "it begins at once"  # type: ignore[arg-type]
    capacity = free.task("B1-capacity-reference")
    assert capacity is not None
    night, past = (NOW + timedelta(days=1)).replace(hour=23), NOW - timedelta(hours=1)
    assert "nobody is there at its start and its end" in cannot_stand(free.plan, capacity, night)
    assert cannot_stand(free.plan, capacity, past) == "that is past"
    assert "comes before it" in cannot_stand(free.plan, capacity, NOW + timedelta(minutes=30))
    later_ = next(
        NOW + timedelta(days=1, minutes=15 * k)
        for k in range(96)
        if not cannot_stand(free.plan, capacity, NOW + timedelta(days=1, minutes=15 * k))
    )
    assert later_ >= NOW + timedelta(days=1)


def test_a_plan_is_kept_and_the_next_moves_little(book: Book) -> None:
    first = _drawn(book)
    keep_plan(book, first)
    kept = kept_plan(book, NOW)
    assert kept and all(kept[name] == first.moment(slot) for name, slot in first.plan.starts.items() if name in kept)
    assert kept_plan(book, NOW + timedelta(days=8)) == {}
    again = draw_up(first.standings, Equipment(), HOURS, Wishes(), kept, NOW, 1.5)
    assert again.thorough and not [name for name in again.moved if kept[name] < NOW + timedelta(days=2)]
    assert again.plan.end <= first.plan.end


def test_the_solver_apart_finds_what_it_finds_here(monkeypatch: pytest.MonkeyPatch, book: Book) -> None:
    drawn = _drawn(book)
    campaign = drawn.plan.campaign
    here = plan(campaign, 2.0, solver=HERE)
    apart = plan(campaign, 2.0, solver=solver_apart.APART)
    assert (apart.end, apart.bound_end) == (here.end, here.bound_end)
    # more is asked than a pipe takes before somebody reads it
    many = replace(
        campaign, tasks=tuple(Task(f"t{n} {'x' * 1500}", f"S{n}", 1 + n % 9, uses=("load",)) for n in range(80))
    )
    begun = time.monotonic()
    assert len(plan(many, 0.5, solver=solver_apart.APART).starts) == 80 and time.monotonic() < begun + 30.0
    # the last whole answer counts, whatever cut the next one short
    answers = [solver_apart.Solved({"a": n}, n, False, False) for n in (3, 2)]
    bytes_ = b"".join(pickle.dumps(one) for one in answers)
    assert solver_apart._last(bytes_) == answers[1] and solver_apart._last(bytes_[:-5]) == answers[0]
    assert solver_apart._last(b"") is None and solver_apart._last(b"nonsense") is None
    # where its process fails, a sound plan is there all the same
    monkeypatch.setattr(sys, "executable", "/bin/false")
    fallen = plan(campaign, 0.4, solver=solver_apart.APART)
    assert set(fallen.starts) == set(here.starts) and fallen.end >= here.end
    assert solver_apart.most_placed_apart(campaign, [], {}, 1, 1.0) == {}
    monkeypatch.setattr(sys, "executable", "/nowhere")
    assert set(plan(campaign, 0.4, solver=solver_apart.APART).starts) == set(here.starts)
    monkeypatch.undo()
    begun = time.monotonic()
    with pytest.raises(WintryError, match="no longer wanted"):
        plan(campaign, 30.0, cancelled=lambda: time.monotonic() > begun + 1.0, solver=solver_apart.APART)
    assert time.monotonic() < begun + 10


def test_another_goes_on_from_the_best_told_where_the_solver_ends_its_process(
    monkeypatch: pytest.MonkeyPatch, book: Book, tmp_path: Path
) -> None:
    campaign = _drawn(book).plan.campaign
    here = plan(campaign, 2.0, solver=HERE)
    late = {name: slot + 40 for name, slot in here.starts.items()}
    falls = (
        "import os, pickle, sys; from wintry_tally.app.solver_apart import Solved; sys.stdin.buffer.read(); "
        f"sys.stdout.buffer.write(pickle.dumps(Solved({late!r}, 7, False, False))); sys.stdout.buffer.flush(); os.abort()"
    )
    goes = (
        "import pickle, sys; from wintry_tally.app.solver_apart import Solved; _, given = pickle.loads(sys.stdin.buffer.read()); "
        f"open({str(tmp_path / 'given')!r}, 'a').write(repr((given[3] == {late!r}, given[6], given[4] > 2.0)) + chr(10)); "
        f"sys.stdout.buffer.write(pickle.dumps(Solved({here.starts!r}, 9, True, True)))"
    )
    begun, script = tmp_path / "begun", tmp_path / "python"
    script.write_text(
        f"#!/bin/sh\nif [ -e {begun} ]; then exec {sys.executable} -c {shlex.quote(goes)}; fi\n"
        f"touch {begun}\nulimit -c 0\nexec {sys.executable} -c {shlex.quote(falls)}\n"
    )
    script.chmod(0o755)
    monkeypatch.setattr(sys, "executable", str(script))
    found = solver_apart.solve_apart(campaign, [], {}, {"x": 1}, 6.0, time.monotonic)
    assert found == solver_apart.Solved(here.starts, 9, True, True)
    assert (tmp_path / "given").read_text() == "(True, 1, True)\n"  # the best told, another luck, the time left
    begun.unlink()
    # too little is left for another: what the first told stands
    assert solver_apart.solve_apart(campaign, [], {}, {"x": 1}, 1.0, time.monotonic).starts == late


def test_the_planner_follows_what_is_told(tmp_path: Path, own_places: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    opened, ears = at(scratch_copy(tmp_path))
    ready: list[int] = []
    planner = Planner(opened, ears, lambda: ready.append(1), ears.failed)
    assert planner.ask() is None and not ears.waiting  # nothing stands on the screen yet
    opened.shelf.at_work = True
    assert planner.ask() is None and not planner.at_work  # verdicts first
    while ears.waiting:
        ears.work()
    assert planner.ask() is None and planner.at_work
    ears.work()
    assert ready and planner.drawn is not None and not planner.drawn.thorough
    monkeypatch.setattr(planner_module, "QUIET_S", 1e12)
    planner.go_on()
    assert not planner.at_work  # nothing may have changed for a while
    monkeypatch.setattr(planner_module, "QUIET_S", 0.0)
    planner.go_on()
    assert planner.at_work
    ears.work()
    assert planner.drawn.thorough and not planner.at_work and not ears.waiting
    planner.ask()
    assert not planner.at_work  # it holds
    planner.changed(Topic.PROSE)
    planner.ask()
    assert not planner.at_work
    planner.changed(Topic.PLAN)
    planner.ask()
    assert planner.at_work
    planner.changed(Topic.RUNS)
    ears.work()
    planner.go_on()
    assert not planner.at_work  # what it was asked for no longer holds
    # what is broken off because something changed is no trouble of anybody's; anything else is
    planner.ask()
    (work, _), ears.waiting = ears.waiting[0], []
    assert work is not None and planner.at_work
    told = list(ears.words)
    ears.last_failed("broken off")
    assert ears.words == [*told, "broken off"] and not planner.at_work
    planner.outdated()
    planner.ask()
    planner.changed(Topic.RUNS)
    ears.last_failed("broken off")
    assert ears.words == [*told, "broken off"]
    from wintry_tally.app.safety import put_into_quarantine

    put_into_quarantine(opened.book, opened.samples[0].id, "it smelled")
    ears.waiting.clear()
    planner.outdated()
    while planner.ask() is None or not planner.at_work:
        ears.work()
    ears.work()
    assert opened.samples[0].id not in planner.drawn.standings and opened.samples[1].id in planner.drawn.standings
    planner.close()
    ears.work()
    opened.close()


def test_the_day_of_a_book_that_lies_there(tmp_path: Path, own_places: Path) -> None:
    with Book.open(scratch_copy(tmp_path)) as demo:
        begin_now(demo)
        now = datetime.now().astimezone()
        drawn, lines = day_of(demo, now, 1.0)
        assert {"late", "next"} <= {line.group for line in lines}
        assert any(line.recipe == "shelf-end" and line.code == "M2" for line in lines)
        shown = chart(drawn, [s.code for s in demo.samples.all()], now, by_instrument=False)
        assert {one.row for one in shown.placed} <= set(shown.rows)
        assert shown.last - shown.first < timedelta(days=40)  # a month on a shelf does not stretch it
        assert {one.id for one in shown.placed} == set(drawn.plan.starts)
        per = chart(drawn, [], now, by_instrument=True)
        assert per.rows == ("load", "charger", "freezer", "shelf")
        assert sum(len(t.uses) for t in drawn.plan.campaign.tasks if t.id in drawn.plan.starts) == len(per.placed)


FORTNIGHT = {
    "F1": ("lfp", 20.0, 1.03, ("20 Ah", "charge current 10 A")),
    "F2": ("lfp", 20.0, 0.80, ("20 Ah",)),
    "F3": ("agm", 20.0, 1.05, ("20 Ah at C/20",)),
    "F4": ("lfp", 10.0, 1.02, ("10 Ah", "10 A continuous")),
}


@thorough
def test_a_fortnight_by_plan(tmp_path: Path, own_places: Path) -> None:
    """From claims to verdicts on simulated batteries: one is weaker than claimed, one instrument fails once."""
    hours, now, failed = parse_attended(HOURS), datetime(2027, 1, 11, 8, 0, tzinfo=own_zone()), False
    until, busy, hands = now + timedelta(days=14), {}, []
    with Book.create(tmp_path / "f.wintry") as book:
        for code, (family, _, _, claims) in FORTNIGHT.items():
            number = book.samples.add(code, "", "", family)
            for text in claims:
                book.samples.add_claim(number, parse_claim(text))
        while now < until:
            standings = {}
            for sample in book.samples.all():
                dossier = dossier_of(book, sample, School.STRICT)
                running = busy.get(sample.id)
                seen = running_of(*running, Equipment()) if running is not None else None
                made = standing_of(
                    sample,
                    [r for r in book.runs.all(sample.id) if r.ended and r.ended <= now],
                    dossier,
                    seen,
                    Wishes(),
                    Equipment(),
                    now,
                )
                assert made is not None
                standings[sample.id] = made
            drawn = draw_up(standings, Equipment(), HOURS, Wishes(), kept_plan(book, now), now, 0.0, thorough=False)
            keep_plan(book, drawn)
            due = [t for t in drawn.plan.campaign.tasks if t.id in drawn.plan.starts and t.fixed is None and t.recipe]
            due.sort(key=lambda t: drawn.plan.starts[t.id])
            ends = sorted(run[0].ended for run in busy.values() if run[0].ended is not None)
            if not due and not ends:
                break
            begins = drawn.moment(drawn.plan.starts[due[0].id]) if due else until
            if ends and ends[0] <= begins:
                now = ends[0].astimezone(own_zone())
                busy = {number: run for number, run in busy.items() if run[0].ended > now}
                continue
            now = begins
            number = drawn.sample_of(due[0])
            assert number is not None and number not in busy
            fails = due[0].recipe == "capacity-reference" and due[0].sample == "F4" and not failed
            failed = failed or fails
            run = _simulated(book, number, due[0], now, "instrument-lost" if fails else "", drawn, standings[number])
            hands.append((run, due[0]))
            if run.ended is not None and run.ended > now:
                busy[number] = (run, now, run.ended)
        outcomes = {
            s.code: {v.claim.kind: v.outcome for v in dossier_of(book, s, School.STRICT).verdicts}
            for s in book.samples.all()
        }
    assert outcomes["F1"]["capacity"] is Outcome.MET and outcomes["F1"]["charge-current"] is Outcome.MET
    assert outcomes["F2"]["capacity"] is Outcome.MISSED
    assert outcomes["F3"]["capacity"] is Outcome.MET
    assert outcomes["F4"]["capacity"] is Outcome.MET and outcomes["F4"]["continuous-discharge"] is Outcome.MET
    assert failed and now < until
    attempts = [task.recipe for run, task in hands if task.sample == "F4" and task.recipe == "capacity-reference"]
    assert len(attempts) == 2  # what an instrument spoilt was planned again
    for run, task in hands:
        begun, ended = run.started.astimezone(own_zone()), (run.ended or run.started).astimezone(own_zone())
        if task.presence != "none":
            assert hours.there(begun), (task.id, begun)
        if task.presence == "ends" and run.cause != "instrument-lost":
            assert hours.there(ended) or f"{ended:%H:%M}" == "19:00", (task.id, ended)
    spans = sorted((run.started, run.ended, task.uses) for run, task in hands)
    for one, other in zip(spans, spans[1:], strict=False):
        assert not (set(one[2]) & set(other[2])) or one[1] <= other[0]


def _simulated(book: Book, number: int, task: Task, now: datetime, cause: str, drawn: Drawn, standing: Standing) -> Run:
    """A test by its shipped recipe on the simulated battery, sealed into the book; cut short where a cause is given."""
    sample = book.samples.get(number)
    family, rated, health, _ = FORTNIGHT[sample.code]
    template = shipped_recipe(task.recipe)
    recipe = fill(template, Facts(sample.family, rated, sample.claims))
    full = {Charged.FULL: 1.0, Charged.EMPTY: 0.02, Charged.CHARGED: 0.8}.get(standing.left, 0.4)
    battery = SimulatedBattery(family_named(family), rated, health=health, state_of_charge=full)
    found = simulate(recipe, battery, 100 + number, 20.0 if template.station in {"capacity", "charge"} else 1.0)
    trace = found.trace
    if cause:
        trace = trace.taking(trace.time_s < trace.time_s[-1] / 3.0)
    settings = RunSettings(family, rated, None, "0.05%+2d", "0.2%+2d", 0.001, 0.001, "meter", 22.0, 3600.0, 20.0)
    run = book.runs.begin(number, task.words, "simulated", now, settings, recipe_data(recipe), template.station)
    book.runs.seal(run, trace)
    ended = now + timedelta(seconds=float(trace.time_s[-1]))
    own = found.state.cause.value if found.state.cause else ""
    book.runs.finish(run, cause or own, found.state.detail, ended)
    return next(one for one in book.runs.all(number) if one.id == run)


def test_what_waits_is_kept_well(book: Book) -> None:
    """Lithium about half full, lead-acid full and topped up: handbook practice, no published source."""
    _run(book, 1, "charge-lithium-usual", NOW, "current-taper")
    _run(book, 2, "charge-lead-acid", NOW, "current-taper")
    ended = {number: book.runs.all(number)[-1].ended for number in (1, 2)}

    def told(days: float, planned: bool = False) -> dict[str, tuple[str, str]]:
        now = NOW + timedelta(days=days)
        drawn = _drawn(book, now)
        if not planned:
            drawn = replace(drawn, plan=replace(drawn.plan, starts={}))
        return {
            i.code: (i.words, i.recipe) for i in _today(book, drawn, now) if i.group == "due" and "tands" in i.words
        }

    assert ended[1] is not None and told(14.0) == {} and told(15.0, planned=True) == {}
    assert set(told(16.0)) == {"B1"} and told(16.0)["B1"][0].startswith("Stands full for 16 d")
    words, recipe = told(50.0)["B2"]
    assert words.startswith("Stands for 50 d") and recipe == "charge-lead-acid"
    _run(book, 1, "shelf-start", NOW + timedelta(days=1), "confirmed")
    assert set(told(60.0)) == {"B2"}
