"""A finished run as its station's page shows it: what that kind of test is about, its figures, its remarks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from wintry_tally.core.analysis.derivation import charge_working, energy_working
from wintry_tally.core.analysis.ending import ENDING_WORDS, GONE, LOG_END, OPERATOR, PROTECTION, SET_CUTOFF
from wintry_tally.core.analysis.trips import OVER_CURRENT
from wintry_tally.core.protocol.method import METHOD_WORDS
from wintry_tally.core.protocol.recipe import CAUSES
from wintry_tally.core.quantity import Quantity, format_duration
from wintry_tally.core.working import Working
from wintry_tally.report.portrait import IN_ITS_TERMS

if TYPE_CHECKING:
    from wintry_tally.book import Run
    from wintry_tally.core.analysis import Analysis
    from wintry_tally.core.analysis.capacity import CapacityTest
    from wintry_tally.core.analysis.charging import ChargeResult
    from wintry_tally.core.analysis.trips import Trip
    from wintry_tally.report.dossier import RunReport

REPAIRED = {"sign-flipped", "unit-suspect"}
"""Remarks whose offer is applied with one key."""
MOST_TRIPS = 4


@dataclass(frozen=True)
class Shown:
    """One figure: its label, its quantity (or its text and unit as they stand), and what gives its working."""

    label: str
    working: Callable[[], Working | None]
    quantity: Quantity | None = None
    text: tuple[str, str] = ("", "")


@dataclass(frozen=True)
class Remarked:
    """One remark: its weight, its words, and whether its offer can be applied."""

    weight: str
    message: str
    offered: bool


@dataclass(frozen=True)
class RunCard:
    """All of it, from above.

    Parts:
        when: its moment and how it came about; problem: why there is no analysis.
        headline: what this kind of test is about, where that is no charge; figures: in rows; lines: what is told in words.
        quiet: of `lines`, those that only go along; pictured: it has a picture of its own.
        repaired: its offered repairs are applied.
    """

    title: str
    when: str
    problem: str
    headline: str
    figures: tuple[tuple[Shown, ...], ...]
    lines: tuple[str, ...]
    quiet: frozenset[str]
    remarks: tuple[Remarked, ...]
    pictured: bool
    left_out: bool
    repaired: bool
    may_say: tuple[str, ...]
    saw_end: str


SAW_END = {
    PROTECTION: "Its protection opened", SET_CUTOFF: "The load cut off as set", OPERATOR: "It came off, or was switched off",
}  # fmt: skip
"""What somebody may have seen of an end that no reading tells."""


def run_card(run: Run, report: RunReport) -> RunCard:
    """The card of a run that is over."""
    analysis, portrait = report.analysis, report.portrait
    test = analysis.capacity if analysis is not None else None
    filled = analysis.charge if analysis is not None else None
    figures: list[tuple[Shown, ...]] = []
    lines: list[str] = []
    headline = ""
    in_its_terms = portrait is not None and report.facts.test in IN_ITS_TERMS
    if portrait is not None and in_its_terms:
        headline, *others = (f"{line}." for line in portrait.lines)
        lines += others
    elif analysis is not None and filled is not None and (test is None or run.recipe.get("method") == "charge"):
        figures.append(_put_in(filled, analysis))
        lines.append(_charged(filled))
    elif analysis is not None and test is not None:
        figures.append((*_reserve(report), *_drawn(report, test)))
        lines.append(_ended(report, test))
    elif analysis is not None:
        lines.append("Nothing was charged or discharged in this log.")
    quiet = frozenset(lines)
    if analysis is not None:
        beside = _beside(analysis)
        figures += [beside] if beside else []
        if analysis.trips and not in_its_terms:
            lines.append("; ".join(_opened(trip) for trip in analysis.trips[:MOST_TRIPS]))
    named = f" · {run.original_name}" if run.original_name else ""
    return RunCard(
        run.title, f"{run.started.astimezone():%d %b %Y %H:%M} · {METHOD_WORDS.get(run.method, run.method)}{named}",
        report.problem, headline, tuple(figures), tuple(lines), quiet, _remarks(run, analysis), portrait is not None,
        run.left_out, run.repair == "offered", () if in_its_terms else _may_say(run, analysis), run.settings.saw_end,
    )  # fmt: skip


def _may_say(run: Run, analysis: Analysis | None) -> tuple[str, ...]:
    """How a discharge may have ended whose readings do not tell: the pack was gone at once, or they stop under load.

    Nobody is asked why the readings of a run stop that was stopped here: it is known.
    """
    test = analysis.capacity if analysis is not None else None
    if analysis is None or test is None or test.ended_by not in {GONE, LOG_END}:
        return ()
    if test.ended_by == LOG_END and run.cause in CAUSES:
        return ()
    family = analysis.options.family
    opens = (PROTECTION,) if family is None or family.own_protection else ()
    return (*opens, OPERATOR if test.ended_by == GONE else SET_CUTOFF)


def _put_in(filled: ChargeResult, analysis: Analysis) -> tuple[Shown, ...]:
    count, instrument = filled.count, analysis.options.instrument
    readings = sum(span.last - span.first + 1 for span in count.spans)
    return (
        Shown("Charge put in", lambda: charge_working(count, instrument, readings), count.charge),
        Shown("Energy put in", lambda: energy_working(count, instrument, readings), count.energy),
    )


def _charged(filled: ChargeResult) -> str:
    full = "never full" if filled.time_to_full_s is None else f"full after {format_duration(filled.time_to_full_s)}"
    heated = "" if filled.heating is None else f" · heater for {format_duration(filled.heating.duration_s)}"
    return f"{full}{heated} · {ENDING_WORDS.get(filled.ended_by, filled.ended_by)}"


def _reserve(report: RunReport) -> tuple[Shown, ...]:
    """Of a reserve test its minutes come first."""
    found = report.analysis.reserve if report.analysis is not None and report.facts.test == "reserve" else None
    if found is None:
        return ()
    name = "Reserve at 25 °C" if found.minutes_at_25C is not None else "Reserve"
    label = name if found.reached else f"{name}, at least"
    return (Shown(label, lambda: found.working, found.minutes_at_25C or found.minutes),)


def _drawn(report: RunReport, test: CapacityTest) -> tuple[Shown, ...]:
    return (
        Shown("Charge", lambda: report.working("charge"), test.count.charge),
        Shown("Energy", lambda: report.working("energy"), test.count.energy),
        Shown("Mean voltage", lambda: report.working("voltage"), test.count.mean_voltage),
    )


def _ended(report: RunReport, test: CapacityTest) -> str:
    rate = f" · {test.c_rate:.3f} C" if test.c_rate else ""
    return (
        f"{format_duration(test.count.duration_s)} under load{rate} · {test.voltage_start:.2f} to "
        f"{test.voltage_end:.2f} V · {report.ended_words(brief=True)}"
    )


def _beside(analysis: Analysis) -> tuple[Shown, ...]:
    """What a second meter and the pack's own cells say, each with its working."""
    found: list[Shown] = []
    second, cells = analysis.second, analysis.cells
    if second is not None:
        charge = second.charge_Ah
        text = (f"{charge:.2f}", "Ah") if charge is not None else (f"{second.voltage_V or 0.0:+.3f}", "V")
        found.append(Shown("By the second meter", lambda: second.working, None, text))
    if cells is not None:
        found += [
            Shown(f"Cells apart, {one.when}", lambda: cells.working, None, (f"{1000 * one.spread_V:.0f}", "mV"))
            for one in cells.spreads
        ]
    return tuple(found)


def _opened(trip: Trip) -> str:
    since = "the current last rose" if trip.kind == OVER_CURRENT else "it came to the limit"
    took = f", {trip.latency_s:.3g} s after {since}" if trip.latency_s else ""
    return f"Protection opened ({trip.kind}): {abs(trip.current_A):.4g} A at {trip.voltage_V:.2f} V{took}"


def _remarks(run: Run, analysis: Analysis | None) -> tuple[Remarked, ...]:
    return tuple(
        Remarked(
            "warning" if remark.offer else "note",
            remark.message + (f" Offer: {remark.offer}." if remark.offer else ""),
            bool(remark.offer) and run.repair != "offered" and remark.code in REPAIRED,
        )
        for remark in (analysis.remarks if analysis is not None else ())
    )
