"""The cells of a pack, each a little larger or smaller than the next: what a pack that talks would tell of them."""

from __future__ import annotations

from random import Random

from wintry_tally.core.cell.battery_model import BatteryModel

SPREAD = 0.006
"""Cells of one pack differ in capacity by about this share; common practice, no published source."""


def cell_shares(cells: int, seed: int, spread: float = SPREAD) -> tuple[float, ...]:
    """Capacity of each cell against the pack's own (the smallest cell's, by which a series string is limited)."""
    random = Random(seed)
    drawn = [random.uniform(0.0, 2.0 * spread) for _ in range(cells)]
    least = min(drawn)
    return tuple(1.0 + share - least for share in drawn)


def cell_voltages(model: BatteryModel, terminal_V: float, shares: tuple[float, ...]) -> tuple[float, ...]:
    """V of each cell, adding up to the terminals' voltage while the protection is closed.

    All cells are full together (balanced at the top): a larger one is less empty for the same charge drawn.
    """
    drawn = 1.0 - model.state_of_charge
    rested = [model.rested_V_at(1.0 - drawn / share) for share in shares]
    pack_V = model.inner_V() if model.open_discharge else terminal_V
    mean = sum(rested) / len(rested)
    return tuple((pack_V + value - mean) / len(shares) for value in rested)
