"""What a station says in one look, held against the demo book's own verdicts and runs (invented), and logs made by hand."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
import pytest

from wintry_tally.app.dossiers import dossier_of
from wintry_tally.app.station_told import Told, station_of, station_told
from wintry_tally.book import Book
from wintry_tally.core.battery.revival import Place
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.verdict import School
from wintry_tally.core.verdict.outcome import Outcome
from wintry_tally.demo import scratch_copy

NOW = datetime(2026, 11, 20, 9, 0, tzinfo=UTC)


@pytest.fixture(scope="module")
def book(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return scratch_copy(tmp_path_factory.mktemp("told"))


def told(path: Path, code: str, key: str, **changed: object) -> Told:
    with Book.open(path) as opened:
        sample = next(one for one in opened.samples.all() if one.code == code)
        dossier = dossier_of(opened, sample, School.STRICT)
        runs = [run for run in opened.runs.all() if run.sample_id == sample.id]
        return station_told(key, replace(sample, **changed), dossier, runs, None, NOW)


def test_each_claim_stands_at_its_station() -> None:
    assert [station_of(kind) for kind in ("capacity", "charge-time", "over-current-trip", "cold-loss", "self-discharge", "mass")] == [
        "capacity", "charge", "load", "cold", "shelf", "arrival",
    ]  # fmt: skip
    assert station_of("low-voltage-release") == "load" and station_of("warranty") == ""


def test_the_load_shows_how_long_each_current_was_stood(book: Path) -> None:
    load = told(book, "M1", "load")
    assert {name for name, _ in load.settles} == {"Continuous discharge", "Surge", "Over-current trip"}
    assert load.panel is not None and load.panel.single
    (opened, x, y), (held, amps, seconds) = load.panel.series
    assert (opened, held) == ("opened after", "held for") and len(x) == 1 and 5.0 < y[0] < 8.0
    # the recipe's steps before it: half a minute at the rated current, a minute either side of the window's lower end
    # (94.05 and 95.95 A are one stage), a minute at the claim
    assert np.round(seconds).tolist() == [30.0, 120.0, 60.0] and amps.max() < x[0]
    assert [words for _, _, words in load.panel.lines] == ["claimed 95 A", "claimed 125 A"]


def test_the_cold_shows_its_run_over_the_warm_one(book: Path) -> None:
    cold = told(book, "M1", "cold")
    assert cold.panel is not None
    (warm, _, _), (cool, x, _) = cold.panel.series
    assert warm == "Capacity 2, 23 °C" and cool == "Cold capacity, −16 °C" and 30.0 < x[-1] < 38.0
    # where nothing of it was tested yet, the soak is worked out instead
    with Book.open(book) as opened:
        sample = next(one for one in opened.samples.all() if one.code == "M1")
        dossier = dossier_of(opened, sample, School.STRICT)
    open_claims = tuple(replace(one, outcome=Outcome.NOT_TESTED) for one in dossier.verdicts)
    soak = station_told("cold", sample, replace(dossier, verdicts=open_claims, runs=()), [], None, NOW).panel
    assert soak is not None and "in a freezer at −18 °C" in soak.name
    name, hours, core = soak.series[0]
    assert core[0] == pytest.approx(23.0) and np.all(np.diff(core) < 0) and name == "worked out from 4.36 kg"
    assert soak.marks[0][1].startswith("sound from ") and 2.0 < soak.marks[0][0] < 24.0 < hours[-1]
    open_dossier = replace(dossier, verdicts=open_claims, runs=())
    read = station_told("cold", sample, open_dossier, [], None, NOW, {"freezer": -12.4, "room": 19.0}).panel
    assert read is not None and read.name == "Its core in a freezer at −12 °C as last read, from 19 °C"
    assert read.series[0][2][0] == pytest.approx(19.0) and read.lines[0][1] == pytest.approx(-11.4)
    assert read.marks[0][0] < soak.marks[0][0], "fewer degrees to go"
    assert station_told("cold", sample, replace(dossier, runs=()), [], None, NOW).panel is None, (
        "nothing is left to be tested"
    )


def test_the_shelf_is_a_line_of_months(book: Path) -> None:
    shelf = told(book, "M2", "shelf")
    assert shelf.settles == (("Self-discharge", Outcome.NOT_TESTED),) and shelf.panel is not None
    name, months, kept = shelf.panel.series[0]
    assert name == "claimed, at most 3 %/month" and kept[0] == 100.0
    assert (kept[-1] - kept[0]) / (months[-1] - months[0]) == pytest.approx(-3.0)
    # ± 0.3 % of the capacity, as a uniform limit, is 0.35 % at k = 2: less than that no such test shows
    assert shelf.panel.lines[0][1] == pytest.approx(100.0 - 2.0 * 0.3 / 3.0**0.5, abs=0.02)
    assert [words for _, words in shelf.panel.marks] == ["today"]
    with Book.open(book) as opened:
        runs = [run for run in opened.runs.all() if run.title.startswith("Shelf test")]
        assert runs[0].ended is not None
        assert shelf.panel.marks[0][0] == pytest.approx((NOW - runs[0].ended) / timedelta(days=30.44))
    assert told(book, "M1", "shelf").panel is None


def test_the_way_back_stands_where_the_newest_readings_put_it(book: Path) -> None:
    way = told(book, "M1", "revival").way
    assert all(step.place is Place.DONE for step in way), "charged to full, and tested since"
    with Book.open(book) as opened:
        sample = next(one for one in opened.samples.all() if one.code == "M1")
        dossier = replace(dossier_of(opened, sample, School.STRICT), runs=())
    asleep = replace(sample, arrival=replace(sample.arrival, rested_V=0.3))
    assert station_told("revival", asleep, dossier, [], None, NOW).way[1].place is Place.HERE
    assert told(book, "M1", "charge").way == ()


class _Plan:
    """A plan of one sample: tasks by name, each with its moment and end."""

    def __init__(
        self, sample_id: int, *tasks: tuple[str, str, tuple[str, ...], datetime, datetime, int | None]
    ) -> None:
        from types import SimpleNamespace as Made

        self.standings = {sample_id: Made(code="M2"), 99: Made(code="M9")}
        made = [Made(id=n, sample="M2", recipe=r, uses=u, fixed=f, words="") for n, r, u, _, _, f in tasks]
        other = Made(id="x", sample="M9", recipe="shelf-end", uses=("shelf",), fixed=None, words="not this one")
        self._at = {n: (begins, ends) for n, _, _, begins, ends, _ in tasks} | {"x": (NOW, NOW)}
        self.plan = Made(campaign=Made(tasks=[other, *made]), starts=dict.fromkeys(self._at, 0), ends=lambda task: task)
        self.plan.starts = {name: name for name in self._at}

    def moment(self, of: object) -> datetime:
        return self._at[of][0] if isinstance(of, str) else self._at[of.id][1]  # type: ignore[attr-defined]


def test_what_is_to_come_here_stands_with_its_moment_in_order(book: Path) -> None:
    with Book.open(book) as opened:
        sample = next(one for one in opened.samples.all() if one.code == "M2")
        dossier = dossier_of(opened, sample, School.STRICT)
        runs = [run for run in opened.runs.all() if run.sample_id == sample.id]
    day = timedelta(days=1)
    plan = _Plan(
        sample.id, ("end", "shelf-end", ("charger",), NOW + 3 * day, NOW + 4 * day, None),
        ("on", "", ("shelf",), NOW - 20 * day, NOW + 2 * day, -5000), ("soak", "", ("freezer",), NOW + day, NOW + 2 * day, None),
        ("cold", "cold-capacity", ("load",), NOW + 2 * day, NOW + 3 * day, None),
    )  # fmt: skip
    shelf = station_told("shelf", sample, dossier, runs, plan, NOW)  # type: ignore[arg-type]
    assert [words.split(",")[0] for words in shelf.coming] == ["end"], "what lies there already is under way"
    cold = station_told("cold", sample, dossier, runs, plan, NOW)  # type: ignore[arg-type]
    assert [words.split(",")[0] for words in cold.coming] == ["soak", "cold"]
    # the line goes on to the day it is due, which stands beside today
    assert shelf.panel is not None
    begun = next(run.ended for run in runs if run.title.startswith("Shelf test"))
    assert begun is not None
    assert shelf.panel.series[0][1][-1] == pytest.approx((NOW + 2 * day - begun) / timedelta(days=30.44))
    assert [words for _, words in shelf.panel.marks] == ["today; due 22 Nov 2026"]
    twice = NOW + (NOW - begun)
    later = _Plan(sample.id, ("on", "", ("shelf",), NOW - 20 * day, twice, -5000))
    apart = station_told("shelf", sample, dossier, runs, later, NOW)  # type: ignore[arg-type]
    assert apart.panel is not None and [words for _, words in apart.panel.marks] == ["today", f"due {twice:%d %b %Y}"]


def test_a_shelf_test_that_is_over_shows_what_was_lost(book: Path) -> None:
    with Book.open(book) as opened:
        sample = next(one for one in opened.samples.all() if one.code == "M2")
        dossier = dossier_of(opened, sample, School.STRICT)
        runs = [run for run in opened.runs.all() if run.sample_id == sample.id]
    start = next(run for run in runs if run.title.startswith("Shelf test"))
    assert start.ended is not None
    over = replace(start, id=999, recipe={"name": "shelf-end"}, started=start.ended + timedelta(days=2 * 30.44))
    lost = tuple(
        replace(one, measured=Quantity(1.5, 0.1, "%/month")) if one.claim.kind == "self-discharge" else one
        for one in dossier.verdicts
    )
    panel = station_told("shelf", sample, replace(dossier, verdicts=lost), [*runs, over], None, NOW).panel
    assert panel is not None and [name for name, _, _ in panel.series] == ["claimed, at most 3 %/month", "measured"]
    assert panel.series[1][2][-1] == pytest.approx(97.0) and panel.marks[0] == (pytest.approx(2.0), "its end")
    before = replace(over, started=start.started - timedelta(days=1))
    assert (
        len(station_told("shelf", sample, replace(dossier, verdicts=lost), [*runs, before], None, NOW).panel.series)
        == 1
    )  # type: ignore[union-attr]
    bare = station_told("shelf", sample, replace(dossier, verdicts=()), runs, None, NOW).panel
    assert bare is not None and bare.series[0][0] == "full when it went there" and bare.series[0][2].tolist() == [100.0]


def test_the_lowest_cell_of_the_newest_log_counts() -> None:
    from wintry_tally.app.station_told import _seen
    from wintry_tally.core.analysis import Options, analyse
    from wintry_tally.core.battery import Sample, family_named
    from wintry_tally.core.trace.trace import Trace
    from wintry_tally.report.dossier import RunFacts, RunReport

    def log(volts: float, low: float, began: int) -> RunReport:
        at = np.arange(0.0, 900.0, 10.0)
        cells = {f"cell_{n}_V": np.full(len(at), v) for n, v in enumerate((low, 3.0, 3.0, 3.0), 1)}
        current = np.where((at > 300) & (at < 600), 4.0, 0.0)
        trace = Trace(at, np.where(at < 600, volts, volts - 0.1), current, beside=cells)
        options = Options(family=family_named("lfp"), rated_Ah=40.0)
        facts = RunFacts(began, "a run", "bench", datetime(2026, 11, began, tzinfo=UTC), "", "", False, options)
        return RunReport(facts, analyse(trace, options), None)

    sample = Sample(1, "B1", "", "", "lfp", ())
    seen = _seen(sample, [log(12.9, 2.5, 3), log(11.0, 1.9, 2)])
    assert (
        seen.cell_V == pytest.approx(2.5)
        and seen.volts == pytest.approx(12.8)
        and not seen.charged
        and seen.limit_V is None
    )
    assert _seen(sample, []).volts is None
