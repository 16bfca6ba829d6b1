"""A trace as the curves people look at: voltage and current against time, charge or energy, thinned for a screen."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from wintry_tally.core.analysis import Analysis, StageKind
from wintry_tally.core.analysis.counting import HOUR, running_sum
from wintry_tally.core.quantity import format_duration
from wintry_tally.core.trace.trace import Column, Trace

Against = Literal["time", "charge", "energy"]
AXIS_WORDS = {"time": "time / h", "charge": "charge / Ah", "energy": "energy / Wh"}
MOST_POINTS = 200_000


@dataclass(frozen=True)
class Band:
    """A stage as a band along the axis: from, to, what it was, and whether current flowed."""

    start: float
    end: float
    words: str
    live: bool


@dataclass(frozen=True)
class Drawn:
    """Curves against one axis.

    Parts:
        x, voltage, current: of the whole log (time) or of its capacity test (charge, energy).
        charge_x, charge_voltage: the largest charge, against its own charge or energy; empty against time.
        bands: stages; empty unless against time.
    """

    x: Column
    voltage: Column
    current: Column
    charge_x: Column
    charge_voltage: Column
    bands: tuple[Band, ...]


def drawn(analysis: Analysis, against: Against) -> Drawn:
    """The curves of one analysis. Against time every reading is kept; else about MOST_POINTS."""
    nothing = np.zeros(0)
    trace = analysis.trace
    if against == "time":
        bands = tuple(
            Band(result.start_s / HOUR, result.end_s / HOUR, _words(result), result.stage.kind in _LIVE)
            for result in analysis.stages
        )
        return Drawn(trace.time_s / HOUR, trace.voltage_V, trace.current, nothing, nothing, bands)
    stages = []
    if analysis.capacity is not None:
        stages = [(span.first, span.last) for span in analysis.capacity.count.spans]
    x, voltage, current = _moved(analysis, stages, against)
    charging: list[tuple[int, int]] = []
    if analysis.charge is not None:
        charging = [(span.first, span.last) for span in analysis.charge.count.spans if span.last > span.first]
    charge_x, charge_voltage, _ = _moved(analysis, charging, against)
    return Drawn(x, voltage, current, charge_x, charge_voltage, ())


_LIVE = {StageKind.CHARGE, StageKind.DISCHARGE}


def _words(result: object) -> str:
    from wintry_tally.core.analysis.analyse import StageResult

    assert isinstance(result, StageResult)
    kind = result.stage.kind.value
    if result.stage.kind not in _LIVE:
        return kind
    return f"{kind} {abs(result.count.mean_current.value):.3g} A"


def _moved(analysis: Analysis, stages: list[tuple[int, int]], against: Against) -> tuple[Column, Column, Column]:
    """What was moved since the beginning, at readings of these stages, one after another."""
    trace = analysis.trace
    xs, volts, amps = [], [], []
    base = 0.0
    total = sum(last - first + 1 for first, last in stages)
    for first, last in stages:
        time, current = trace.time_s[first : last + 1], np.abs(trace.current[first : last + 1])
        voltage = trace.voltage_V[first : last + 1]
        rate = current if against == "charge" else current * voltage
        moved = base + running_sum(time, rate) / HOUR
        base = float(moved[-1])
        keep = slice(None, None, max(1, total // MOST_POINTS))
        xs.append(moved[keep])
        volts.append(voltage[keep])
        amps.append(current[keep])
    if not xs:
        nothing = np.zeros(0)
        return nothing, nothing, nothing
    return np.concatenate(xs), np.concatenate(volts), np.concatenate(amps)


@dataclass(frozen=True)
class Slope:
    """Between two moments of a trace: the readings nearest to them and what changed from one to the other."""

    seconds: float
    from_V: float
    to_V: float
    from_A: float
    to_A: float

    @property
    def volts_per_hour(self) -> float:
        """How fast the voltage changed, V/h."""
        return (self.to_V - self.from_V) / self.seconds * 3600.0 if self.seconds > 0 else 0.0

    @property
    def ohm(self) -> float | None:
        """R = (V1 - V2) / (I2 - I1), where the current changed enough for it."""
        change = self.to_A - self.from_A
        return (self.from_V - self.to_V) / change if abs(change) > 0.1 else None

    def words(self) -> str:
        """In one line."""
        told = (
            f"Over {format_duration(self.seconds)}: {self.from_V:.3f} to {self.to_V:.3f} V "
            f"({1000 * (self.to_V - self.from_V):+.0f} mV, {1000 * self.volts_per_hour:+.1f} mV/h), "
            f"{self.from_A:.3g} to {self.to_A:.3g} A"
        )
        if self.ohm is not None:
            told += f"; R = (V₁ − V₂) / (I₂ − I₁) = {1000 * self.ohm:.3g} mΩ"
        return told.replace("-", "−") + "."


def index_of_row(trace: Trace, number: int) -> int:
    """The reading of a data row, or the nearest one kept."""
    if trace.row is None:
        return min(len(trace) - 1, max(0, number - 1))
    return min(len(trace) - 1, int(np.searchsorted(trace.row, number)))


def slope_between(trace: Trace, low_s: float, high_s: float) -> Slope:
    """The slope between the readings nearest to two moments."""
    low, high = (min(len(trace) - 1, int(np.searchsorted(trace.time_s, moment))) for moment in (low_s, high_s))
    return Slope(
        float(trace.time_s[high] - trace.time_s[low]),
        float(trace.voltage_V[low]),
        float(trace.voltage_V[high]),
        float(trace.current[low]),
        float(trace.current[high]),
    )
