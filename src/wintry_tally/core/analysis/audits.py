"""The slips a trace can show: each a remark with its numbers."""

from __future__ import annotations

import numpy as np

from wintry_tally.core.analysis.capacity import CapacityTest
from wintry_tally.core.analysis.counting import HOUR, Integral
from wintry_tally.core.analysis.ending import GONE, PROTECTION, SET_CUTOFF
from wintry_tally.core.analysis.stages import Scale, Stage, StageKind
from wintry_tally.core.battery.families import Family
from wintry_tally.core.message import NOTHING, Message, said, several
from wintry_tally.core.quantity.typed_slips import digit_neighbours
from wintry_tally.core.trace import Remark
from wintry_tally.core.trace.trace import BLOCK, Trace

LIFT_V = 0.03
"""A voltage that steps by less as a current begins or ends may be a meter's."""
RISE = 0.08
"""No load lets a voltage rise by this share, not even in a cold pack that warms."""
OPENED = 0.8
"""Terminals at less than this share of what they had are no cells'."""


def family_remarks(trace: Trace, family: Family, stages: list[Stage]) -> list[Remark]:
    """Readings outside the family's voltages; zero is a sleeping pack's, not a slip."""
    low, high = family.plausible_V
    outside: list[int] = []
    worst = 0.0
    total = 0
    for stage in stages:
        live = stage.kind in {StageKind.CHARGE, StageKind.DISCHARGE}
        for start in range(stage.first, stage.last + 1, BLOCK):
            part = trace.voltage_V[start : min(stage.last + 1, start + BLOCK)]
            if float(part.min()) >= low and float(part.max()) <= high:
                continue
            bad = (part > high) | ((part < low) & live)
            hits = np.flatnonzero(bad)
            if len(hits):
                total += len(hits)
                outside += [start + int(hits[0]), start + int(hits[-1])]
                far = part[hits]
                worst = float(far[np.argmax(np.abs(far - 0.5 * (low + high)))])
    if not total:
        return []
    offer = NOTHING
    if len(trace) > 10 and total > 0.5 * len(trace) and family.plausible_V[0] <= worst / 10 <= family.plausible_V[1]:
        offer = said("offer-tenth")
    elif 1000 * low <= worst <= 1000 * high:
        offer = said("offer-millivolts")
    told = said("outside-volts", count=total, low=low, high=high, family=family.words, worst=worst)
    return [Remark("voltage-outside-family", told, (trace.row_at(min(outside)), trace.row_at(max(outside))), offer)]


SAG_V_PER_C, SAGS_FROM_C, MEAN_SHARE = 0.6, {"lithium": 0.5, "lead": 0.1}, 0.6
"""How far a current of 1 C more pulls a pack's mean voltage down at most, and beyond which rate; a discharge of less than
this share of the rating has no usual mean. Common practice, no published source."""


def mean_remarks(family: Family, test: CapacityTest, rated_Ah: float | None) -> list[Remark]:
    """What its mean voltage says of its digits: of a part of a discharge, only that none lies above what it began at."""
    count, rate, high = test.count, test.c_rate or 0.0, family.mean_V[1]
    if test.voltage_start < family.mean_V[0] + 0.3:
        return []  # a discharge that began half empty has a low mean of its own right
    slack = count.mean_voltage.expanded or 0.0
    whole = test.ended_by in {PROTECTION, SET_CUTOFF} and not test.begun_low and not test.lacking
    if not whole or (rated_Ah and count.charge.value < MEAN_SHARE * rated_Ah):
        slack += max(0.25, test.voltage_start - high)
        return mean_voltage_remarks(family, count.charge.value, count.energy.value, slack, family.nominal_V)
    sag = SAG_V_PER_C * max(0.0, rate - SAGS_FROM_C["lithium" if family.lithium else "lead"])
    return mean_voltage_remarks(family, count.charge.value, count.energy.value, slack, sag)


def mean_voltage_remarks(
    family: Family, charge_Ah: float, energy_Wh: float, slack_V: float = 0.0, sag_V: float = 0.0
) -> list[Remark]:
    """Energy over charge against the family's window; a slipped digit that would mend it is offered.

    `slack_V` widens the window: by the meter's doubt, and for a test that ended early, whose mean lies higher.
    `sag_V` lowers its lower end: a heavy current pulls the mean down.

    Source: common practice, no published source (1279 Wh with 109.72 Ah is 11.66 V: no LFP pack at 0.14 C).
    """
    if charge_Ah <= 0:
        return []
    mean = energy_Wh / charge_Ah
    low, high = family.mean_V
    if low - slack_V - sag_V <= mean <= high + slack_V:
        return []
    offers = []
    for name, typed, other in (("charge", charge_Ah, energy_Wh), ("energy", energy_Wh, charge_Ah)):
        for neighbour in digit_neighbours(typed):
            if neighbour > 0:
                would = other / neighbour if name == "charge" else neighbour / other
                if low + 0.15 <= would <= high - 0.15:
                    offer = said(f"digit-{name}", typed=neighbour, volts=would)
                    offers.append((abs(would - 0.5 * (low + high)), offer))
    offers.sort()
    told = said(
        "mean-outside", energy_Wh=energy_Wh, charge_Ah=charge_Ah, mean=mean, low=low, high=high, family=family.words
    )
    return [Remark("mean-voltage-implausible", told, None, several([offer for _, offer in offers[:2]]))]


