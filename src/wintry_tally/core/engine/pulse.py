"""The pulse of the proof of connection: what drawing or charging for seconds at two levels says of leads and battery."""

from __future__ import annotations

import math

from wintry_tally.core.engine.proof import NEAR_K, Expected, Finding, Level, Ohms, Proof
from wintry_tally.core.message import said

SEEN_DIGITS = 8.0
"""A change expected to be at least so many last digits must be seen; a smaller one says nothing."""
NOTHING_DIGITS, NOTHING_SHARE = 1.5, 0.1
SCALE_LOW, SCALE_HIGH = 0.80, 1.25
SHUNTS = (0.001, 0.01, 0.1, 0.2, 0.25, 0.5, 2.0, 4.0, 5.0, 10.0, 100.0, 1000.0)
SHUNT_NEAR = 0.12
NOISE_DIGITS = 1.5
"""Means of a few readings, each to its last digit, are apart by no more than so many of them by chance."""
OHM_HIGH = 12.0
"""An old pack has so many times the resistance usual for its family and size. (One that moves by less than NOTHING_SHARE of what
it should is taken for a meter that is elsewhere.)"""
LEAD_HIGH, LEAD_MORE_OHM = 3.0, 0.015
SAME_END = 0.3
CHANGED = 3.5
HEAVY_DROP = 0.08
NEAR_LIMIT, FAR_FROM_LIMIT = 0.98, 0.93
MOVES = 0.35
OHM_DIGITS = 8.0


def judge_pulse(rest: Level, low: Level, high: Level, known: Expected, doing: str = "draw") -> Proof:
    """What drawing (or charging) at two levels shows, with `rest` before."""
    if doing == "charge" and high.volts >= NEAR_LIMIT * known.limit_V:
        return _at_the_limit(rest, high, known)
    whose = "load" if doing == "draw" else "charger"
    step_A, step_V = high.amps - rest.amps, rest.volts - high.volts
    own = None if high.own_A is None else high.own_A - (rest.own_A or 0.0)  # without its zero
    # a charge near its limit gives less than was set, and says so itself
    least = 0.5 if doing == "draw" else 0.2
    really = own if own is not None and abs(own) > least * abs(high.set_A) else high.set_A
    found = _shunt(step_A, really, own, known, whose)
    counted = not {item.code for item in found} & {"shunt-scale", "shunt-out", "turned-shunt"}
    if _quiet(rest, low, high, really if known.counted_apart else step_A, known):
        return Proof(tuple(_unmoved(found, high.set_A, step_A, whose)))
    way = 1.0 if doing == "draw" else -1.0
    if step_V * way < -SEEN_DIGITS * known.digit_V and not any(item.code == "turned-shunt" for item in found):
        found.append(
            Finding(
                "voltage-turned",
                said("proof-rises" if way > 0 else "proof-falls", rest=rest.volts, volts=high.volts),
                said(f"mend-{whose}-elsewhere"),
            )
        )
    lead, ohms = None, None
    if counted and abs(step_A) > 5.0 * known.digit_A:
        lead = _lead_ohm(rest, high, step_A)
        found += _leads(lead, rest, high, known, whose)
        ohms = _ohms(rest, high, known)
        if doing == "draw":
            found += _usual(step_V / step_A, high, known)
        found += _as_before(ohms, known, doing)
    found += _beside(rest, high, step_V, known)
    good = ohms is not None and doing == "draw" and step_V / step_A > 0 and abs(step_V) >= OHM_DIGITS * known.digit_V
    return Proof(tuple(found), step_V / step_A if good else None, lead, ohms={} if ohms is None else {doing: ohms})


def _quiet(rest: Level, low: Level, high: Level, flows: float, known: Expected) -> bool:
    """Whether the voltage stands still where it should move by more than the meter's last digits."""
    wanted_V = known.ohm * abs(flows)
    nothing_V = max(NOTHING_DIGITS * known.digit_V, NOTHING_SHARE * wanted_V)
    moved = max(abs(rest.volts - high.volts), abs(low.volts - high.volts))
    return moved <= nothing_V and wanted_V >= SEEN_DIGITS * known.digit_V


def _unmoved(found: list[Finding], asked: float, step_A: float, whose: str) -> list[Finding]:
    """Which lead is elsewhere when the voltage stands still."""
    if any(item.code == "shunt-out" for item in found):
        does = "draw" if whose == "load" else "charge"
        what = said(f"proof-unmoved-{does}", amps=abs(asked))
        return [Finding("load-elsewhere", what, said(f"mend-{whose}-nowhere"))]
    what = said("proof-no-answer", amps=abs(step_A))
    return [*found, Finding("meter-elsewhere", what, said("mend-meter-elsewhere"))]


def _at_the_limit(rest: Level, high: Level, known: Expected) -> Proof:
    """A charge that reached its limit at once gives what the battery takes: only its resistance can be told."""
    if rest.volts > FAR_FROM_LIMIT * known.limit_V or abs(high.amps - rest.amps) <= 5.0 * known.digit_A:
        return Proof(())
    ohms = _ohms(rest, high, known)
    return Proof(tuple(_as_before(ohms, known, "charge")), ohms={"charge": ohms})


def _ohms(rest: Level, high: Level, known: Expected) -> Ohms:
    """Least and most the resistance can be, by the last digits of the voltage."""
    step_V, flows = rest.volts - high.volts, high.amps - rest.amps
    noise = 2.0 * NOISE_DIGITS * known.digit_V / abs(flows)
    return Ohms(max(0.0, step_V / flows - noise), max(0.0, step_V / flows + noise), high.celsius)


