"""Making a log fit to be counted: what may be left out or joined safely, what is only offered.

`safe` leaves out or joins and never alters a value. A stretch whose values would have to change is remarked
with an offer; `offered` applies the offers; `none` does nothing that is not needed to count at all.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from wintry_tally.core.errors import LogError
from wintry_tally.core.message import Part, said
from wintry_tally.core.trace.remarks import Remark
from wintry_tally.core.trace.standing import without_standing
from wintry_tally.core.trace.thermometer import with_temperatures
from wintry_tally.core.trace.trace import BLOCK, Column, Trace, noise_of
from wintry_tally.core.trace.unit_slips import FACTORS, unit_slips

Repair = Literal["none", "safe", "offered"]
REPAIRS: tuple[Repair, ...] = ("none", "safe", "offered")

GAPS_NAMED = 10
SUSPECTS = 20_000
ABSURD = 1e7
"""V or A beyond this is no reading, not even in mV and mA."""
ABSURD_S = 1e11
STRAYS_MOST = 3
"""So many rows in a row may carry a time that cannot be, between others whose clock goes on."""
SETBACKS_MOST, REPEATS_LEAST, REPEATS_SHARE = 200, 3, 0.95
"""Set-backs of the clock looked at; so many rows, and this share of them, have to come again to be a repeat."""
OFTEN_S = 300.0
"""A log with readings further apart is somebody's, and tells nothing of how its clock was set by an interval of an hour."""
NOTED_SHARE = 0.2
"""Of the rows without amperes: from so many on they were noted now and then, below they are lost."""
GAP_FACTOR = 5.0
"""An interval longer than this many usual ones is a gap."""


def mend(
    raw: Trace, repair: Repair = "safe", zero_A: float = 0.0, rated_Ah: float | None = None
) -> tuple[Trace, list[Remark]]:
    """A trace with strictly rising time and complete readings, and remarks on all that was left out or joined.

    The time of the result counts from its first reading. `zero_A`: within it a reading of the current is none;
    `rated_Ah`: what the pack holds, where it is known, contradicts a stretch that carries several times as much.

    Raises:
        LogError: fewer than two usable readings, or neither current nor power nor a counter.
    """
    remarks: list[Remark] = []
    trace = _with_current(raw, remarks)
    trace = _without_blanks(trace, repair, remarks)
    if len(trace) < 2:
        raise LogError(
            f"only {len(trace)} usable reading{'s' if len(trace) != 1 else ''}", mend="a log needs at least two"
        )
    trace = _with_rising_time(trace, repair, remarks)
    if len(trace) < 2:
        raise LogError("all readings carry the same time", mend="check which column is the time")
    trace, suspect = _unit_slips(trace, repair, zero_A, rated_Ah, remarks)
    if repair != "none":
        trace = with_temperatures(_without_outliers(trace, remarks, suspect), repair == "offered", remarks)
    trace = without_standing(trace, zero_A, repair != "none", remarks)
    _remark_gaps(trace, remarks)
    if trace.time_s[0] != 0.0:
        first = float(trace.time_s[0])
        trace = replace(trace, time_s=trace.time_s - first, begins_s=trace.begins_s + first)
    return trace, remarks


def _rows(trace: Trace, indices: NDArray[np.int64]) -> tuple[int, int]:
    return trace.row_at(indices[0]), trace.row_at(indices[-1])


def _with_current(trace: Trace, remarks: list[Remark]) -> Trace:
    if trace.current_A is not None:
        return trace
    if trace.power_W is not None:
        with np.errstate(divide="ignore", invalid="ignore"):
            current = np.where(trace.voltage_V > 0.1, trace.power_W / trace.voltage_V, 0.0)
        remarks.append(Remark("current-from-power", said("power-over-volts")))
        return replace(trace, current_A=current)
    if trace.counter_Ah is None and trace.counter_Wh is not None:
        power = _slope_of_counter(trace.time_s, trace.counter_Wh)
        with np.errstate(divide="ignore", invalid="ignore"):
            current = np.where(trace.voltage_V > 0.1, power / trace.voltage_V, 0.0)
        remarks.append(Remark("current-from-counter", said("slope-of-energy")))
        return replace(trace, current_A=current)
    if trace.counter_Ah is None:
        raise LogError(
            "no current, no power and no charge counter found", mend="name the column with --map current=COLUMN"
        )
    remarks.append(Remark("current-from-counter", said("slope-of-charge")))
    return replace(trace, current_A=_slope_of_counter(trace.time_s, trace.counter_Ah))


