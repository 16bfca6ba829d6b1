"""By which way a run's readings come about."""

from __future__ import annotations

from enum import StrEnum


class Method(StrEnum):
    """The ways, as they are kept in a book."""

    SIMULATED = "simulated"
    BENCH = "bench"
    GUIDED = "guided"
    """By a recipe whose readings a person types and whose switches a person turns."""
    HAND = "hand"
    IMPORTED = "imported"


DRIVEN = frozenset({Method.SIMULATED, Method.BENCH, Method.GUIDED})
"""By these this program itself goes through a recipe: a running one has an owner."""
BY_HAND = frozenset({Method.HAND, Method.GUIDED})
METHOD_WORDS = {
    Method.SIMULATED: "simulated bench",
    Method.BENCH: "on the bench",
    Method.HAND: "read by hand",
    Method.IMPORTED: "imported",
    Method.GUIDED: "step by step by hand",
}
