"""Slips of the bench that a trace shows: settings, loads and gauges, beside those of the readings themselves."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from wintry_tally.core.analysis.capacity import CapacityTest
from wintry_tally.core.analysis.counters import read_counter
from wintry_tally.core.analysis.counting import HOUR, Integral
from wintry_tally.core.analysis.ending import LOG_END, OPERATOR
from wintry_tally.core.analysis.stages import Scale, Stage, StageKind
from wintry_tally.core.battery.families import Family
from wintry_tally.core.message import said
from wintry_tally.core.trace import Remark
from wintry_tally.core.trace.trace import Trace

OVER_V = 0.15
"""How far above the family's upper limit a charger's setting may be read; common practice."""
FLOATS_S = 1800.0


def charger_remarks(trace: Trace, scale: Scale, stages: list[Stage], family: Family) -> list[Remark]:
    """A charger on another family's setting: a limit held too high, or a float where the family has none."""
    remarks: list[Remark] = []
    for stage in stages:
        if stage.kind != StageKind.CHARGE or stage.last - stage.first < 10:
            continue
        part = trace.voltage_V[stage.first : stage.last + 1]
        rows = (trace.row_at(stage.first), trace.row_at(stage.last))
        limit = float(np.quantile(part, 0.98))
        allowed = family.charge_V[2] + OVER_V * family.share
        if limit > allowed and not any(remark.code == "charger-setting" for remark in remarks):
            told = said("over-limit", volts=limit, family=family.words, limit=family.charge_V[2])
            remarks.append(Remark("charger-setting", told, rows))
        flat = float(np.quantile(part, 0.98) - np.quantile(part, 0.02)) < 0.1 * family.share
        small = float(np.median(np.abs(trace.current[stage.first : stage.last + 1]))) < 0.1 * scale.reference_A
        floats = (
            family.lithium
            and flat
            and small
            and family.charge_V[0] - 0.7 * family.share < limit < family.charge_V[0] - 0.25 * family.share
        )
        lasted = float(trace.time_s[stage.last] - trace.time_s[stage.first])
        if floats and lasted > FLOATS_S:
            told = said("floated", volts=limit, minutes=lasted / 60, family=family.words)
            remarks.append(Remark("charger-setting", told, rows))
    return remarks[:3]


def discharge_remarks(
    trace: Trace, stages: list[Stage], test: CapacityTest, family: Family | None, cutoff_V: float | None
) -> list[Remark]:
    """Rates that changed on the way, a cut-off or a floor gone below, a lead-acid test broken off."""
    remarks: list[Remark] = []
    discharges = [stage for stage in stages[test.first : test.last + 1] if stage.kind == StageKind.DISCHARGE]
    rates = test.rates
    if len(rates) > 1 and max(rates) > 1.1 * min(rates) and test.empties:
        where = next(n for n in range(1, len(rates)) if max(rates[n], rates[n - 1]) > 1.1 * min(rates[n], rates[n - 1]))
        stage = discharges[where]
        lithium = family is not None and family.lithium
        told = said(
            "load-changed" if lithium else "load-changed-lead", rates=tuple(f"{rate:.4g}" for rate in rates[:6])
        )
        remarks.append(Remark("rate-changed", told, (trace.row_at(stage.first), trace.row_at(discharges[-1].last))))
    last = discharges[-1]
    lowest, ends_at = float(trace.voltage_V[last.last]), (trace.row_at(last.last), trace.row_at(last.last))
    if cutoff_V is not None and test.past_cutoff_s:
        told = said("went-on-past-cutoff", minutes=test.past_cutoff_s / 60.0, cutoff=cutoff_V, volts=lowest)
        remarks.append(Remark("past-cutoff", told, ends_at))
    if family is None:
        return remarks
    floor = family.cutoff_floor_V
    if cutoff_V is not None and cutoff_V < floor:
        remarks.append(Remark("below-floor", said("cutoff-below-floor", volts=cutoff_V, floor=floor)))
    elif lowest < floor - 0.1 and lowest > 1.0:
        told = said("driven-below-floor", volts=lowest, floor=floor, family=family.words)
        remarks.append(Remark("below-floor", told, ends_at))
    if (
        not family.lithium
        and test.empties
        and test.ended_by in {OPERATOR, LOG_END}
        and test.voltage_end > family.cutoff_V + 0.3
    ):
        told = said("broken-off", volts=test.voltage_end, cutoff=family.cutoff_V)
        remarks.append(Remark("ended-early", told, ends_at))
    return remarks


