"""The whole analysis of one log, each subject done by its own file."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np

from wintry_tally.core.analysis.audits import family_remarks, mean_voltage_remarks, sign_remarks, test_remarks
from wintry_tally.core.analysis.capacity import CapacityTest, Usable, capacity_test, usable_above
from wintry_tally.core.analysis.charging import ChargeResult, charge_of
from wintry_tally.core.analysis.counters import counter_remarks
from wintry_tally.core.analysis.counting import Count, Instrument, Integral, count
from wintry_tally.core.analysis.ending import PROTECTION, SET_CUTOFF, EndOptions, ending_of
from wintry_tally.core.analysis.reserve import Reserve, reserve_of
from wintry_tally.core.analysis.resistance import StepResistance, step_resistances
from wintry_tally.core.analysis.stages import Scale, Stage, StageKind, find_stages, scale_of, span_of
from wintry_tally.core.analysis.trips import Trip, find_trips
from wintry_tally.core.battery.families import Family
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.trace import Remark, mend
from wintry_tally.core.trace.repair import Repair
from wintry_tally.core.trace.trace import Trace

DEFAULT_REST_S = 1800.0
UNCLEAR_NAMED = 10


@dataclass(frozen=True)
class Options:
    """What is known beside the log; everything may be absent."""

    family: Family | None = None
    rated_Ah: float | None = None
    instrument: Instrument = field(default_factory=Instrument)
    cutoff_V: float | None = None
    dropouts_V: tuple[float, ...] = ()
    rated_minutes: float | None = None
    ambient_C: float | None = None
    rest_s: float = DEFAULT_REST_S
    repair: Repair = "safe"


@dataclass(frozen=True)
class StageResult:
    """One stage with what was counted in it."""

    stage: Stage
    count: Count
    start_s: float
    end_s: float
    voltage_start: float
    voltage_end: float
    temperature_mean: float | None
    ended_by: str | None


@dataclass(frozen=True)
class Analysis:
    """What a log says. `trace` is the log as mended; `stages` cover it."""

    trace: Trace
    options: Options
    rows: int
    scale: Scale
    stages: tuple[StageResult, ...]
    capacity: CapacityTest | None
    usable: tuple[Usable, ...]
    charge: ChargeResult | None
    reserve: Reserve | None
    resistance: tuple[StepResistance, ...]
    trips: tuple[Trip, ...]
    remarks: tuple[Remark, ...]

    @property
    def readings_counted(self) -> int:
        """Readings under load in the capacity test."""
        return 0 if self.capacity is None else sum(s.last - s.first + 1 for s in self.capacity.count.spans)


def analyse(raw: Trace, options: Options, progress: Callable[[float], None] | None = None) -> Analysis:
    """Mend, cut, count and audit a log.

    Args:
        raw: as read; times may repeat or run back, readings may be missing.
        options: family, rating, accuracies, cut-off and kin.
        progress: called with 0 to 1; what it raises ends the work (a cancel).

    Raises:
        LogError: fewer than two usable readings, or nothing to count a current from.
    """
    tell = progress or (lambda share: None)
    trace, remarks = mend(raw, options.repair)
    tell(0.3)
    scale = scale_of(trace)
    stages = find_stages(trace, scale)
    flipped = sign_remarks(trace, stages, scale)
    if flipped and options.repair == "offered":
        trace = _turned(trace, [remark.rows for remark in flipped if remark.rows])
        stages = find_stages(trace, scale)
        flipped = [replace(remark, message=remark.message + " Turned, as offered.") for remark in flipped]
    tell(0.6)
    integral = Integral(trace)
    tell(0.8)
    ends = EndOptions(
        options.cutoff_V, options.dropouts_V, options.rated_Ah, options.family, options.instrument.voltage
    )
    endings: list[str | None] = []
    unclear: dict[int, list[Remark]] = {}
    for position in range(len(stages)):
        cause, doubts = ending_of(trace, scale, stages, position, ends)
        endings.append(cause)
        if doubts:
            unclear[position] = doubts
    instrument = options.instrument
    results = tuple(
        _stage_result(trace, integral, scale, stage, cause, instrument)
        for stage, cause in zip(stages, endings, strict=True)
    )
    test = capacity_test(trace, integral, scale, stages, endings, instrument, ends)
    usable: tuple[Usable, ...] = ()
    reserve: Reserve | None = None
    charge = charge_of(trace, integral, scale, stages, endings, instrument, options.family, options.rated_Ah)
    resistance = step_resistances(trace, scale, stages, endings, instrument)
    remarks += flipped
    overruled = test.last if test is not None and test.ended_by != endings[test.last] else -1
    for position, doubts in list(unclear.items())[:UNCLEAR_NAMED]:
        remarks += doubts if position != overruled else []
    if options.family is not None:
        remarks += family_remarks(trace, options.family, stages)
    if test is not None:
        usable = tuple(
            usable_above(trace, integral, scale, stages, test, dropout, instrument) for dropout in options.dropouts_V
        )
        reserve = reserve_of(
            trace, scale, stages, test, instrument, options.family, options.rated_minutes, options.ambient_C
        )
        remarks += test_remarks(trace, integral, scale, stages, test, options.family, options.rest_s)
        if options.family is not None:
            whole = test.ended_by in {PROTECTION, SET_CUTOFF}
            slack = (test.count.mean_voltage.expanded or 0.0) + (0.0 if whole else 0.25)
            remarks += mean_voltage_remarks(options.family, test.count.charge.value, test.count.energy.value, slack)
        spans = test.count.spans
        remarks += counter_remarks(trace, integral, spans[0].first, spans[-1].last, test.count.charge)
    tell(1.0)
    return Analysis(
        trace,
        options,
        len(raw),
        scale,
        results,
        test,
        usable,
        charge,
        reserve,
        tuple(resistance),
        tuple(find_trips(trace, scale, stages, endings, ends, options.ambient_C)),
        tuple(remarks),
    )


def _turned(trace: Trace, rows: list[tuple[int, int]]) -> Trace:
    current = trace.current.copy()
    numbers = np.arange(1, len(trace) + 1) if trace.row is None else trace.row
    for first, last in rows:
        current[(numbers >= first) & (numbers <= last)] *= -1.0
    return replace(trace, current_A=current)


def _stage_result(
    trace: Trace, integral: Integral, scale: Scale, stage: Stage, cause: str | None, instrument: Instrument
) -> StageResult:
    span = span_of(trace, scale, stage)
    live = stage.kind in {StageKind.CHARGE, StageKind.DISCHARGE}
    if not live:
        # a rest ends where the live stage's half interval begins; its own edges carry no current
        span = replace(span, lead_doubt_s=0.0, tail_doubt_s=0.0)
    counted = count(trace, integral, [span], instrument)
    if not live and counted.duration_s > 0:
        # at rest there is no charge to divide by: the mean over time is meant
        mean_V = integral.between(stage.first, stage.last)[2] / max(
            float(trace.time_s[stage.last] - trace.time_s[stage.first]), 1e-12
        )
        if stage.first == stage.last:
            mean_V = float(trace.voltage_V[stage.first])
        accuracy = instrument.voltage
        doubt = None
        if accuracy is not None:
            offset = accuracy.offset_standard(trace.resolution.get("voltage_V", 0.0))
            doubt = float(np.hypot(accuracy.gain_standard() * mean_V, offset))
        counted = replace(counted, mean_voltage=Quantity(mean_V, doubt, "V"))
    temperature = None
    if trace.temperature_C is not None:
        part = trace.temperature_C[stage.first : stage.last + 1]
        part = part[np.isfinite(part)]
        temperature = float(np.mean(part)) if len(part) else None
    return StageResult(
        stage=stage,
        count=counted,
        start_s=float(trace.time_s[stage.first]) - span.lead_s,
        end_s=float(trace.time_s[stage.last]) + span.tail_s,
        voltage_start=float(trace.voltage_V[stage.first]),
        voltage_end=float(trace.voltage_V[stage.last]),
        temperature_mean=temperature,
        ended_by=cause,
    )