def _slope_of_counter(time_s: Column, counter: Column) -> Column:
    """Current in A (power in W, of Wh) from a counter that ticks: straight lines between the ticks, up counted as given out.

    A counter that runs down from a preset gives the same current; a jump back (a reset) counts as nothing.
    """
    current = np.zeros(len(time_s))
    good = np.flatnonzero(np.isfinite(time_s) & np.isfinite(counter))
    if len(good) < 2:
        return np.full(len(time_s), np.nan)
    time, shown = time_s[good], counter[good]
    ticks = np.flatnonzero(np.diff(shown) != 0.0) + 1
    steps = np.diff(shown)[ticks - 1]
    if len(steps) == 0:
        return current
    usual = float(np.median(np.abs(steps)))
    sign = -1.0 if np.sum(steps[np.abs(steps) <= 20 * usual]) < 0 else 1.0
    knots = np.concatenate([[0], ticks])
    for start, stop, step in zip(knots[:-1], knots[1:], steps, strict=True):
        duration = time[stop] - time[start]
        if duration > 0 and abs(step) <= 20 * usual:
            # the tick's charge flowed since the tick before it; trapezoids over this hold exactly that charge
            current[good[start + 1 : stop + 1]] = sign * step * 3600.0 / duration
    if good[0] < len(current):
        current[good[0]] = current[good[1]]
    return current


def _with_amps_as_noted(trace: Trace, repair: Repair, remarks: list[Remark]) -> Trace:
    """Where somebody noted volts at every row and amperes only now and then: offered, and taken where that is wanted, that
    they stood as they were last noted. A blank here and there is a reading lost."""
    blank = np.isnan(trace.current) & (np.abs(trace.voltage_V) < ABSURD) & (np.abs(trace.time_s) < ABSURD_S)
    noted = np.flatnonzero(np.abs(trace.current) < ABSURD)
    if np.count_nonzero(blank) < NOTED_SHARE * len(trace) or not len(noted):
        return trace
    last = np.searchsorted(noted, np.arange(len(trace)), side="right") - 1
    fill = np.flatnonzero(blank & (last >= 0))
    offer = said("offer-as-noted")
    remarks.append(Remark("amps-not-noted", said("amps-blank", count=len(fill)), _rows(trace, fill), offer))
    if repair != "offered":
        return trace
    current = trace.current.copy()
    current[fill] = trace.current[noted[last[fill]]]
    return replace(trace, current_A=current)


def _without_blanks(trace: Trace, repair: Repair, remarks: list[Remark]) -> Trace:
    """Leave out rows without a complete reading; a number no instrument could show is none."""
    bad = 0
    for start in range(0, len(trace), BLOCK):
        bad += int(np.count_nonzero(~_readable(trace, slice(start, start + BLOCK))))
    if bad == 0:
        return trace
    trace = _with_amps_as_noted(trace, repair, remarks)
    keep = _readable(trace, slice(None))
    missing = np.flatnonzero(~keep)
    if not len(missing):
        return trace
    remarks.append(Remark("blank-rows", said("rows-blank", count=len(missing)), _rows(trace, missing)))
    return trace.taking(keep)


def _readable(trace: Trace, part: slice) -> NDArray[np.bool_]:
    # a comparison with NaN is False: one pass finds blanks and impossible numbers alike
    readable = np.abs(trace.voltage_V[part]) < ABSURD
    readable &= np.abs(trace.current[part]) < ABSURD
    readable &= np.abs(trace.time_s[part]) < ABSURD_S
    return readable


NO_CLOCK, NO_CLOCK_SHARE = 5, 0.2
"""A column that goes back so often, and in such a share of its rows, tells no time."""


def _rises(time_s: Column) -> bool:
    """Whether every reading is later than the one before; a block at a time, nothing made of the length of the log."""
    return all(
        bool(np.all(time_s[start + 1 : start + BLOCK + 1] > time_s[start : start + BLOCK][: len(time_s) - 1 - start]))
        for start in range(0, len(time_s) - 1, BLOCK)
    )


