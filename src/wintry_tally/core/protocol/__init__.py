"""Test recipes as data, and the checks made before one is started.

Only the data is imported here: it is wanted as soon as a book is opened, the checks and templates when a run is planned.
"""

from wintry_tally.core.protocol.recipe import EndCause, EndRule, Recipe, Step, StopLimits

__all__ = ["EndCause", "EndRule", "Recipe", "Step", "StopLimits"]