def _as_before(ohms: Ohms, known: Expected, doing: str) -> list[Finding]:
    """This very battery's resistance in an earlier proof, at about the same warmth."""
    before = known.before.get(doing)
    if before is None or before.most <= 0 or ohms.most <= 0:
        return []
    if before.celsius is not None and ohms.celsius is not None and abs(before.celsius - ohms.celsius) >= NEAR_K:
        return []
    if before.most * CHANGED >= ohms.least and ohms.most * CHANGED >= before.least:
        return []
    # a lead-acid battery's charging resistance goes with what it holds: said, but no bar
    return [
        Finding(
            "another-battery",
            said("proof-ohm-changed", now=ohms.message, before=before.message),
            said("mend-another-battery"),
            bars=doing == "draw" or known.family.lithium,
        )
    ]


def _beside(rest: Level, high: Level, step_V: float, known: Expected) -> list[Finding]:
    """A second meter and the pack's own telling move as the first meter does, or are on something else."""
    found = []
    if abs(step_V) < OHM_DIGITS * known.digit_V:
        return []
    for before, now, whose, mend in (
        (rest.second_V, high.second_V, "second", "mend-both-meters"),
        (rest.pack_V, high.pack_V, "pack", "mend-telemetry"),
    ):
        if before is not None and now is not None and abs(before - now) < MOVES * abs(step_V):
            what = said(f"proof-{whose}-still", moved=1000 * (before - now), wanted=1000 * step_V)
            found.append(Finding(f"{whose}-elsewhere", what, said(mend)))
    return found


def _shunt(step_A: float, asked: float, own: float | None, known: Expected, whose: str) -> list[Finding]:
    """Sign and scale of the current that counts, against what was set and what the instrument in command says."""
    if not known.counted_apart:
        if own is not None and asked and not SCALE_LOW - known.share_A <= own / asked <= SCALE_HIGH + known.share_A:
            return [
                Finding(
                    "not-as-set",
                    said("proof-not-as-set", amps=abs(own), setting=abs(asked)),
                    said(f"mend-{whose}-setting"),
                )
            ]
        return []
    free = 2.0 * known.digit_A + 0.02 * abs(asked)
    if abs(step_A) <= max(free, min(known.zero_A, 0.1 * abs(asked))):
        return [Finding("shunt-out", said("proof-shunt-out", amps=abs(asked)), said("mend-shunt-in"))]
    share = step_A / asked
    low, high = SCALE_LOW - known.share_A, SCALE_HIGH + known.share_A
    room = free / abs(asked)
    if low - room <= share <= high + room:
        return []
    if low - room <= -share <= high + room:
        return [
            Finding("turned-shunt", said("proof-shunt-turned", reads=step_A, setting=asked), said("mend-shunt-turn"))
        ]
    near = min(SHUNTS, key=lambda item: abs(math.log(abs(share) / item)))
    what = said("proof-shunt-scale", reads=step_A, setting=asked)
    if abs(abs(share) / near - 1.0) <= SHUNT_NEAR:
        what = said("proof-shunt-times", **what.parts, times=near)
    return [Finding("shunt-scale", what, said("mend-shunt-range"))]


def _lead_ohm(rest: Level, high: Level, step_A: float) -> float | None:
    """Between the instrument's own terminals and the meter's."""
    if rest.own_V is None or high.own_V is None:
        return None
    return ((rest.own_V - high.own_V) - (rest.volts - high.volts)) / step_A


def _leads(lead: float | None, rest: Level, high: Level, known: Expected, whose: str) -> list[Finding]:
    """What lies between the meter and the instrument in command: leads and clamps, or nothing where there should be."""
    if lead is None:
        return []
    sag_V = abs(rest.volts - high.volts)
    noise_V = NOISE_DIGITS * (known.digit_V + known.own_digit_V) + (known.share_V + known.own_share_V) * sag_V
    sees = noise_V / max(abs(high.amps), 1e-6)
    expected = known.lead_ohm
    resolved = expected is not None and known.voltage_apart and expected > 2.0 * sees
    if expected is not None and resolved and abs(lead) < SAME_END * expected:
        return [
            Finding(
                "sense-at-clamps",
                said(f"proof-same-end-{whose}", mohm=1000 * lead, leads=1000 * expected),
                said(f"mend-sense-{whose}"),
            )
        ]
    if lead - sees > LEAD_HIGH * (expected if expected is not None else 0.01) + LEAD_MORE_OHM:
        return [Finding("leads", said("proof-leads-high", mohm=1000 * lead), said("mend-leads"))]
    return []


def _usual(whole: float, high: Level, known: Expected) -> list[Finding]:
    """The pack's own resistance, against what is usual for its family and size."""
    found = []
    flows = max(abs(high.amps), 1e-6)
    seen_V = NOISE_DIGITS * 2.0 * known.digit_V / flows
    cold = 1.0
    if high.celsius is not None and high.celsius < 25.0:
        cold = 1.0 + 0.03 * (25.0 - high.celsius)
    most = OHM_HIGH * known.ohm * cold
    if whole - seen_V > most + 0.02:
        found.append(
            Finding(
                "resistance-high",
                said("proof-ohm-high", mohm=1000 * whole, usual=1000 * known.ohm),
                said("mend-ohm-high"),
                bars=whole * flows > HEAVY_DROP * high.volts,
            )
        )
    return found
