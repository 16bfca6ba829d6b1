"""Where a test stands in a sample's programme: what it needs before it, leaves behind, takes, and who has to be there."""

from __future__ import annotations

from dataclasses import dataclass, fields
from enum import StrEnum
from typing import Any

from wintry_tally.core.errors import InputError


class Presence(StrEnum):
    """When somebody has to be there for a test."""

    NONE = "none"
    START = "start"
    ENDS = "ends"
    THROUGHOUT = "throughout"


class Charged(StrEnum):
    """How a battery stands before or after a test; before: `ANY` asks for nothing, after: `SAME` changes nothing.

    `CHARGED` is full, or what a short test left of full.
    """

    ANY = "any"
    FULL = "full"
    CHARGED = "charged"
    EMPTY = "empty"
    SAME = "same"


@dataclass(frozen=True)
class InProgramme:
    """A recipe's table `programme`.

    Parts:
        order: the smaller the earlier; before, leaves: the battery's state; presence: of people.
        places: what it takes beside the load and the charger that its steps ask for (freezer, shelf).
        soak_h: hours in the freezer before it; brings: recipes without which it says nothing, run before it.
        hands_min: minutes of a person's work that its forecast does not hold.
        takes_h: hours it takes, the soonest and the latest, where no forecast can know (a pack that has to warm up).
        usual: chosen before others that settle the same.
        instead_of: a recipe whose place it takes where that cannot be run on a bench; cost: what that costs, in words.
        over_night: it takes that place to end while somebody is there, where the plan is better for it, and never else;
            worth_h: also where all is done sooner by more than so many hours (0: not for that alone).
        may_damage: what it may do to a battery that is not as it should be, in words.
    """

    order: int
    before: Charged = Charged.ANY
    leaves: Charged = Charged.SAME
    presence: Presence = Presence.START
    places: tuple[str, ...] = ()
    soak_h: float = 0.0
    brings: tuple[str, ...] = ()
    hands_min: float = 0.0
    takes_h: tuple[float, ...] = ()
    usual: bool = False
    instead_of: str = ""
    cost: str = ""
    over_night: bool = False
    worth_h: float = 0.0
    may_damage: str = ""

    @classmethod
    def read(cls, data: Any, name: str) -> InProgramme:
        """From plain data.

        Raises:
            InputError: a part that is missing, unknown or of the wrong kind.
        """
        if not isinstance(data, dict) or not isinstance(data.get("order"), int):
            raise InputError("programme is a table with an order", name, "write programme = { order = 40, … }")
        known = {field.name for field in fields(cls)}
        unknown = next((key for key in data if key not in known), None)
        if unknown is not None:
            raise InputError(f'programme: "{unknown}" is no part of it', name, f"use {', '.join(sorted(known))}")
        made = dict(data)
        for key, kind in (("before", Charged), ("leaves", Charged), ("presence", Presence)):
            if key in made:
                words = [str(word) for word in kind]
                if made[key] not in words:
                    raise InputError(f'programme.{key}: "{made[key]}" is not known', name, f"use {', '.join(words)}")
                made[key] = kind(made[key])
        for key in ("places", "brings"):
            if key in made:
                if not isinstance(made[key], list) or not all(isinstance(item, str) for item in made[key]):
                    raise InputError(f"programme.{key} is no list of texts", name)
                made[key] = tuple(made[key])
        for key in ("soak_h", "hands_min", "worth_h"):
            if not _number(made.get(key, 0)):
                raise InputError(f"programme.{key} is no number of 0 or more", name)
        if "takes_h" in made:
            hours = made["takes_h"]
            if (
                not isinstance(hours, list)
                or len(hours) != 2
                or not all(_number(h) for h in hours)
                or not 0 < hours[0] <= hours[1]
            ):
                raise InputError("programme.takes_h is no pair of hours", name, "write takes_h = [2, 6]")
            made["takes_h"] = tuple(hours)
        for key in ("instead_of", "cost", "may_damage"):
            if not isinstance(made.get(key, ""), str):
                raise InputError(f"programme.{key} is no text", name)
        for key in ("usual", "over_night"):
            if not isinstance(made.get(key, False), bool):
                raise InputError(f"programme.{key} is true or false", name)
        return cls(**made)

    def data(self) -> dict[str, Any]:
        """As plain data; what is left at its default is left out."""
        usual = InProgramme(self.order)
        made: dict[str, Any] = {"order": self.order}
        for field in fields(self):
            value = getattr(self, field.name)
            if value != getattr(usual, field.name):
                made[field.name] = list(value) if isinstance(value, tuple) else value if isinstance(value, (bool, int, float)) else str(value)  # fmt: skip
        return made


def _number(value: Any) -> bool:
    return isinstance(value, (int, float)) and not isinstance(value, bool) and 0 <= value < 1e6
