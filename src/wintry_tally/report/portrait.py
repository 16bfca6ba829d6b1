"""A run's own picture, in the terms of its kind of test: what is drawn, and the lines that stand beside it.

A charge is its phases, a rest its way to the rested voltage, a hold its sag, an overload the seconds round the opening,
a charge in the cold what it was given at which temperature, a charge with a heater what the heater took.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np

from wintry_tally.core.analysis import Analysis, StageKind
from wintry_tally.core.analysis.analyse import StageResult
from wintry_tally.core.analysis.charging import ChargeResult
from wintry_tally.core.analysis.cold import charge_attempts
from wintry_tally.core.analysis.counting import HOUR
from wintry_tally.core.analysis.ending import ENDING_WORDS
from wintry_tally.core.analysis.readings import voltage_quantity
from wintry_tally.core.analysis.trips import OVER_CURRENT
from wintry_tally.core.quantity import format_duration, format_quantity, ratio
from wintry_tally.core.quantity.display import MINUS, degrees_words
from wintry_tally.core.quantity.preferred import Units, name_in, value_in, words_in
from wintry_tally.core.quantity.uncertain import combine_linear
from wintry_tally.core.trace.trace import Column, Trace
from wintry_tally.core.working import Working
from wintry_tally.report.views_of_trace import Band

MOST_BLOCKS = 300
"""A picture keeps the lows and highs of so many stretches of each curve."""
RESTED_S = (1800.0, 3600.0, 14_400.0, 86_400.0)
"""After so long a battery counts as rested, by one school or another; common practice."""
LEAST_REST_S = 600.0
SLOPE_SHARE = 0.2
"""The slope of a rest is that of its last part, this share of it."""
WHOLE = 0.995
AROUND_S = (20.0, 60.0)
"""Before and after an opening, what of a log shows it."""
CLOSE_S, LONG_S = 600.0, 10_800.0
"""Below the first a picture counts seconds, from the second on hours, else minutes."""


@dataclass(frozen=True)
class Panel:
    """One plot.

    Parts:
        name, x_title, y_title: words; series: (name, x, y); bands, marks, lines: as `desk.widgets.curve` draws them.
        ticks: where the axis below is not even, (place, words); single: its points are told one by one, not joined.
    """

    name: str
    x_title: str
    y_title: str
    series: tuple[tuple[str, Column, Column], ...]
    bands: tuple[Band, ...] = ()
    marks: tuple[tuple[float, str], ...] = ()
    lines: tuple[tuple[str, float, str], ...] = ()
    ticks: tuple[tuple[float, str], ...] = ()
    single: bool = False


@dataclass(frozen=True)
class Portrait:
    """A run's picture: the plots above each other on one axis, a table's head and rows, what is told beneath, and how that was come by."""

    panels: tuple[Panel, ...]
    head: tuple[str, ...] = ()
    rows: tuple[tuple[str, ...], ...] = ()
    told: tuple[str, ...] = ()
    working: Working | None = None

    @property
    def lines(self) -> tuple[str, ...]:
        """What is told, or the rows in words."""
        return self.told or tuple(", ".join(cells) for cells in self.rows)


def panel_in(panel: Panel, units: Units) -> Panel:
    """The same plot in a reader's units: a temperature's axis, curves and lines."""
    unit = panel.y_title.rpartition("/ ")[2]
    name = name_in(unit, units)
    if name == unit:
        return panel
    series = tuple((words, x, value_in(y, unit, units)) for words, x, y in panel.series)
    lines = tuple((words_in(words, units), value_in(at, unit, units), role) for words, at, role in panel.lines)
    return replace(panel, y_title=panel.y_title.removesuffix(unit) + name, series=series, lines=lines)


IN_ITS_TERMS = frozenset({"hold", "surge", "overload", "charge-block"})
"""Kinds of tests that are not about a charge counted: their own lines stand for it."""


def portrait_of(test: str, analysis: Analysis) -> Portrait | None:
    """The picture of a run that is evidence of a kind of test ("" for none); None where its curve says it all."""
    if test in {"hold", "surge"}:
        return _held(analysis)
    if test == "overload":
        return _opened(analysis)
    if test == "charge-block":
        return _in_the_cold(analysis)
    charge = analysis.charge
    if charge is not None and (
        test in {"charge", "heater", "self-discharge"} or (not test and analysis.capacity is None)
    ):
        return _heated(analysis, charge) if charge.heating is not None else _charged(analysis, charge)
    if not test and charge is None and analysis.capacity is None:
        return _rested(analysis)
    return None


def thinned(x: Column, *ys: Column) -> tuple[Column, ...]:
    """The same curves with the lows and highs of `MOST_BLOCKS` stretches of each; as they are where they are short."""
    if len(x) <= 2 * MOST_BLOCKS * max(1, len(ys)):
        return (x, *ys)
    size = math.ceil(len(x) / MOST_BLOCKS)
    starts = range(0, len(x), size)
    keep = {0, len(x) - 1}
    for y in ys:
        for start in starts:
            part = y[start : start + size]
            if np.isfinite(part).any():
                keep |= {start + int(np.nanargmin(part)), start + int(np.nanargmax(part))}
    index = np.array(sorted(keep))
    return (x[index], *(y[index] for y in ys))


def _scale(seconds: float) -> tuple[float, str]:
    """By what a picture so long counts time: its seconds, and its name."""
    if seconds < CLOSE_S:
        return 1.0, "s"
    return (60.0, "min") if seconds < LONG_S else (HOUR, "h")


def _panels(
    trace: Trace, first: int, last: int, per_s: float, unit: str, sign: float, bands: tuple[Band, ...] = (),
    marks: tuple[tuple[float, str], ...] = (), zero_s: float = 0.0, warmth: bool = False,
) -> tuple[Panel, ...]:  # fmt: skip
    """Voltage, current and, where wanted and measured, temperature over a stretch of a log; `sign`: -1 shows what flows in."""
    cut = slice(first, last + 1)
    columns = [trace.voltage_V[cut], sign * trace.current[cut]]
    warm = trace.temperature_C is not None and warmth and bool(np.isfinite(trace.temperature_C[cut]).any())
    if warm and trace.temperature_C is not None:
        columns.append(trace.temperature_C[cut])
    x, *ys = thinned((trace.time_s[cut] - zero_s) / per_s, *columns)
    names = (("voltage", "V"), ("current", "A in" if sign < 0 else "A"), ("temperature", "°C"))  # fmt: skip
    return tuple(
        Panel(
            name,
            f"time / {unit}" if place == len(ys) - 1 else "",
            title,
            ((name, x, y),),
            bands if not place else tuple(replace(band, words="") for band in bands),
            marks if not place else (),
        )
        for place, ((name, title), y) in enumerate(zip(names, ys, strict=False))
    )


def _charged(analysis: Analysis, charge: ChargeResult) -> Portrait:
    """Constant current, constant voltage, float and pauses: what each put in, and how quickly the current fell."""
    live = [result for result in analysis.stages if result.stage.kind is StageKind.CHARGE]
    first, last = live[0], live[-1]
    span = [one for one in analysis.stages if first.start_s <= one.start_s <= last.start_s]
    per_s, unit = _scale(last.end_s - first.start_s)
    zero = first.start_s
    full_at = None if charge.time_to_full_s is None else charge.time_to_full_s
    rows, bands = [], []
    put_in = 0.0
    for result in span:
        words = _phase(result, None if full_at is None else zero + full_at)
        bands.append(Band((result.start_s - zero) / per_s, (result.end_s - zero) / per_s, words, result in live))
        moved = abs(result.count.charge.value) if result in live else 0.0
        put_in += moved
        amps = f"{abs(result.count.mean_current.value):.3g} A" if result in live else ""
        rows.append(
            (words, format_duration(result.end_s - result.start_s), f"{moved:.2f} Ah" if moved else "", amps,
             f"{result.voltage_end:.2f} V")
        )  # fmt: skip
    marks = ((full_at / per_s, "full"),) if full_at is not None else ()
    panels = _panels(
        analysis.trace, live[0].stage.first, live[-1].stage.last, per_s, unit, -1.0, tuple(bands), marks, zero
    )
    told = [f"{put_in:.2f} Ah went in; {_full_words(charge)}; {ENDING_WORDS.get(charge.ended_by, charge.ended_by)}"]
    if analysis.acceptance:
        shares = ", ".join(f"{100 * share:.0f} % after {minutes:g} min" for minutes, share in analysis.acceptance)
        whole = min(share for _, share in analysis.acceptance) > WHOLE
        latest = max(minutes for minutes, _ in analysis.acceptance)
        told.append(
            f"Charge acceptance: the first current still flows after {latest:g} min"
            if whole
            else f"Charge acceptance, of the first current: {shares}"
        )
    return Portrait(panels, ("phase", "for", "put in", "on average", "at its end"), tuple(rows), tuple(told))


def _phase(result: StageResult, full_s: float | None) -> str:
    if result.stage.kind is not StageKind.CHARGE:
        return "pause" if result.stage.kind is StageKind.PAUSE else "rest"
    if full_s is not None and result.start_s >= full_s - 1.0:
        return "after full (float)"
    return "constant voltage" if result.stage.control == "voltage" else "constant current" if result.stage.control == "current" else "mixed"  # fmt: skip


def _full_words(charge: ChargeResult) -> str:
    if charge.time_to_full_s is None:
        return charge.undecided or "never full"
    return f"full after {format_duration(charge.time_to_full_s)}, {100 * charge.share_constant_current:.0f} % of it at constant current"


def _heated(analysis: Analysis, charge: ChargeResult) -> Portrait:
    """The heater and then the cells: V sits at the charger's limit first, then falls to the cells' and the current rises."""
    heat = charge.heating
    assert heat is not None
    trace = analysis.trace
    begun = heat.end_s - heat.duration_s
    live = [result for result in analysis.stages if result.stage.kind is StageKind.CHARGE]
    last = live[-1].stage.last
    first = int(np.searchsorted(trace.time_s, begun - 1.0))
    per_s, unit = _scale(float(trace.time_s[last]) - begun)
    ends = (heat.end_s - begun) / per_s
    bands = (Band(0.0, ends, "heater", True), Band(ends, (float(trace.time_s[last]) - begun) / per_s, "cells", False))
    panels = _panels(trace, first, last, per_s, unit, -1.0, bands, (), begun, warmth=True)
    power = f", {heat.power.value:.3g} W" if heat.power is not None else ""
    taken = _temperature(trace, heat.end_s)
    rows = [
        ("heater", format_duration(heat.duration_s), f"{abs(heat.energy.value):.3g} Wh{power}", f"{heat.level_V:.2f} V"),
        ("cells", format_duration(max(0.0, float(trace.time_s[last]) - heat.end_s)),
         f"{abs(charge.count.charge.value):.2f} Ah", f"{live[-1].voltage_end:.2f} V"),
    ]  # fmt: skip
    at = "" if taken is None else f" at {degrees_words(taken)}"
    told = (f"The cells took the charge{at}, {format_duration(heat.duration_s)} after it began; {_full_words(charge)}",)
    return Portrait(panels, ("phase", "for", "took", "at"), tuple(rows), told)


def _temperature(trace: Trace, at_s: float) -> float | None:
    if trace.temperature_C is None:
        return None
    value = float(trace.temperature_C[min(len(trace) - 1, int(np.searchsorted(trace.time_s, at_s)))])
    return value if math.isfinite(value) else None


def _loads(analysis: Analysis) -> list[StageResult]:
    return [result for result in analysis.stages if result.stage.kind is StageKind.DISCHARGE]


def _held(analysis: Analysis) -> Portrait | None:
    """What a heavy load did: the sag against the rested voltage, the current, and how warm it got."""
    loads = _loads(analysis)
    if not loads:
        return None
    trace = analysis.trace
    main = max(loads, key=lambda one: abs(one.count.charge.value))
    before = float(trace.voltage_V[main.stage.first - 1]) if main.stage.first else None
    begins, ends = loads[0].start_s, loads[-1].end_s
    first = int(np.searchsorted(trace.time_s, begins - AROUND_S[0]))
    last = min(len(trace) - 1, int(np.searchsorted(trace.time_s, ends + AROUND_S[1])))
    per_s, unit = _scale(ends - begins)
    panels = _panels(trace, first, last, per_s, unit, 1.0, (), ((0.0, "load on"), ((ends - begins) / per_s, "off")), begins, True)  # fmt: skip
    amps = abs(main.count.mean_current.value)
    told, working = [f"{amps:.4g} A for {format_duration(main.end_s - main.start_s)}"], None
    if before is not None and math.isfinite(before):
        words, working = _sag(analysis, before, main)
        told[0] += f": from {before:.2f} V at rest to {main.voltage_end:.2f} V at its end, {words}"
    if trace.temperature_C is not None:
        warm = trace.temperature_C[main.stage.first : last + 1]
        if np.isfinite(warm).any():
            start = float(warm[np.isfinite(warm)][0])
            told.append(f"It warmed from {start:.1f} to {float(np.nanmax(warm)):.1f} °C")
    rows = tuple(_step_row(one, analysis) for one in loads) if len(loads) > 1 else ()
    return Portrait(panels, ("current", "for", "ended", "voltage") if rows else (), rows, tuple(told), working)


def _sag(analysis: Analysis, rested_V: float, load: StageResult) -> tuple[str, Working]:
    """By how much the voltage fell under a load, and what that is as a resistance; one meter's gain cancels.

    Source: common practice; JCGM 100:2008, 5.2.
    """
    meter, noise_V = analysis.options.instrument, analysis.scale.noise_V
    rest, end = (voltage_quantity(analysis.trace, meter, value, noise_V) for value in (rested_V, load.voltage_end))
    sag = combine_linear([(1.0, rest), (-1.0, end)], "V")
    drawn = load.count.mean_current
    whole = ratio(sag, drawn.scaled(math.copysign(1.0, drawn.value), "A"), 1000.0, "mΩ")
    known = sag.standard is not None and whole.standard is not None
    words = f"{format_quantity(sag) if known else f'{sag.value:.2f} V'} of sag"
    working = Working(
        "Sag under the load",
        "sag = V_rest − V_end; R = sag / I",
        {"V_rest": format_quantity(rest), "V_end": format_quantity(end), "I": format_quantity(drawn)},
        f"{format_quantity(sag)}, {format_quantity(whole)}: the leads and the sag over minutes are in it",
        "common practice; JCGM 100:2008, 5.2",
    )
    return f"{words} ({format_quantity(whole) if known else f'{whole.value:.3g} mΩ'} in all)", working


def opened_in(one: StageResult, analysis: Analysis) -> bool:
    """Whether a protection opened in a stage or just behind it."""
    return any(one.start_s <= trip.at_s <= one.end_s + 2.0 * analysis.scale.usual_s for trip in analysis.trips)


def _step_row(one: StageResult, analysis: Analysis) -> tuple[str, ...]:
    ended = "the protection opened" if opened_in(one, analysis) else "held"
    return f"{abs(one.count.mean_current.value):.4g} A", format_duration(one.end_s - one.start_s), ended, f"{one.voltage_end:.2f} V"  # fmt: skip


def _opened(analysis: Analysis) -> Portrait | None:
    """The seconds round the opening, and what each current before it was stood for."""
    loads = _loads(analysis)
    if not loads:
        return None
    trip = next((one for one in analysis.trips if one.kind == OVER_CURRENT), None)
    made = _held(analysis)
    assert made is not None
    rows = tuple(_step_row(one, analysis) for one in loads)
    told = made.told
    if trip is not None:
        trace = analysis.trace
        low, high = trip.at_s - max(AROUND_S[0], 3.0 * trip.latency_s), trip.at_s + AROUND_S[0]
        first, last = (min(len(trace) - 1, int(np.searchsorted(trace.time_s, at))) for at in (low, high))
        marks = ((0.0, "opened"),)
        panels = _panels(trace, first, last, 1.0, "s from the opening", 1.0, (), marks, trip.at_s)
        after = f", {trip.latency_s:.3g} s after it last rose" if trip.latency_s else ""
        told = (f"It opened at {trip.current_A:.4g} A{after}, at {trip.voltage_V:.2f} V",)
        return Portrait(panels, ("current", "for", "ended", "voltage"), rows, told)
    return Portrait(made.panels, ("current", "for", "ended", "voltage"), rows, ("It did not open.", *told))


def _in_the_cold(analysis: Analysis) -> Portrait | None:
    """What was done with a charge in the cold, at which temperature, within which seconds."""
    trace, options = analysis.trace, analysis.options
    found = charge_attempts(
        trace,
        analysis.scale,
        analysis.plain_stages,
        analysis.trips,
        analysis.charge,
        options.ambient_C,
        options.rated_Ah,
    )
    if not found:
        return None
    zero, per_s, unit = float(trace.time_s[0]), *_scale(float(trace.time_s[-1] - trace.time_s[0]))
    marks = tuple(((one.at_s - zero) / per_s, "refused" if one.refused else "taken") for one in found)
    panels = _panels(trace, 0, len(trace) - 1, per_s, unit, -1.0, (), marks, zero, warmth=True)
    rows = tuple(
        (
            format_duration(one.at_s - zero),
            "not known" if one.temperature_C is None else degrees_words(one.temperature_C),
            "refused" if one.refused else "taken",
            f"{one.current_A:.3g} A for {one.after_s:.3g} s" if one.current_A else "nothing flowed",
        )
        for one in found
    )
    told = tuple(
        f"A charge was {'refused' if one.refused else 'taken'}"
        + ("" if one.temperature_C is None else f" at {degrees_words(one.temperature_C)}")
        + (f" after {one.current_A:.3g} A had flowed for {one.after_s:.3g} s" if one.refused and one.current_A else "")
        for one in found
    )
    return Portrait(panels, ("at", "core", "the charge was", "what flowed"), rows, told)


def _rested(analysis: Analysis) -> Portrait | None:
    """How a voltage settled: against the logarithm of time, with the moments at which it counts as rested."""
    rests = [result for result in analysis.stages if result.stage.kind is not StageKind.DISCHARGE and result.stage.kind is not StageKind.CHARGE]  # fmt: skip
    longest = max(rests, key=lambda one: one.end_s - one.start_s, default=None)
    if longest is None or longest.end_s - longest.start_s < LEAST_REST_S:
        return None
    trace = analysis.trace
    cut = slice(longest.stage.first, longest.stage.last + 1)
    time, volts = trace.time_s[cut] - longest.start_s, trace.voltage_V[cut]
    good = (time > 0) & np.isfinite(volts)
    time, volts = time[good], volts[good]
    if len(time) < 4:
        return None
    lasted = float(time[-1])
    x, y = thinned(np.log10(time / 60.0), volts)
    ticks = tuple((math.log10(at / 60.0), words) for at, words in _TICKS if time[0] <= at <= 2.0 * lasted)
    reached = [(at, float(np.interp(at, time, volts))) for at in RESTED_S if at <= lasted]
    marks = tuple((math.log10(at / 60.0), format_duration(at)) for at, _ in reached)
    end = float(volts[-1])
    tail = time >= (1.0 - SLOPE_SHARE) * lasted
    slope = float(np.polyfit(time[tail] / HOUR, volts[tail], 1)[0]) if np.count_nonzero(tail) > 2 else 0.0
    rows = [(format_duration(at), f"{value:.3f} V", f"{1000 * (end - value):+.0f} mV since") for at, value in reached]
    rows += [(format_duration(at), "not yet", "") for at in RESTED_S if at > lasted]
    told = (
        f"{end:.3f} V after {format_duration(lasted)}, moving by {1000 * slope:+.1f} mV/h in its last fifth".replace(
            "-", MINUS
        ),
    )
    panel = Panel("Rested voltage", "time since the current ended, by its logarithm", "voltage / V", (("voltage", x, y),), (), marks, (), ticks)  # fmt: skip
    return Portrait((panel,), ("rested for", "voltage then", "and since"), tuple(rows), told)


_TICKS = (
    (1.0, "1 s"), (10.0, "10 s"), (60.0, "1 min"), (600.0, "10 min"), (3600.0, "1 h"), (36_000.0, "10 h"), (86_400.0, "1 d"), (864_000.0, "10 d"),
)  # fmt: skip


def points(found: Iterable[tuple[float, float]]) -> tuple[Column, Column]:
    """Pairs as two columns, in the order of the first."""
    pairs = sorted(found)
    return np.array([x for x, _ in pairs]), np.array([y for _, y in pairs])