def gauge_remarks(trace: Trace, scale: Scale, family: Family | None) -> list[Remark]:
    """A charge gauge that follows the voltage: it jumps with the load, which charge cannot."""
    gauge = trace.charge_state
    if gauge is None or len(trace) < 10:
        return []
    jumps = np.abs(np.diff(gauge))
    steps = np.abs(np.diff(trace.current))
    loaded = steps > 0.2 * scale.reference_A
    most = float(np.nanmax(np.where(loaded, jumps, 0.0)))
    if most < 5.0:
        return []
    at = int(np.nanargmax(np.where(loaded, jumps, 0.0)))
    flat = family is not None and family.flat
    told = said("gauge-jumps-flat" if flat else "gauge-jumps", points=most)
    return [Remark("gauge-on-voltage", told, (trace.row_at(at), trace.row_at(at + 1)))]


def meter_remarks(trace: Trace, integral: Integral, test: CapacityTest) -> list[Remark]:
    """Two ways of measuring one thing that differ beyond their doubts: a power column, an energy counter."""
    remarks: list[Remark] = []
    first, last = test.count.spans[0].first, test.count.spans[-1].last
    rows, energy = (trace.row_at(first), trace.row_at(last)), test.count.energy
    recorded_Wh = test.count.recorded_Ah * test.count.mean_voltage.value
    doubt = energy.expanded if energy.expanded is not None else math.hypot(0.02 * energy.value, 2 * recorded_Wh)
    if trace.power_W is not None and last > first:
        time, power = trace.time_s[first : last + 1], trace.power_W[first : last + 1]
        whole = np.isfinite(power)
        if np.count_nonzero(whole) > 2:
            by_power = abs(float(np.trapezoid(power[whole], time[whole]))) / HOUR
            inside = abs(integral.between(first, last)[1]) / HOUR
            if inside > 0 and abs(by_power - inside) > max(doubt, 0.01 * inside):
                share = 100 * (by_power / inside - 1)
                told = said("power-apart", power_Wh=by_power, energy_Wh=inside, share=share, limit=doubt)
                remarks.append(Remark("meters-disagree", told, rows))
    if trace.counter_Wh is not None:
        step = trace.digit("counter_Wh")
        reading = read_counter(trace.counter_Wh, max(0, first - 1), last, "Wh", step)
        inside = abs(integral.between(max(0, first - 1), last)[1]) / HOUR
        if math.isfinite(reading.start) and inside > 0 and reading.moved.value > 0:
            apart = reading.moved.value - inside
            if abs(apart) > max(doubt, 2 * step, 0.005 * inside):
                moved, share = reading.moved.value, 100 * apart / inside
                told = said("energy-apart", counter_Wh=moved, energy_Wh=inside, share=share, limit=doubt)
                remarks.append(Remark("counter-disagrees", told, rows))
    return remarks


ZERO_READINGS, ZERO_DIGITS, ZERO_SIGMAS = 5, 2.0, 4.0


@dataclass(frozen=True)
class ZeroError:
    """What a meter reads with nothing flowing: its mean in A, between which rests."""

    mean_A: float
    first: Stage
    last: Stage


def zero_error(trace: Trace, stages: list[Stage]) -> ZeroError | None:
    """A current that is steadily off zero while nothing flows; None where it is not."""
    rests = [stage for stage in stages if stage.kind in {StageKind.REST, StageKind.PAUSE}]
    parts = [
        trace.current[stage.first : stage.last + 1] for stage in rests if stage.last - stage.first >= ZERO_READINGS
    ]
    if not parts:
        return None
    every = np.concatenate(parts)
    mean, spread = float(np.mean(every)), float(np.std(every))
    digit = trace.digit_A
    if abs(mean) <= max(ZERO_DIGITS * digit, ZERO_SIGMAS * spread / len(every) ** 0.5, 1e-4):
        return None
    return ZeroError(mean, rests[0], rests[-1])


def zero_remark(trace: Trace, scale: Scale, found: ZeroError, *, subtracted: bool) -> Remark:
    """A meter's zero error, and what subtracting it would do or has done."""
    told = said("zero-off", amps=found.mean_A)
    if 0.0 < abs(found.mean_A) <= scale.zero_A:
        told = said("zero-off-within", amps=found.mean_A, limit=scale.zero_A)
    return Remark(
        "zero-offset",
        said("zero-subtracted", told=told) if subtracted else told,
        (trace.row_at(found.first.first), trace.row_at(found.last.last)),
        said("offer-zero", amps=found.mean_A),
    )
