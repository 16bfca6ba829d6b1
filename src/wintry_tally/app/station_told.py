"""What a station says in one look: what it settles for this battery, what comes next, and the picture of all its runs."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from types import MappingProxyType
from typing import TYPE_CHECKING

import numpy as np

from wintry_tally.core.analysis.shelf import MONTH_S, loss_by_recharge
from wintry_tally.core.analysis.stages import StageKind
from wintry_tally.core.analysis.trips import OVER_CURRENT
from wintry_tally.core.battery import CLAIM_KINDS, Sample
from wintry_tally.core.battery.revival import Seen, WayStep, way_back
from wintry_tally.core.battery.sample import first_value
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.cell.soak import SAFE_S, WITHIN_K, soak
from wintry_tally.core.protocol.kinds import TEST_KINDS
from wintry_tally.core.quantity import Quantity, format_duration
from wintry_tally.core.quantity.display import degrees_words
from wintry_tally.core.quantity.moments import clock_words
from wintry_tally.core.room import ROOM_C
from wintry_tally.core.verdict.outcome import Outcome, Verdict
from wintry_tally.exchange.recipe_file import shipped
from wintry_tally.report.portrait import Panel, opened_in, points
from wintry_tally.report.words import claim_words

if TYPE_CHECKING:
    from wintry_tally.app.campaign import Drawn
    from wintry_tally.book import Run
    from wintry_tally.report.dossier import Dossier, RunReport


USUAL_C = {"room": ROOM_C, "freezer": -18.0}
"""Of a place that nobody has read lately."""
APART = 0.15
"""Marks nearer to each other than this, as a share of the axis, are told as one."""


@dataclass(frozen=True)
class Told:
    """Of one station and one sample.

    Parts:
        settles: claims that a test here speaks to, each with its outcome.
        coming: the tests to come here, each with its moment; panel: the picture of all its runs.
        way: the way back of a pack that seems dead.
    """

    settles: tuple[tuple[str, Outcome], ...] = ()
    coming: tuple[str, ...] = ()
    panel: Panel | None = None
    way: tuple[WayStep, ...] = ()


def station_told(
    key: str, sample: Sample, dossier: Dossier, runs: Sequence[Run], drawn: Drawn | None, now: datetime,
    read_C: Mapping[str, float] = MappingProxyType({}),
) -> Told:  # fmt: skip
    """What the page of a station shows beside its runs; `read_C`: the places that were read lately."""
    stations = {run.id: run.station for run in runs}
    own = [report for report in dossier.runs if stations.get(report.facts.id) == key and not report.facts.left_out]
    here = [verdict for verdict in dossier.verdicts if station_of(verdict.claim.kind) == key]
    kinds = Counter(verdict.claim.kind for verdict in here)
    settles = tuple(
        (claim_words(one.claim) if kinds[one.claim.kind] > 1 else one.claim.definition.label, one.outcome)
        for one in here
    )
    panel = None
    if key == "load":
        panel = _openings(own, dossier.verdicts)
    elif key == "cold":
        panel = _cold_over_warm(own, dossier.runs) or _soak(sample, settles, read_C)
    elif key == "shelf":
        panel = _shelf(sample, dossier, runs, drawn, now)
    way = way_back(sample.family, sample.rated_Ah, _seen(sample, dossier.runs)) if key == "revival" else ()
    return Told(settles, _coming(key, sample.id, drawn, now), panel, way)


def station_of(kind: str) -> str:
    """Where a claim of a kind is settled; empty where no test does."""
    definition = CLAIM_KINDS[kind]
    if definition.evidence in TEST_KINDS:
        return TEST_KINDS[definition.evidence].station
    own = [recipe.station for recipe in shipped().values() if kind in recipe.settles]
    return own[0] if own else ""


def _coming(key: str, sample_id: int, drawn: Drawn | None, now: datetime) -> tuple[str, ...]:
    if drawn is None or sample_id not in drawn.standings:
        return ()
    code = drawn.standings[sample_id].code
    found = []
    for task in drawn.plan.campaign.tasks:
        if task.sample != code or task.id not in drawn.plan.starts:
            continue
        template = shipped().get(task.recipe)
        station = template.station if template is not None else "cold" if "freezer" in task.uses else "shelf"
        if station == key:
            begins = drawn.moment(drawn.plan.starts[task.id])
            if begins > now or task.fixed is None:
                found.append((begins, f"{task.words or task.id}, {clock_words(begins, now)}"))
    return tuple(words for _, words in sorted(found))


def _openings(own: Sequence[RunReport], verdicts: Sequence[Verdict]) -> Panel | None:
    """How long each current was stood before the protection opened, the claimed window beside it."""
    opened, held = [], []
    for report in own:
        if report.analysis is None or report.facts.test != "overload":
            continue
        trips = [trip for trip in report.analysis.trips if trip.kind == OVER_CURRENT]
        opened += [(trip.current_A, max(trip.latency_s, 0.01)) for trip in trips]
        for stage in report.analysis.stages:
            if stage.stage.kind is StageKind.DISCHARGE and not opened_in(stage, report.analysis):
                held.append((abs(stage.count.mean_current.value), stage.end_s - stage.start_s))
    if not opened:
        return None
    series = [("opened after", *points(opened))] + ([("held for", *points(held))] if held else [])
    claim = next((one.claim for one in verdicts if one.claim.kind == "over-current-trip"), None)
    lines: tuple[tuple[str, float, str], ...] = ()
    if claim is not None and claim.value is not None:
        ends = {claim.value - claim.tolerance, claim.value + claim.tolerance}
        lines = tuple(("x", at, f"claimed {at:g} A") for at in sorted(ends))
    return Panel("How long each current was stood", "current / A", "time / s", tuple(series), lines=lines, single=True)


def _cold_over_warm(own: Sequence[RunReport], runs: Sequence[RunReport]) -> Panel | None:
    """The cold run's curve over the newest warm one's."""
    cold = [one for one in own if one.facts.test == "cold-loss" and one.curve is not None]
    warm = [
        one for one in runs if one not in own and one.facts.test in {"", "capacity"} and one.curve is not None and not one.facts.left_out
    ]  # fmt: skip
    shown = [*sorted(warm, key=lambda one: one.facts.started)[-1:], *cold[-2:]]
    if not cold:
        return None
    return Panel(
        "Cold over warm", "charge drawn / Ah", "voltage / V",
        tuple((f"{one.facts.title}{_warmth(one)}", *one.curve) for one in shown if one.curve is not None),
    )  # fmt: skip


def _soak(sample: Sample, settles: Sequence[tuple[str, Outcome]], read_C: Mapping[str, float]) -> Panel | None:
    """How its core follows a freezer, where something is still to be tested in the cold."""
    if not sample.rated_Ah or all(outcome is not Outcome.NOT_TESTED for _, outcome in settles):
        return None
    body = parameters_for(sample.family, sample.rated_Ah)
    mass = sample.arrival.mass_kg or first_value(sample.claims, "mass") or body.mass_kg
    mm = [first_value(sample.claims, kind) for kind in ("length", "width", "height")]
    sides = (mm[0] / 1000.0, mm[1] / 1000.0, mm[2] / 1000.0) if mm[0] and mm[1] and mm[2] else None
    room, freezer = (read_C.get(name, usual) for name, usual in USUAL_C.items())
    read = " as last read" if "freezer" in read_C else ""
    found = soak(mass, body.heat_J_kgK, room, freezer, sides)
    hours = np.linspace(0.0, 1.3 * max(found.sound_s, SAFE_S) / 3600.0, 120)
    marks = [
        (found.sound_s / 3600.0, f"sound from {format_duration(found.sound_s)} on"),
        (SAFE_S / 3600.0, "a day, to be safe"),
    ]
    if abs(found.sound_s - SAFE_S) < APART * 3600.0 * float(hours[-1]):
        marks = marks[:1]
    return Panel(
        f"Its core in a freezer at {degrees_words(freezer, 0)}{read}, from {degrees_words(room, 0)}", "time / h", "core / °C",
        ((f"worked out from {mass:.3g} kg", hours, found.core(3600.0 * hours)),), marks=tuple(marks),
        lines=(("y", freezer + math.copysign(WITHIN_K, room - freezer), f"as cold as the freezer within {WITHIN_K:g} K"),),
    )  # fmt: skip


def _warmth(report: RunReport) -> str:
    stages = report.analysis.stages if report.analysis is not None else ()
    known = [one.temperature_mean for one in stages if one.stage.kind is StageKind.DISCHARGE and one.temperature_mean is not None]  # fmt: skip
    return f", {degrees_words(known[0], 0)}" if known else ""


def _shelf(sample: Sample, dossier: Dossier, runs: Sequence[Run], drawn: Drawn | None, now: datetime) -> Panel | None:
    """A line of months: what the claim allows, what was lost, the least that such a test can show, today and the end."""
    starts = [run for run in runs if run.recipe.get("name") == "shelf-start" and not run.left_out and run.ended]
    if not starts:
        return None
    begun = max(starts, key=lambda run: run.started).ended or now
    verdict = next((one for one in dossier.verdicts if one.claim.kind == "self-discharge"), None)
    ended = [run for run in runs if run.recipe.get("name") == "shelf-end" and run.started > begun and not run.left_out]
    lasted = ((ended[-1].started if ended else now) - begun).total_seconds() / MONTH_S
    due = _due(sample.id, drawn)
    whole = max([lasted, 0.1, *([(due - begun).total_seconds() / MONTH_S] if due is not None else [])])
    months = np.linspace(0.0, whole, 50)
    series = []
    if verdict is not None and verdict.claim.value is not None:
        series.append(
            (f"claimed, at most {verdict.claim.value:g} %/month", months, 100.0 - verdict.claim.value * months)
        )
    if verdict is not None and verdict.measured is not None and ended:
        series.append(("measured", months, 100.0 - verdict.measured.value * months))
    if not series:
        series.append(("full when it went there", months[:1], np.array([100.0])))
    lines: list[tuple[str, float, str]] = []
    if sample.rated_Ah:
        nothing = loss_by_recharge(Quantity(0.0, 0.0, "Ah"), sample.rated_Ah, 1.0, sample.family)
        if nothing.limit:
            lines.append(("y", 100.0 - nothing.limit, "the least a test like this can show"))
    marks = [(lasted, "its end" if ended else "today")]
    if due is not None and not ended:
        at, words = (due - begun).total_seconds() / MONTH_S, f"due {due.astimezone():%d %b %Y}"
        near = abs(at - lasted) < APART * whole
        marks = [(lasted, f"today; {words}")] if near else [*marks, (at, words)]
    return Panel("On the shelf", "months", "charge kept / %", tuple(series), marks=tuple(marks), lines=tuple(lines))


def _due(sample_id: int, drawn: Drawn | None) -> datetime | None:
    if drawn is None or sample_id not in drawn.standings:
        return None
    code = drawn.standings[sample_id].code
    for task in drawn.plan.campaign.tasks:
        if task.sample == code and "shelf" in task.uses and task.id in drawn.plan.starts:
            return drawn.moment(drawn.plan.ends(task))
    return None


def _seen(sample: Sample, runs: Sequence[RunReport]) -> Seen:
    """What the newest runs and the arrival say of a pack that seemed dead."""
    known = sorted((one for one in runs if one.analysis is not None), key=lambda one: one.facts.started)
    volts = sample.arrival.rested_V
    cell: float | None = None
    full = tested = False
    limit = current = None
    for report in known:
        analysis = report.analysis
        if analysis is None or not analysis.stages:
            continue
        volts = analysis.stages[-1].voltage_end
        if analysis.cells is not None and analysis.cells.spreads:
            cell = min(spread.lowest_V for spread in analysis.cells.spreads)
        if analysis.charge is not None:
            charges = [one for one in analysis.stages if one.stage.kind is StageKind.CHARGE]
            full = full or analysis.charge.time_to_full_s is not None
            limit = charges[-1].voltage_end
            current = charges[-1].count.mean_current.value
        tested = tested or (full and analysis.capacity is not None)
    return Seen(volts, cell, full, limit, current, tested)
