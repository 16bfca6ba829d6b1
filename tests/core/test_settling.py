"""What would settle a figure that is too close: held against drawing the better figure many times (JCGM 106:2012, 7).

Invented figures; what each reading costs is common practice, no published source.
"""

from __future__ import annotations

import math

import numpy as np
import pytest

from wintry_tally.core.quantity import Quantity, Term
from wintry_tally.core.verdict.settling import (
    CLEARLY,
    MET_Z,
    REMEDIES,
    SURE,
    WORTH,
    Way,
    chance,
    cheapest,
    quickest,
    settling,
    settling_words,
    surest,
    ways,
)


def figure(value: float, **terms: float) -> Quantity:
    return Quantity.from_terms(value, "Ah", [Term(name.replace("_", " "), u) for name, u in terms.items()])


@pytest.mark.parametrize("distance", [0.0, 0.3, 1.0, 1.5])
@pytest.mark.parametrize("after", [0.05, 0.3, 0.9])
def test_the_chance_is_that_of_drawing_the_better_figure(distance: float, after: float) -> None:
    dice = np.random.default_rng(11)
    better = distance + np.sqrt(1.0 - after**2) * dice.standard_normal(200_000)
    assert chance(distance, 1.0, after) == pytest.approx(np.mean(np.abs(better) > MET_Z * after), abs=0.004)


def test_nothing_is_gained_where_nothing_shrinks() -> None:
    assert chance(1.0, 1.0, 1.0) == 0.0 and chance(2.0, 1.0, 1.0) == 1.0


@pytest.mark.parametrize(
    ("quantity", "words"),
    [
        (figure(100.5, current_offset=0.5, current_gain=0.05), "read the ammeter's zero"),
        (figure(100.5, current_offset=0.05, current_gain=0.5), "hold the ammeter against one good"),
        (figure(100.5, gaps_bridged=0.5), "log it again at a tenth"),
        (figure(100.9, how_well_full_repeats=0.6), "repeat the test four times"),
        (
            figure(100.5, current_offset=0.4, current_gain=0.4),
            "zero, nothing flowing, and subtract it, and hold the ammeter",
        ),
    ],
)
def test_the_cheapest_that_is_enough_is_named(quantity: Quantity, words: str) -> None:
    told = settling_words(quantity, (100.0,))
    assert words in told, told


def test_one_reading_goes_before_two_and_what_it_leaves_alone_is_not_named() -> None:
    both = figure(100.3, current_offset=0.5, current_gain=0.02)
    done, likely = settling(both, (100.0,))
    assert [remedy.marks[0] for remedy in done] == ["current offset"] and likely >= SURE
    # of a window the nearer edge counts
    assert settling(both, (100.0, 130.0)) == settling(both, (100.0,))


def test_the_quickest_and_the_surest_are_named_where_they_differ() -> None:
    """Two readings of the ammeter are over within the hour; the rate itself takes a test, and settles it more often."""
    found = ways(figure(100.9, the_law_itself=0.42, current_offset=0.3, current_gain=0.3), (100.0,))
    best, quick, safe = cheapest(found), quickest(found), surest(found)
    assert best.again == 1 and best.likely >= SURE > quick.likely >= WORTH and quick.again == 0
    assert not any(way.likely >= WORTH and (way.again, way.minutes) < (0, quick.minutes) for way in found)
    assert all(way.likely <= safe.likely + CLEARLY for way in found)
    told = settling_words(figure(100.9, the_law_itself=0.42, current_offset=0.3, current_gain=0.3), (100.0,))
    assert f"; quicker, with no test again, in {10 * quick.likely:.0f} of 10 cases: read the ammeter's zero" in told
    assert "surest" not in told and told.endswith("most of the uncertainty is the law itself")
    # one reading alone is cheapest; with the rest of the doubt gone too it is surer
    told = settling_words(figure(100.9, the_law_itself=0.55, time_base=0.05, current_offset=0.1), (100.0,))
    assert told.startswith("test it at that rate itself: that would settle this; surest, in 10 of 10 cases: ")
    # where the cheapest is the quickest and the surest, nothing else is said
    told = settling_words(figure(100.5, current_offset=0.5, current_gain=0.05), (100.0,))
    assert (
        told
        == "read the ammeter's zero, nothing flowing, and subtract it: that would settle this; most of the uncertainty is the current offset"
    )
    # a test run once for two reasons is run once, and the work adds up
    both = Way((REMEDIES[4], REMEDIES[7], REMEDIES[0]), 0.9)
    assert both.again == 1 and both.minutes == 32.0


