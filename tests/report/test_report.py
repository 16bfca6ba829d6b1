"""The report page: self-contained, complete, honest."""

from __future__ import annotations

import html
import re
from dataclasses import replace
from datetime import UTC, datetime
from html.parser import HTMLParser
from pathlib import Path

import numpy as np
import pytest

from tests.making import discharge
from wintry_tally.core.analysis import Instrument, Options, analyse
from wintry_tally.core.battery import FAMILIES, Arrival, Sample, parse_claim
from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.cautions import DEFER, OVERLOAD
from wintry_tally.core.quantity import Quantity, parse_accuracy
from wintry_tally.core.trace import Trace
from wintry_tally.core.verdict import School
from wintry_tally.core.verdict.outcome import Condition, up_to
from wintry_tally.report.curve import curve_svg, discharge_curve, ticks
from wintry_tally.report.dossier import Dossier, RunFacts, assemble, report_run
from wintry_tally.report.page import render, write_page
from wintry_tally.report.words import chance_words, claim_words, effect_words

OPTIONS = Options(
    FAMILIES["lfp"], 40.0, Instrument(parse_accuracy("0.1%+2d"), parse_accuracy("0.5%+2d"), "m"), ambient_C=22.0
)


def dossier(*claims: str, traces: tuple[Trace, ...] = (), **arrival: object) -> Dossier:
    sample = Sample(
        1, "B1", "Maker <&>", "Model", "lfp", tuple(parse_claim(text) for text in claims), Arrival(**arrival)
    )
    runs = [
        report_run(
            RunFacts(index, f"Capacity {index}", "hand", datetime(2026, 1, 2, tzinfo=UTC), "", "", False, OPTIONS),
            trace,
        )
        for index, trace in enumerate(traces, 1)
    ]
    return assemble(sample, runs, School.STRICT, "Good.\nLight.", demo=True)


class Page(HTMLParser):
    """Collects tags, links out, and text."""

    def __init__(self) -> None:
        super().__init__()
        self.tags: list[str] = []
        self.links: list[str] = []
        self.words: list[str] = []
        self.open: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append(tag)
        self.links += [value or "" for name, value in attrs if name in {"src", "href"}]
        if tag not in {"meta", "br", "link", "path", "circle", "rect", "polyline"}:
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        if tag not in {"path", "circle", "rect", "polyline", "br"}:
            assert self.open.pop() == tag

    def handle_startendtag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append(tag)

    def handle_data(self, data: str) -> None:
        self.words.append(data)


def read(made: Dossier) -> Page:
    page = Page()
    page.feed(render(made, datetime(2026, 2, 1, tzinfo=UTC)))
    assert page.open == []
    return page


def test_the_page_stands_alone_and_holds_everything() -> None:
    page = read(
        dossier(
            "40 Ah", "520 Wh", "cuts at 10 V", "4000 cycles", traces=(discharge(),), obtained="bought", rested_V=13.1
        )
    )
    text = " ".join(page.words)
    assert page.links == [] and "script" not in page.tags and "img" not in page.tags
    for part in (
        "How the sample was obtained: bought", "Too close to call", "Cannot be tested here", "JCGM 106:2012", "u(current gain)",
        "Decision rule: guarded", "claimed 40 Ah", "Cautions", "licensed practice", "Demonstration data", "Good.", "12.8 V × 40 Ah (label) = 512 Wh",
        "Voltage accuracy", "0.1%+2d", "Charge drawn",
    ):  # fmt: skip
        assert part in re.sub(r"\s+", " ", text), part
    assert "Maker <&>" in text, "what users type is escaped, not interpreted"


def test_an_empty_sample_still_makes_a_page() -> None:
    text = " ".join(read(dossier()).words)
    assert "No claims are entered" in text and "No test is finished" in text and "not noted" in text


def test_runs_without_an_analysis_are_reported_with_their_reason() -> None:
    blank = Trace(np.arange(5.0), np.full(5, np.nan), np.zeros(5))
    made = dossier("40 Ah", traces=(blank,))
    assert made.runs[0].problem and "usable reading" in " ".join(read(made).words)
    assert made.runs[0].working("charge") is None and made.verdicts[0].outcome.value == "not-tested"


def test_left_out_runs_do_not_count() -> None:
    facts = RunFacts(1, "x", "hand", datetime(2026, 1, 2, tzinfo=UTC), "", "", True, OPTIONS)
    sample = Sample(1, "B1", "", "", "lfp", (parse_claim("40 Ah"),))
    made = assemble(sample, [report_run(facts, discharge())], School.STRICT)
    assert made.verdicts[0].outcome.value == "not-tested" and "left out" in " ".join(read(made).words)


