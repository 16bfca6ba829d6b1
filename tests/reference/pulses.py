"""Pulses of the proof of connection as they may be read on right and wrong benches: invented, by chance and a seed."""

from __future__ import annotations

from random import Random
from typing import Any

from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.engine.proof import Expected, Level, Ohms, at_rest
from wintry_tally.core.engine.pulse import judge_pulse

SCALES = (1.0, 1.0, 1.0, 1.0, -1.0, 0.1, 10.0, 0.5, 2.0, 0.0, 1.15, 0.87, 1.4, 1000.0)


def pulse(seed: int) -> tuple[Level, Level, Level, Expected, str]:
    """Rest, low and high level, what is known, and whether it draws or charges."""
    dice = Random(f"pulse {seed}")
    family, rated = FAMILIES[dice.choice(sorted(FAMILIES))], dice.choice((7.0, 40.0, 100.0, 280.0))
    usual = parameters_for(family, rated).resistance_ohm
    doing = dice.choice(("draw", "draw", "charge"))
    way = 1.0 if doing == "draw" else -1.0
    ohm = usual * dice.choice((0.5, 1.0, 1.5, 3.0, 8.0, 20.0, 0.0))
    lead = dice.choice((0.002, 0.01, 0.03, 0.08))
    scale, still = dice.choice(SCALES), dice.random() < 0.1
    rests_V = family.nominal_V * dice.choice((1.0, 1.02, 1.045, 0.9, 1.2, 0.5, 0.01, -1.0))
    digits = dice.choice((0.001, 0.01, 0.1)), dice.choice((0.001, 0.01, 0.1))
    zero = dice.choice((0.0, 0.0, 0.03, -0.06, 0.3))
    parts = {name: dice.random() < 0.6 for name in ("own_V", "own_A", "second_V", "pack_V", "celsius")}
    apart = {name: dice.choice((0.0, 0.0, 0.02, 0.06, 0.3, -0.3)) for name in ("own_V", "second_V", "pack_V")}
    follows = {name: dice.random() < 0.85 for name in ("second_V", "pack_V")}
    asked = way * dice.choice((1.0, 4.0, 20.0))

    def level(set_A: float) -> Level:
        flows = set_A * (dice.choice((0.3, 0.6)) if doing == "charge" and dice.random() < 0.2 else 1.0)
        volts = rests_V - (0.0 if still else ohm * flows)
        told: dict[str, float] = {
            "own_V": volts - lead * flows + apart["own_V"],
            "own_A": flows * dice.choice((1.0, 1.0, 1.0, 0.7)),
            "second_V": (volts if follows["second_V"] else rests_V) + apart["second_V"],
            "pack_V": (volts if follows["pack_V"] else rests_V) + apart["pack_V"],
            "celsius": 18.0,
        }
        rounded = round(volts / digits[0]) * digits[0], round((scale * flows + zero) / digits[1]) * digits[1]
        return Level(set_A, *rounded, **{name: value for name, value in told.items() if parts[name]})

    before = {doing: Ohms(0.8 * ohm, 1.2 * ohm, dice.choice((None, 18.0, 35.0)))} if dice.random() < 0.4 else {}
    known = Expected(
        family, usual, family.plausible_V, dice.choice((None, 0.002, 0.01)), *digits, before=before,
        counted_apart=dice.random() < 0.7, full=dice.choice((None, None, 1.0)), limit_V=dice.choice((float("inf"), family.charge_V[1])),
        ambient_C=dice.choice((None, 20.0, -15.0)),
    )  # fmt: skip
    return level(0.0), level(asked), level(2.0 * asked), known, doing


def judged(seed: int) -> dict[str, Any]:
    """What its rest and the pulse itself show."""
    rest, low, high, known, doing = pulse(seed)
    proof = judge_pulse(rest, low, high, known, doing)
    return {
        "rest": [[one.code, one.what, one.mend, "bars" if one.bars else "told"] for one in at_rest(rest, known, supply=doing == "charge")],
        "pulse": [[one.code, one.what, one.mend, "bars" if one.bars else "told"] for one in proof.findings],
        "ohm": [proof.ohm, proof.lead_ohm], "ohms": {way: [ohms.least, ohms.most, ohms.celsius, ohms.message] for way, ohms in proof.ohms.items()},
    }  # fmt: skip
