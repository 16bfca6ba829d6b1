"""Steps of a recipe moved, added and taken away; a rule that passes steps over goes on leading where it led."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.step_template import EndTemplate, StepTemplate
from wintry_tally.core.protocol.template import Template

NEW_STEPS: dict[str, StepTemplate] = {
    "rest": StepTemplate("rest", "Rest", ends=(EndTemplate("time", "30 min"),)),
    "discharge": StepTemplate(
        "discharge",
        "Discharge",
        mode="current",
        setting="reference",
        ends=(EndTemplate("protection", "open"), EndTemplate("voltage", "cutoff"), EndTemplate("time", "40 h")),
    ),
    "charge": StepTemplate(
        "charge",
        "Charge",
        setting="0.2 C",
        limit="charge.usual",
        ends=(EndTemplate("taper", "taper"), EndTemplate("refused", "nominal"), EndTemplate("time", "14 h")),
    ),
    "prompt": StepTemplate(
        "prompt", "By hand", attended=True, words="Say here what is to be done.", ends=(EndTemplate("confirm"),)
    ),
}
"""What a new step of each kind begins as."""


def with_step(template: Template, place: int, kind: str) -> Template:
    """With a new step of a kind before the step at `place` (the number of steps: at the end)."""
    order: list[int | None] = list(range(len(template.steps)))
    order.insert(place, None)
    return _arranged(template, order, NEW_STEPS[kind])


def without_step(template: Template, place: int) -> Template:
    """Without a step.

    Raises:
        InputError: it is the only one.
    """
    if len(template.steps) < 2:
        raise InputError("a recipe has at least one step", mend="add another before this one goes")
    return _arranged(template, [n for n in range(len(template.steps)) if n != place])


def swapped(template: Template, one: int, other: int) -> Template:
    """With two steps in each other's place."""
    order = list(range(len(template.steps)))
    order[one], order[other] = order[other], order[one]
    return _arranged(template, order)


def _arranged(template: Template, order: Sequence[int | None], new: StepTemplate | None = None) -> Template:
    """Steps in a new order (None: the new one), each rule's way over following steps led to where it led before."""
    size = len(template.steps)
    now_at = {old: place for place, old in enumerate(order) if old is not None}
    made = []
    for place, old in enumerate(order):
        if old is None:
            assert new is not None
            made.append(new)
            continue
        step = template.steps[old]
        ends = []
        for rule in step.ends:
            skip = rule.skip
            if skip:
                target = old + 1 + skip
                # a target that is gone, or now stands before, is the end of the recipe's
                later = next((now_at[n] for n in range(target, size) if n in now_at and now_at[n] > place), len(order))
                skip = later - place - 1
            ends.append(replace(rule, skip=max(0, skip)))
        made.append(replace(step, ends=tuple(ends)))
    return replace(template, steps=tuple(made))


WAIT = "Wait"
"""The title of a step that only lets time pass before a run begins."""


def begun_later(template: Template, seconds: float) -> Template:
    """The same, begun so much later; a wait that stands there already grows."""
    first = template.steps[0]
    before = first.ends[0].value if first.ends else ""
    if first.title == WAIT and first.kind == "rest" and isinstance(before, float):
        return replace(template, steps=(_wait(before + seconds), *template.steps[1:]))
    return replace(template, steps=(_wait(seconds), *template.steps))


def _wait(seconds: float) -> StepTemplate:
    return StepTemplate("rest", WAIT, ends=(EndTemplate("time", round(seconds, 0)),), every=60.0)


def with_current(template: Template, amps: float) -> Template:
    """The same with another current in its first discharge."""
    place = next((n for n, part in enumerate(template.steps) if part.kind == "discharge"), None)
    if place is None:
        return template
    steps = list(template.steps)
    steps[place] = replace(steps[place], setting=amps)
    return replace(template, steps=tuple(steps))
