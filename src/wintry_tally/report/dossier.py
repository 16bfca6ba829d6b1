"""A sample with everything known of it: findings, runs analysed, claims judged. The window and the page draw it."""

from __future__ import annotations

import logging
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from itertools import pairwise
from typing import Any

from wintry_tally.core.analysis import Analysis, Options, analyse
from wintry_tally.core.analysis.derivation import charge_working, energy_working, mean_voltage_working
from wintry_tally.core.analysis.ending import ENDING_WORDS, GONE
from wintry_tally.core.analysis.place import PlaceHistory
from wintry_tally.core.analysis.stages import StageKind
from wintry_tally.core.battery import Finding, Sample, arrival_findings
from wintry_tally.core.battery.claims import judged
from wintry_tally.core.battery.sample import CyclesHad
from wintry_tally.core.compare.trend import Trend
from wintry_tally.core.errors import WintryError
from wintry_tally.core.protocol.method import Method
from wintry_tally.core.protocol.recipe import CAUSE_WORDS, CAUSES, EndCause
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.trace.trace import Column, Trace
from wintry_tally.core.verdict import MeasuredEvidence, School, Verdict, judge
from wintry_tally.core.verdict.evidence import CapacityEvidence, Evidence, LogEvidence, capacity_evidence
from wintry_tally.core.working import Working
from wintry_tally.report.curve import discharge_curve
from wintry_tally.report.portrait import Portrait, portrait_of

log = logging.getLogger(__name__)


@dataclass(frozen=True)
class RunFacts:
    """What the dossier needs of a run; the book's runs fit as they are."""

    id: int
    title: str
    method: Method
    started: datetime
    cause: str
    detail: str
    left_out: bool
    options: Options
    original_name: str = ""
    test: str = ""
    cautions: tuple[str, ...] = ()
    recipe: str = ""
    stood: PlaceHistory | None = None


@dataclass(frozen=True)
class RunReport:
    """One finished run: its analysis, or why there is none."""

    facts: RunFacts
    analysis: Analysis | None
    evidence: CapacityEvidence | None
    problem: str = ""
    curve: tuple[Column, Column] | None = None
    """Charge drawn (Ah) and voltage, thinned to what a page shows; None without a capacity test."""
    portrait: Portrait | None = None
    """Its own picture, in the terms of its kind of test; None where its curve says it all."""

    def working(self, which: str) -> Working | None:
        """The working of "charge", "energy" or "voltage"."""
        if self.analysis is None or self.analysis.capacity is None:
            return None
        count, instrument = self.analysis.capacity.count, self.analysis.options.instrument
        if which == "charge":
            return charge_working(count, instrument, self.analysis.readings_counted)
        if which == "energy":
            return energy_working(count, instrument, self.analysis.readings_counted)
        family = self.analysis.options.family
        return mean_voltage_working(count, family.mean_V if family else None)

    def ended_words(self, *, brief: bool = False) -> str:
        """How its discharge ended: as its record has it, and as its trace looks where that is something else.

        brief: of a trace that merely does not tell as much nothing is said. Empty without a discharge.
        """
        test = self.analysis.capacity if self.analysis is not None else None
        if test is None:
            return ""
        shown = str(ENDING_WORDS.get(test.ended_by, test.ended_by))
        cause, told = self.facts.cause, self.facts.options.ended_by
        if cause not in CAUSES or cause == test.ended_by or told == test.ended_by:
            return shown
        known = str(CAUSE_WORDS[EndCause(cause)])
        return known if brief and test.ended_by != GONE else f"{known}; the trace looks like: {shown}"


@dataclass(frozen=True)
class Dossier:
    """Everything on one sample."""

    sample: Sample
    findings: tuple[Finding, ...]
    runs: tuple[RunReport, ...]
    verdicts: tuple[Verdict, ...]
    school: School
    prose: str
    demo: bool
    trends: tuple[Trend, ...] = ()
    had: CyclesHad = field(default_factory=CyclesHad)


def report_run(facts: RunFacts, trace: Trace) -> RunReport:
    """Analyse one run; a trace that cannot be analysed is reported with its reason."""
    try:
        analysis = analyse(trace, facts.options)
    except WintryError as error:
        return RunReport(facts, None, None, str(error))
    evidence = None
    if facts.test in {"", "capacity", "cold-loss"}:
        evidence = capacity_evidence(facts.title, analysis, facts.options.ambient_C)
    return RunReport(facts, analysis, evidence, "", discharge_curve(analysis), _pictured(facts, analysis))


def _pictured(facts: RunFacts, analysis: Analysis) -> Portrait | None:
    """Its picture; no verdict waits for one that cannot be drawn."""
    try:
        return portrait_of(facts.test, analysis)
    except Exception:
        log.exception("no picture of %s", facts.title)
        return None


