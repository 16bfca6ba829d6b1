"""What a recipe may say and what it may not: each rule on both sides of its mark, with its step and field."""

from __future__ import annotations

import math
from typing import Any

import pytest

from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol import EndCause
from wintry_tally.core.protocol.recipe import EndRule, Step
from wintry_tally.core.protocol.sound import check_filled, check_template, check_value
from wintry_tally.core.protocol.step_template import EndTemplate, StepTemplate

HOUR = EndTemplate("time", "1 h")


def steps(**first: Any) -> tuple[StepTemplate, ...]:
    """Three steps, the first with something of it changed."""
    made = {"kind": "discharge", "title": "draw", "mode": "current", "setting": "0.2 C", "ends": (HOUR,)} | first
    rest = StepTemplate("rest", "lie", ends=(HOUR,))
    return (StepTemplate(**made), rest, rest)


@pytest.mark.parametrize(
    ("first", "says"),
    [
        ({}, ""), ({"mode": ""}, ""), ({"mode": "charge"}, "none of a discharge"), ({"title": 5}, "title is no text"),
        ({"attended": 1}, "attended"), ({"ends": ()}, "never ends"), ({"ends": (HOUR,) * 20}, ""),
        ({"ends": (HOUR,) * 21}, "at most 20"), ({"setting": True}, "no set-point"), ({"setting": math.inf}, "no set-point"),
        ({"setting": "x" * 201}, "no set-point"), ({"setting": "x" * 200}, ""), ({"limit": [1]}, "no set-point"),
        ({"ends": (EndTemplate("time", "1 h", readings=0),)}, "1 to 100"), ({"ends": (EndTemplate("time", "1 h", readings=100),)}, ""),
        ({"ends": (EndTemplate("time", "1 h", readings=101),)}, "1 to 100"), ({"ends": (EndTemplate("time", "1 h", skip=-1),)}, "it skips -1"),
        ({"ends": (EndTemplate("time", "1 h", skip=2),)}, ""), ({"ends": (EndTemplate("time", "1 h", skip=3),)}, "of 2 steps behind it"),
    ],
)  # fmt: skip
def test_a_recipe_as_it_is_written(first: dict[str, Any], says: str) -> None:
    if not says:
        check_template(steps(**first), "r.toml")
        return
    with pytest.raises(InputError, match=says) as caught:
        check_template(steps(**first), "r.toml")
    assert "step[1]" in str(caught.value) and "r.toml" in str(caught.value)


def filled(
    kind: str = "charge", setting: float = 10.0, limit_V: float = 14.4, every_s: float = 0.0, **rule: Any
) -> Step:
    """A step with its numbers."""
    ends = (EndRule(**({"kind": "time", "value": 3600.0, "cause": EndCause.TIME} | rule)),)
    mode = {"charge": "charge", "discharge": "current"}.get(kind, "hand")
    return Step(kind, "x", mode, setting, ends, limit_V, every_s=every_s)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("step", "says"),
    [
        (filled(), ""), (filled(limit_V=0.0), "limit: 0 cannot be"), (filled(limit_V=-1.0), "limit: -1"), (filled(setting=0.0), "setting: 0"),
        (filled("discharge", limit_V=0.0), ""), (filled("discharge", setting=-1.0), "setting: -1"), (filled("rest", setting=0.0, limit_V=0.0), ""),
        (filled(every_s=-1.0), "every: -1"), (filled(every_s=math.inf), "every: inf"), (filled(value=math.nan), "has no end"),
        (filled(value=5 * 366 * 86400.0), ""), (filled(value=5 * 366 * 86400.0 + 1.0), "five years"),
    ],
)  # fmt: skip
def test_a_step_with_its_numbers(step: Step, says: str) -> None:
    if not says:
        check_filled(step, "step[2]")
        return
    with pytest.raises(InputError, match=says) as caught:
        check_filled(step, "step[2]")
    assert "step[2]" in str(caught.value)


def test_a_rule_that_ends_nothing_is_named() -> None:
    step = Step("rest", "x", "hand", 0.0, (EndRule("dance", 1.0, EndCause.TIME),))
    with pytest.raises(InputError, match="dance: it ends nothing"):
        check_filled(step, "step[1]")
    check_value("C/5", "here")
    check_value(0, "here")
