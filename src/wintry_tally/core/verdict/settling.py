"""Which further reading would settle a figure that lies too close to its claim, the cheapest first."""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass

from wintry_tally.core.quantity import Quantity, Term, format_number

SURE = 0.88
"""How likely a reading must be to settle it before it is named as the one: about nine times in ten."""
WORTH = 0.5
NOTHING = "it lies on the limit: no usual reading settles it"
SHARES = (0.5, 0.3, 0.2, 0.1, 0.05)
"""How much better than before a thing can be measured again."""
MET_Z = 1.6449
"""Standard uncertainties between a value and its limit at which it is met or missed at 95 %."""


@dataclass(frozen=True)
class Remedy:
    """One thing to do about some of a figure's doubt.

    Parts:
        words: what to do; marks: of the names of the terms that it makes smaller.
        left: the share of each that stays.
    """

    words: str
    marks: tuple[str, ...]
    left: float

    def after(self, term: Term) -> Term:
        """The term once it is done."""
        return Term(term.name, term.standard * self.left, term.shared) if self.speaks_to(term) else term

    def speaks_to(self, term: Term) -> bool:
        """Whether it makes this term smaller."""
        return any(mark in term.name for mark in self.marks)


REMEDIES = (
    Remedy("read the ammeter's zero, nothing flowing, and subtract it", ("current offset",), 0.05),
    Remedy("hold the voltmeter's zero against shorted leads, and subtract it", ("voltage offset",), 0.05),
    Remedy(
        "hold the meter against one good to a tenth of its error, at this reading",
        ("gain of the meter", "offset of the meter"),
        0.1,
    ),
    Remedy(
        "hold the ammeter against one good to a tenth of its error, at this current",
        ("current gain", "current while it ran", "charge at the middle"),
        0.1,
    ),
    Remedy("take the temperature of the core with a better thermometer", ("temperature at the start", "thermometer"), 0.2),
    Remedy("hold the voltmeter against one good to a tenth of its error", ("voltage gain", "voltage at the mark"), 0.1),
    Remedy("hold the clock against a better one", ("time base", "reading of the clock"), 0.1),
    Remedy(
        "log it again at a tenth of the interval, without gaps",
        ("gaps bridged", "sampling", "instants of switching", "load-on instant", "instant of", "one more fall", "between readings"),
        0.1,
    ),
    Remedy(
        "repeat the test four times, and take the mean",
        ("repeats", "scatter of the runs", "noise", "last digit", "resolution"),
        0.5,
    ),
    Remedy("test it at that rate itself", ("the law itself", "exponent"), 0.0),
    Remedy("find the loss by a second discharge rather than by the recharge", ("charge efficiency",), 0.1),
)  # fmt: skip
"""What can be done, the cheapest first; common practice, no published source."""


def chance(distance: float, before: float, after: float) -> float:
    """How likely a figure `distance` from its limit is settled once its doubt shrinks from `before` to `after`.

    The better figure will lie somewhere within what is known now: a normal distribution of the variance that is
    taken away. Source: JCGM 106:2012, clause 7 (from memory), applied before the reading.
    """
    moved = math.sqrt(max(0.0, before**2 - after**2))
    if moved == 0.0:
        return float(distance > MET_Z * after)
    edge = MET_Z * after
    return _phi((distance - edge) / moved) + _phi((-distance - edge) / moved)


def _phi(z: float) -> float:
    return 0.5 * math.erfc(-z / math.sqrt(2.0))


def _standard(terms: tuple[Term, ...], done: tuple[Remedy, ...]) -> float:
    total = 0.0
    for term in terms:
        for remedy in done:
            term = remedy.after(term)
        total += term.standard**2
    return math.sqrt(total)


def settling(measured: Quantity, limits: tuple[float, ...]) -> tuple[tuple[Remedy, ...], float]:
    """The cheapest remedies that would likely settle it, with the chance that they do; none where none is worth it.

    One alone before two together, and each as cheap as can be; the likeliest where none is sure.
    """
    if not measured.standard or not measured.terms:
        return (), 0.0
    distance = min(abs(measured.value - limit) for limit in limits)
    able = [remedy for remedy in REMEDIES if any(remedy.speaks_to(term) for term in measured.terms)]
    best: tuple[tuple[Remedy, ...], float] = ((), 0.0)
    for size in (1, 2, 3):
        for done in itertools.combinations(able, size):
            likely = chance(distance, measured.standard, _standard(measured.terms, done))
            if likely >= SURE:
                return done, likely
            if likely > best[1] + 0.05:
                best = (done, likely)
    return best if best[1] >= WORTH else ((), 0.0)


def settling_words(measured: Quantity, limits: tuple[float, ...]) -> str:
    """The same in words; of a figure that was given whole, how well it would have to be measured again."""
    if measured.standard and not measured.terms:
        distance = min(abs(measured.value - limit) for limit in limits)
        share = next((s for s in SHARES if chance(distance, measured.standard, s * measured.standard) >= SURE), None)
        if share is None:
            return NOTHING
        return f"measure it again to ± {format_number(2.0 * share * measured.standard, 2)} {measured.unit}: that would settle this"
    done, likely = settling(measured, limits)
    largest = max(measured.terms, key=lambda term: abs(term.standard), default=None)
    most = f"most of the uncertainty is the {largest.name}" if largest is not None else ""
    if not done:
        return "; ".join(part for part in (NOTHING, most) if part)
    words = ", and ".join(remedy.words for remedy in done)
    sure = "would settle this" if likely >= SURE else f"would settle this in {10 * likely:.0f} of 10 cases"
    return f"{words}: that {sure}; {most}"
