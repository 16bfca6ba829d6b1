"""A second meter on the same quantities: what it adds up to, and whether both are within their specifications."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from wintry_tally.core.analysis.capacity import CapacityTest
from wintry_tally.core.analysis.counting import HOUR, Instrument
from wintry_tally.core.message import said
from wintry_tally.core.quantity import Accuracy
from wintry_tally.core.trace import Remark
from wintry_tally.core.trace.beside import SECOND_A, SECOND_V
from wintry_tally.core.trace.trace import Column, Trace
from wintry_tally.core.working import Working


@dataclass(frozen=True)
class SecondMeter:
    """How the second meter compares under load: mean differences (second less first), what both specifications allow.

    Parts:
        voltage_V, current_A: mean difference, None where it has no such column.
        allowed_V, allowed_A: sum of both limits at the mean reading, None where a specification is unknown.
        charge_Ah: drawn by the second meter over the same readings, None where it has no current.
    """

    voltage_V: float | None
    current_A: float | None
    allowed_V: float | None
    allowed_A: float | None
    charge_Ah: float | None
    first_Ah: float
    working: Working

    @property
    def agree(self) -> bool | None:
        """Whether both are within their specifications; None where that cannot be told."""
        pairs = [(self.voltage_V, self.allowed_V), (self.current_A, self.allowed_A)]
        known = [(abs(apart), allowed) for apart, allowed in pairs if apart is not None and allowed is not None]
        return all(apart <= allowed for apart, allowed in known) if known else None

    @property
    def words(self) -> str:
        """One sentence for a reader."""
        amount = "" if self.charge_Ah is None else f"{self.charge_Ah:.2f} Ah against {self.first_Ah:.2f} Ah, "
        judged = {
            True: "within both specifications",
            False: "beyond both specifications",
            None: "specification unknown",
        }
        return f"{amount}{judged[self.agree]}"


def second_meter_of(trace: Trace, test: CapacityTest, first: Instrument, second: Instrument) -> SecondMeter | None:
    """The second meter over the readings of the capacity test; None where the log has none.

    A limit is a % of the reading plus an offset; two honest meters differ by at most both limits together.
    Source: JCGM 100:2008, 4.3.7 for the limits; the sum of two limits is common practice, no published source.
    """
    volts, amps = trace.beside.get(SECOND_V.name), trace.beside.get(SECOND_A.name)
    if not test.count.spans or (volts is None and amps is None):
        return None
    chosen = [np.arange(span.first, span.last + 1) for span in test.count.spans]
    index = np.concatenate(chosen)
    apart_V, at_V = _apart(trace.voltage_V, volts, index)
    apart_A, at_A = _apart(trace.current, amps, index)
    if apart_V is None and apart_A is None:
        return None
    charge = first_Ah = 0.0
    if amps is not None:
        for span in chosen:
            whole = span[np.isfinite(amps[span])]
            charge += float(np.trapezoid(amps[whole], trace.time_s[whole])) / HOUR
            first_Ah += float(np.trapezoid(trace.current[whole], trace.time_s[whole])) / HOUR
    allowed_V = _allowed(first.voltage, second.voltage, at_V, trace.digit_V)
    allowed_A = _allowed(first.current, second.current, at_A, trace.digit_A)
    inputs = {}
    if apart_V is not None:
        inputs["voltage"] = f"{1000 * apart_V:+.1f} mV at {at_V:.3f} V" + _may(allowed_V, 1000.0, "mV")
    if apart_A is not None:
        inputs["current"] = f"{1000 * apart_A:+.1f} mA at {at_A:.3f} A" + _may(allowed_A, 1000.0, "mA")
    result = f"{charge:.3f} Ah against {first_Ah:.3f} Ah" if amps is not None else "voltage only"
    working = Working(
        "Second meter against the first",
        "mean of (second − first) under load, against the sum of both limits",
        inputs,
        result,
        "JCGM 100:2008, 4.3.7 for the limits; their sum is common practice, no published source",
    )
    return SecondMeter(apart_V, apart_A, allowed_V, allowed_A, charge if amps is not None else None, first_Ah, working)


def second_meter_remarks(trace: Trace, test: CapacityTest | None, found: SecondMeter | None) -> list[Remark]:
    """Two meters further apart than both specifications allow."""
    if test is None or found is None or found.agree is not False:
        return []
    rows = (trace.row_at(test.count.spans[0].first), trace.row_at(test.count.spans[-1].last))
    remarks = []
    for unit, apart, allowed in (
        ("volts", found.voltage_V, found.allowed_V),
        ("amps", found.current_A, found.allowed_A),
    ):
        if apart is None or allowed is None or abs(apart) <= allowed:
            continue
        remarks.append(Remark("meters-disagree", said(f"second-{unit}-apart", apart=apart, limit=allowed), rows))
    return remarks


def _apart(first: Column, second: Column | None, index: np.ndarray) -> tuple[float | None, float]:
    if second is None:
        return None, math.nan
    whole = index[np.isfinite(second[index]) & np.isfinite(first[index])]
    if len(whole) < 3:
        return None, math.nan
    return float(np.mean(second[whole] - first[whole])), float(np.mean(np.abs(first[whole])))


def _allowed(first: Accuracy | None, second: Accuracy | None, at: float, digit: float) -> float | None:
    if first is None or second is None or not math.isfinite(at):
        return None
    return sum(item.percent / 100.0 * at + item.offset_limit(digit) for item in (first, second))


def _may(allowed: float | None, factor: float, unit: str) -> str:
    return "" if allowed is None else f" (both may differ by {factor * allowed:.1f} {unit})"
