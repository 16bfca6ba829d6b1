"""Test recipes as data, and the checks made before one is started."""

from wintry_tally.core.protocol.capacity import CapacityPlan, LoadLimits, capacity_recipe
from wintry_tally.core.protocol.preflight import Check, preflight
from wintry_tally.core.protocol.recipe import EndCause, EndRule, Recipe, Step, StopLimits

__all__ = [
    "CapacityPlan",
    "Check",
    "EndCause",
    "EndRule",
    "LoadLimits",
    "Recipe",
    "Step",
    "StopLimits",
    "capacity_recipe",
    "preflight",
]