def _with_rising_time(trace: Trace, repair: Repair, remarks: list[Remark]) -> Trace:
    leaps = float(trace.time_s[-1] - trace.time_s[0]) > LEAP_S
    if len(trace) > 1 and _rises(trace.time_s) and not leaps:
        return trace
    steps = np.diff(trace.time_s)
    if np.count_nonzero(steps < 0) > 0.9 * steps.size and steps.size > 2:
        whole = _rows(trace, np.array([0, len(trace) - 1]))
        remarks.append(Remark("clock-backwards", said("rows-reversed"), whole))
        return _with_rising_time(trace.taking(np.arange(len(trace) - 1, -1, -1)), repair, remarks)
    if repair != "none":
        trace = _without_stray_times(_without_repeats(trace, remarks), remarks)
        steps = np.diff(trace.time_s)
    usual = float(np.median(steps[steps > 0])) if np.any(steps > 0) else 0.0
    back = np.flatnonzero(steps < 0)
    if len(back) >= NO_CLOCK and len(back) > NO_CLOCK_SHARE * len(steps):
        raise LogError(
            f"the time goes back at {len(back)} of {len(trace)} rows: that column is no clock",
            mend="name it with --map time=COLUMN",
        )
    time = trace.time_s
    if len(back):
        time = time.copy()
        for index in back:
            jump = float(trace.time_s[index + 1] - trace.time_s[index])
            about_an_hour = _about_an_hour(jump, usual)
            row = trace.row_at(index + 1)
            if repair != "none":
                joined = "clock-hour-joined" if about_an_hour else "clock-back-joined"
                told = said(joined, seconds=-jump, row=row, usual=usual)
            else:
                told = said("clock-hour-left" if about_an_hour else "clock-back-left", seconds=-jump, row=row)
            remarks.append(Remark("clock-backwards", told, (trace.row_at(index), row)))
            if repair != "none":
                time[index + 1 :] += usual - jump
        trace = replace(trace, time_s=time)
    trace = _with_clock_set(trace, usual, remarks) if leaps and repair != "none" else trace
    ahead = np.maximum.accumulate(trace.time_s)
    keep = np.ones(len(trace), dtype=np.bool_)
    keep[1:] = trace.time_s[1:] > ahead[:-1]
    same = np.flatnonzero(~keep)
    if len(same) and (repair != "none" or not len(back)):
        remarks.append(Remark("duplicate-times", said("times-repeat", count=len(same)), _rows(trace, same)))
    return trace.taking(keep) if len(same) else trace


LEAP_S = 5 * 365.25 * 86400.0
"""No battery is left alone for so long between two readings of one log: the clock was set there. Common practice."""


def _with_clock_set(trace: Trace, usual: float, remarks: list[Remark]) -> Trace:
    """With the rows behind a leap of years joined to those before: a logger begins in 1970 until somebody tells it the date."""
    time = trace.time_s
    leaps = np.flatnonzero(np.diff(time) > LEAP_S)
    if not len(leaps) or not usual:
        return trace
    time = time.copy()
    for index in leaps:
        years = float(trace.time_s[index + 1] - trace.time_s[index]) / (365.25 * 86400.0)
        rows = (trace.row_at(index), trace.row_at(index + 1))
        remarks.append(Remark("clock-set", said("clock-set-joined", years=years, row=rows[1], usual=usual), rows))
        time[index + 1 :] -= trace.time_s[index + 1] - trace.time_s[index] - usual
    return replace(trace, time_s=time)


def _about_an_hour(jump_s: float, usual_s: float) -> bool:
    """Whether the clock goes back as it does at the end of daylight saving."""
    return abs(jump_s + 3600.0) < max(60.0, 3 * usual_s)


def _without_stray_times(trace: Trace, remarks: list[Remark]) -> Trace:
    """Leave out a few rows whose time cannot be: behind them the clock goes on as it went before, as if they had their place."""
    time, steps, usual = trace.time_s, np.diff(trace.time_s), trace.usual_s
    stray: set[int] = set()
    for index in np.flatnonzero(steps < 0)[:SETBACKS_MOST]:
        last = int(index)
        if _about_an_hour(float(steps[last]), usual):
            continue
        for count in range(1, STRAYS_MOST + 1):
            after, before = last + count + 1, last - count
            if after < len(time) and time[after] > time[last]:
                stray.update(range(last + 1, after))  # set back for a few rows
                break
            if before >= 0 and time[last + 1] > time[before]:
                stray.update(range(before + 1, last + 1))  # ahead for a few rows
                break
    if not stray or len(stray) > 0.02 * len(trace) + STRAYS_MOST:
        return trace
    rows = np.array(sorted(stray), dtype=np.int64)
    told = said("times-stray", count=len(rows), row=trace.row_at(rows[0]))
    remarks.append(Remark("clock-backwards", told, _rows(trace, rows)))
    return _without(trace, rows)


def _without(trace: Trace, rows: NDArray[np.int64]) -> Trace:
    keep = np.ones(len(trace), dtype=np.bool_)
    keep[rows] = False
    return trace.taking(keep)


