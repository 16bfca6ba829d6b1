"""The way back of a pack that seems dead, and where on it one stands; common practice, no published source."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from wintry_tally.core.battery.families import Family

ASLEEP_V, AWAKE_V = 2.0, 12.0
"""Of a pack of 12 V: below the first its protection is open; above the second it is charged as usual."""
CELL_LEAST_V = 2.0
"""A lithium cell under this is not charged again."""
RISEN_V, NOTHING_C = 11.0, 0.005
"""A flat lead-acid battery that gets there takes its charge; one at the charger's limit that takes less current takes none."""


class Place(StrEnum):
    """Where a step of the way stands."""

    DONE = "done"
    HERE = "here"
    AHEAD = "ahead"
    STOP = "stop"


@dataclass(frozen=True)
class Seen:
    """What is known of the pack, None where nothing is.

    Parts:
        volts: the newest voltage at its terminals; cell_V: its lowest cell; charged: whether a charge here came to full.
        limit_V, current_A: what the newest charge ended at, and its mean current: a full battery too ends with hardly any.
        tested: whether a capacity or reserve test came after that.
    """

    volts: float | None = None
    cell_V: float | None = None
    charged: bool = False
    limit_V: float | None = None
    current_A: float | None = None
    tested: bool = False


@dataclass(frozen=True)
class WayStep:
    """One step of the way: what is done or decided there, where it stands, and why where there is something to say."""

    words: str
    place: Place
    why: str = ""


def way_back(family: Family, rated_Ah: float | None, seen: Seen) -> tuple[WayStep, ...]:
    """The steps of the way for a family, up to where this pack stands, and those ahead."""
    steps, here, why, stop = _lithium(family, seen) if family.lithium else _lead(family, rated_Ah, seen)
    places = [Place.DONE if n < here else Place.AHEAD if n > here else Place.STOP if stop else Place.HERE for n in range(len(steps))]  # fmt: skip
    if stop:  # nothing is ahead of it
        steps, places = steps[: here + 1], places[: here + 1]
    return tuple(
        WayStep(words, place, why if number == here else "")
        for number, (words, place) in enumerate(zip(steps, places, strict=True))
    )


def _lithium(family: Family, seen: Seen) -> tuple[list[str], int, str, bool]:
    awake = AWAKE_V * family.share
    steps = [
        "Read its voltage: 0 to 1 V is a protection that has opened, and no proof of a dead battery",
        "Read the cells if you can: any under 2.0 V, do not revive",
        "Wake it for some seconds by a limited source; one pack alone, polarity checked twice",
        f"Charge gently, C/20, until above {awake:g} V",
        "Charge as usual, to full",
        "A capacity test decides",
    ]
    volts = seen.volts
    if seen.tested:
        return steps, 6, "", False
    if seen.charged:
        return steps, 5, "it was charged to full", False
    if seen.cell_V is not None and seen.cell_V < CELL_LEAST_V:
        return steps, 1, f"its lowest cell stands at {seen.cell_V:.2f} V: do not revive it", True
    if volts is None:
        return steps, 0, "no voltage of it is known yet", False
    if volts < ASLEEP_V * family.share:
        told = "" if seen.cell_V is None else f"; its lowest cell stands at {seen.cell_V:.2f} V"
        return steps, 1 if seen.cell_V is None else 2, f"it read {volts:.2f} V{told}", False
    if volts < awake:
        return steps, 3, f"it read {volts:.2f} V: it is awake", False
    if seen.limit_V is None:
        return steps, 0, f"it read {volts:.2f} V: it does not sleep, and needs no waking", False
    return steps, 4, f"it read {volts:.2f} V: it is awake", False


def _lead(family: Family, rated_Ah: float | None, seen: Seen) -> tuple[list[str], int, str, bool]:
    risen = RISEN_V * family.share
    gentle = f" ({0.07 * rated_Ah:.2g} A)" if rated_Ah else ""
    steps = [
        "Read its open voltage: smart chargers refuse one that lies flat",
        f"A current-limited supply at {14.4 * family.share:g} V, about 0.07 C{gentle}, watched: it should rise through {risen:g} V in a couple of hours",
        "Hand over to its usual charger: absorption, then float",
        "Rest overnight, and read it",
        "A reserve or capacity test decides",
    ]
    volts = seen.volts
    nothing = NOTHING_C * (rated_Ah or 0.0)
    if seen.tested:
        return steps, 5, "", False
    if seen.charged:
        return steps, 3, "it was charged to full", False
    if (
        seen.limit_V is not None
        and seen.current_A is not None
        and seen.limit_V >= 14.0 * family.share
        and abs(seen.current_A) <= nothing
    ):
        return (
            steps,
            1,
            f"it stood at {seen.limit_V:.2f} V and took {abs(seen.current_A):.2g} A: sulphated, recycle it",
            True,
        )
    if volts is None:
        return steps, 0, "no voltage of it is known yet", False
    if volts < risen:
        return steps, 1, f"it read {volts:.2f} V", False
    if seen.limit_V is None:
        return steps, 0, f"it read {volts:.2f} V: it does not lie flat, and needs no reviving", False
    return steps, 2, f"it read {volts:.2f} V: it takes its charge", False
