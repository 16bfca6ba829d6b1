"""Several units of one model, against scipy's own interval of a variance and simulated models whose spread is known.

How far units of a model are apart, and how many units that is worth: common practice, no published source.
"""

from __future__ import annotations

import math
from random import Random
from statistics import NormalDist

import pytest

from wintry_tally.core.battery import Claim, Direction, family_named
from wintry_tally.core.compare.comparing import compare_samples
from wintry_tally.core.compare.figures import Conditions, Figure
from wintry_tally.core.compare.model import WORTH, ModelRow, model_claims, model_rows
from wintry_tally.core.quantity import Quantity, Term
from wintry_tally.core.verdict import School, Verdict
from wintry_tally.core.verdict.outcome import Condition, Outcome

LFP = family_named("lfp")
USUAL = family_named("lfp").unit_spread


def _value(value: float, own: float = 0.02, gain: float = 0.002, unit: str = "Ah") -> Quantity:
    return Quantity.from_terms(value, unit, [Term("own", own), Term("gain", gain * value, "gain of one meter")])


def _row(values: list[float], quantity: str = "charge", **more: float) -> ModelRow:
    codes = [f"U{n}" for n in range(1, len(values) + 1)]
    at = Conditions(c_rate=0.2, temperature_C=23.0, rest_s=3600.0, end="protection")
    figures = {
        c: {quantity: [Figure(quantity, _value(v, **more), "run", at)]} for c, v in zip(codes, values, strict=True)
    }
    (found,) = model_rows(compare_samples(codes, dict.fromkeys(codes, LFP), figures), LFP)
    return found


def test_mean_spread_and_the_model_at_large() -> None:
    from scipy import stats  # slow to bring in, and not for every process that collects this

    values = [40.0, 40.6, 39.7, 40.5]
    found = _row(values)
    assert found.mean.value == pytest.approx(40.2)
    # the meter's gain is in the mean in full, what each has of its own a half of it
    assert found.mean.standard == pytest.approx(math.hypot(0.002 * 40.2, 0.02 / 2.0), rel=1e-6)
    variance = sum((v - 40.2) ** 2 for v in values) / 3.0
    assert found.seen == pytest.approx(math.sqrt(variance - 0.02**2) / 40.2)
    low, high = (math.sqrt(3.0 * variance / stats.chi2.ppf(p, 3) - 0.02**2) / 40.2 for p in (0.975, 0.025))
    assert (found.low, found.high) == (pytest.approx(low), pytest.approx(high))
    pooled = math.sqrt((3.0 * (variance - 0.02**2) + WORTH * (USUAL * 40.2) ** 2) / (3.0 + WORTH))
    assert found.reckoned == pytest.approx(pooled / 40.2)
    assert found.model.standard == pytest.approx(math.hypot(found.mean.standard or 0.0, pooled / 2.0))
    assert not found.weak and not found.apart
    pair = _row([40.0, 40.1])
    assert pair.high is None and pair.seen > 0 and pair.reckoned == pytest.approx(USUAL * math.sqrt(4 / 5), rel=0.02)
    alike = _row([40.0, 40.0, 40.0])
    assert alike.seen == 0.0 and alike.low == 0.0


def test_a_weak_unit_is_found_and_of_two_none_is_accused() -> None:
    from scipy import stats

    assert _row([40.0, 40.2, 39.9, 37.0]).weak == "U4"
    found = _row([40.0, 40.2, 39.9, 37.0])
    others = [40.0, 40.2, 39.9]
    middle, variance = sum(others) / 3.0, sum((v - sum(others) / 3.0) ** 2 for v in others) / 2.0 - 0.02**2
    spread = math.sqrt((2.0 * variance + WORTH * (USUAL * middle) ** 2) / (2.0 + WORTH))
    # the meter's gain is in both but for what the two differ by; a unit and the mean of three others each vary
    doubt = math.hypot(0.02 * math.sqrt(4.0 / 3.0), 0.002 * (middle - 37.0), spread * math.sqrt(4.0 / 3.0))
    assert found.rarity == pytest.approx(float(stats.t.cdf((37.0 - middle) / doubt, 2.0 + WORTH)), rel=1e-6)
    assert not _row([40.0, 40.2, 39.9, 43.0]).weak, "one that stands out to the better is not weak"
    assert _row([0.010, 0.0101, 0.0099, 0.0160], "resistance", own=1e-5).weak == "U4", "of a resistance more is worse"
    two = _row([40.0, 37.0])
    assert two.apart and not two.weak and two.rarity is None
    assert not _row([40.0, 39.0]).apart and not _row([40.0, 37.8]).apart and _row([40.0, 37.4]).apart
    assert not _row([4.3, 4.31], "mass", own=0.001).apart


