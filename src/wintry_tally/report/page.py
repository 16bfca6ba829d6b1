"""The report as one self-contained web page: no script, no link out, prints well."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from importlib import resources
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wintry_tally import __version__
from wintry_tally.core.battery.claims import NOTED
from wintry_tally.core.protocol.cautions import discharge_cautions
from wintry_tally.core.protocol.method import Method
from wintry_tally.core.quantity import format_duration, format_quantity
from wintry_tally.core.quantity.preferred import METRIC, Units, name_in, words_in
from wintry_tally.core.verdict.outcome import BOUND_WORDS, OUTCOME_WORDS, RULE_NAMES, SCHOOL_WORDS, Outcome
from wintry_tally.core.verdict.stood import SOAK
from wintry_tally.files import write_whole
from wintry_tally.report.curve import curve_svg
from wintry_tally.report.dossier import Dossier, RunReport
from wintry_tally.report.formula import formula_html
from wintry_tally.report.words import bill_lines, chance_words, claim_words, effect_words, need_line, trend_words

if TYPE_CHECKING:
    from wintry_tally.core.compare import NeedResult
    from wintry_tally.report.record import Happened

NO_RECORDS: Mapping[int, Sequence[Happened]] = {}


@dataclass(frozen=True)
class Shown:
    """A picture of a page: its caption, the run it belongs to, its bytes as a data address; or what stands in its place."""

    caption: str
    of: str
    source: str
    instead: str = ""


_TOLD = re.compile(r"(?<=>)[^<>]+(?=</text>)")
"""What a drawing says in words."""
METHOD_WORDS = {
    Method.SIMULATED: "on the simulated bench: a battery model, not a battery",
    Method.HAND: "read by hand",
    Method.GUIDED: "step by step by hand",
    Method.IMPORTED: "logged by another device and imported",
}


def stroke_svg(outcome: Outcome) -> str:
    """The tally stroke of an outcome as a small drawing."""
    shapes = {
        Outcome.MET: '<path d="M6 2V18"/>',
        Outcome.MISSED: '<path d="M6 2V18M1 13L11 7"/>',
        Outcome.TOO_CLOSE: '<path d="M3.5 18L8.5 2" stroke-dasharray="3 3"/>',
        Outcome.NOT_TESTED: '<circle cx="6" cy="10" r="2.2" class="dot"/>',
        Outcome.CANNOT_TEST: '<rect x="3.6" y="3" width="4.8" height="14" rx="2"/>',
    }
    return f'<svg class="stroke {outcome.value}" viewBox="0 0 12 20" aria-hidden="true">{shapes[outcome]}</svg>'


def render(
    dossier: Dossier, made: datetime | None = None, needs: Sequence[tuple[str, NeedResult]] = (), pictures: Sequence[Shown] = (),
    units: Units = METRIC, records: Mapping[int, Sequence[Happened]] = NO_RECORDS,
) -> str:  # fmt: skip
    """The page as text, in a reader's units.

    Args:
        needs: what batteries of the book are needed for, in words, each with how this one stands to it.
        records: what happened in its runs, by their numbers.
    """
    view = _view(dossier, made or datetime.now(UTC), needs)
    for run, data in zip(dossier.runs, view["runs"], strict=True):
        data["record"] = records.get(run.facts.id, ())
    return filled("page.html.j2", {**view, "pictures": pictures}, units)


def filled(template: str, view: dict[str, Any], units: Units = METRIC) -> str:
    """A template of this package filled in, everything escaped and in a reader's units; what is marked `|e` stays word for word."""
    from jinja2 import Environment, FunctionLoader
    from markupsafe import Markup

    def said(value: Any) -> Any:
        if isinstance(value, Markup):
            return (
                Markup(_TOLD.sub(lambda found: words_in(found[0], units), value)) if value.startswith("<svg") else value
            )
        return words_in(value, units) if isinstance(value, str) else value

    folder = resources.files("wintry_tally.report")
    loader = FunctionLoader(lambda name: folder.joinpath(name).read_text(encoding="utf-8"))
    environment = Environment(autoescape=True, trim_blocks=True, lstrip_blocks=True, loader=loader, finalize=said)
    environment.filters["unit"] = lambda name: name_in(name, units)
    environment.filters["formula"] = lambda text: Markup(formula_html(words_in(text, units)))
    return environment.get_template(template).render(view)


def write_page(
    dossier: Dossier, path: Path, needs: Sequence[tuple[str, NeedResult]] = (), pictures: Sequence[Shown] = (),
    units: Units = METRIC, records: Mapping[int, Sequence[Happened]] = NO_RECORDS,
) -> None:  # fmt: skip
    """Write the page; see `render`.

    Raises:
        InputError: the file cannot be written.
    """
    write_whole(render(dossier, needs=needs, pictures=pictures, units=units, records=records), path)


