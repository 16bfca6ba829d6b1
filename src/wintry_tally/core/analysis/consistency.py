"""Units and runs held against each other: differences, repeatability, drift; what one meter gets wrong cancels."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from wintry_tally.core.quantity import Quantity, Term, combine_linear, format_number, format_quantity, ratio
from wintry_tally.core.working import Working


@dataclass(frozen=True)
class Difference:
    """Two like figures compared.

    Parts:
        relative: (second - first) / mean in percent, with the doubt that the two do *not* share.
        alike: whether they agree within that doubt; None where it is unknown.
    """

    first: str
    second: str
    relative: Quantity
    alike: bool | None
    working: Working


def compare(first: str, one: Quantity, second: str, other: Quantity) -> Difference:
    """Difference over mean of two figures of one unit.

    d = 200 % (b - a) / (b + a). Source: common practice; JCGM 100:2008, 5.2 (shared errors cancel).
    """
    quotient = ratio(other, one)
    q = quotient.value
    # d = 2 (q - 1) / (q + 1); dd/dq = 4 / (q + 1)²
    slope = 400.0 / (q + 1.0) ** 2
    scaled = quotient.scaled(slope, "%")
    relative = Quantity(200.0 * (q - 1.0) / (q + 1.0), scaled.standard, "%", scaled.terms)
    alike = None if relative.expanded is None else abs(relative.value) <= relative.expanded
    words = {True: "alike within the uncertainty they do not share", False: "apart by more than that uncertainty"}
    working = Working(
        f"{second} against {first}",
        "d = (b − a) / mean; an error of one meter is in both and cancels",
        {first: format_quantity(one), second: format_quantity(other)},
        f"{format_quantity(relative)}" + (f": {words[alike]}" if alike is not None else ""),
        "common practice; JCGM 100:2008, 5.2",
    )
    return Difference(first, second, relative, alike, working)


@dataclass(frozen=True)
class Repeatability:
    """Several runs of one thing: their mean with shared and unshared doubt, and how far they scatter."""

    mean: Quantity
    scatter: float
    relative_percent: float
    working: Working


def repeatability(names: Sequence[str], figures: Sequence[Quantity]) -> Repeatability:
    """Mean and experimental standard deviation of two or more runs.

    s² = Σ (y - mean)² / (n - 1). Source: JCGM 100:2008, 4.2.2.
    """
    size = len(figures)
    mean = combine_linear([(1.0 / size, figure) for figure in figures], figures[0].unit)
    scatter = math.sqrt(math.fsum((figure.value - mean.value) ** 2 for figure in figures) / (size - 1))
    percent = 100.0 * scatter / mean.value if mean.value else math.nan
    working = Working(
        "Repeatability",
        "s = √(Σ (y − mean)² / (n − 1))",
        {name: format_quantity(figure) for name, figure in zip(names, figures, strict=True)},
        f"s = {scatter:.2g} {mean.unit} ({percent:.2g} %), mean {format_quantity(mean)}",
        "JCGM 100:2008, 4.2.2",
    )
    return Repeatability(mean, scatter, percent, working)


def drift(times: Sequence[float], figures: Sequence[Quantity], per: str = "run") -> tuple[Quantity, Working]:
    """The straight-line change of a figure, in percent of the first per unit of `times`; a shared gain cancels.

    Least squares; the doubt from each figure's unshared error, or from the scatter where that is larger.

    Raises:
        ValueError: fewer than two, or all at one time.
    """
    if len(set(times)) < 2:
        raise ValueError("a drift needs two times")
    size = len(figures)
    centre = math.fsum(times) / size
    spread = math.fsum((time - centre) ** 2 for time in times)
    slope = combine_linear(
        [((time - centre) / spread, figure) for time, figure in zip(times, figures, strict=True)], figures[0].unit
    )
    relative = ratio(slope, figures[0], 100.0, f"%/{per}")
    if relative.standard is not None and size > 2:
        mean = math.fsum(figure.value for figure in figures) / size
        left = math.fsum(
            (figure.value - mean - slope.value * (time - centre)) ** 2
            for time, figure in zip(times, figures, strict=True)
        )
        scatter = 100.0 / figures[0].value * math.sqrt(left / (size - 2) / spread)
        if scatter > relative.standard:
            relative = Quantity.from_terms(relative.value, relative.unit, [Term("scatter of the runs", scatter)])
    working = Working(
        "Drift",
        "slope of a straight line through the runs, over the first",
        {f"{time:g}": format_quantity(figure) for time, figure in zip(times, figures, strict=True)},
        format_quantity(relative) if relative.standard else f"{format_number(relative.value, 3)} {relative.unit}",
        "least squares; JCGM 100:2008, 5.2",
    )
    return relative, working