def test_remarks(
    trace: Trace,
    integral: Integral,
    scale: Scale,
    stages: list[Stage],
    test: CapacityTest,
    family: Family | None,
    rest_s: float,
) -> list[Remark]:
    """Coarse sampling, too short a rest before, and charge left in at the end."""
    remarks: list[Remark] = []
    charge = test.count.charge.value
    if charge > 0:
        largest, where = 0.0, 0
        for span in test.count.spans:
            for start in range(span.first, span.last, BLOCK):
                stop = min(span.last, start + BLOCK)
                step = np.diff(trace.time_s[start : stop + 1])
                if float(step.max()) * scale.reference_A / HOUR < 0.005 * charge:
                    continue
                parts = 0.5 * step * np.abs(trace.current[start + 1 : stop + 1] + trace.current[start:stop]) / HOUR
                at = int(np.argmax(parts))
                if float(parts[at]) > largest:
                    largest, where = float(parts[at]), start + at
        if largest > 0.01 * charge:
            told = said("charge-between", share=100 * largest / charge)
            remarks.append(Remark("coarse-sampling", told, (trace.row_at(where), trace.row_at(where + 1))))
    remarks += _rest_remarks(trace, stages, test, rest_s)
    if family is not None and family.lithium and test.ended_by not in {PROTECTION, GONE} and not test.past_cutoff_s:
        left = _share_left(family, trace, test)
        if left > 0.01:
            row = trace.row_at(test.count.spans[-1].last)
            code = "left-by-cutoff" if test.ended_by == SET_CUTOFF else "left-in-cells"
            remarks.append(
                Remark("not-to-protection", said(code, volts=test.voltage_end, share=100 * left), (row, row))
            )
    return remarks


def _rest_remarks(trace: Trace, stages: list[Stage], test: CapacityTest, rest_s: float) -> list[Remark]:
    begins = stages[test.first].first
    for stage in reversed(stages[: test.first]):
        if stage.kind == StageKind.CHARGE:
            rested = float(trace.time_s[begins] - trace.time_s[stage.last])
            if rested < rest_s:
                told = said("rested-short", minutes=rested / 60, wanted=rest_s / 60)
                return [Remark("rest-too-short", told, (trace.row_at(stage.last), trace.row_at(begins)))]
            return []
    return []


def family_doubt(family: Family, test: CapacityTest) -> list[Remark]:
    """A discharge whose mean voltage is another family's: lead-acid declared lithium iron phosphate, or the reverse.

    Only for most of a capacity at a known, gentle rate: a nearly empty or a heavily loaded pack lies low too.
    Source: common practice, no published source.
    """
    mean = test.count.mean_voltage.value
    if (
        not test.c_rate
        or test.c_rate > 0.6
        or test.count.charge.value < 0.4 * test.count.mean_current.value / test.c_rate
    ):
        return []
    share, like_lead = family.share, family.mistaken_for_lead_V
    if like_lead is not None and mean < like_lead[0] and test.voltage_start < like_lead[1]:
        looks = "looks-lead"
    elif not family.lithium and mean > 12.75 * share and test.c_rate > 0.03:
        looks = "looks-lithium"
    else:
        return []
    return [Remark("family-doubt", said(looks, volts=mean, family=family.words))]


MORE_THAN_RATED = 1.05
"""So much of its rating a good new battery may hold."""


