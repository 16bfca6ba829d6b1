"""Recipe templates: a test written once for every battery, filled in from a sample's family, rating and claims."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace
from typing import Any

from wintry_tally.core.battery import CLAIM_KINDS, Family
from wintry_tally.core.battery.families import NAMES
from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.cautions import CAUTIONS, cautions_for
from wintry_tally.core.protocol.end_rules import END_RULES
from wintry_tally.core.protocol.in_programme import InProgramme
from wintry_tally.core.protocol.kinds import STATIONS
from wintry_tally.core.protocol.recipe import EndCause, EndRule, Recipe, Step, StopLimits, most_amps
from wintry_tally.core.protocol.setpoints import Facts, resolve
from wintry_tally.core.protocol.sound import MOST_STEPS, check_filled, check_template, check_value
from wintry_tally.core.protocol.step_template import EndTemplate, StepTemplate, Value


@dataclass(frozen=True)
class Template:
    """A recipe before a sample is known.

    Parts:
        families: keys it is offered for, a chemistry, or all; method: what its log is evidence of; settles: claim kinds.
        cautions: keys of the cautions shown; school: words on the school followed, where there are several.
        needs: claim kinds without which it makes no sense; stops: stop limits that differ from the usual.
        withheld: shown with its reason and not startable while no protection data is claimed.
        first: the usual one of its station, shown before the others.
        no_proof: why no pulse of current may prove the connection before it; empty where one may.
        programme: where it stands in a sample's programme; None for what is run only when asked for.
    """

    name: str
    title: str
    version: int
    station: str
    method: str
    families: tuple[str, ...]
    steps: tuple[StepTemplate, ...]
    words: str = ""
    school: str = ""
    settles: tuple[str, ...] = ()
    cautions: tuple[str, ...] = ()
    needs: tuple[str, ...] = ()
    stops: dict[str, Value] = field(default_factory=dict)
    withheld: bool = False
    first: bool = False
    no_proof: str = ""
    programme: InProgramme | None = None

    def fits(self, family: Family) -> bool:
        """Whether it is offered for a family."""
        return family.is_named(self.families)


OPENINGS = frozenset({"protection", "refused"})
"""End rules that wait for a battery to open its own circuit."""


def fill(template: Template, facts: Facts) -> Recipe:
    """The recipe for one sample.

    Raises:
        InputError: a set-point that nothing is known for; the message names the step.
    """
    family = facts.family
    steps = tuple(
        _step(template, number, part, facts)
        for number, part in enumerate(template.steps, 1)
        if not part.only or family.is_named(part.only)
    )
    if not steps:
        raise InputError(f"{template.title}: no step of it is for a {family.words} battery")
    return Recipe(
        name=template.name,
        title=template.title,
        version=template.version,
        steps=steps,
        stops=_stops(template, steps, facts),
        cautions=cautions_for(family, template.cautions),
        settles=template.settles,
        method=template.method,
        no_proof=template.no_proof,
    )


def _step(template: Template, number: int, part: StepTemplate, facts: Facts) -> Step:
    place = f"{template.title}, step {number}"
    live = part.kind in {"discharge", "charge"}
    mode = part.mode or ("charge" if part.kind == "charge" else "current" if live else "hand")
    ends = []
    unprotected = not facts.family.own_protection and any(rule.kind not in OPENINGS for rule in part.ends)
    for rule in part.ends:
        if unprotected and rule.kind in OPENINGS:
            continue  # nothing in such a battery opens
        cause = EndCause(rule.cause) if rule.cause else END_RULES[rule.kind].cause
        ends.append(EndRule(rule.kind, resolve(rule.value, facts, place), cause, rule.readings, rule.skip))
    made = Step(
        kind=part.kind,  # type: ignore[arg-type]
        title=part.title,
        mode=mode,  # type: ignore[arg-type]
        setting=round(resolve(part.setting, facts, place), 4) if live else 0.0,
        ends=tuple(ends),
        limit_V=resolve(part.limit, facts, place) if part.kind == "charge" else 0.0,
        attended=part.attended,
        words=part.words,
        every_s=resolve(part.every, facts, place),
    )
    check_filled(made, place)
    return made


def _stops(template: Template, steps: tuple[Step, ...], facts: Facts) -> StopLimits:
    """Limits that follow from the family and the steps, and what the template sets apart."""
    family = facts.family
    drawn = [most_amps(step, family) for step in steps if step.kind == "discharge"]
    charged = [step.setting for step in steps if step.kind == "charge"]
    most = 1.25 * max(drawn, default=0.0) + 0.5
    power = 1.1 * most * family.plausible_V[1]
    if facts.limits is not None:
        most, power = min(most, facts.limits.current_A), min(power, facts.limits.power_W)
    hours = sum(rule.value for step in steps for rule in step.ends if rule.kind == "time") / 3600.0
    # a run that waits for a person may take as long as the person
    asks = any(rule.kind == "confirm" for step in steps for rule in step.ends)
    stops = StopLimits(
        voltage_low_V=family.cutoff_floor_V - 1.5,
        voltage_high_V=family.plausible_V[1],
        current_high_A=most,
        power_high_W=max(power, 1.1 * max(charged, default=0.0) * family.plausible_V[1]),
        temperature_low_C=family.discharge_C[0],
        temperature_high_C=family.discharge_C[1] if family.lithium else 50.0,
        charge_high_A=1.25 * max(charged, default=0.0) + 0.5,
        temperature_rate_K_min=5.0,
        charge_most_Ah=3.0 * facts.rated_Ah,
        time_most_s=1.05 * 3600.0 * hours + 1800.0 if hours and not asks else math.inf,
        cold_charge_C=family.charge_C[0] if family.lithium else -math.inf,
        cell_low_V=family.cell_revival_V,
    )
    special = {
        name: resolve(value, facts, f"{template.title}, stop limit {name}") for name, value in template.stops.items()
    }
    known = StopLimits.__dataclass_fields__
    for name in special:
        if name not in known:
            raise InputError(f'{template.title}: "{name}" is no stop limit', mend=f"use one of {', '.join(known)}")
    return replace(stops, **special)


def template_from(data: dict[str, Any], name: str) -> Template:
    """A template from plain data (TOML, JSON).

    Raises:
        InputError: a part that is missing, unknown or of the wrong kind; with its place.
    """
    head = dict(data)
    steps = head.pop("step", None) or head.pop("steps", None)
    if not isinstance(steps, list) or not steps:
        raise InputError("a recipe has no step", name, "give at least one [[step]]")
    if len(steps) > MOST_STEPS:
        raise InputError(f"{len(steps)} steps; at most {MOST_STEPS} are run", name)
    made = tuple(_step_from(part, number, name) for number, part in enumerate(steps, 1))
    check_template(made, name)
    fields = {key: tuple(value) if isinstance(value, list) else value for key, value in head.items()}
    unknown = set(fields) - set(Template.__dataclass_fields__)
    if unknown:
        raise InputError(f'"{sorted(unknown)[0]}" is no part of a recipe', name)
    missing = {"name", "title", "version", "station", "method", "families"} - set(fields)
    if missing:
        raise InputError(f'a recipe needs "{sorted(missing)[0]}"', name)
    _known("station", (fields["station"],), STATIONS, name)
    if not isinstance(fields["families"], tuple):
        raise InputError("families is no list", name, f"use {', '.join(NAMES)}")
    _known("families", fields["families"], NAMES, name)
    for key in ("name", "title", "method", "words", "school", "no_proof"):
        if not isinstance(fields.get(key, ""), str):
            raise InputError(f"{key} is no text", name)
    for key in ("settles", "cautions", "needs", "families"):
        given = fields.get(key, ())
        if not isinstance(given, tuple) or not all(isinstance(item, str) for item in given):
            raise InputError(f"{key} is no list of texts", name)
    _known("cautions", fields.get("cautions", ()), tuple(CAUTIONS), name)
    for key in ("settles", "needs"):
        _known(key, fields.get(key, ()), tuple(CLAIM_KINDS), name)
    stops = fields.get("stops", {})
    if not isinstance(stops, dict):
        raise InputError("stops is no table", name)
    for key, value in stops.items():
        check_value(value, f"stops.{key}", name)
    values: Any = fields
    if "programme" in values:
        values["programme"] = InProgramme.read(values["programme"], name)
    return Template(steps=made, **values)


def _known(field_name: str, given: Any, known: tuple[str, ...], name: str) -> None:
    wrong = next((item for item in given if item not in known), None)
    if wrong is not None:
        raise InputError(f'{field_name}: "{wrong}" is not known', name, f"use {', '.join(known)}")


_KINDS = ("rest", "discharge", "charge", "prompt")


def _step_from(data: Any, number: int, name: str) -> StepTemplate:
    place = f"step[{number}]"
    if not isinstance(data, dict) or data.get("kind") not in _KINDS:
        raise InputError(f"{place}.kind is none of {', '.join(_KINDS)}", name)
    part = dict(data)
    rules = part.pop("ends", [])
    if not isinstance(rules, list):
        raise InputError(f"{place}.ends is no list", name)
    ends = []
    for rule in rules:
        if not isinstance(rule, dict) or len(set(rule) & set(END_RULES)) != 1:
            raise InputError(f"{place}.ends: each names one of {', '.join(END_RULES)}", name)
        kind = next(key for key in rule if key in END_RULES)
        cause = rule.get("cause", "")
        if cause and cause not in EndCause._value2member_map_:
            raise InputError(f'{place}.ends: "{cause}" is no cause', name, f"use one of {', '.join(EndCause)}")
        value = rule[kind]
        ends.append(
            EndTemplate(
                kind,
                0.0 if isinstance(value, bool) else value,
                cause,
                _whole(rule.get("readings", 2), f"{place}.ends.{kind}.readings", name),
                _whole(rule.get("skip", 0), f"{place}.ends.{kind}.skip", name),
            )
        )
    unknown = set(part) - set(StepTemplate.__dataclass_fields__)
    if unknown:
        raise InputError(f'{place}: "{sorted(unknown)[0]}" is no part of a step', name)
    only = part.get("only", [])
    if not isinstance(only, list):
        raise InputError(f"{place}.only is no list of families", name)
    _known(f"{place}.only", only, NAMES, name)
    part["only"] = tuple(only)
    return StepTemplate(**{"title": data["kind"].capitalize(), **part}, ends=tuple(ends))


def _whole(value: Any, place: str, name: str) -> int:
    if isinstance(value, bool) or not isinstance(value, int):
        raise InputError(f"{place} is no whole number", name)
    return value


def template_data(template: Template) -> dict[str, Any]:
    """A template as plain data, in the shape `template_from` reads; what is left at its default is left out."""
    usual = StepTemplate("rest", "")
    steps = []
    for part in template.steps:
        step: dict[str, Any] = {"kind": part.kind, "title": part.title}
        for key in ("mode", "setting", "limit", "attended", "words", "every", "only"):
            value = getattr(part, key)
            if value != getattr(usual, key):
                step[key] = list(value) if isinstance(value, tuple) else value
        step["ends"] = [
            {rule.kind: rule.value if rule.kind != "confirm" else True}
            | ({"cause": rule.cause} if rule.cause else {})
            | ({"readings": rule.readings} if rule.readings != 2 else {})
            | ({"skip": rule.skip} if rule.skip else {})
            for rule in part.ends
        ]
        steps.append(step)
    head: dict[str, Any] = {}
    for key in Template.__dataclass_fields__:
        value = getattr(template, key)
        if isinstance(value, InProgramme):
            head[key] = value.data()
        elif key != "steps" and value not in ("", (), {}, False, None):
            head[key] = list(value) if isinstance(value, tuple) else value
    return {**head, "step": steps}


def in_words(step: Step) -> str:
    """A step as a sentence: "Discharge at 8 A until 10 V, the protection opens or 11 h"."""
    verbs = {
        "rest": "Rest",
        "prompt": step.words or step.title,
        "discharge": "Discharge, loads switched by hand,"
        if step.mode == "hand"
        else f"Discharge at {step.setting:g} {_UNITS.get(step.mode, '')}".rstrip(),
        "charge": f"Charge at {step.setting:g} A up to {step.limit_V:g} V",
    }
    told = [text for rule in step.ends if (text := END_RULES[rule.kind].words(rule.value))]
    only_time = len(step.ends) == 1 and step.ends[0].kind == "time"
    until = (
        f" for {told[0]}"
        if only_time
        else f" until {', '.join(told[:-1])}{' or ' if len(told) > 1 else ''}{told[-1]}"
        if told
        else ""
    )
    return verbs[step.kind] + until


_UNITS = {"current": "A", "power": "W", "resistance": "Ω", "hand": "A (by hand)"}


def ends_text(ends: tuple[EndTemplate, ...]) -> str:
    """End rules as one line a person can edit: "protection open; voltage cutoff; time 40 h"."""
    return "; ".join(f"{rule.kind} {rule.value}".strip() if rule.kind != "confirm" else "confirm" for rule in ends)


def ends_from_text(text: str, before: tuple[EndTemplate, ...] = ()) -> tuple[EndTemplate, ...]:
    """End rules from such a line; causes, readings and skips stay those of a rule of the same kind `before`.

    Raises:
        InputError: a rule that is not known, or without its value.
    """
    left = list(before)
    made = []
    for part in (piece.strip() for piece in text.split(";")):
        if not part:
            continue
        kind, _, value = part.partition(" ")
        if kind not in END_RULES:
            raise InputError(f'"{kind}" ends nothing', mend=f"use {', '.join(END_RULES)}")
        if not value.strip() and kind != "confirm":
            raise InputError(f'"{kind}" needs a value', mend=f"write it like “{kind} 10.5 V”")
        known = next((rule for rule in left if rule.kind == kind), EndTemplate(kind))
        if known in left:
            left.remove(known)
        made.append(replace(known, value=value.strip() if kind != "confirm" else known.value))
    return tuple(made)
