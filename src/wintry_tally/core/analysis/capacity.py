"""The capacity test in a log: consecutive discharges and the pauses between them, down to how it ended."""

from __future__ import annotations

from dataclasses import dataclass, replace

from wintry_tally.core.analysis.counting import HOUR, Count, Instrument, Integral, Span, count
from wintry_tally.core.analysis.crossing import Crossing, find_crossing
from wintry_tally.core.analysis.ending import (
    SET_CUTOFF,
    EndOptions,
    at_a_knee,
    fall_per_reading,
    highest_setting,
    past_cutoff_s,
    slack_of,
)
from wintry_tally.core.analysis.groups import largest_group
from wintry_tally.core.analysis.stages import Scale, Stage, StageKind, gap_after, span_of
from wintry_tally.core.message import NOTHING, Message
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.trace.trace import Trace

SHORT_S, LEAST_SHARE = 900.0, 0.15
"""What lasts less than a quarter of an hour, or draws less than this share of the rating, empties no battery."""


NEAR_SHARE = 0.01
"""A voltage that a discharge would have come to in so much of its time more is where it ended; common practice."""


@dataclass(frozen=True)
class CapacityTest:
    """What the deepest discharge gave.

    Parts:
        count: charge, energy, means and their doubt.
        first, last: positions of its stages in the analysis.
        c_rate, percent_of_rated: None without a rating.
        ended_by: the cause; voltage_start and voltage_end under load, V.
        pauses_s: time at rest within it; rates: mean current of each discharge stage, A.
        hidden_s: how long it may have gone on unseen, in a gap after its last reading.
        unread_s: how long after its last reading it may have ended, where somebody saw how it did; 0 where readings show it.
        begun_low: why it did not begin full, or before its log did; empty where it may have.
        lacking: the share of a full battery's charge that may have been drawn before its log, where that begins under
            load and nothing shows that it began full; else 0.
        slack_V: how far above a voltage its last reading may lie where it went down to that; fall_V_s: how fast it fell then.
        past_cutoff_s: how long its load stayed on below the cut-off that was given, and that did not end it.
        at_knee: whether its voltage fell at its end much faster than in the middle, to where a cut-off may be set.
    """

    count: Count
    first: int
    last: int
    c_rate: float | None
    percent_of_rated: Quantity | None
    ended_by: str
    voltage_start: float
    voltage_end: float
    pauses_s: float
    rates: tuple[float, ...]
    hidden_s: float = 0.0
    unread_s: float = 0.0
    begun_low: Message = NOTHING
    lacking: float = 0.0
    slack_V: float = 0.0
    fall_V_s: float = 0.0
    at_knee: bool = False
    past_cutoff_s: float = 0.0

    @property
    def empties(self) -> bool:
        """Whether it was meant to empty the battery, by its time and rate: a hold, a surge and a step test are not."""
        if self.count.duration_s < SHORT_S:
            return False
        return (
            self.c_rate is None or self.count.charge.value >= LEAST_SHARE * self.count.mean_current.value / self.c_rate
        )

    @property
    def before(self) -> float:
        """What may have been drawn before its log, in what was counted."""
        return self.lacking / (1.0 - self.lacking)

    @property
    def near_V(self) -> float:
        """How far above a voltage it may have ended to have reached it, V: what it would have fallen by next, and soon."""
        return min(self.slack_V, NEAR_SHARE * self.count.duration_s * self.fall_V_s)

    @property
    def hidden_Ah(self) -> float:
        """Charge that may have flowed in that gap."""
        return self.hidden_s / HOUR * (self.rates[-1] if self.rates else 0.0)

    @property
    def unread_Ah(self) -> float:
        """Charge that may have flowed between its last reading and its end."""
        return self.unread_s / HOUR * (self.rates[-1] if self.rates else 0.0)


@dataclass(frozen=True)
class Usable:
    """Charge, energy and time above a device's drop-out voltage."""

    dropout_V: float
    charge: Quantity
    energy: Quantity
    duration_s: float
    reached: bool