def _view(dossier: Dossier, made: datetime, needs: Sequence[tuple[str, NeedResult]]) -> dict[str, Any]:
    sample = dossier.sample
    analysed = [run for run in dossier.runs if run.analysis is not None]
    curves = []
    for run in analysed:
        assert run.analysis is not None
        curve = run.curve
        if curve is not None and not run.facts.left_out:
            curves.append((run.facts.title, *curve))
    return {
        "sample": sample,
        "family": sample.family,
        "obtained": sample.arrival.obtained,
        "arrival": sample.arrival,
        "made": made.strftime("%Y-%m-%d %H:%M UTC"),
        "version": __version__,
        "demo": dossier.demo,
        "prose": dossier.prose,
        "school": RULE_NAMES[dossier.school],
        "school_words": SCHOOL_WORDS[dossier.school],
        "verdicts": [
            {
                "verdict": verdict,
                "stroke": stroke_svg(verdict.outcome),
                "words": OUTCOME_WORDS[verdict.outcome],
                "claim": claim_words(verdict.claim),
                "measured": ""
                if verdict.shown is None
                else BOUND_WORDS[verdict.bound] + format_quantity(verdict.shown),
                "probability": "" if verdict.probability is None else chance_words(verdict.probability),
                "effects": [
                    effect_words(condition, verdict.claim)
                    for condition in verdict.conditions
                    if condition.effect is not None
                ]
                + [
                    f"{condition.name}: {condition.actual}"
                    for condition in verdict.conditions
                    if condition.name == SOAK
                ],
                "working": [] if verdict.working is None else list(verdict.working.walk()),
            }
            for verdict in dossier.verdicts
        ],
        "strokes": "".join(stroke_svg(verdict.outcome) for verdict in dossier.verdicts),
        "noted": [claim.text for claim in sample.claims if claim.kind == NOTED],
        "contradictions": [finding.message for finding in dossier.findings if finding.weight == "contradiction"],
        "findings": [finding.message for finding in dossier.findings if finding.weight != "contradiction"],
        "runs": [_run(run) for run in dossier.runs],
        "curve": curve_svg(curves, sample.rated_Ah, sample.cutoff_V),
        "curves": [f"{chr(ord('a') + index % 26)}: {title}" for index, (title, _, _) in enumerate(curves)],
        "cautions": _cautions(dossier),
        "needs": [
            (words, ". ".join(line.partition(": ")[2] for line in (need_line(one), *bill_lines([one]))))
            for words, one in needs
        ],
        "trends": [trend_words(one) for one in dossier.trends],
    }


def _cautions(dossier: Dossier) -> list[str]:
    """What every discharge shows, and what each run's own recipe showed; once each, the deferring one last."""
    usual = discharge_cautions(dossier.sample.family)
    own = [text for run in dossier.runs for text in run.facts.cautions]
    return list(dict.fromkeys([*usual[:-1], *(text for text in own if text != usual[-1]), usual[-1]]))


def _run(run: RunReport) -> dict[str, Any]:
    facts = run.facts
    data: dict[str, Any] = {
        "title": facts.title,
        "method": METHOD_WORDS.get(facts.method, str(facts.method)),
        "started": facts.started.strftime("%Y-%m-%d %H:%M UTC"),
        "problem": run.problem,
        "left_out": facts.left_out,
        "original": facts.original_name,
        "figures": [],
        "remarks": [],
    }
    if run.analysis is None:
        return data
    test, options = run.analysis.capacity, run.analysis.options
    data["remarks"] = [remark.message for remark in run.analysis.remarks]
    if test is not None:
        cause = run.ended_words()
        data["figures"] = [
            ("Charge", format_quantity(test.count.charge)),
            ("Energy", format_quantity(test.count.energy)),
            ("Mean voltage", format_quantity(test.count.mean_voltage)),
            ("Mean current", format_quantity(test.count.mean_current)),
            ("Time under load", format_duration(test.count.duration_s)),
            ("Rate", "–" if test.c_rate is None else f"{test.c_rate:.3f} C"),
            ("Share of the rating", "–" if test.percent_of_rated is None else format_quantity(test.percent_of_rated)),
            ("Voltage under load", f"{test.voltage_start:.2f} to {test.voltage_end:.2f} V"),
            ("Ended by", cause),
            ("Voltage accuracy", str(options.instrument.voltage or "not given")),
            ("Current accuracy", str(options.instrument.current or "not given")),
            ("Ambient", "not noted" if options.ambient_C is None else f"{options.ambient_C:g} °C"),
        ]
    if run.analysis.second is not None:
        data["figures"].append(("Second meter", run.analysis.second.words))
    if run.analysis.cells is not None:
        data["figures"].append(("Cells", run.analysis.cells.words))
    return data