def test_nothing_is_said_of_one_unit_or_of_meters_nobody_knows() -> None:
    at = Conditions()
    figures = {
        "A": {"charge": [Figure("charge", Quantity(40.0, None, "Ah"), "r", at)]},
        "B": {"charge": [Figure("charge", _value(40.0), "r", at)]},
    }
    assert model_rows(compare_samples(["A", "B"], {"A": LFP, "B": LFP}, figures), LFP) == ()
    figures["A"] = {}
    assert model_rows(compare_samples(["A", "B"], {"A": LFP, "B": LFP}, figures), LFP) == ()


def test_unlike_conditions_are_brought_in_with_their_doubt() -> None:
    like, slow = (Conditions(c_rate=rate, temperature_C=23.0, rest_s=3600.0, end="protection") for rate in (0.2, 0.1))
    figures = {
        "A": {"charge": [Figure("charge", _value(40.0), "r", like)]},
        "B": {"charge": [Figure("charge", _value(40.0), "r", slow)]},
    }
    (found,) = model_rows(compare_samples(["A", "B"], {"A": LFP, "B": LFP}, figures), LFP)
    assert found.values["B"].value < 40.0 and (found.values["B"].standard or 0) > (found.values["A"].standard or 0)


def test_the_model_s_interval_holds_and_sound_models_are_not_accused() -> None:
    """800 models of 2 to 6 units, spread as usual or up to twice that: their true mean lies within U in 92 to 99 %."""
    random = Random(3)
    held = accused = found_weak = weak_ones = 0
    for _ in range(800):
        spread, units, centre = USUAL * random.uniform(0.4, 2.0), random.randint(2, 6), random.uniform(38.0, 42.0)
        gain = random.gauss(0.0, 0.002)
        truth = [centre * (1.0 + random.gauss(0.0, spread)) for _ in range(units)]
        weak = units > 2 and random.random() < 0.3
        if weak:
            truth[-1] -= 0.12 * centre
        row = _row([value * (1.0 + gain) + random.gauss(0.0, 0.02) for value in truth])
        if weak:
            weak_ones += 1
            found_weak += row.weak == f"U{units}"
        else:
            held += abs(row.model.value - centre) <= (row.model.expanded or 0.0)
            accused += bool(row.weak)
    sound = 800 - weak_ones
    assert 0.92 <= held / sound <= 0.99 and accused / sound < 0.06
    assert found_weak / weak_ones > 0.85


def _verdict(
    value: float, outcome: Outcome = Outcome.MET, bound: str | None = None, effect: float = 0.0, **conditions: float
) -> Verdict:
    claim = Claim("capacity", 40.0, "Ah", Direction.AT_LEAST, 0.0, conditions)
    unlike = (Condition("rate", 0.2, 0.1, Quantity(effect, 0.1, "Ah")),) if effect else ()
    return Verdict(claim, outcome, _value(value), 0.9, unlike, ("run",), None, None, bound)


def test_claims_are_held_against_the_model_by_the_rule() -> None:
    def judged(*values: Verdict, school: School = School.STRICT):
        return model_claims({f"U{n}": [one] for n, one in enumerate(values)}, LFP, school)

    (good,) = judged(_verdict(41.6), _verdict(41.9))
    assert good.outcome is Outcome.MET and good.units == ("U0", "U1") and good.model.value == pytest.approx(41.75)
    expected = NormalDist().cdf((41.75 - 40.0) / (good.model.standard or 1.0))
    assert good.probability == pytest.approx(float(expected))
    assert good.working.inputs["P"] == f"{float(expected):.3f}" and good.working.result == "met"
    (close,) = judged(_verdict(40.2), _verdict(40.3))
    assert close.outcome is Outcome.TOO_CLOSE, "two good units say little of the model"
    assert judged(_verdict(40.2), _verdict(40.3), school=School.PLAIN)[0].outcome is Outcome.MET
    assert judged(_verdict(37.0), _verdict(37.2))[0].outcome is Outcome.MISSED
    # a bound, a claim at other conditions and one that nobody tested are no values
    assert judged(_verdict(41.6), _verdict(30.0, bound="at-least")) == ()
    assert judged(_verdict(41.6), _verdict(41.6, c_rate=0.05)) == ()
    assert judged(_verdict(41.6), _verdict(41.6, Outcome.NOT_TESTED)) == ()
    assert judged(_verdict(41.6)) == ()
    (moved,) = judged(_verdict(41.6, effect=-1.0), _verdict(41.6, effect=-1.0))
    assert moved.model.value == pytest.approx(40.6)
    third = judged(_verdict(41.6), _verdict(41.9), _verdict(30.0, bound="at-least"))
    assert third[0].units == ("U0", "U1")
