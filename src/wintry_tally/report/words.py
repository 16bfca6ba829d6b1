"""Claims in words, alike in the window and on the page."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from typing import TYPE_CHECKING

from wintry_tally.core.battery import Claim, Direction
from wintry_tally.core.quantity import Quantity, format_plain, format_quantity, format_set_time
from wintry_tally.core.quantity.display import MINUS
from wintry_tally.core.quantity.units import in_unit

if TYPE_CHECKING:
    from wintry_tally.core.compare import NeedResult, Row
    from wintry_tally.core.compare.trend import Trend
    from wintry_tally.core.verdict.outcome import Condition

_SIGNS = {Direction.AT_LEAST: "at least ", Direction.AT_MOST: "at most ", Direction.WITHIN: "", Direction.IS: ""}

CONDITIONS = {
    "c_rate": "at {:g} C", "cutoff_V": "to {:g} V", "temperature_C": "at {:g} °C", "duration_s": "for {:g} s",
    "current_A": "at {:g} A", "device_A": "with a draw of {:g} A", "dropout_V": "down to {:g} V", "delay_s": "within {:g} s",
    "depth": "to a depth of {:.0%}", "end_share": "until {:.0%} is left", "months": "over {:g} months",
    "from_C": "from {:g} °C", "to_C": "to {:g} °C",
}  # fmt: skip
"""How each condition of a claim is said."""
OF_CHARGES = {"end_share": "to {:.0%} of full"}
SECONDS = "{:g} s"


def handy(value: Quantity) -> Quantity:
    """A compared figure in the unit that people say it in: hours of seconds, milliohms of ohms."""
    factor, unit = {"s": (1.0 / 3600.0, "h"), "Ω": (1000.0, "mΩ")}.get(value.unit, (1.0, value.unit))
    return value if factor == 1.0 else value.scaled(factor, unit)


def money_of(one: Row) -> str:
    """The currency of a row of prices, to stand beside its name once; empty for every other row."""
    units = [value.unit for value in one.values.values() if value is not None]
    return units[0].partition("/")[0] if units and one.quantity.startswith("price") else ""


def claim_words(claim: Claim) -> str:
    """ "Capacity at least 40 Ah at 0.2 C"."""
    kind = claim.definition
    if claim.value is None:
        return f"{kind.label}: {claim.text or ('yes' if claim.wanted else 'no')}"
    unit = claim.currency if claim.kind == "price" else kind.shown_unit
    value = in_unit(claim.value, unit)
    text = f"{kind.label} {_SIGNS[claim.direction]}{format_plain(value, unit)}"
    if claim.tolerance:
        text += f" ± {format_plain(claim.tolerance, unit)}"
    known = CONDITIONS | (OF_CHARGES if claim.kind == "charge-time" else {})
    extra = [_condition_words(known[name], value) for name, value in claim.conditions.items() if name in known]
    return " ".join([text, *extra])


def _condition_words(template: str, value: float) -> str:
    if template.endswith(SECONDS) and value >= 60.0 and value % 60.0 == 0.0:
        return template.replace(SECONDS, format_set_time(value))
    return template.format(value).replace("-", MINUS).replace("%", " %")


def chance_words(probability: float) -> str:
    """A probability to three decimals; never a 0 or a 1 that it is not."""
    if probability > 0.9995:
        return "> 0.999"
    if probability < 0.0005:
        return "< 0.001"
    return f"{probability:.3f}"


def trend_words(one: Trend) -> str:
    """A trend in a line."""
    first, last = one.points[0], one.points[-1]
    words = f"{one.label}: {format_quantity(first.value)} → {format_quantity(last.value)}, {len(one.points)} tests"
    slopes = [format_quantity(slope) for slope in (one.per_year, one.per_hundred) if slope is not None]
    words += f"; {', '.join(slopes)}" if slopes else "; too near together to say how it goes on"
    if one.end is None:
        return words
    if one.end.low is None or one.end.high is None:
        over = one.end.at is not None
        return f"{words}; {'it is beyond its claimed end' if over else 'when it reaches its claimed end cannot be said yet'}"
    low, high = (f"{round(count, -2 if count > 1000 else -1):.0f}" for count in (one.end.low, one.end.high))
    return f"{words}; its claimed end ({one.end.value:.3g} Ah) after {low} to {high} cycles"


NEED_WORDS = {"met": "holds", "missed": "does not hold", "too-close": "too close to call", "not-tested": "not tested"}


def need_line(one: NeedResult) -> str:
    """How a battery stands to a need, in a line that begins with its code."""
    if one.probability is None or one.hours is None:
        return f"{one.code}: not tested; {one.advice}"
    least = "at least " if one.bound else ""
    enough = f"{one.in_parallel} would do" if one.in_parallel else "no number tried would do"
    mass = f", {one.mass_kg:.3g} kg" if one.mass_kg else ""
    cost = f", for {one.cost:g} {one.currency}".rstrip() if one.cost else ""
    advice = f". {one.advice[:1].upper()}{one.advice[1:]}" if one.advice else ""
    return (
        f"{one.code}: {NEED_WORDS[one.outcome.value]} (P = {one.probability:.3f}); {least}{format_quantity(one.hours)}, limited by "
        f"{one.limited_by}; {enough}{mass}{cost}{advice}"
    )


def bill_lines(results: Sequence[NeedResult]) -> list[str]:
    """What a need costs over its years with each battery, which overtakes which and when; nothing without years."""
    from wintry_tally.core.compare.money import overtakes

    priced = [one for one in results if one.bill is not None and len(one.bill.totals) > 1]
    lines = []
    for one in priced:
        assert one.bill is not None
        years, money = len(one.bill.totals) - 1, f" {one.currency}" if one.currency else ""
        words = f"{one.code}: {one.bill.totals[0]:g}{money} at once, {one.bill.total:.4g} over {years} years"
        if one.bill.replaced:
            again = ", ".join(str(year) for year in one.bill.replaced[:6])
            more = f" and {len(one.bill.replaced) - 6} times more" if len(one.bill.replaced) > 6 else ""
            words += f", bought again in year {again}{more}"
        elif one.bill.life_years is None:
            words += "; nobody says how many cycles it lasts"
        if one.halved is not None and one.halved.total != one.bill.total:
            words += f"; {one.halved.total:.4g} if it lasts half of the cycles claimed, which nobody tested"
        lines.append(words)
    for one, other in itertools.permutations(priced, 2):
        assert one.bill is not None and other.bill is not None
        if one.currency != other.currency:
            continue
        year = overtakes(one.bill.totals, other.bill.totals)
        if year is not None:
            lines.append(f"By the end of year {year}, {one.code} has cost more than {other.code}, dearer at first.")
    return lines


def _share(probability: float | None) -> str:
    if probability is None:
        return "unknown"
    return "< 0.01" if probability < 0.005 else "> 0.99" if probability > 0.995 else f"= {probability:.2f}"


def unlike_of(one: Row) -> tuple[object, ...]:
    """What is unlike between the figures of a row, to tell rows apart by."""
    return tuple((apart.condition, tuple(apart.values.items())) for apart in one.unlike)


def difference_words(one: Row, codes: tuple[str, ...], anew: bool) -> str:
    """Each difference of a row in words, and what is unlike; that in full only where it is told `anew`."""
    parts = []
    for code in codes[1:]:
        if code not in one.differences:
            if one.values[code] is None and one.missing.get(code):
                parts.append(f"{code}: {one.missing[code]}")
            continue
        difference = one.differences[code]
        shown = handy(difference)
        words = f"{code}: {format_quantity(shown)}"
        sure = one.better.get(code)
        if sure is not None:
            words += f"; better with P {_share(sure)}"
            if one.models[code] is not None:
                words += f", of the models {_share(one.models[code])}"
        alike = one.like[code]
        if (
            alike.standard is not None
            and difference.standard is not None
            and alike.standard > 1.2 * difference.standard
        ):
            brought = handy(alike)
            words += f"; at like conditions {format_quantity(brought)}"
        parts.append(words)
    if not anew:
        return "\n".join([*parts, "unlike as above"])
    for apart in one.unlike:
        parts.append(
            f"unlike {apart.condition}: " + ", ".join(f"{code} {value}" for code, value in apart.values.items())
        )
    return "\n".join(parts)


CONDITION_UNITS = {
    "rate": "C", "mixed rates": "C", "temperature": "°C", "temperature at the start": "°C", "current": "A", "draw": "A",
    "charge current": "A", "end of discharge": "V",
}  # fmt: skip


def effect_words(condition: Condition, claim: Claim) -> str:
    """What an unlike condition of a test likely did to its figure."""
    from wintry_tally.core.verdict.leads import LEADS

    unit = CONDITION_UNITS.get(condition.name, "")

    def said(value: object) -> str:
        if value is None:
            return "not known"
        return f"{value:.4g} {unit}".strip() if isinstance(value, int | float) else str(value)

    assert condition.effect is not None
    sign = "+" if condition.effect.value >= 0 else ""
    seen = f"{condition.name}: {said(condition.actual)} instead of {said(condition.claimed)}"
    where = "read at the terminals" if condition.name == LEADS else "at the claim's own"
    if condition.most:
        most = claim.shown(Quantity(condition.most, None, condition.effect.unit))
        return f"{seen}; anything up to {sign}{format_plain(most.value, most.unit)} {where}"
    return f"{seen}; likely {sign}{format_quantity(claim.shown(condition.effect))} {where}"
