"""Samples side by side: for each quantity the figures that are most alike in their conditions, their differences, and how
surely one is better than the first."""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from wintry_tally.core.battery import Family
from wintry_tally.core.compare.figures import QUANTITIES, Figure, Kind
from wintry_tally.core.compare.like import Apart, apart, cost
from wintry_tally.core.quantity import Quantity, Term, combine_linear, format_quantity
from wintry_tally.core.working import Working

SPREAD_OF = {
    "mean-voltage": 0.002,
    "resistance": 0.08,
    "sag": 0.08,
    "acceptance": 0.08,
    "mass": 0.01,
    "price": 0.0,
    "cycle-years": 0.0,
}
"""The same of quantities that do not go with the charge, any family."""


@dataclass(frozen=True)
class Unlike:
    """A condition that is not the same for all: its values by code, and what it likely does to each, by code."""

    condition: str
    values: Mapping[str, str]
    effects: Mapping[str, Quantity | None]


@dataclass(frozen=True)
class Row:
    """One quantity side by side.

    Parts:
        values, runs: by code, None where there is no evidence; missing: then, which test would give it.
        differences: by every code but the first: that one's value less the first's; an error they share cancels.
        like: the same brought to the first's conditions, the doubt of that with it.
        better: P(these two units: it is better than the first); models: the same of their models, by the usual spread.
    """

    quantity: str
    label: str
    values: Mapping[str, Quantity | None]
    runs: Mapping[str, str]
    differences: Mapping[str, Quantity]
    like: Mapping[str, Quantity]
    better: Mapping[str, float | None]
    models: Mapping[str, float | None]
    unlike: tuple[Unlike, ...]
    missing: Mapping[str, str]
    working: Working


@dataclass(frozen=True)
class Comparison:
    """Every row for which one of them has evidence."""

    codes: tuple[str, ...]
    rows: tuple[Row, ...] = field(default=())


def compare_samples(codes: Sequence[str], family: Mapping[str, Family], figures: Mapping[str, Mapping[str, list[Figure]]]) -> Comparison:  # fmt: skip
    """Hold samples against the first of them; `family` and `figures` by code."""
    known = {key for own in figures.values() for key in own}
    order = {key: place for place, key in enumerate(QUANTITIES)}
    keys = sorted(known, key=lambda key: (order[key.split()[0]], key))
    rows = []
    for key in keys:
        own = {code: figures[code].get(key, []) for code in codes}
        if len({f.value.unit for found in own.values() for f in found}) > 1:
            continue  # two currencies are not compared
        rows.append(_row(key, codes, family, own))
    return Comparison(tuple(codes), tuple(rows))


def _row(key: str, codes: Sequence[str], family: Mapping[str, Family], own: Mapping[str, list[Figure]]) -> Row:
    first = codes[0]
    chosen = _chosen(codes, family, own)
    differing: dict[str, list[Apart]] = {}
    differences, like, better, models = {}, {}, {}, {}
    kind = QUANTITIES[key.split()[0]]
    base = chosen.get(first)
    steps = []
    for code in codes[1:]:
        figure = chosen.get(code)
        if base is None or figure is None:
            continue
        differing[code] = apart(family[code], base, figure)
        raw = combine_linear([(1.0, figure.value), (-1.0, base.value)], base.value.unit)
        alike = _brought(raw, differing[code])
        differences[code], like[code] = raw, alike
        better[code] = _surely(alike, kind.better)
        spread = SPREAD_OF.get(key.split()[0], family[code].unit_spread)
        models[code] = _surely(_models(alike, base.value.value, figure.value.value, spread), kind.better)
        steps.append(_working(code, first, figure, base, raw, alike, better[code]))
    values = {code: chosen[code].value if code in chosen else None for code in codes}
    label = kind.label.format(float(key.split()[1])) if " " in key else kind.label
    return Row(
        key, label, values, {code: one.of for code, one in chosen.items()}, differences, like, better, models,
        _unlike(codes, chosen, differing), {code: kind.way for code in codes if code not in chosen},
        Working(label, "each less the first; what they share cancels", {}, "", "JCGM 100:2008, 5.2", tuple(steps)),
    )  # fmt: skip


