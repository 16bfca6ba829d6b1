"""The whole analysis of one log, each subject done by its own file."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np

from wintry_tally.core.analysis.audits import family_doubt, family_remarks, mean_remarks, sign_remarks, test_remarks
from wintry_tally.core.analysis.beginning import begins_remark, may_lack, not_from_empty, not_from_full
from wintry_tally.core.analysis.bench_audits import (
    charger_remarks,
    discharge_remarks,
    gauge_remarks,
    meter_remarks,
    zero_error,
    zero_remark,
)
from wintry_tally.core.analysis.capacity import CapacityTest, Usable, capacity_test, usable_above
from wintry_tally.core.analysis.cells import Cells, cell_remarks, cells_of
from wintry_tally.core.analysis.charging import ChargeResult, charge_of
from wintry_tally.core.analysis.clock import clock_remark
from wintry_tally.core.analysis.counters import Counters, counter_remarks, counters_of
from wintry_tally.core.analysis.counting import Count, Instrument, Integral, count
from wintry_tally.core.analysis.efficiency import Efficiency, acceptance, charge_remarks, efficiency_of
from wintry_tally.core.analysis.ending import GONE, LOG_END, OPERATOR, PROTECTION, SET_CUTOFF, EndOptions, ending_of
from wintry_tally.core.analysis.reserve import Reserve, reserve_of
from wintry_tally.core.analysis.resistance import StepResistance, step_resistances
from wintry_tally.core.analysis.second_meter import SecondMeter, second_meter_of, second_meter_remarks
from wintry_tally.core.analysis.stages import Scale, Stage, StageKind, find_stages, scale_of, span_of
from wintry_tally.core.analysis.trips import Trip, find_trips, temperature_near
from wintry_tally.core.battery.families import Family, packs_that_fit
from wintry_tally.core.message import NOTHING, said
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.trace import Remark, mend
from wintry_tally.core.trace.beside import AMBIENT_C
from wintry_tally.core.trace.later import Later
from wintry_tally.core.trace.repair import Repair
from wintry_tally.core.trace.trace import Trace

EMPTIED, BEYOND = (0.01, 0.1, 0.25), 1.15
"""Shares of the readings that may lie lower than an empty pack of its cells does, the smallest that helps, where others lie so
far above what the named one can show."""
DEFAULT_REST_S = 1800.0
ALIVE = 0.3
"""Of the median voltage: below it a pack sleeps, and what its terminals show says nothing of its cells."""
UNCLEAR_NAMED = 10


VoltsAt = Literal["", "terminals", "load"]


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
    second: Instrument = field(default_factory=Instrument)
    volts_at: VoltsAt = ""
    """Where the volts were read: at the battery's terminals or at the load, as somebody said; empty where nobody did."""
    ended_by: str = ""
    """How a discharge ended, as who was there said (one of SEEN); empty where nobody did."""
    begun_here: bool = False
    """Whether the log was kept by who began the test: nothing came before its first row."""
    cells_known: bool = False
    """Whether the family's cells in series were said; else the voltages decide them where they can."""

    @property
    def ends(self) -> EndOptions:
        """What of it says how tests end."""
        return EndOptions(self.cutoff_V, self.dropouts_V, self.rated_Ah, self.family, self.instrument.voltage)