def _share_left(family: Family, trace: Trace, test: CapacityTest) -> float:
    """Share of the charge likely left above the family's floor, from the voltage at the end and its slope there.

    The last straight stretch of the curve is drawn on to the floor: an estimate, and only ever a remark.
    """
    end_V = test.voltage_end
    if end_V <= family.cutoff_V + 0.02:
        return 0.0
    span = test.count.spans[-1]
    size = span.last - span.first
    if size < 4:
        return 0.0
    back = max(2, size // 40)
    time = float(trace.time_s[span.last] - trace.time_s[span.last - back])
    fall = float(trace.voltage_V[span.last - back] - trace.voltage_V[span.last])
    total = test.count.duration_s
    if fall <= 0 or time <= 0:
        return 1.0
    left = min(1.0, (end_V - family.cutoff_V) / (fall / time) / total)
    if test.c_rate:
        # a knee falls ever faster than its last stretch; what was drawn of the rating bounds what can be left
        drawn = test.count.charge.value / (test.count.mean_current.value / test.c_rate)
        left = min(left, max(0.02, MORE_THAN_RATED - drawn))
    return left


def sign_remarks(trace: Trace, stages: list[Stage], scale: Scale) -> list[Remark]:
    """Stretches whose sign is flipped: a charge while the voltage sits and falls as under load; a discharge that lifts the
    voltage as it begins and lets it down as it ends, as in logs that write every current without its sign."""
    remarks = []
    for position, stage in enumerate(stages):
        if stage.last - stage.first < 5:
            continue
        why = NOTHING
        if stage.kind == StageKind.CHARGE and _other_way(trace, stages, position, scale):
            why = said("stands-lower")
        elif stage.kind == StageKind.CHARGE:
            why = _turned(trace, stages, position, scale)
        elif stage.kind == StageKind.DISCHARGE and _other_way(trace, stages, position, scale):
            why = said("stands-higher")
        elif stage.kind == StageKind.DISCHARGE:
            why = _turned(trace, stages, position, scale)
        if why:
            rows = (trace.row_at(stage.first), trace.row_at(stage.last))
            remarks.append(Remark("sign-flipped", said("sign-flips", why=why), rows, said("offer-turn")))
    return remarks


def _turned(trace: Trace, stages: list[Stage], position: int, scale: Scale) -> Message:
    """Why what counts as a charge is a discharge, or the other way round: it joins one without the voltage moving, which
    goes on as in that. Empty where it is none."""
    stage = stages[position]
    fallen = float(trace.voltage_V[stage.first] - trace.voltage_V[stage.last])
    charged = stage.kind == StageKind.CHARGE
    if fallen < 0.0 if charged else fallen > 0.0:
        return NOTHING
    other = StageKind.DISCHARGE if charged else StageKind.CHARGE
    before = stages[position - 1] if position else None
    after = stages[position + 1] if position + 1 < len(stages) else None
    for neighbour, near, own in (
        (before, before.last if before else 0, stage.first),
        (after, after.first if after else 0, stage.last),
    ):
        if neighbour is None or neighbour.kind != other:
            continue
        same = abs(abs(trace.current[own]) - abs(trace.current[near])) < 0.1 * scale.reference_A
        smooth = abs(trace.voltage_V[own] - trace.voltage_V[near]) < max(0.05, 6 * scale.noise_V)
        if same and smooth:
            return said("turns-falling" if charged else "turns-rising", amps=float(trace.current[own]))
    return NOTHING


FALL = 0.15
"""No charge lets the voltage down by such a share: where cells take over from a heater it is half as much."""
CHARGER_V = 13.9
"""Idle volts above this (of a pack of 12 V) may be a charger's that stands at the terminals."""


def _other_way(trace: Trace, stages: list[Stage], position: int, scale: Scale) -> bool:
    """Whether what counts as a discharge is a charge, or the other way round: at every edge that shows it the voltage is
    higher on its side (lower, for a discharge), and where one edge alone or none does, it rises (falls) on the way. Volts
    and amperes of a row may be read one after the other: the rows beside the edge are passed over.
    """
    stage, volts = stages[position], trace.voltage_V
    way = 1.0 if stage.kind == StageKind.DISCHARGE else -1.0
    begun, ended = float(volts[stage.first + 1]), float(volts[stage.last - 1])
    least = max(LIFT_V, 6.0 * scale.noise_V, 3.0 * trace.digit_V)
    idle = {StageKind.REST, StageKind.PAUSE}
    beside = []
    if position and stages[position - 1].kind in idle:
        beside.append((begun, float(volts[max(stages[position - 1].first, stage.first - 2)])))
    if position + 1 < len(stages) and stages[position + 1].kind in idle:
        beside.append((ended, float(volts[min(stages[position + 1].last, stage.last + 2)])))
    # a protection that is open shows nothing of the cells, a charger that stands there more than they have
    shows = [one for one in beside if one[1] > OPENED * one[0] and (way > 0 or one[1] < CHARGER_V * scale.share)]
    lifts = [way * (flowing - rested) for flowing, rested in shows]
    moved = way * (ended - begun)
    if not lifts:
        return moved > (RISE if way > 0 else FALL) * begun
    return all(lift > least for lift in lifts) and ((way > 0 and len(lifts) == 2) or moved > least)
