"""Proof of connection: what a pulse of seconds at two levels says of leads, clamps, meters and the battery itself.

Pure judgement: readings in, findings out. Common practice, no published source; limits are wide on purpose, so that an
honest bench is never barred, and everything is judged against what the instruments at hand can resolve.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from statistics import median

from wintry_tally.core.battery import FAMILIES, Family
from wintry_tally.core.battery.families import charge_state_band
from wintry_tally.core.engine.state import Observation
from wintry_tally.core.message import Message, said

FULL_POINTS, FULL_V = 30.0, 0.08
NEAR_K = 12.0
OTHER_V, SECOND_V = 0.12, 0.03
PACK_V, PACK_SHARE = 0.05, 0.01
CURRENT_LIES_A = 0.02


@dataclass(frozen=True)
class Level:
    """Medians of the last readings at one level: what was set (A, drawn positive), and what each part read."""

    set_A: float
    volts: float
    amps: float
    own_V: float | None = None
    own_A: float | None = None
    second_V: float | None = None
    pack_V: float | None = None
    celsius: float | None = None


@dataclass(frozen=True)
class Ohms:
    """Least and most a resistance can be, Ω, and the battery's temperature in °C where it was read."""

    least: float
    most: float
    celsius: float | None = None

    @property
    def message(self) -> Message:
        """In words."""
        one, other = said("proof-mohm", mohm=1000 * self.least), said("proof-mohm", mohm=1000 * self.most)
        return one if one == other else said("proof-mohm-between", least=1000 * self.least, most=1000 * self.most)


@dataclass(frozen=True)
class Expected:
    """What is known beforehand.

    Parts:
        ohm: resistance usual for the family and size at 25 °C; lead_ohm: by the leads' description, None where unknown.
        volts: lowest and highest rested voltage of the pack; digit_V, digit_A: last digits; accuracy_A: shares and
        amperes the current may be off by its specification, load's own and meter's together.
        zero_A: what the meter may read with nothing flowing.
        before: this very battery's resistances in an earlier proof, by "draw" and "charge"; ambient_C: as stated, or None.
        counted_apart: the current is read by another instrument than the one that draws.
        limit_V: up to which a charge is tried: near it the charger gives what the battery takes.
        full: the charge it is said to hold, 0 to 1, where the test begins from that; None where it does not matter.
    """

    family: Family
    ohm: float
    volts: tuple[float, float]
    lead_ohm: float | None = None
    digit_V: float = 0.001
    digit_A: float = 0.001
    share_A: float = 0.05
    zero_A: float = 0.05
    own_digit_V: float = 0.001
    own_share_V: float = 0.005
    share_V: float = 0.005
    ambient_C: float | None = None
    counted_apart: bool = True
    voltage_apart: bool = True
    full: float | None = None
    limit_V: float = math.inf
    before: Mapping[str, Ohms] = field(default_factory=dict)


@dataclass(frozen=True)
class Finding:
    """Something wrong: a code, what it is, the mend, and whether it bars the run."""

    code: str
    what: Message
    mend: Message
    bars: bool = True

    @property
    def message(self) -> Message:
        """What it is and the mend."""
        return said("finding", what=self.what, mend=self.mend)

    def __str__(self) -> str:
        return self.message


@dataclass(frozen=True)
class Proof:
    """What the pulse showed: findings, the pack's and the leads' resistance in Ω where they could be told.

    `ohms`: within which limits the pack's resistance lies, by "draw" and "charge", also where it could not be told.
    """

    findings: tuple[Finding, ...]
    ohm: float | None = None
    lead_ohm: float | None = None
    moved_Ah: float = 0.0
    ohms: Mapping[str, Ohms] = field(default_factory=dict)

    @property
    def bars(self) -> tuple[Finding, ...]:
        """What bars the run."""
        return tuple(item for item in self.findings if item.bars)


def level_of(set_A: float, seen: list[Observation], beside: list[dict[str, float]]) -> Level:
    """Medians over readings, so that one torn reading tells nothing; `beside`: own_V, own_A, second_V, pack_V where told."""

    def middle(name: str) -> float | None:
        values = [item[name] for item in beside if name in item and math.isfinite(item[name])]
        return median(values) if values else None

    warm = [item.temperature_C for item in seen if item.temperature_C is not None]
    return Level(
        set_A, median(item.voltage_V for item in seen), median(item.current_A for item in seen), middle("own_V"),
        middle("own_A"), middle("second_V"), middle("pack_V"), median(warm) if warm else None,
    )  # fmt: skip


