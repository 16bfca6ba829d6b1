"""What people do to logs: each variant takes a clean log and gives back one with a flaw of the world in it.

The truth about the battery stays what it was; a verdict on the flawed log may be open, but never wrong.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from random import Random
from typing import Any

import numpy as np

from wintry_tally.core.trace.trace import Column, Trace

Flawed = tuple[Trace, dict[str, Any]]
"""A log, and the options of its evidence that change with it."""


def zero(trace: Trace, dice: Random) -> Flawed:
    """A clamp meter that reads something with nothing flowing, within its own limit."""
    off = round(dice.uniform(-0.18, 0.18), 2)
    steps = replace(trace, current_A=np.round(trace.current + off, 2))
    return replace(steps, resolution={**trace.resolution, "current_A": 0.01}), {"current_accuracy": "1%+0.2"}


def flicker(trace: Trace, dice: Random) -> Flawed:
    """A last digit that never stands still."""
    noise = np.random.default_rng(dice.getrandbits(32)).integers(-1, 2, len(trace)) * 0.01
    return (
        replace(
            trace, current_A=np.round(trace.current + noise, 2), resolution={**trace.resolution, "current_A": 0.01}
        ),
        {"current_accuracy": "0.6%+3d"},
    )


def gap(trace: Trace, dice: Random) -> Flawed:
    """A stretch that was not logged: the computer slept."""
    width = dice.uniform(0.01, 0.12) * (trace.time_s[-1] - trace.time_s[0])
    begins = dice.uniform(trace.time_s[0], trace.time_s[-1] - width)
    keep = (trace.time_s < begins) | (trace.time_s > begins + width)
    return trace.taking(keep), {}


def early_end(trace: Trace, dice: Random) -> Flawed:
    """The logger was taken away too soon."""
    ends = dice.uniform(0.3, 1.0) * (trace.time_s[-1] - trace.time_s[0]) + trace.time_s[0]
    keep = trace.time_s <= ends
    keep[:3] = True
    return trace.taking(keep), {}


def by_hand(trace: Trace, dice: Random) -> Flawed:
    """Switched off by a person while current flowed; the log goes on for ten minutes of rest."""
    under = np.flatnonzero(np.abs(trace.current) > 0.05)
    if len(under) < 4:
        return early_end(trace, dice)
    last = int(under[int(dice.uniform(0.3, 0.98) * (len(under) - 1))])
    head = trace.taking(np.arange(last + 1, dtype=np.int64))
    step = float(np.median(np.diff(trace.time_s)))
    count = max(20, int(600.0 / step))
    after: Column = np.arange(1, count + 1, dtype=np.float64) * step
    rested = float(
        trace.voltage_V[max(0, under[0] - 1)]
    )  # what it showed before anything flowed: near enough to rest at
    leap = 0.6 * (rested - head.voltage_V[-1])
    voltage = head.voltage_V[-1] + leap * (0.5 + 0.5 * (1.0 - np.exp(-after / 200.0)))
    noise = np.random.default_rng(dice.getrandbits(32)).normal(0.0, 0.001, (2, count))
    tail: dict[str, Column] = {"time_s": head.time_s[-1] + after, "voltage_V": np.round(voltage + noise[0], 3)}
    tail["current_A"] = np.round(noise[1], 3)
    joined: dict[str, Any] = {}
    for name in ("time_s", "voltage_V", "current_A", "temperature_C", "counter_Ah", "counter_Wh", "power_W", "charge_state"):  # fmt: skip
        column = getattr(head, name)
        if column is not None:
            more = tail.get(name, np.full(count, 0.0 if name == "power_W" else column[-1]))
            joined[name] = np.concatenate([column, more])
    rows = np.arange(1, last + 2 + count, dtype=np.int64)
    return replace(head, **joined, row=rows, beside={}), {}


def wrong_unit(trace: Trace, dice: Random) -> Flawed:
    """Milliamperes under a heading of amperes: the whole log, or from somewhere on."""
    start = 0 if dice.random() < 0.5 else int(dice.uniform(0.1, 0.9) * len(trace))
    factor = np.where(np.arange(len(trace)) >= start, 1000.0, 1.0)
    return replace(trace, current_A=trace.current * factor), {}


def late_start(trace: Trace, dice: Random) -> Flawed:
    """The logger was put on when current already flowed; its clock began there, or with the test."""
    under = np.flatnonzero(np.abs(trace.current) > 0.05)
    if len(under) < 8:
        return trace, {}
    first = int(under[0] + dice.uniform(0.05, 0.6) * (under[-1] - under[0]))
    late = trace.taking(np.arange(first, len(trace), dtype=np.int64))
    return (replace(late, time_s=late.time_s - late.time_s[0]) if dice.random() < 0.5 else late), {}


def coarse(trace: Trace, dice: Random) -> Flawed:
    """A reading in many: somebody looked now and then, or the logger was set to minutes."""
    step = dice.choice([6, 20, 60])
    return trace.taking(np.arange(dice.randrange(step), len(trace), step, dtype=np.int64)), {}


def paused(trace: Trace, dice: Random) -> Flawed:
    """Switched off for a while in the middle, with the logger on, and then on again."""
    under = np.flatnonzero(np.abs(trace.current) > 0.05)
    if len(under) < 8:
        return trace, {}
    at = int(under[int(dice.uniform(0.1, 0.9) * (len(under) - 1))])
    step = float(np.median(np.diff(trace.time_s)))
    count = max(5, int(dice.uniform(60.0, 3600.0) / step))
    rested = float(trace.voltage_V[max(0, under[0] - 1)])
    after: Column = np.arange(1, count + 1, dtype=np.float64) * step
    leap = 0.6 * (rested - trace.voltage_V[at])
    flat: dict[str, Column] = {
        "time_s": trace.time_s[at] + after,
        "voltage_V": np.round(trace.voltage_V[at] + leap * (1.0 - 0.5 * np.exp(-after / 200.0)), 3),
        "current_A": np.zeros(count),
    }
    joined: dict[str, Any] = {}
    for name in ("time_s", "voltage_V", "current_A", "temperature_C", "counter_Ah", "counter_Wh", "power_W", "charge_state"):  # fmt: skip
        column = getattr(trace, name)
        if column is not None:
            middle = flat.get(name, np.full(count, 0.0 if name == "power_W" else column[at]))
            tail = column[at + 1 :] + (after[-1] if name == "time_s" else 0.0)
            joined[name] = np.concatenate([column[: at + 1], middle, tail])
    return replace(trace, **joined, row=np.arange(1, len(trace) + count + 1, dtype=np.int64), beside={}), {}


def spikes(trace: Trace, dice: Random) -> Flawed:
    """Single readings that cannot be: a lead lifted, a line garbled."""
    voltage, current = trace.voltage_V.copy(), trace.current.copy()
    for _ in range(dice.randrange(1, 5)):
        at = dice.randrange(1, len(trace) - 1)
        if dice.random() < 0.5:
            voltage[at] = dice.choice([0.0, 0.001, 99.99, 10.0 * voltage[at], -voltage[at]])
        else:
            current[at] = dice.choice([0.0, 999.9, 10.0 * current[at], -current[at]])
    return replace(trace, voltage_V=voltage, current_A=current), {}


def frozen(trace: Trace, dice: Random) -> Flawed:
    """A meter that stood still for a while, or from somewhere on, and repeated what it had."""
    width = dice.uniform(0.02, 0.3) * (trace.time_s[-1] - trace.time_s[0])
    begins = dice.uniform(trace.time_s[0], trace.time_s[-1])
    held = np.flatnonzero((trace.time_s >= begins) & (trace.time_s <= begins + width))
    if not len(held):  # where another flaw left a hole
        return trace, {}
    voltage, current = trace.voltage_V.copy(), trace.current.copy()
    voltage[held], current[held] = voltage[held[0]], current[held[0]]
    return replace(trace, voltage_V=voltage, current_A=current), {}


def minutes(trace: Trace, dice: Random) -> Flawed:
    """Times in minutes or hours under a heading that names no unit."""
    factor = dice.choice((60.0, 60.0, 3600.0))
    return replace(trace, time_s=np.round(trace.time_s / factor, 5), unnamed=trace.unnamed | {"time"}), {}


def sixty(trace: Trace, dice: Random) -> Flawed:
    """Minutes and seconds ("5:10") that may as well be hours and minutes; a reading a second at the most."""
    whole = np.floor(trace.time_s - trace.time_s[0])
    thin = trace.taking(np.append(True, np.diff(whole) > 0))
    seconds = np.floor(thin.time_s - thin.time_s[0])
    return replace(thin, time_s=seconds * 60.0, unnamed=trace.unnamed | {"time", "clock"}), {}


def unsigned(trace: Trace, dice: Random) -> Flawed:
    """A meter that writes every current without its sign."""
    return replace(trace, current_A=np.abs(trace.current)), {}


def fahrenheit(trace: Trace, dice: Random) -> Flawed:
    """Temperatures in °F under a heading that names no unit."""
    if trace.temperature_C is None:
        return trace, {}
    return replace(trace, temperature_C=trace.temperature_C * 1.8 + 32.0, unnamed=trace.unnamed | {"temperature"}), {}


def leads(trace: Trace, dice: Random) -> Flawed:
    """Volts read at the load or the charger: leads and clamps take 50 to 500 mV at the largest current."""
    ohm = dice.uniform(0.05, 0.5) / max(1.0, float(np.max(np.abs(trace.current))))
    return replace(trace, voltage_V=np.round(trace.voltage_V - ohm * trace.current, 3)), {}


def leads_said(trace: Trace, dice: Random) -> Flawed:
    """The same, and somebody says so."""
    return leads(trace, dice)[0], {"volts_at": "load"}


def flipped(trace: Trace, dice: Random) -> Flawed:
    """The clamp was put on the other way round from somewhere on."""
    start = int(dice.uniform(0.05, 0.95) * len(trace))
    return replace(trace, current_A=np.where(np.arange(len(trace)) >= start, -trace.current, trace.current)), {}


VARIANTS: dict[str, Callable[[Trace, Random], Flawed]] = {
    "zero": zero, "flicker": flicker, "gap": gap, "early end": early_end, "by hand": by_hand, "wrong unit": wrong_unit,
    "late start": late_start, "coarse": coarse, "paused": paused, "spikes": spikes, "frozen": frozen, "flipped": flipped,
    "minutes": minutes, "sixty": sixty, "unsigned": unsigned, "fahrenheit": fahrenheit, "leads": leads,
    "leads said": leads_said,
}  # fmt: skip

UNSEEN = frozenset({"leads"})
"""Flaws that a reading shows only where they are large: what leads take below a battery's own resistance looks like it."""
OF_THE_METER = frozenset({"zero", "flicker"})
"""Flaws that every log of one meter has alike; the others befall one log of a pair."""
OF_THE_BENCH = OF_THE_METER | {"leads", "leads said"}
"""Those that are there before anything is written down."""
