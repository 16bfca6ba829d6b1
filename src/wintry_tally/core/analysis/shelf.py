"""Self-discharge on the shelf, by recharging to the same full or by a second discharge."""

from __future__ import annotations

import math
from dataclasses import dataclass

from wintry_tally.core.battery.families import Family
from wintry_tally.core.quantity import Quantity, Term, combine_linear, format_plain, format_quantity
from wintry_tally.core.working import Working

MONTH_S = 30.44 * 86400.0
REPEAT_SHARE = 0.003
"""How well "full" repeats, as a limit in shares of the capacity: ± 0.3 Ah on 100 Ah; common practice."""


@dataclass(frozen=True)
class ShelfLoss:
    """What was lost a month.

    Parts:
        rate: percent of the capacity a month, with its doubt (never below zero by more than that).
        limit: the least a test like this can show, percent a month: its own expanded uncertainty.
        working: how it came about; months: how long it lay.
    """

    rate: Quantity
    limit: float | None
    working: Working
    months: float

    @property
    def shown(self) -> bool:
        """Whether the loss stands out of its own doubt; otherwise only "at most" can be said."""
        return self.limit is not None and self.rate.value > self.limit

    @property
    def at_most(self) -> float | None:
        """The most it can be, percent a month (k = 2)."""
        return None if self.rate.expanded is None else max(0.0, self.rate.value) + self.rate.expanded


WHOLE_CHARGE = 0.5
LEAD_WHOLE, LEAD_TOP = (0.85, 0.05), (0.75, 0.18)


def charge_efficiency(family: Family, share: float) -> tuple[float, float]:
    """Share of what is put in that comes back, and its limit, for a charge of this share of the capacity to full.

    Lead-acid gives back 80 to 90 % of a whole charge (common practice), and less of its last tenth, where gas takes a
    part of it (Sandia's study of efficiency near the top of charge, 1996; from memory).
    """
    if family.lithium:
        return 0.995, 0.005
    part = min(1.0, max(0.0, share) / WHOLE_CHARGE)
    middle, limit = (top + part * (whole - top) for top, whole in zip(LEAD_TOP, LEAD_WHOLE, strict=True))
    return middle, limit


def loss_by_recharge(put_in: Quantity, capacity_Ah: float, months: float, family: Family) -> ShelfLoss:
    """Percent a month from the Ah that bring it back to the *same* full.

    rate = 100 % × η Q_in / (C × months). Source: common practice (0.7 Ah into 100 Ah after 13 months: 0.054 %).
    """
    efficiency, limit = charge_efficiency(family, put_in.value / capacity_Ah)
    factor = 100.0 / (capacity_Ah * months)
    lost = put_in.scaled(efficiency * factor, "%/month")
    if lost.standard is None:
        rate = lost
    else:
        rate = Quantity.from_terms(
            lost.value,
            "%/month",
            [
                *(lost.terms or (Term("as given", lost.standard),)),
                Term("charge efficiency", put_in.value * factor * limit / math.sqrt(3.0)),
                Term("how well full repeats", REPEAT_SHARE * capacity_Ah * factor / math.sqrt(3.0)),
            ],
        )
    return _loss(
        rate,
        months,
        "rate = 100 % × η × Q_in / (C × months)",
        {
            "Q_in": format_quantity(put_in),
            "η, charge efficiency": f"{efficiency:.3g} ± {limit:.2g}",
            "C": format_plain(capacity_Ah, "Ah"),
            "months of 30.44 days": format_plain(months),
            "how well full repeats": f"± {REPEAT_SHARE * capacity_Ah:.2g} Ah",
        },
    )


def loss_by_capacity(before: Quantity, after: Quantity, months: float) -> ShelfLoss:
    """Percent a month from two discharges, the second without a charge between; shared errors cancel.

    rate = 100 % × (Q_before - Q_after) / (Q_before × months). Source: common practice, no published source.
    """
    share = after.value / before.value
    factor = 100.0 / (before.value * months)
    moved = combine_linear([(share * factor, before), (-factor, after)], "%/month")
    value = 100.0 * (1.0 - share) / months
    rate = Quantity(value, None, "%/month")
    if moved.standard is not None:
        repeat = Term("how well a discharge repeats", REPEAT_SHARE * before.value * factor * math.sqrt(2.0 / 3.0))
        rate = Quantity.from_terms(value, "%/month", [*moved.terms, repeat])
    return _loss(
        rate,
        months,
        "rate = 100 % × (Q_before − Q_after) / (Q_before × months)",
        {
            "before": format_quantity(before),
            "after": format_quantity(after),
            "months of 30.44 days": format_plain(months),
        },
    )


def _loss(rate: Quantity, months: float, formula: str, inputs: dict[str, str]) -> ShelfLoss:
    limit = rate.expanded
    if limit is not None:
        inputs = {**inputs, "least such a test can show": f"{limit:.2g} %/month"}
    working = Working("Self-discharge", formula, inputs, format_quantity(rate), "common practice")
    return ShelfLoss(rate, limit, working, months)