def _without_repeats(trace: Trace, remarks: list[Remark]) -> Trace:
    """Leave out stretches that were written a second time: the clock goes back, and the same rows come again."""
    back = np.flatnonzero(np.diff(trace.time_s) < 0)[:SETBACKS_MOST]
    keep = np.ones(len(trace), dtype=np.bool_)
    for place, last in enumerate(back):
        begins = 0 if place == 0 else int(back[place - 1]) + 1
        ends = int(back[place + 1]) if place + 1 < len(back) else len(trace) - 1
        again = np.arange(int(last) + 1, ends + 1)
        again = again[trace.time_s[again] <= trace.time_s[last]]
        before = begins + np.searchsorted(trace.time_s[begins : last + 1], trace.time_s[again])
        alike = np.all(
            [np.isclose(column[before], column[again], 1e-12, 0.0, equal_nan=True) for column in (trace.time_s, trace.voltage_V, trace.current)],
            axis=0,
        )  # fmt: skip
        if len(again) < REPEATS_LEAST or float(np.mean(alike)) < REPEATS_SHARE:
            continue
        keep[again] = False
        rows = _rows(trace, again)
        remarks.append(Remark("duplicate-times", said("rows-again", first=rows[0], last=rows[1]), rows))
    return trace if keep.all() else trace.taking(keep)


