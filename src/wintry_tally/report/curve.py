"""The discharge curve as an SVG drawing, thinned to what a page can show."""

from __future__ import annotations

import math

import numpy as np

from wintry_tally.core.analysis import Analysis
from wintry_tally.core.analysis.counting import HOUR, running_sum
from wintry_tally.core.trace.trace import Column

WIDTH, HEIGHT = 720, 300
LEFT, RIGHT, TOP, BOTTOM = 56, 16, 14, 44
POINTS = 600


def discharge_curve(analysis: Analysis) -> tuple[Column, Column] | None:
    """Charge drawn (Ah) and voltage over the capacity test, about POINTS long; None without a test."""
    test = analysis.capacity
    if test is None:
        return None
    trace = analysis.trace
    charges, volts = [], []
    drawn = 0.0
    total = sum(span.last - span.first + 1 for span in test.count.spans)
    for span in test.count.spans:
        size = max(2, int(POINTS * (span.last - span.first + 1) / total))
        index = np.unique(np.linspace(span.first, span.last, size).astype(np.int64))
        current = trace.current[span.first : span.last + 1]
        moved = drawn + running_sum(trace.time_s[span.first : span.last + 1], current) / HOUR
        charges.append(moved[index - span.first])
        volts.append(trace.voltage_V[index])
        drawn = float(moved[-1])
    return np.concatenate(charges), np.concatenate(volts)


def ticks(low: float, high: float, about: int = 6) -> list[float]:
    """Round numbers from low to high."""
    span = high - low
    if span <= 0 or not math.isfinite(span):
        return [low]
    raw = span / about
    power = 10.0 ** math.floor(math.log10(raw))
    step = next(factor * power for factor in (1, 2, 5, 10) if factor * power >= raw)
    first = math.ceil(low / step - 1e-9)
    return [round(index * step, 10) for index in range(first, math.floor(high / step + 1e-9) + 1)]


def curve_svg(curves: list[tuple[str, Column, Column]], rated_Ah: float | None, cutoff_V: float | None) -> str:
    """One drawing of voltage against charge for one or more runs, told apart by dash and label; "" for none."""
    if not curves:
        return ""
    top_Ah = max(max(float(x[-1]) for _, x, _ in curves), rated_Ah or 0.0) * 1.04
    low_V = min(float(np.min(y)) for _, _, y in curves)
    high_V = max(float(np.max(y)) for _, _, y in curves)
    low_V, high_V = math.floor(low_V * 2) / 2, math.ceil(high_V * 2 + 0.2) / 2

    def px(charge: float) -> float:
        return LEFT + (WIDTH - LEFT - RIGHT) * charge / top_Ah

    def py(volts: float) -> float:
        return TOP + (HEIGHT - TOP - BOTTOM) * (high_V - volts) / (high_V - low_V)

    parts = [
        f'<svg viewBox="0 0 {WIDTH} {HEIGHT}" role="img" aria-label="Voltage against charge drawn" '
        'xmlns="http://www.w3.org/2000/svg">'
    ]
    for volts in ticks(low_V, high_V):
        parts.append(f'<path class="grid" d="M{LEFT} {py(volts):.1f}H{WIDTH - RIGHT}"/>')
        parts.append(f'<text x="{LEFT - 8}" y="{py(volts) + 4:.1f}" text-anchor="end">{volts:g}</text>')
    for charge in ticks(0.0, top_Ah):
        parts.append(f'<path class="grid" d="M{px(charge):.1f} {TOP}V{HEIGHT - BOTTOM}"/>')
        parts.append(f'<text x="{px(charge):.1f}" y="{HEIGHT - BOTTOM + 16}" text-anchor="middle">{charge:g}</text>')
    if rated_Ah:
        parts.append(f'<path class="claim" d="M{px(rated_Ah):.1f} {TOP}V{HEIGHT - BOTTOM}"/>')
        parts.append(
            f'<text x="{px(rated_Ah) - 4:.1f}" y="{TOP + 12}" text-anchor="end">claimed {rated_Ah:g} Ah</text>'
        )
    if cutoff_V and low_V <= cutoff_V <= high_V:
        parts.append(f'<path class="claim" d="M{LEFT} {py(cutoff_V):.1f}H{WIDTH - RIGHT}"/>')
        parts.append(f'<text x="{LEFT + 4}" y="{py(cutoff_V) - 4:.1f}">cut-off {cutoff_V:g} V</text>')
    dashes = ("", "7 4", "2 3", "9 3 2 3")
    for index, (_, x, y) in enumerate(curves):
        points = " ".join(f"{px(float(a)):.1f},{py(float(b)):.1f}" for a, b in zip(x, y, strict=True))
        dash = dashes[index % len(dashes)]
        style = f' stroke-dasharray="{dash}"' if dash else ""
        parts.append(f'<polyline class="curve"{style} points="{points}"/>')
        if len(curves) > 1:
            spot = int(len(x) * (0.35 + 0.12 * (index % 3)))
            parts.append(
                f'<text x="{px(float(x[spot])):.1f}" y="{py(float(y[spot])) - 8:.1f}">{chr(ord("a") + index % 26)}</text>'
            )
    parts.append(f'<text x="{(LEFT + WIDTH) / 2}" y="{HEIGHT - 8}" text-anchor="middle">charge drawn / Ah</text>')
    parts.append(
        f'<text transform="translate(14 {(TOP + HEIGHT - BOTTOM) / 2}) rotate(-90)" text-anchor="middle">voltage / V</text>'
    )
    parts.append("</svg>")
    return "".join(parts)
