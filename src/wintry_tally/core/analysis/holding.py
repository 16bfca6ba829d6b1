"""What current a battery held, and for how long: the hold and the surge test."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from wintry_tally.core.analysis.counting import Instrument, running_sum
from wintry_tally.core.analysis.ending import CHARGE_PROTECTION, OPENED
from wintry_tally.core.analysis.readings import current_quantity
from wintry_tally.core.analysis.stages import Scale, Stage, StageKind, gap_after, span_of
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.trace.trace import Trace

STEADY = 0.9
"""A current whose lowest stretch lies below this share of its mean was not held, only reached on average."""

SHOWN = 0.5
"""What lies between a switching and the nearest reading counts only where readings show this share of the time wanted."""


@dataclass(frozen=True)
class Held:
    """The best stretch under load for a wanted time.

    Parts:
        current: its mean, A, or what was asked of it before it opened; lowest_A: the lowest of its readings, smoothed.
        wanted_s, lasted_s: the time wanted, and what the stretch lasted.
        begins_s: where it begins; start_V, end_V: under load; rested_V: just before the load came on, or None.
        opened: whether the protection ended the discharge it belongs to before the wanted time was over.
        hidden_s: a gap after its last reading, in which it may have gone on; usual_s: how far what it lasted may be off.
    """

    current: Quantity
    lowest_A: float
    wanted_s: float
    lasted_s: float
    begins_s: float
    start_V: float
    end_V: float
    rested_V: float | None
    opened: bool
    hidden_s: float = 0.0
    usual_s: float = 0.0

    @property
    def complete(self) -> bool:
        """Whether it lasted as long as wanted."""
        return self.lasted_s >= self.wanted_s

    @property
    def steady(self) -> bool:
        """Whether the current stayed near its mean."""
        return self.lowest_A >= STEADY * self.current.value

    @property
    def sag_V(self) -> float | None:
        """From the rested voltage to the end under load."""
        return None if self.rested_V is None else self.rested_V - self.end_V


def stretches_held(
    trace: Trace, scale: Scale, stages: list[Stage], endings: list[str | None], instrument: Instrument, wanted_s: float
) -> list[Held]:
    """Every stretch under load that speaks to a current wanted for a time.

    Of each discharge: the window with the highest mean current over the wanted time where it lasted so long, else its
    heaviest stage; and where its protection opened, the stage in which it did. Source: common practice, no published
    source.
    """
    found: list[Held] = []
    for first, last in _runs(stages):
        begin, end = stages[first], stages[last]
        lead, tail = span_of(trace, scale, begin).lead_s, span_of(trace, scale, end).tail_s
        shown = float(trace.time_s[end.last] - trace.time_s[begin.first])
        lasted = shown + lead + tail if shown >= SHOWN * wanted_s else shown
        opened = endings[last] in OPENED
        # two switching instants, each known to half an interval; one that opened has lasted so long only beyond both
        least = wanted_s + (scale.usual_s if opened else -scale.usual_s)
        if lasted >= least and shown >= SHOWN * wanted_s:
            found.append(_best_window(trace, scale, begin.first, end.last, instrument, wanted_s, lasted))
        if opened:
            found.append(_whole(trace, scale, end, instrument, wanted_s, opened))
        elif lasted < wanted_s - scale.usual_s or shown < SHOWN * wanted_s:
            heaviest = max(stages[first : last + 1], key=lambda stage: _mean(trace, stage.first, stage.last))
            found.append(_whole(trace, scale, heaviest, instrument, wanted_s, opened))
    return found


def _runs(stages: list[Stage]) -> list[tuple[int, int]]:
    runs: list[tuple[int, int]] = []
    for position, stage in enumerate(stages):
        if stage.kind != StageKind.DISCHARGE:
            continue
        if runs and runs[-1][1] == position - 1:
            runs[-1] = (runs[-1][0], position)
        else:
            runs.append((position, position))
    return runs


def _mean(trace: Trace, first: int, last: int) -> float:
    if last == first:
        return float(trace.current[first])
    time = trace.time_s[first : last + 1]
    return float(np.trapezoid(trace.current[first : last + 1], time) / (time[-1] - time[0]))


def _best_window(
    trace: Trace, scale: Scale, first: int, last: int, instrument: Instrument, wanted_s: float, lasted_s: float
) -> Held:
    time, current = trace.time_s[first : last + 1], trace.current[first : last + 1]
    span = float(time[-1] - time[0])
    if span <= wanted_s or len(time) < 3:
        return _held(trace, scale, first, last, instrument, wanted_s, max(wanted_s, lasted_s), False)
    drawn = running_sum(time, current)
    starts = time[time <= time[-1] - wanted_s]
    means = (np.interp(starts + wanted_s, time, drawn) - drawn[: len(starts)]) / wanted_s
    at = int(np.argmax(means))
    stop = int(np.searchsorted(time, starts[at] + wanted_s, side="right")) - 1
    return _held(trace, scale, first + at, first + max(at + 1, stop), instrument, wanted_s, lasted_s, False)


def _whole(trace: Trace, scale: Scale, stage: Stage, instrument: Instrument, wanted_s: float, opened: bool) -> Held:
    span = span_of(trace, scale, stage)
    shown = float(trace.time_s[stage.last] - trace.time_s[stage.first])
    lasted = shown + span.lead_s + span.tail_s if opened or shown >= SHOWN * wanted_s else shown
    return _held(trace, scale, stage.first, stage.last, instrument, wanted_s, lasted, opened)


def _held(
    trace: Trace,
    scale: Scale,
    first: int,
    last: int,
    instrument: Instrument,
    wanted_s: float,
    lasted_s: float,
    opened: bool,
) -> Held:
    current = trace.current[first : last + 1]
    # the first and the last reading may hold part of a switching, where what is between them is most of it
    trimmed = len(current) > 4 and float(trace.time_s[last - 1] - trace.time_s[first + 1]) >= SHOWN * (
        float(trace.time_s[last] - trace.time_s[first])
    )
    inner = current[1:-1] if trimmed else current
    smooth = np.convolve(inner, np.full(3, 1 / 3), mode="valid") if len(inner) >= 3 else inner
    # what was asked before an opening is what the settled readings show, not an average over steps
    mean = _mean(trace, first + 1, last - 1) if trimmed and not opened else float(np.median(inner))
    quantity = current_quantity(trace, instrument, mean, scale.noise_A / math.sqrt(len(current)))
    before = first - 1
    rested = (
        float(trace.voltage_V[before]) if before >= 0 and abs(float(trace.current[before])) <= scale.dead_A else None
    )
    return Held(
        quantity,
        float(np.min(smooth)),
        wanted_s,
        lasted_s,
        float(trace.time_s[first]),
        float(trace.voltage_V[first]),
        float(trace.voltage_V[last]),
        rested,
        opened,
        gap_after(trace, scale, last),
        scale.usual_s,
    )


FLOWED_S = 60.0
"""A charge current that flowed for so long was accepted, where no longer time is claimed."""


@dataclass(frozen=True)
class ChargeTaken:
    """The highest current that a charge took for a time.

    Parts:
        current: its mean over that time; by_charger: held at constant current, and not by a limit of voltage.
        lasted_s: how long the stretch lasted; refused: ended by the pack's protection, and not for cold.
        rested_V: the pack's voltage before, NaN where it was not read.
        hidden_s: a gap after its last reading, in which it may have gone on.
    """

    current: Quantity
    by_charger: bool
    lasted_s: float
    refused: bool
    rested_V: float
    hidden_s: float = 0.0


def charges_taken(
    trace: Trace,
    scale: Scale,
    stages: list[Stage],
    endings: list[str | None],
    cold: set[int],
    instrument: Instrument,
    window_s: float = FLOWED_S,
) -> list[ChargeTaken]:
    """The highest mean current of each charge over a window, or over all of it where it was shorter.

    At a steady voltage limit the battery decides what flows; below it the charger does. `cold`: last readings of
    charges that were refused for cold.
    """
    found = []
    for position, stage in enumerate(stages):
        if stage.kind != StageKind.CHARGE:
            continue
        time, current = trace.time_s[stage.first : stage.last + 1], -trace.current[stage.first : stage.last + 1]
        span = span_of(trace, scale, stage)
        lasted = float(time[-1] - time[0]) + span.lead_s + span.tail_s
        if len(time) > 1:
            drawn = running_sum(time, current)
            length = min(window_s, float(time[-1] - time[0]))
            # rounding may put the only start of a short charge behind its own end
            starts = time[: max(1, int(np.count_nonzero(time <= time[-1] - length)))]
            mean = float(np.max((np.interp(starts + length, time, drawn) - drawn[: len(starts)]) / length))
        else:
            mean = float(current[0])
        before = stage.first - 1
        found.append(
            ChargeTaken(
                current_quantity(trace, instrument, mean, scale.noise_A / math.sqrt(min(10, len(time)))),
                stage.control != "voltage",
                lasted,
                endings[position] == CHARGE_PROTECTION and stage.last not in cold,
                float(trace.voltage_V[before]) if before >= 0 else math.nan,
                gap_after(trace, scale, stage.last),
            )
        )
    return found