def _without_outliers(trace: Trace, remarks: list[Remark], suspect: set[int]) -> Trace:
    """Leave out single readings far from both neighbours, which agree with each other."""
    if len(trace) < 5:
        return trace
    voltage_noise, current_noise = noise_of(trace.voltage_V), noise_of(trace.current)
    reference_V = float(np.median(trace.voltage_V[:: max(1, len(trace) // 5000)]))
    sampled = np.abs(trace.current[:: max(1, len(trace) // 5000)])
    reference_A = float(np.quantile(sampled, 0.95))
    found = set()
    for index in _spikes(trace.voltage_V, max(0.12 * reference_V, 12 * voltage_noise)):
        # a real pulse, and a protection that opens for a moment, show in the current too
        near = np.abs(trace.current[max(0, index - 1) : index + 2])
        around = abs(trace.current[index] - trace.current[index - 1]) if index else 0.0
        usual = max(8 * current_noise, 3 * trace.digit_A)
        unmoved = around <= max(min(0.2 * reference_A, 0.3 * float(near.max())), usual)
        # no supply has so much, whatever the current did
        far = abs(trace.voltage_V[index]) > max(MOST_V, MOST_TIMES * reference_V)
        if far or (unmoved and not _awake(trace, index, reference_V)) or _lost(trace, index, reference_V, reference_A):
            found.add(index)
    for index in _spikes(trace.current, max(0.25 * reference_A, 12 * current_noise, 0.05)):
        # a true change of current moves the voltage
        if index == 0 or index == len(trace) - 1:
            continue
        moved = abs(trace.voltage_V[index] - 0.5 * (trace.voltage_V[index - 1] + trace.voltage_V[index + 1]))
        if moved <= max(min(5 * voltage_noise, STIRRED * reference_V), 2.5 * trace.digit_V, 1e-4 * reference_V):
            found.add(index)
    found -= suspect
    if not found or len(found) > 0.02 * len(trace) + 3:
        return trace
    indices = np.array(sorted(found), dtype=np.int64)
    shown = tuple(
        said("reading-out", row=trace.row_at(i), volts=float(trace.voltage_V[i]), amps=float(trace.current[i]))
        for i in indices[:3]
    )
    more = len(indices) - len(shown)
    told = said("readings-out-more", shown=shown, more=more) if more else said("readings-out", shown=shown)
    remarks.append(Remark("outlier-reading", told, _rows(trace, indices)))
    return _without(trace, indices)


STIRRED = 0.02
"""Of a pack's usual voltage: what moves by so much was moved by a current, however much the few readings there are differ."""
MOST_TIMES, MOST_V = 10.0, 100.0
"""Of a pack's usual voltage, and V where its terminals are dead for most of a log: no bench supply that could charge it shows
more; common practice, no published source."""


def _awake(trace: Trace, index: int, reference_V: float) -> bool:
    """Whether dead terminals showed a battery's voltage for one reading: a protection that let go, and opened again."""
    beside = np.abs(trace.voltage_V[[index - 1, min(index + 1, len(trace) - 1)]])
    return bool(beside.max() <= 0.05 * reference_V and 0.6 * reference_V <= trace.voltage_V[index] <= 1.4 * reference_V)


def _lost(trace: Trace, index: int, reference_V: float, reference_A: float) -> bool:
    """Whether next to no volts in a single row are a reading lost: current still flows, or it goes on as it was."""
    if abs(trace.voltage_V[index]) > 0.05 * reference_V or not 0 < index < len(trace) - 1:
        return False
    here, before, after = (float(trace.current[at]) for at in (index, index - 1, index + 1))
    live, least, most = 0.05 * reference_A, min(abs(before), abs(after)), max(abs(before), abs(after))
    return abs(here) > max(live, 0.3 * least) or (least > live and abs(before - after) <= 0.1 * most)


def _spikes(values: Column, threshold: float) -> list[int]:
    """Indices whose value stands apart from both neighbours by more than `threshold`, the neighbours agreeing."""
    found: list[int] = []
    last = len(values) - 1
    for start in range(0, last, BLOCK):
        stop = min(last, start + BLOCK)
        jumps = np.abs(values[start + 1 : stop + 1] - values[start:stop])
        for offset in np.flatnonzero(jumps > threshold):
            index = start + int(offset) + 1
            if index == last or len(found) > 10_000:
                continue
            before = values[index] - values[index - 1]
            after = values[index + 1] - values[index]
            small = min(abs(before), abs(after))
            if before * after < 0 and small > threshold and abs(before + after) < 0.25 * small:
                found.append(index)
    return found


def _unit_slips(
    trace: Trace, repair: Repair, zero_A: float, rated_Ah: float | None, remarks: list[Remark]
) -> tuple[Trace, set[int]]:
    """Stretches in another unit: remarked with an offer, changed only when asked.

    Also the readings concerned: what is offered as a whole is not left out one by one.
    """
    suspect: set[int] = set()
    applied = repair == "offered"
    for slip in unit_slips(trace, zero_A, rated_Ah):
        part = slice(slip.first, slip.last + 1)
        suspect.update(range(slip.first, min(slip.last + 1, slip.first + SUSPECTS)))
        unit = "mV" if slip.column == "voltage" else FACTORS[slip.factor]
        rows = (trace.row_at(slip.first), trace.row_at(slip.last))
        seen: dict[str, Part] = {
            "count": slip.last - slip.first + 1,
            "column": slip.column,
            "level": slip.level,
            "unit": unit,
        }
        told = said("unit-slip-mended", factor=slip.factor, **seen) if applied else said("unit-slip", **seen)
        by = said("offer-divide-rows", first=rows[0], last=rows[1], column=slip.column, factor=slip.factor)
        remarks.append(Remark("unit-suspect", told, rows, by))
        if applied:
            changed = (trace.current if slip.column == "current" else trace.voltage_V).copy()
            changed[part] /= slip.factor
            trace = replace(trace, current_A=changed) if slip.column == "current" else replace(trace, voltage_V=changed)
    return trace, suspect


def _remark_gaps(trace: Trace, remarks: list[Remark]) -> None:
    usual = trace.usual_s
    found = gaps_of(trace.time_s, usual)
    lengths = trace.time_s[found + 1] - trace.time_s[found]
    ahead = set_forward(lengths, usual)
    for index, length, about_an_hour in zip(found[:GAPS_NAMED], lengths.tolist(), ahead.tolist(), strict=False):
        row = trace.row_at(index)
        told = said("gap-of-an-hour" if about_an_hour else "gap-bridged", seconds=length, row=row, usual=usual)
        remarks.append(Remark("gap", told, (row, trace.row_at(index + 1))))
    if len(found) > GAPS_NAMED:
        more = found[GAPS_NAMED:]
        longest = float(np.max(trace.time_s[more + 1] - trace.time_s[more]))
        told = said("more-gaps", count=len(more), seconds=longest)
        remarks.append(Remark("gap", told, (trace.row_at(more[0]), trace.row_at(more[-1] + 1))))


def set_forward(steps: Column, usual: float) -> NDArray[np.bool_]:
    """Which of the intervals of a clock look as if it had been set forward by an hour: one does, of a log that is read often.

    Who reads by hand looks every hour.
    """
    hours: NDArray[np.bool_] = np.abs(steps - usual - 3600.0) < max(30.0, 2 * usual)
    return hours if usual <= OFTEN_S and np.count_nonzero(hours) == 1 else np.zeros_like(hours)


def gaps_of(time_s: Column, usual: float) -> NDArray[np.int64]:
    """Indices n whose interval to n + 1 is a gap."""
    found = []
    for start in range(0, len(time_s) - 1, BLOCK):
        steps = np.diff(time_s[start : start + BLOCK + 1])
        # just five is no gap, however it was rounded
        if steps.max() > 1.001 * GAP_FACTOR * usual:
            found.append(start + np.flatnonzero(steps > 1.001 * GAP_FACTOR * usual))
    return np.concatenate(found) if found else np.zeros(0, dtype=np.int64)