def arrival_evidence(sample: Sample) -> list[MeasuredEvidence]:
    """What was measured on arrival, as evidence."""
    arrival = sample.arrival
    if arrival.mass_kg is None:
        return []
    limit = arrival.mass_limit_kg
    standard = None if limit is None else limit / 3**0.5
    mass = Quantity(arrival.mass_kg, standard, "kg")
    return [MeasuredEvidence("weighed on arrival", "mass", mass, digit=digit_read(arrival.mass_kg, MOST_DECIMALS_KG))]


MOST_DECIMALS_KG, MOST_DECIMALS_MM = 3, 1
"""A mass or a size with more of them was converted from another unit, and does not tell what it was read to."""


def digit_read(value: float, most_decimals: int) -> float:
    """One of the last digit that something was read to, by the number that is kept; 0 where that does not tell."""
    decimals = len(f"{value:.9g}".partition(".")[2])
    return 10.0**-decimals if decimals <= most_decimals else 0.0


COLD_C, WARM_C = 10.0, 15.0
"""A capacity run below the first and one above the second are a cold one and its warm twin."""


def _method(item: RunReport) -> str:
    # one half of a cold pair is also a capacity test; the pair is made below
    return "capacity" if item.facts.test == "cold-loss" else item.facts.test


STARTS_SHELF, ENDS_SHELF = "shelf-start", "shelf-end"


def _shelf_pair(counted: list[RunReport]) -> LogEvidence | None:
    """The latest time on the shelf whose start and end were both tested, with nothing else between them."""
    for start, end in reversed(list(pairwise(counted))):
        if start.facts.recipe == STARTS_SHELF and end.facts.recipe == ENDS_SHELF and start.analysis and end.analysis:
            names, analyses = (start.facts.title, end.facts.title), (start.analysis, end.analysis)
            went = max((s.end_s for s in start.analysis.stages if s.stage.kind == StageKind.CHARGE), default=0.0)
            came = min((s.start_s for s in end.analysis.stages if s.stage.kind == StageKind.CHARGE), default=0.0)
            apart = (end.facts.started - start.facts.started).total_seconds() + came - went
            return LogEvidence("self-discharge", names, analyses, apart, end.facts.stood)
    return None


def run_evidence(runs: Sequence[RunReport]) -> list[Evidence]:
    """The finished runs that count, as evidence; the latest cold run is paired with the latest warm one."""
    counted = [item for item in runs if item.analysis is not None and not item.facts.left_out]
    evidence: list[Evidence] = [item.evidence for item in counted if item.evidence is not None]
    evidence += [
        LogEvidence(
            _method(item),
            (item.facts.title,),
            (item.analysis,),
            0.0 if item.facts.recipe == STARTS_SHELF else None,
            item.facts.stood,
        )
        for item in counted
        if item.analysis
    ]
    known = [
        (item, item.evidence.temperature_C)
        for item in counted
        if item.evidence is not None and item.evidence.temperature_C is not None
    ]
    cold = [item for item, temperature in known if temperature < COLD_C]
    warm = [item for item, temperature in known if temperature >= WARM_C]
    if cold and warm and cold[-1].analysis and warm[-1].analysis:
        names = (cold[-1].facts.title, warm[-1].facts.title)
        pair = (cold[-1].analysis, warm[-1].analysis)
        evidence.append(LogEvidence("cold-loss", names, pair, stood=cold[-1].facts.stood))
    shelf = _shelf_pair(counted)
    return evidence if shelf is None else [*evidence, shelf]


def entered_evidence(entries: Sequence[Mapping[str, Any]]) -> list[MeasuredEvidence]:
    """What was measured or seen and entered beside a claim: kind, of, value, limit (half-width, or None), unit."""
    found = []
    for entry in entries:
        limit = entry.get("limit")
        seen = not entry["unit"]
        standard = 0.0 if seen else None if limit is None else float(limit) / 3**0.5
        name = "seen and entered" if seen else "measured and entered"
        quantity = Quantity(float(entry["value"]), standard, str(entry["unit"]))
        most = MOST_DECIMALS_KG if entry["unit"] == "kg" else MOST_DECIMALS_MM
        digit = digit_read(quantity.value, most)
        found.append(MeasuredEvidence(name, str(entry["kind"]), quantity, of=str(entry.get("of", "")), digit=digit))
    return found


def assemble(
    sample: Sample,
    runs: Sequence[RunReport],
    school: School,
    prose: str = "",
    demo: bool = False,
    entered: Sequence[Mapping[str, Any]] = (),
) -> Dossier:
    """Judge every claim of a sample on its finished runs, what was measured on arrival, and what was entered."""
    evidence = run_evidence(runs)
    evidence += arrival_evidence(sample)
    evidence += entered_evidence(entered)
    verdicts = judge(sample.family, sample.rated_Ah, judged(sample.claims), evidence, school)
    return Dossier(sample, tuple(arrival_findings(sample)), tuple(runs), tuple(verdicts), school, prose, demo)