def spans_until(
    trace: Trace, scale: Scale, discharges: list[Stage], crossing: tuple[int, Crossing] | None
) -> list[Span]:
    """The spans of these discharges, the last one ending at the crossing where there is one."""
    if crossing is None:
        return [span_of(trace, scale, stage) for stage in discharges]
    position, where = crossing
    spans = [span_of(trace, scale, stage) for stage in discharges[:position]]
    stage = discharges[position]
    whole = span_of(trace, scale, stage)
    spans.append(
        replace(
            whole,
            last=max(stage.first, where.last),
            tail_s=where.tail_s,
            tail_doubt_s=where.doubt_s,
            mark_doubt_s=where.mark_doubt_s,
            tail_current_A=where.current_A,
            tail_voltage_V=where.voltage_V,
        )
    )
    return spans


def capacity_test(
    trace: Trace,
    integral: Integral,
    scale: Scale,
    stages: list[Stage],
    endings: list[str | None],
    instrument: Instrument,
    options: EndOptions,
) -> CapacityTest | None:
    """The deepest discharge of the log, or None when nothing was discharged.

    With a cut-off given and the discharge going on below it, the count ends where the cut-off was crossed.
    """
    found = largest_group(integral, stages, StageKind.DISCHARGE)
    if found is None:
        return None
    (first, last), discharges = found
    ended_by = endings[last] or "log-end"
    end_V = float(trace.voltage_V[discharges[-1].last])
    crossing = None
    if options.cutoff_V is not None and end_V < options.cutoff_V:
        crossing = find_crossing(trace, scale, discharges, options.cutoff_V, instrument)
    if crossing is not None:
        position, where = crossing
        beyond = discharges[position].last - where.last
        if where.tail_s > 0 and (beyond > 1 or position < len(discharges) - 1):
            ended_by, end_V = SET_CUTOFF, float(options.cutoff_V or end_V)
        else:
            crossing = None  # it went off within the last interval, which is counted as it was logged
    slack_V = slack_of(trace, scale, discharges[-1], options)
    spans = spans_until(trace, scale, discharges, crossing)
    counted = count(trace, integral, spans, instrument)
    rated = options.rated_Ah
    pauses = sum(
        float(trace.time_s[stage.last] - trace.time_s[stage.first])
        for stage in stages[first : last + 1]
        if stage.kind == StageKind.PAUSE
    )
    rates = tuple(
        count(trace, integral, [span_of(trace, scale, stage)], Instrument()).mean_current.value for stage in discharges
    )
    return CapacityTest(
        count=counted,
        first=first,
        last=last,
        c_rate=counted.mean_current.value / rated if rated else None,
        percent_of_rated=counted.charge.scaled(100.0 / rated, "%") if rated else None,
        ended_by=ended_by,
        voltage_start=float(trace.voltage_V[discharges[0].first]),
        voltage_end=end_V,
        pauses_s=pauses,
        rates=rates,
        hidden_s=0.0 if crossing is not None else gap_after(trace, scale, discharges[-1].last),
        slack_V=slack_V,
        fall_V_s=fall_per_reading(trace, discharges[-1]) / max(scale.usual_s, 1e-9),
        at_knee=end_V <= highest_setting(options.family) and at_a_knee(trace, scale, discharges[-1]),
        past_cutoff_s=past_cutoff_s(trace, discharges[-1], options.cutoff_V, slack_V),
    )


def usable_above(
    trace: Trace,
    integral: Integral,
    scale: Scale,
    stages: list[Stage],
    test: CapacityTest,
    dropout_V: float,
    instrument: Instrument,
) -> Usable:
    """Charge, energy and hours until the voltage under load first falls through a device's drop-out.

    Zero when the start already lies below; everything when it is never reached.
    """
    discharges = [stage for stage in stages[test.first : test.last + 1] if stage.kind == StageKind.DISCHARGE]
    crossing = find_crossing(trace, scale, discharges, dropout_V, instrument)
    if (
        crossing is not None
        and crossing[0] == 0
        and crossing[1].tail_s == 0.0
        and crossing[1].last == discharges[0].first
    ):
        return Usable(dropout_V, Quantity(0.0, 0.0, "Ah"), Quantity(0.0, 0.0, "Wh"), 0.0, True)
    if crossing is None:
        return Usable(dropout_V, test.count.charge, test.count.energy, test.count.duration_s, False)
    counted = count(trace, integral, spans_until(trace, scale, discharges, crossing), instrument)
    return Usable(dropout_V, counted.charge, counted.energy, counted.duration_s, True)