def at_rest(rest: Level, known: Expected, *, supply: bool = False) -> list[Finding]:
    """What is wrong before anything flows; with one that bars nothing may flow.

    `supply`: what is read beside is a supply's, which may show nothing while it is off.
    """
    volts, (low, high) = rest.volts, known.volts
    found = []
    if volts < -0.3:
        return [Finding("meter-turned", said("proof-volts", volts=volts), said("mend-turn-meter"))]
    if rest.own_V is not None and rest.own_V < -0.3:
        return [Finding("turned", said("proof-own-volts", own=rest.own_V), said("mend-turn-load"))]
    if volts < 0.25 * low:
        what = (
            said("proof-volts", volts=volts)
            if rest.own_V is None
            else said("proof-volts-both", volts=volts, own=rest.own_V)
        )
        return [
            Finding("no-voltage", what, said("mend-meter-here" if (rest.own_V or 0.0) > 0.5 * low else "mend-connect"))
        ]
    if not low <= volts <= high:
        found.append(_another_pack(volts, known))
    if abs(rest.amps) > known.zero_A + CURRENT_LIES_A:
        found.append(
            Finding(
                "current-at-rest",
                said("proof-current-at-rest", amps=rest.amps),
                said("mend-clear-current"),
                abs(rest.amps) > 3.0 * known.zero_A + 0.1,
            )
        )
    found += [*_own_voltage(rest, known, supply=supply), *_others(rest, known), *_thermometer(rest, known)]
    found += _charge(volts, known)
    return found


def _own_voltage(rest: Level, known: Expected, *, supply: bool) -> list[Finding]:
    """The load's or charger's own voltage beside the meter's."""
    volts = rest.volts
    if rest.own_V is None or (supply and abs(rest.own_V) < 0.5 * volts):
        return []
    if rest.own_V < 0.5 * volts:
        return [
            Finding("not-connected", said("proof-own-elsewhere", own=rest.own_V, volts=volts), said("mend-leads-off"))
        ]
    shares = (known.own_share_V + known.share_V) * volts
    if abs(rest.own_V - volts) > OTHER_V * known.family.share + shares + 2.0 * (known.digit_V + known.own_digit_V):
        return [
            Finding("two-batteries", said("proof-own-apart", own=rest.own_V, volts=volts), said("mend-two-batteries"))
        ]
    return []


def _others(rest: Level, known: Expected) -> list[Finding]:
    """A second meter and a pack that tells, beside the meter."""
    volts, found = rest.volts, []
    if (
        rest.second_V is not None
        and abs(rest.second_V - volts) > SECOND_V + 2.0 * known.share_V * volts + 4.0 * known.digit_V
    ):
        found.append(
            Finding(
                "second-elsewhere", said("proof-second", second=rest.second_V, volts=volts), said("mend-second-here")
            )
        )
    if rest.pack_V is not None and abs(rest.pack_V - volts) > PACK_V + (known.share_V + PACK_SHARE) * volts:
        found.append(
            Finding("pack-elsewhere", said("proof-pack", pack=rest.pack_V, volts=volts), said("mend-telemetry"))
        )
    return found


def _charge(volts: float, known: Expected) -> list[Finding]:
    """A battery that is said to be full and rests far below: not full, or another one."""
    if known.full is None:
        return []
    high = charge_state_band(known.family, volts + FULL_V * known.family.share)[1]
    if high >= 100.0 * known.full - FULL_POINTS:
        return []
    what = said("proof-not-full", volts=volts, most=high, family=known.family.words, full=100 * known.full)
    return [Finding("not-full", what, said("mend-charge-first"), bars=False)]


def _another_pack(volts: float, known: Expected) -> Finding:
    low, high = known.volts
    for times, code in ((2.0, "proof-two-packs"), (4.0, "proof-four-packs"), (0.5, "proof-half-pack")):
        if low * times <= volts <= high * times:
            return Finding(
                "another-pack",
                said(code, volts=volts),
                said("mend-which-pack", family=known.family.words, low=low, high=high),
            )
    others = [
        item.words
        for item in FAMILIES.values()
        if item.plausible_V[0] <= volts <= item.plausible_V[1] and item.key != known.family.key
    ]
    what = said("proof-not-family", volts=volts, family=known.family.words, low=low, high=high)
    if others:
        what = said("proof-other-family", **what.parts, other=others[0])
    return Finding("another-family", what, said("mend-which-family"))


def _thermometer(rest: Level, known: Expected) -> list[Finding]:
    if rest.celsius is None:
        return []
    if not -45.0 < rest.celsius < 85.0 or (rest.celsius == 0.0 and (known.ambient_C or 0.0) > 5.0):
        return [Finding("thermometer", said("proof-thermometer", celsius=rest.celsius), said("mend-probe"))]
    if known.ambient_C is not None and abs(rest.celsius - known.ambient_C) > NEAR_K:
        return [
            Finding(
                "thermometer-elsewhere",
                said("proof-thermometer-apart", celsius=rest.celsius, stated=known.ambient_C),
                said("mend-probe-here"),
                bars=False,
            )
        ]
    return []