def with_cells(trace: Trace, options: Options) -> tuple[Options, list[Remark]]:
    """The options with the pack that the log's own voltages fit, where nobody said which it is; and what is told of it."""
    family = options.family
    looked_at = trace.voltage_V[:: max(1, len(trace) // 20_000)]
    volts = looked_at[np.isfinite(looked_at) & (looked_at > 0.0)]
    if family is None or options.cells_known or len(volts) < 3:
        return options, []
    volts = volts[volts > ALIVE * float(np.median(volts))]
    lows, high = np.quantile(volts, EMPTIED), float(np.quantile(volts, 0.99))
    low, fits = float(lows[0]), []
    usual = family.plausible_V[0] <= low and high <= family.plausible_V[1]
    for low in map(float, lows if high > BEYOND * family.plausible_V[1] else lows[:1]):
        # no charger drives its cells so high: a pack drawn on below its cut-off, or that came back from it, has more of them
        if fits := packs_that_fit(family, low, high):
            break
    others = [pack for pack in fits if pack.cells != family.cells]
    if not others or (usual and len(fits) == len(others)):
        return options, []
    chosen = family if usual else min(others, key=lambda pack: abs(pack.nominal_V - float(np.median(volts))))
    if len(fits) > 1:
        packs = tuple(said("a-pack", cells=pack.cells, volts=pack.nominal_V) for pack in fits)
        told = said("packs-fit", low=low, high=high, family=family.words, packs=packs, cells=chosen.cells)
        return replace(options, family=chosen), [Remark("pack-voltage-open", told)]
    told = said("pack-fits", low=low, high=high, family=family.words, cells=chosen.cells, volts=chosen.nominal_V)
    return replace(options, family=chosen), [Remark("pack-voltage", told)]


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
    """What a log says. `stages` cover the log as mended, which `trace` is; one that was kept is read when it is asked for."""

    held: Trace | Later
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

    efficiency: Efficiency | None = None
    acceptance: tuple[tuple[float, float], ...] = ()
    counted: Counters = field(default_factory=Counters)
    cells: Cells | None = None
    second: SecondMeter | None = None

    @property
    def trace(self) -> Trace:
        """The log as mended."""
        return self.held.trace if isinstance(self.held, Later) else self.held

    @property
    def at_hand(self) -> bool:
        """Whether the trace is there without reading anything."""
        return not isinstance(self.held, Later) or self.held.is_read

    @property
    def readings_counted(self) -> int:
        """Readings under load in the capacity test."""
        return 0 if self.capacity is None else sum(s.last - s.first + 1 for s in self.capacity.count.spans)

    @property
    def plain_stages(self) -> list[Stage]:
        """The stages without what was counted in them."""
        return [result.stage for result in self.stages]

    @property
    def endings(self) -> list[str | None]:
        """How each stage ended."""
        return [result.ended_by for result in self.stages]

    def seen_to_end(self, place: int) -> str:
        """How a stage ended: as its readings show, or, where they stop under load, as somebody saw it; empty for neither."""
        shown = self.stages[place].ended_by or ""
        seen = self.capacity is not None and place == self.capacity.last and self.options.ended_by in SEEN
        return self.options.ended_by if seen and shown in {"", LOG_END} else shown


@dataclass(frozen=True)
class _Cut:
    """A mended log cut into stages, with everything its subjects are worked out from."""

    trace: Trace
    scale: Scale
    integral: Integral
    stages: list[Stage]
    endings: list[str | None]
    unclear: dict[int, list[Remark]]
    ends: EndOptions


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
    options, pack = with_cells(raw, _with_ambient(raw, options))
    trace, remarks = mend(raw, options.repair, _zero_of(raw, options), options.rated_Ah)
    remarks += pack
    tell(0.3)
    cut, offered = _cut(trace, options, tell)
    trace, scale, stages, endings, instrument = cut.trace, cut.scale, cut.stages, cut.endings, options.instrument
    test = _as_seen(trace, capacity_test(trace, cut.integral, scale, stages, endings, instrument, cut.ends), options)
    charge = charge_of(trace, cut.integral, scale, stages, endings, instrument, options.family, options.rated_Ah)
    clock, factor = clock_remark(trace, test, charge, options.rated_Ah, options.family, remarks)
    if clock is not None and factor and options.repair == "offered":
        return _reclocked(raw, options, clock, factor)
    remarks += [] if clock is None else [clock]
    test, begins = _begun(cut, test, charge, options)
    usable, reserve, counted = _of_discharge(cut, test, options)
    efficiency = _efficiency(trace, test, charge)
    cells = cells_of(trace, stages)
    second = None if test is None else second_meter_of(trace, test, instrument, options.second)
    analysis = Analysis(
        held=trace,
        options=options,
        rows=len(raw),
        scale=scale,
        stages=_stage_results(cut, instrument),
        capacity=test,
        usable=usable,
        charge=charge,
        reserve=reserve,
        resistance=tuple(step_resistances(trace, scale, stages, endings, instrument)),
        trips=tuple(find_trips(trace, scale, stages, endings, cut.ends, options.ambient_C)),
        remarks=(
            *_with_hidden(remarks, trace, test),
            *offered,
            *begins,
            *_audit(cut, test, options),
            *charge_remarks(charge, efficiency),
            *cell_remarks(trace, cells, stages),
            *second_meter_remarks(trace, test, second),
        ),
        efficiency=efficiency,
        acceptance=_acceptance(trace, charge),
        counted=counted,
        cells=cells,
        second=second,
    )
    tell(1.0)
    return analysis


def _with_ambient(raw: Trace, options: Options) -> Options:
    """The options with the ambient temperature that was logged, where nobody said another."""
    around = raw.beside.get(AMBIENT_C.name)
    if options.ambient_C is not None or around is None or not np.isfinite(around).any():
        return options
    return replace(options, ambient_C=float(np.nanmedian(around)))


def _reclocked(raw: Trace, options: Options, remark: Remark, factor: float) -> Analysis:
    """The log with every time multiplied, as offered and asked for."""
    done = replace(remark, message=said("times-made", told=remark.message))
    analysis = analyse(replace(raw, time_s=raw.time_s * factor, unnamed=raw.unnamed - {"time", "clock"}), options)
    return replace(analysis, remarks=(done, *analysis.remarks))


def _of_discharge(
    cut: _Cut, test: CapacityTest | None, options: Options
) -> tuple[tuple[Usable, ...], Reserve | None, Counters]:
    """What else a discharge says: what lies above drop-outs, reserve minutes, the instrument's own counter."""
    if test is None:
        return (), None, Counters()
    trace, scale, stages, meter = cut.trace, cut.scale, cut.stages, options.instrument
    usable = tuple(usable_above(trace, cut.integral, scale, stages, test, at, meter) for at in options.dropouts_V)
    reserve = reserve_of(trace, scale, stages, test, meter, options.family, options.rated_minutes, options.ambient_C)
    return usable, reserve, counters_of(trace, test.count.spans[0].first, test.count.spans[-1].last)


SEEN = frozenset({PROTECTION, SET_CUTOFF, OPERATOR})


def _as_seen(trace: Trace, test: CapacityTest | None, options: Options) -> CapacityTest | None:
    """A test whose readings stop under load, with how it ended as somebody saw it: up to one more interval after them.

    Source: common practice, no published source.
    """
    if test is None or test.ended_by not in {LOG_END, GONE} or options.ended_by not in SEEN:
        return test
    if test.ended_by == GONE:
        return replace(test, ended_by=options.ended_by)
    span = test.count.spans[-1]
    interval_s = float(trace.time_s[span.last] - trace.time_s[span.last - 1]) if span.last > span.first else 0.0
    # who switched it off read it as they did
    return replace(test, ended_by=options.ended_by, unread_s=0.0 if options.ended_by == OPERATOR else interval_s)


def _begun(
    cut: _Cut, test: CapacityTest | None, charge: ChargeResult | None, options: Options
) -> tuple[CapacityTest | None, list[Remark]]:
    """The test with why it did not begin full where its log begins under load, and what is told of such a log.

    A log that begins with a short load, or with a charge that may well have begun there, is told of nothing.
    """
    if test is not None and test.empties and cut.stages[0].kind == StageKind.DISCHARGE and test.first == 0:
        discharges = [stage for stage in cut.stages[: test.last + 1] if stage.kind == StageKind.DISCHARGE]
        celsius = temperature_near(cut.trace, 0, options.ambient_C)
        why, seen = not_from_full(cut.trace, cut.integral, discharges, options.family, celsius, options.rated_Ah)
        told = [] if seen or (options.begun_here and not why) else [begins_remark(cut.trace, why)]
        if why or options.family is None:
            return replace(test, begun_low=said("its-log", why=why) if why else NOTHING), told
        known = (cut.trace, cut.integral, discharges, options.family, celsius, options.rated_Ah)
        return replace(test, lacking=0.0 if options.begun_here else may_lack(*known, falls=seen)), told
    if charge is not None and charge.count.spans and charge.count.spans[0].first == 0:
        why = not_from_empty(cut.trace, 0, charge.count.duration_s, options.family)
        return test, [begins_remark(cut.trace, why)] if why else []
    return test, []


def down_to(analysis: Analysis, cutoff_V: float) -> Analysis:
    """The same log with its capacity test counted no further than to a cut-off above its end, where the volts fell through it."""
    test, trace, options = analysis.capacity, analysis.trace, analysis.options
    if test is None:
        return analysis
    ends = replace(options.ends, cutoff_V=cutoff_V)
    again = capacity_test(
        trace, Integral(trace), analysis.scale, analysis.plain_stages, analysis.endings, options.instrument, ends
    )
    if again is None or again.count.duration_s >= test.count.duration_s:
        return analysis
    return replace(analysis, capacity=replace(again, begun_low=test.begun_low, lacking=test.lacking))


def mended_trace(raw: Trace, options: Options) -> Trace:
    """The log as `analyse` mends it, and nothing more: its `trace`, with the options as they were given to it.

    Raises:
        LogError: as `analyse`.
    """
    if options.repair == "offered":
        return analyse(raw, options).trace
    options, _ = with_cells(raw, options)
    return mend(raw, options.repair, _zero_of(raw, options), options.rated_Ah)[0]


def _straightened(trace: Trace, options: Options) -> tuple[Trace, Scale, list[Stage], list[Remark]]:
    """The log with its stages, and what is offered to be mended in it (sign, zero): done where that was asked."""
    scale = scale_of(trace, _zero_of(trace, options), options.family.share if options.family else 1.0)
    stages = find_stages(trace, scale)
    flipped = sign_remarks(trace, stages, scale)
    if flipped and options.repair == "offered":
        trace = _turned(trace, [remark.rows for remark in flipped if remark.rows])
        stages = find_stages(trace, scale)
        flipped = [replace(remark, message=said("sign-turned", told=remark.message)) for remark in flipped]
    off = zero_error(trace, stages)
    if off is not None:
        flipped.append(zero_remark(trace, scale, off, subtracted=options.repair == "offered"))
        if options.repair == "offered":
            trace = replace(trace, current_A=trace.current - off.mean_A)
            stages = find_stages(trace, scale)
    return trace, scale, stages, flipped


def _cut(trace: Trace, options: Options, tell: Callable[[float], None]) -> tuple[_Cut, list[Remark]]:
    """The log cut into stages and their endings; remarks with an offer (sign, zero), done where that was asked."""
    trace, scale, stages, flipped = _straightened(trace, options)
    tell(0.6)
    integral = Integral(trace)
    tell(0.8)
    ends = options.ends
    endings: list[str | None] = []
    unclear: dict[int, list[Remark]] = {}
    for position in range(len(stages)):
        cause, doubts = ending_of(trace, scale, stages, position, ends)
        endings.append(cause)
        if doubts:
            unclear[position] = doubts
    return _Cut(trace, scale, integral, stages, endings, unclear, ends), flipped


def _zero_of(trace: Trace, options: Options) -> float:
    """The meter's own limit at zero, A; 0 where nothing is known of it."""
    accuracy = options.instrument.current
    return accuracy.offset_limit(trace.digit_A) if accuracy is not None else 0.0


def _audit(cut: _Cut, test: CapacityTest | None, options: Options) -> list[Remark]:
    """Every slip the trace shows, in the order of its subjects."""
    trace, scale, stages, family = cut.trace, cut.scale, cut.stages, options.family
    remarks: list[Remark] = []
    overruled = test.last if test is not None and test.ended_by != cut.endings[test.last] else -1
    for position, doubts in list(cut.unclear.items())[:UNCLEAR_NAMED]:
        remarks += doubts if position != overruled else []
    if family is not None:
        remarks += family_remarks(trace, family, stages)
        remarks += charger_remarks(trace, scale, stages, family)
    remarks += gauge_remarks(trace, scale, family)
    if test is None:
        return remarks
    remarks += discharge_remarks(trace, stages, test, family, options.cutoff_V)
    remarks += meter_remarks(trace, cut.integral, test)
    if test.empties:
        remarks += test_remarks(trace, cut.integral, scale, stages, test, family, options.rest_s)
    if family is not None and test.empties:
        remarks += family_doubt(family, test)
        remarks += mean_remarks(family, test, options.rated_Ah)
    spans = test.count.spans
    return remarks + counter_remarks(trace, cut.integral, spans[0].first, spans[-1].last, test.count)


def _with_hidden(remarks: list[Remark], trace: Trace, test: CapacityTest | None) -> list[Remark]:
    """The remark on a gap in which a discharge may have gone on says how much may be missing."""
    if test is None or not test.hidden_s:
        return remarks
    last = test.count.spans[-1].last
    rows = (trace.row_at(last), trace.row_at(last + 1))
    told = said("gap-at-end", seconds=test.hidden_s, row=rows[0], charge_Ah=test.hidden_Ah)
    return [replace(item, message=told) if item.code == "gap" and item.rows == rows else item for item in remarks]


def _efficiency(trace: Trace, test: CapacityTest | None, charge: ChargeResult | None) -> Efficiency | None:
    """Of the full charge and the full discharge of one log, whichever came first."""
    if test is None or charge is None or charge.all_in is None or test.count.charge.value <= 0:
        return None
    filled = charge.time_to_full_s is not None or charge.undecided
    if not filled or test.ended_by not in {PROTECTION, SET_CUTOFF} or charge.count.charge.value <= 0:
        return None
    # two ends of one depth: a top-up and a full discharge, or the other way round, are no pair
    if not 0.5 < test.count.charge.value / charge.all_in.charge.value < 1.15:
        return None
    begun = [float(trace.time_s[count.spans[0].first]) for count in (charge.count, test.count)]
    return efficiency_of(charge.all_in, test.count, (begun[0], begun[1]))


def _acceptance(trace: Trace, charge: ChargeResult | None) -> tuple[tuple[float, float], ...]:
    if charge is None or charge.count.duration_s <= 0:
        return ()
    return tuple(acceptance(trace, charge.count.spans[0].first, charge.count.spans[-1].last))


def _turned(trace: Trace, rows: list[tuple[int, int]]) -> Trace:
    current = trace.current.copy()
    numbers = np.arange(1, len(trace) + 1) if trace.row is None else trace.row
    for first, last in rows:
        current[(numbers >= first) & (numbers <= last)] *= -1.0
    return replace(trace, current_A=current)


def _stage_results(cut: _Cut, instrument: Instrument) -> tuple[StageResult, ...]:
    return tuple(
        _stage_result(cut.trace, cut.integral, cut.scale, stage, cause, instrument)
        for stage, cause in zip(cut.stages, cut.endings, strict=True)
    )


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
            offset = accuracy.offset_standard(trace.digit_V)
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
