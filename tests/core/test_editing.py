"""Steps moved, added and taken away: rules that pass steps over go on leading where they led."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.editing import NEW_STEPS, swapped, with_step, without_step
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill, template_data, template_from
from wintry_tally.exchange.recipe_file import shipped, shipped_recipe

NIGHT = shipped_recipe("capacity-slow-night")
FACTS = Facts(FAMILIES["lfp"], 40.0)


def leads_to(template, place: int, kind: str) -> str:
    """The title of the step that a rule of a kind leads to."""
    rule = next(rule for rule in template.steps[place].ends if rule.kind == kind)
    target = place + 1 + rule.skip
    return template.steps[target].title if target < len(template.steps) else "the end"


def test_a_pack_that_opened_still_goes_to_the_rebound() -> None:
    assert [step.title for step in NIGHT.steps][-1] == "Watch the rebound"
    assert leads_to(NIGHT, 1, "protection") == "Watch the rebound"
    longer = with_step(NIGHT, 3, "rest")
    assert len(longer.steps) == 6 and leads_to(longer, 1, "protection") == "Watch the rebound"
    assert (
        leads_to(longer, 2, "protection") == "Watch the rebound" and leads_to(longer, 1, "time") == NIGHT.steps[2].title
    )
    shorter = without_step(NIGHT, 2)
    assert leads_to(shorter, 1, "protection") == "Watch the rebound"
    without_target = without_step(NIGHT, 4)
    assert leads_to(without_target, 1, "protection") == "the end"
    turned = swapped(NIGHT, 0, 4)
    assert turned.steps[0].title == "Watch the rebound" and leads_to(turned, 1, "protection") == "the end"


def test_every_new_step_can_be_filled_in_for_every_family() -> None:
    for family in FAMILIES.values():
        for kind in NEW_STEPS:
            made = with_step(shipped_recipe("rest-hour"), 1, kind)
            filled = fill(made, Facts(family, 40.0))
            assert filled.steps[1].kind == kind and filled.steps[1].ends
            assert template_from(template_data(made), made.name) == made, "as a file it comes back alike"


def test_the_last_step_stays() -> None:
    only = shipped_recipe("rest-hour")
    while len(only.steps) > 1:
        only = without_step(only, 0)
    with pytest.raises(InputError, match="at least one step"):
        without_step(only, 0)


@given(st.data())
def test_whatever_is_edited_a_recipe_stays_one(data) -> None:
    template = data.draw(st.sampled_from([item for item in shipped().values() if item.fits(FAMILIES["lfp"])]))
    for _ in range(data.draw(st.integers(1, 6))):
        size = len(template.steps)
        what = data.draw(st.sampled_from(["add", "remove", "swap"]))
        if what == "add":
            template = with_step(
                template, data.draw(st.integers(0, size)), data.draw(st.sampled_from(sorted(NEW_STEPS)))
            )
        elif what == "remove" and size > 1:
            template = without_step(template, data.draw(st.integers(0, size - 1)))
        elif size > 1:
            template = swapped(template, *data.draw(st.permutations(range(size)))[:2])
    for place, step in enumerate(template.steps):
        for rule in step.ends:
            assert 0 <= rule.skip <= max(0, len(template.steps) - place - 1)