def test_two_runs_are_told_apart_by_dash_and_letter() -> None:
    made = dossier("40 Ah", traces=(discharge(), discharge(amps=8.1, seed=2)))
    html = render(made)
    assert (
        'stroke-dasharray="7 4"' in html
        and "a: Capacity 1" in html
        and made.verdicts[0].evidence == ("Capacity 1", "Capacity 2")
    )


def test_workings_of_a_run() -> None:
    report = dossier("40 Ah", traces=(discharge(),)).runs[0]
    assert [report.working(which).label for which in ("charge", "energy", "voltage")] == [
        "Charge drawn",
        "Energy drawn",
        "Mean voltage",
    ]


def test_the_curve_ends_at_what_was_counted() -> None:
    analysis = analyse(discharge(), OPTIONS)
    curve = discharge_curve(analysis)
    assert curve is not None and analysis.capacity is not None
    assert curve[0][-1] == pytest.approx(analysis.capacity.count.charge.value, rel=2e-3) and np.all(
        np.diff(curve[0]) >= 0
    )
    assert curve_svg([], 40.0, 10.0) == ""
    assert discharge_curve(analyse(Trace(np.arange(9.0), np.full(9, 13.0), np.zeros(9)), Options())) is None


def test_chances_are_never_rounded_to_certainty() -> None:
    assert [chance_words(p) for p in (1.0, 0.99951, 0.95, 0.0004, 0.0)] == [
        "> 0.999",
        "> 0.999",
        "0.950",
        "< 0.001",
        "< 0.001",
    ]


def test_ticks_are_round_and_within() -> None:
    assert ticks(0.0, 40.0) == [0.0, 10.0, 20.0, 30.0, 40.0]
    assert ticks(10.0, 13.5) == [10.0, 11.0, 12.0, 13.0]
    assert ticks(1.0, 1.0) == [1.0]


def test_claims_in_words() -> None:
    assert claim_words(parse_claim("RC 96 min")) == "Reserve capacity at least 96 min"
    assert claim_words(parse_claim("trips at 300 ± 50 A")) == "Over-current trip 300 A ± 50 A"
    assert claim_words(parse_claim("40 Ah at 0.2C to 10 V")) == "Capacity at least 40 Ah at 0.2 C to 10 V"
    assert claim_words(parse_claim("5 years warranty")) == "Warranty 5 years"


def test_writing(tmp_path: Path) -> None:
    made = dossier("40 Ah", traces=(discharge(),))
    target = tmp_path / "r.html"
    write_page(made, target)
    assert target.read_text().startswith("<!DOCTYPE html>") and [f.name for f in tmp_path.iterdir()] == ["r.html"]
    with pytest.raises(InputError, match="cannot be written"):
        write_page(made, tmp_path / "no" / "r.html")


def test_a_second_meter_and_cells_stand_with_their_run() -> None:
    trace = discharge()
    cells = {f"cell_{n}_V": trace.voltage_V / 4 + 0.001 * n for n in range(1, 5)}
    both = replace(trace, beside={"second_A": trace.current * 1.001, **cells})
    page = render(dossier("40 Ah", traces=(both,)), datetime(2026, 2, 1, tzinfo=UTC))
    assert "<dt>Second meter</dt>" in page and "specification unknown" in page
    assert "4 cells apart by" in page and "3 mV under load" in page and "well balanced" in page


def test_cautions_of_each_run_s_recipe_are_shown_once_and_the_deferring_one_last() -> None:
    made = dossier("40 Ah", traces=(discharge(), discharge(seed=2)))
    runs = tuple(replace(run, facts=replace(run.facts, cautions=(OVERLOAD, DEFER))) for run in made.runs)
    page = render(replace(made, runs=runs), datetime(2026, 2, 1, tzinfo=UTC))
    told = html.unescape(page[page.index("<h2>Cautions</h2>") :])
    assert told.count(OVERLOAD) == 1 and told.count(DEFER) == 1
    assert told.index(OVERLOAD) < told.index(DEFER)


def test_an_unlike_condition_is_told_with_its_unit_and_what_it_did() -> None:
    claim = parse_claim("40 Ah")
    told = effect_words(Condition("mixed rates", 0.2, 13.8523, Quantity(-2.0, 0.5, "Ah")), claim)
    assert told == "mixed rates: 13.85 C instead of 0.2 C; likely −2.0 ± 1.0 Ah at the claim's own"
    late = effect_words(up_to(9.33, "Ah", "charge at the beginning", "100 %", "76 to 100 %"), claim)
    assert late == "charge at the beginning: 76 to 100 % instead of 100 %; anything up to +9.33 Ah at the claim's own"
    warm = effect_words(Condition("temperature", 25.0, "the freezer was not logged", Quantity(1.0, 0.1, "Ah")), claim)
    assert warm.startswith("temperature: the freezer was not logged instead of 25 °C; likely +1.00 ± 0.20 Ah")