def _chosen(codes: Sequence[str], family: Mapping[str, Family], own: Mapping[str, list[Figure]]) -> dict[str, Figure]:
    """Of each the figure that is most like the others' in its conditions; the latest where several are."""
    first = own[codes[0]]
    if not first:
        return {code: min(reversed(own[code]), key=_unusual) for code in codes if own[code]}
    best: tuple[float, int, dict[str, Figure]] | None = None
    for place, base in enumerate(first):
        found, total = {codes[0]: base}, _unusual(base)
        for code in codes[1:]:
            each = [(cost(apart(family[code], base, one), one.value.value), -n, one) for n, one in enumerate(own[code])]
            if each:
                price, _, figure = min(each, key=lambda item: item[:2])
                found[code] = figure
                total += price
        if best is None or (round(total, 6), -place) < best[:2]:
            best = (round(total, 6), -place, found)
    assert best is not None
    return best[2]


def _unusual(figure: Figure) -> float:
    """Where conditions do not say which, a run in the cold is not what a battery is told by."""
    celsius = figure.at.temperature_C
    return 0.0 if celsius is None else 1e-3 * max(0.0, 15.0 - celsius)


def _brought(raw: Quantity, found: Sequence[Apart]) -> Quantity:
    """A difference brought to like conditions, with the doubt of that."""
    effects = [one.effect for one in found if one.effect is not None]
    if not effects:
        return raw
    moved = raw.value + math.fsum(effect.value for effect in effects)
    if raw.standard is None:
        return Quantity(moved, None, raw.unit)
    terms = raw.terms or (Term("uncertainty as given", raw.standard),)
    own = [
        Term(f"effect of the {one.condition}", one.effect.standard or 0.0) for one in found if one.effect is not None
    ]
    return Quantity.from_terms(moved, raw.unit, [*terms, *own])


def _models(difference: Quantity, one: float, other: float, spread: float) -> Quantity:
    """The difference of two models, of each of which one unit was tested."""
    if difference.standard is None:
        return difference
    extra = spread * math.hypot(one, other)
    return Quantity(difference.value, math.hypot(difference.standard, extra), difference.unit)


def _surely(difference: Quantity, way: int) -> float | None:
    """P(better) by a normal distribution; None where nothing is known of a meter, or neither way is better."""
    if difference.standard is None or way == 0:
        return None
    if difference.standard == 0.0:
        return 0.5 if difference.value == 0.0 else float(way * difference.value > 0)
    return 0.5 * math.erfc(-way * difference.value / difference.standard / math.sqrt(2.0))


def _unlike(
    codes: Sequence[str], chosen: Mapping[str, Figure], differing: Mapping[str, list[Apart]]
) -> tuple[Unlike, ...]:
    names = dict.fromkeys(
        itertools.chain.from_iterable([one.condition for one in found] for found in differing.values())
    )
    made = []
    for name in names:
        values: dict[str, str] = {}
        effects: dict[str, Quantity | None] = {}
        for code, found in differing.items():
            for one in found:
                if one.condition == name:
                    values[codes[0]], values[code], effects[code] = one.first, one.second, one.effect
        made.append(Unlike(name, {code: values[code] for code in codes if code in values}, effects))
    return tuple(made)


def _working(
    code: str, first: str, figure: Figure, base: Figure, raw: Quantity, alike: Quantity, better: float | None
) -> Working:
    shared = sorted(
        {term.shared for term in figure.value.terms if term.shared} & {t.shared for t in base.value.terms if t.shared}
    )
    inputs = {
        f"{first} ({base.of})": format_quantity(base.value),
        f"{code} ({figure.of})": format_quantity(figure.value),
    }
    if shared:
        inputs["cancels, for both share it"] = ", ".join(shared)
    if alike.value != raw.value or alike.standard != raw.standard:
        inputs["at the first's conditions"] = format_quantity(alike)
    sure = "" if better is None else f"; P(better) {better:.3f} of these two units"
    return Working(f"{code} less {first}", "d = b − a", inputs, f"{format_quantity(raw)}{sure}", "JCGM 100:2008, 5.2")


def kind_of(row: Row) -> Kind:
    """The quantity's line in QUANTITIES."""
    return QUANTITIES[row.quantity.split()[0]]
