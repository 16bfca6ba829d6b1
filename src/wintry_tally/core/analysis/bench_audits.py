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
        allowed = family.charge_V[2] + OVER_V
        if limit > allowed and not any(remark.code == "charger-setting" for remark in remarks):
            remarks.append(
                Remark(
                    "charger-setting",
                    f"Charged at {limit:.2f} V; the upper limit for a {family.words} battery is {family.charge_V[2]:g} V. "
                    "Check the charger's family setting: the wrong one is dangerous.",
                    rows,
                )
            )
        flat = float(np.quantile(part, 0.98) - np.quantile(part, 0.02)) < 0.1
        small = float(np.median(np.abs(trace.current[stage.first : stage.last + 1]))) < 0.1 * scale.reference_A
        floats = family.lithium and flat and small and family.charge_V[0] - 0.7 < limit < family.charge_V[0] - 0.25
        lasted = float(trace.time_s[stage.last] - trace.time_s[stage.first])
        if floats and lasted > FLOATS_S:
            remarks.append(
                Remark(
                    "charger-setting",
                    f"Held at {limit:.2f} V for {lasted / 60:.0f} min: a float stage, which a {family.words} battery does "
                    "not want; take the charger off when it is full.",
                    rows,
                )
            )
    return remarks[:3]


def discharge_remarks(
    trace: Trace, stages: list[Stage], test: CapacityTest, family: Family | None, cutoff_V: float | None
) -> list[Remark]:
    """Rates that changed on the way, a floor gone below, a lead-acid test broken off."""
    remarks: list[Remark] = []
    discharges = [stage for stage in stages[test.first : test.last + 1] if stage.kind == StageKind.DISCHARGE]
    rates = test.rates
    if len(rates) > 1 and max(rates) > 1.1 * min(rates) and test.empties:
        where = next(n for n in range(1, len(rates)) if max(rates[n], rates[n - 1]) > 1.1 * min(rates[n], rates[n - 1]))
        stage = discharges[where]
        told = " → ".join(f"{rate:.4g}" for rate in rates[:6])
        remarks.append(
            Remark(
                "rate-changed",
                f"The load was changed in mid-run ({told} A): reported stage by stage"
                + ("" if family is not None and family.lithium else "; not a capacity at the rated rate")
                + ".",
                (trace.row_at(stage.first), trace.row_at(discharges[-1].last)),
            )
        )
    if family is None:
        return remarks
    last = discharges[-1]
    lowest = float(trace.voltage_V[last.last])
    floor = family.cutoff_floor_V
    if cutoff_V is not None and cutoff_V < floor:
        remarks.append(
            Remark("below-floor", f"A cut-off of {cutoff_V:g} V lies below {floor:g} V, the least for this family.")
        )
    elif lowest < floor - 0.1 and lowest > 1.0:
        remarks.append(
            Remark(
                "below-floor",
                f"Driven down to {lowest:.2f} V under load, below {floor:g} V, the least for a {family.words} battery.",
                (trace.row_at(last.last), trace.row_at(last.last)),
            )
        )
    if (
        not family.lithium
        and test.empties
        and test.ended_by in {OPERATOR, LOG_END}
        and test.voltage_end > family.cutoff_V + 0.3
    ):
        remarks.append(
            Remark(
                "ended-early",
                f"Ended at {test.voltage_end:.2f} V, above the {family.cutoff_V:g} V of a capacity test: what is counted is "
                "what was drawn; twice a half is no capacity.",
                (trace.row_at(last.last), trace.row_at(last.last)),
            )
        )
    return remarks


def gauge_remarks(trace: Trace, scale: Scale, family: Family | None) -> list[Remark]:
    """A charge gauge that follows the voltage: it jumps with the load, which charge cannot."""
    gauge = trace.charge_state
    if gauge is None or len(trace) < 10:
        return []
    jumps = np.abs(np.diff(gauge))
    steps = np.abs(np.diff(trace.current))
    loaded = steps > 0.2 * scale.reference_A
    if not np.any(loaded):
        return []
    most = float(np.nanmax(np.where(loaded, jumps, 0.0)))
    if most < 5.0:
        return []
    at = int(np.nanargmax(np.where(loaded, jumps, 0.0)))
    flat = " On so flat a curve it means little." if family is not None and family.flat else ""
    return [
        Remark(
            "gauge-on-voltage",
            f"The charge gauge jumps by {most:.0f} points as the load changes: it is read from the voltage, not counted."
            + flat,
            (trace.row_at(at), trace.row_at(at + 1)),
        )
    ]


def meter_remarks(trace: Trace, integral: Integral, test: CapacityTest) -> list[Remark]:
    """Two ways of measuring one thing that differ beyond their doubts: a power column, an energy counter."""
    remarks: list[Remark] = []
    first, last = test.count.spans[0].first, test.count.spans[-1].last
    energy = test.count.energy
    doubt = energy.expanded if energy.expanded is not None else 0.02 * abs(energy.value)
    if trace.power_W is not None and last > first:
        time, power = trace.time_s[first : last + 1], trace.power_W[first : last + 1]
        whole = np.isfinite(power)
        if np.count_nonzero(whole) > 2:
            by_power = abs(float(np.trapezoid(power[whole], time[whole]))) / HOUR
            inside = abs(integral.between(first, last)[1]) / HOUR
            if inside > 0 and abs(by_power - inside) > max(doubt, 0.01 * inside):
                remarks.append(
                    Remark(
                        "meters-disagree",
                        f"The power column adds up to {by_power:.5g} Wh, voltage times current to {inside:.5g} Wh: "
                        f"{100 * (by_power / inside - 1):+.1f} %, beyond the uncertainty of ± {doubt:.2g} Wh.",
                        (trace.row_at(first), trace.row_at(last)),
                    )
                )
    if trace.counter_Wh is not None:
        step = trace.resolution.get("counter_Wh", 0.0)
        reading = read_counter(trace.counter_Wh, max(0, first - 1), last, "Wh", step)
        inside = abs(integral.between(max(0, first - 1), last)[1]) / HOUR
        if math.isfinite(reading.start) and inside > 0 and reading.moved.value > 0:
            apart = reading.moved.value - inside
            if abs(apart) > max(doubt, 2 * step, 0.005 * inside):
                remarks.append(
                    Remark(
                        "counter-disagrees",
                        f"The energy counter moved {reading.moved.value:.5g} Wh, voltage times current gives "
                        f"{inside:.5g} Wh: {100 * apart / inside:+.1f} %, beyond the uncertainty of ± {doubt:.2g} Wh.",
                        (trace.row_at(first), trace.row_at(last)),
                    )
                )
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
    digit = trace.resolution.get("current_A", 0.0)
    if abs(mean) <= max(ZERO_DIGITS * digit, ZERO_SIGMAS * spread / len(every) ** 0.5, 1e-4):
        return None
    return ZeroError(mean, rests[0], rests[-1])


def zero_remark(trace: Trace, scale: Scale, found: ZeroError, *, subtracted: bool) -> Remark:
    """A meter's zero error, and what subtracting it would do or has done."""
    within = f", within the {scale.zero_A:g} A it may be off" if 0.0 < abs(found.mean_A) <= scale.zero_A else ""
    return Remark(
        "zero-offset",
        f"The current reads {found.mean_A:+.3g} A with nothing flowing{within}: a meter's zero error."
        + (" Subtracted, as offered; the uncertainty of its zero stays." if subtracted else ""),
        (trace.row_at(found.first.first), trace.row_at(found.last.last)),
        f"subtract {found.mean_A:.3g} A from every current; the uncertainty of its zero stays",
    )
