"""A measured value with its standard uncertainty, its unit, and the terms the uncertainty is made of."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

COVERAGE = 2.0
"""The coverage factor k of every expanded uncertainty shown."""


@dataclass(frozen=True)
class Term:
    """One contribution to a combined standard uncertainty.

    Parts:
        name: what it comes from, in words.
        standard: the signed contribution (df/dx) u(x), in the unit of the result.
        shared: a key equal in two quantities whose terms are one and the same error
            (the gain of one meter in two runs); empty when the error is this result's own.
    """

    name: str
    standard: float
    shared: str = ""


@dataclass(frozen=True)
class Quantity:
    """A value, its standard uncertainty (None where nothing is known of the instrument), and its unit."""

    value: float
    standard: float | None
    unit: str
    terms: tuple[Term, ...] = ()

    @property
    def expanded(self) -> float | None:
        """Expanded uncertainty U = k u with k = 2 (JCGM 100:2008, 6.2)."""
        return None if self.standard is None else COVERAGE * self.standard

    @classmethod
    def from_terms(cls, value: float, unit: str, terms: Iterable[Term]) -> Quantity:
        """Combine independent terms by root sum of squares (JCGM 100:2008, 5.1)."""
        kept = tuple(term for term in terms if term.standard != 0.0)
        return cls(value, math.sqrt(math.fsum(term.standard**2 for term in kept)), unit, kept)

    def scaled(self, factor: float, unit: str | None = None) -> Quantity:
        """This quantity times an exact factor."""
        return Quantity(
            self.value * factor,
            None if self.standard is None else abs(self.standard * factor),
            self.unit if unit is None else unit,
            tuple(Term(term.name, term.standard * factor, term.shared) for term in self.terms),
        )

    def as_dict(self) -> dict[str, Any]:
        """The shape of the command-line contract."""
        return {"value": self.value, "expanded": self.expanded, "k": int(COVERAGE), "unit": self.unit}


def combine_linear(parts: Sequence[tuple[float, Quantity]], unit: str) -> Quantity:
    """The sum of coefficient × quantity, terms with the same shared key added linearly.

    Source: JCGM 100:2008, 5.2 (fully correlated inputs add linearly); the propagation is the `uncertainties`
    package's, each error one of its variables. A part whose uncertainty is
    unknown makes the result's unknown. A part without terms counts as one term of its own.
    """
    value = math.fsum(coefficient * quantity.value for coefficient, quantity in parts)
    if any(quantity.standard is None for _, quantity in parts):
        return Quantity(value, None, unit)
    from uncertainties import ufloat

    total: Any = value
    origins: dict[Any, Term] = {}
    shared: dict[str, Any] = {}
    for coefficient, quantity in parts:
        for term in quantity.terms or (Term("uncertainty as given", quantity.standard or 0.0),):
            if term.standard == 0.0 or coefficient == 0.0:
                continue
            error = shared.get(term.shared) if term.shared else None
            if error is None:
                error = ufloat(0.0, 1.0)
                origins[error] = term
                if term.shared:
                    shared[term.shared] = error
            total = total + coefficient * term.standard * error
    if not origins:
        return Quantity(value, 0.0, unit)
    terms = [
        Term(origins[error].name, derivative, origins[error].shared) for error, derivative in total.derivatives.items()
    ]
    return Quantity.from_terms(value, unit, terms)


def ratio(upper: Quantity, lower: Quantity, factor: float = 1.0, unit: str = "") -> Quantity:
    """factor × upper / lower; an error the two share (the gain of one meter) cancels.

    Source: JCGM 100:2008, 5.2, to first order. A lower of zero gives NaN.
    """
    if lower.value == 0.0:
        return Quantity(float("nan"), None, unit)
    value = upper.value / lower.value
    moved = combine_linear([(factor / lower.value, upper), (-factor * value / lower.value, lower)], unit)
    return Quantity(factor * value, moved.standard, unit, moved.terms)