@pytest.mark.parametrize("distance", [0.0, 0.6, 1.2, 1.6, 2.2, 3.0])
def test_what_was_given_whole_is_to_be_measured_better(distance: float) -> None:
    """The loosest of half, 0.3, 0.2, 0.1 and 0.05 of its uncertainty that settles it nine times in ten, by drawing."""
    dice = np.random.default_rng(12).standard_normal(400_000)
    able = [
        share for share in (0.5, 0.3, 0.2, 0.1, 0.05)
        if np.mean(np.abs(distance + np.sqrt(1.0 - share**2) * dice) > MET_Z * share) >= SURE
    ]  # fmt: skip
    told = settling_words(Quantity(100.0 + distance, 1.0, "Ah"), (100.0,))
    assert told.startswith("measure it again to ± ") and float(told.split("± ")[1].split()[0]) == pytest.approx(
        2.0 * able[0], abs=0.005
    )


def test_every_choice_is_the_one_that_looking_through_all_of_them_finds() -> None:
    """A model apart: every set of up to three things, judged by its own arithmetic."""
    import itertools

    dice = np.random.default_rng(13)
    names = [mark for remedy in REMEDIES for mark in remedy.marks[:1]]
    seen = {"quick": 0, "safe": 0}
    for _ in range(200):
        chosen = dice.choice(len(names), size=4, replace=False)
        terms = [Term(names[n], float(dice.uniform(0.05, 0.6))) for n in chosen]
        quantity = Quantity.from_terms(100.0 + float(dice.uniform(0.0, 1.6)), "Ah", terms)
        able = [r for r in REMEDIES if any(any(m in t.name for m in r.marks) for t in terms)]
        rows = []
        for done in (c for size in (1, 2, 3) for c in itertools.combinations(able, size)):
            left = math.sqrt(
                sum(
                    (t.standard * math.prod(r.left for r in done if any(m in t.name for m in r.marks))) ** 2
                    for t in terms
                )
            )
            rows.append((done, chance(quantity.value - 100.0, quantity.standard or 0.0, left)))
        sure = next((row for row in rows if row[1] >= SURE), None)
        best = cheapest(ways(quantity, (100.0,)))
        if sure is not None:
            assert best.done == sure[0]
        quick = quickest(ways(quantity, (100.0,)))
        worth = [row for row in rows if row[1] >= WORTH]
        if worth:
            key = min((max(r.again for r in done), sum(r.minutes for r in done), -likely) for done, likely in worth)
            assert (quick.again, quick.minutes, -quick.likely) == pytest.approx(key)
        safe = surest(ways(quantity, (100.0,)))
        top = max((likely for _, likely in rows), default=0.0)
        assert safe.likely >= top - 0.5 * CLEARLY and all(
            likely < top - 0.5 * CLEARLY for _, likely in rows[: [d for d, _ in rows].index(safe.done)]
        )
        told = settling_words(quantity, (100.0,))
        if best.done:
            quicker = (quick.again, quick.minutes) < (best.again, best.minutes)
            assert ("; quicker" in told) == quicker and ("; surest" in told) == (safe.likely >= best.likely + CLEARLY)
            assert ("with no test again" in told) == (quicker and best.again > 0 and quick.again == 0)
            seen["quick"] += quicker
            seen["safe"] += "; surest" in told
    assert seen["quick"] >= 3 and seen["safe"] >= 2, "both kinds were drawn"


def test_where_no_reading_helps_that_is_said() -> None:
    assert "no usual reading settles it" in settling_words(figure(100.1, between_sensor_and_cells=0.5), (100.0,))
    assert settling(Quantity(1.0, None, "Ah"), (1.0,)) == ((), 0.0)
    only_half = figure(100.0, how_well_full_repeats=1.0)
    done, likely = settling(only_half, (100.0,))
    assert not done and likely == 0.0, "halved doubt leaves what lies on the limit there in two of three cases"


def test_every_remedy_speaks_to_a_term_that_there_is() -> None:
    from pathlib import Path

    import wintry_tally.core

    written = "".join(path.read_text() for path in Path(wintry_tally.core.__file__).parent.rglob("*.py") if path.name != "settling.py")  # fmt: skip
    for remedy in REMEDIES:
        assert all(mark in written for mark in remedy.marks), remedy.marks
