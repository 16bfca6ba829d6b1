"""Which further reading would settle a figure that lies too close to its claim: the cheapest, the quickest, the surest."""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass

from wintry_tally.core.message import NOTHING, Message, said, several
from wintry_tally.core.quantity import Quantity, Term, format_number

SURE = 0.88
"""How likely a reading must be to settle it before it is named as the one: about nine times in ten."""
WORTH = 0.5
CLEARLY = 0.05
"""By how much another way must be likelier to be named beside a cheaper one."""
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
        again: how often the test itself has to be run again for it; minutes: of work beside that.
    """

    words: Message
    marks: tuple[str, ...]
    left: float
    again: int = 0
    minutes: float = 15.0

    def after(self, term: Term) -> Term:
        """The term once it is done."""
        return Term(term.name, term.standard * self.left, term.shared) if self.speaks_to(term) else term

    def speaks_to(self, term: Term) -> bool:
        """Whether it makes this term smaller."""
        return any(mark in term.name for mark in self.marks)


REMEDIES = (
    Remedy(said("remedy-zero-A"), ("current offset",), 0.05, minutes=2.0),
    Remedy(said("remedy-zero-V"), ("voltage offset",), 0.05, minutes=2.0),
    Remedy(
        said("remedy-meter"),
        ("gain of the meter", "offset of the meter"),
        0.1,
    ),
    Remedy(
        said("remedy-ammeter"),
        ("current gain", "current while it ran", "charge at the middle"),
        0.1,
    ),
    Remedy(said("remedy-core"), ("temperature at the start", "thermometer"), 0.2, again=1),
    Remedy(said("remedy-voltmeter"), ("voltage gain", "voltage at the mark"), 0.1),
    Remedy(said("remedy-clock"), ("time base", "reading of the clock"), 0.1, minutes=60.0),
    Remedy(
        said("remedy-interval"),
        ("gaps bridged", "sampling", "instants of switching", "load-on instant", "instant of", "one more fall", "between readings"),
        0.1,
        again=1,
    ),
    Remedy(
        said("remedy-repeats"),
        ("repeats", "scatter of the runs", "noise", "last digit", "resolution"),
        0.5,
        again=4,
    ),
    Remedy(said("remedy-rate"), ("the law itself", "exponent"), 0.0, again=1),
    Remedy(said("remedy-discharge"), ("charge efficiency",), 0.1, again=1),
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


@dataclass(frozen=True)
class Way:
    """What is done together, and the chance that it settles the figure."""

    done: tuple[Remedy, ...]
    likely: float

    @property
    def again(self) -> int:
        """How often the test is run again: what needs that shares it."""
        return max((remedy.again for remedy in self.done), default=0)

    @property
    def minutes(self) -> float:
        """Minutes of work beside the test."""
        return sum(remedy.minutes for remedy in self.done)

    def words(self) -> Message:
        """What is done."""
        things = tuple(remedy.words for remedy in self.done)
        return said("together", things=things) if len(things) > 1 else things[0]

    @property
    def cases(self) -> float:
        """In how many of ten cases it settles the figure."""
        return 10.0 * self.likely


NONE = Way((), 0.0)


def ways(measured: Quantity, limits: tuple[float, ...]) -> list[Way]:
    """Everything that could be done about a figure's doubt, with the chance that it settles it; the cheapest first.

    One thing alone before two together, and each as cheap as can be.
    """
    if not measured.standard or not measured.terms:
        return []
    distance = min(abs(measured.value - limit) for limit in limits)
    able = [remedy for remedy in REMEDIES if any(remedy.speaks_to(term) for term in measured.terms)]
    return [
        Way(done, chance(distance, measured.standard, _standard(measured.terms, done)))
        for size in (1, 2, 3)
        for done in itertools.combinations(able, size)
    ]


def cheapest(found: list[Way]) -> Way:
    """The cheapest that would likely settle it; the likeliest where none is sure, none where none is worth it."""
    best = NONE
    for way in found:
        if way.likely >= SURE:
            return way
        if way.likely > best.likely + CLEARLY:
            best = way
    return best if best.likely >= WORTH else NONE


def quickest(found: list[Way]) -> Way:
    """The one that is over soonest of those that are worth it: the fewest tests again, then the least work."""
    enough = [way for way in found if way.likely >= WORTH]
    return min(enough, key=lambda way: (way.again, way.minutes, -way.likely), default=NONE)


def surest(found: list[Way]) -> Way:
    """The likeliest, and of those about as likely the cheapest."""
    most = max((way.likely for way in found), default=0.0)
    return next((way for way in found if way.likely >= most - 0.5 * CLEARLY), NONE)


def settling(measured: Quantity, limits: tuple[float, ...]) -> tuple[tuple[Remedy, ...], float]:
    """The cheapest remedies that would likely settle it, with the chance that they do; none where none is worth it."""
    best = cheapest(ways(measured, limits))
    return best.done, best.likely


def settling_words(measured: Quantity, limits: tuple[float, ...]) -> Message:
    """The same in words, with the quickest and the surest way where they differ.

    Of a figure that was given whole: how well it would have to be measured again.
    """
    if measured.standard and not measured.terms:
        distance = min(abs(measured.value - limit) for limit in limits)
        share = next((s for s in SHARES if chance(distance, measured.standard, s * measured.standard) >= SURE), None)
        if share is None:
            return said("on-the-limit")
        width = f"{format_number(2.0 * share * measured.standard, 2)} {measured.unit}"
        return said("measure-again", width=width)
    found = ways(measured, limits)
    best = cheapest(found)
    largest = max(measured.terms, key=lambda term: abs(term.standard), default=None)
    most = NOTHING if largest is None else said("most-of-it", term=largest.name.removeprefix("the "))
    if not best.done:
        return several([said("on-the-limit"), most])
    sure = best.likely >= SURE
    told = [
        said("would-settle", way=best.words())
        if sure
        else said("would-settle-often", way=best.words(), cases=best.cases)
    ]
    quick, safe = quickest(found), surest(found)
    if (quick.again, quick.minutes) < (best.again, best.minutes):
        code = "quicker-no-test" if best.again and not quick.again else "quicker"
        told.append(said(code, cases=quick.cases, way=quick.words()))
    if safe.likely >= best.likely + CLEARLY:
        told.append(said("surest", cases=safe.cases, way=safe.words()))
    return several([*told, most])
