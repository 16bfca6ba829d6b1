"""What a recipe may say at all: numbers that can be, steps that end, no more of them than somebody means."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.end_rules import END_RULES, Worth

if TYPE_CHECKING:
    from wintry_tally.core.protocol.recipe import Step
    from wintry_tally.core.protocol.step_template import StepTemplate

MODES = {
    "discharge": ("", "current", "power", "resistance", "hand"), "charge": ("", "charge", "hand"),
    "rest": ("", "hand"), "prompt": ("", "hand"),
}  # fmt: skip
"""What each kind of step may be told to hold; empty for its usual one."""
MOST_STEPS = 500
MOST_ENDS = 20
MOST_READINGS = 100
MOST_S = 5 * 366 * 86_400.0
"""Five years: no step is longer."""


def check_value(value: Any, place: str, name: str = "") -> None:
    """A set-point as written: text, or a number with an end.

    Raises:
        InputError: anything else, with its place.
    """
    if isinstance(value, str) and len(value) <= 200:
        return
    if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
        raise InputError(f"{place}: {str(value)[:40]} is no set-point", name, 'write it like "0.2 C" or 10.5')


def check_template(steps: tuple[StepTemplate, ...], name: str) -> None:
    """Steps as written, before anything of the battery is known.

    Raises:
        InputError: a step without end, a jump beyond the last, a part of the wrong kind; with step and field.
    """
    for number, step in enumerate(steps, 1):
        place = f"step[{number}]"
        for field in ("title", "mode", "words"):
            if not isinstance(getattr(step, field), str):
                raise InputError(f"{place}.{field} is no text", name)
        if step.mode not in MODES[step.kind]:
            known = ", ".join(mode for mode in MODES[step.kind] if mode)
            raise InputError(f'{place}.mode: "{step.mode[:40]}" is none of a {step.kind}', name, f"use {known}")
        if not isinstance(step.attended, bool):
            raise InputError(f"{place}.attended is neither true nor false", name)
        for field in ("setting", "limit", "every"):
            check_value(getattr(step, field), f"{place}.{field}", name)
        if not step.ends:
            raise InputError(f"{place}.ends: it never ends", name, 'give it an end, like { time = "1 h" }')
        if len(step.ends) > MOST_ENDS:
            raise InputError(f"{place}.ends: {len(step.ends)} rules; at most {MOST_ENDS} are looked at", name)
        for rule in step.ends:
            check_value(rule.value, f"{place}.ends.{rule.kind}", name)
            if not 1 <= rule.readings <= MOST_READINGS:
                raise InputError(f"{place}.ends.{rule.kind}: {rule.readings} readings; 1 to {MOST_READINGS}", name)
            if rule.skip < 0 or number + rule.skip > len(steps):
                raise InputError(
                    f"{place}.ends.{rule.kind}: it skips {rule.skip}, of {len(steps) - number} steps behind it", name
                )


def check_filled(step: Step, place: str) -> None:
    """A step with its numbers.

    Raises:
        InputError: a number that cannot be, with its step and field.
    """
    live = step.kind in {"discharge", "charge"} and step.mode != "hand"
    _above(step.setting, f"{place}, setting", needed=live)
    if step.kind == "charge":
        _above(step.limit_V, f"{place}, limit", needed=True)
    _above(step.every_s, f"{place}, every", needed=False)
    for rule in step.ends:
        where = f"{place}, {rule.kind}"
        if not math.isfinite(rule.value):
            raise InputError(f"{where}: {rule.value} has no end", mend="give a number")
        if rule.kind not in END_RULES:
            raise InputError(f"{where}: it ends nothing", mend=f"use {', '.join(END_RULES)}")
        worth = END_RULES[rule.kind].worth
        if worth is not Worth.ANY:
            _above(rule.value, where, needed=worth is Worth.ABOVE_ZERO)
        if rule.kind == "time" and rule.value > MOST_S:
            raise InputError(f"{where}: {rule.value:g} s; no step takes five years", mend="give less")


def _above(value: float, place: str, *, needed: bool) -> None:
    if not math.isfinite(value) or value < 0.0 or (needed and value == 0.0):
        raise InputError(f"{place}: {value:g} cannot be", mend="give a number above zero")
