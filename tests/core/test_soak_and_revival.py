"""The soak of a core, and the way back of a pack that seems dead.

The soak: Incropera & DeWitt (P17; the one-term solution of a plane wall solved here by SciPy); the way back: common
practice, no published source.
"""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy.optimize import brentq

from wintry_tally.core.battery import family_named, pack_of
from wintry_tally.core.battery.revival import Place, Seen, way_back
from wintry_tally.core.cell.soak import CONDUCTION_W_MK, FILM_W_M2K, MARGIN, SAFE_S, WITHIN_K, soak


def test_a_core_follows_the_freezer_as_a_lumped_body_does() -> None:
    """P17: after one time constant 63.2 % of the way; as cold as the place within 1 K after τ ln(ΔT / 1 K)."""
    found = soak(5.0, 1000.0, 23.0, -18.0)
    assert found.core(np.array([0.0, found.tau_s])) == pytest.approx([23.0, -18.0 + 41.0 * math.exp(-1.0)])
    assert found.core(np.array([found.sound_s / MARGIN])) == pytest.approx([-18.0 + WITHIN_K])
    assert soak(5.0, 1000.0, -17.0, -18.0).sound_s == 0.0 < soak(5.0, 1000.0, -16.9, -18.0).sound_s
    # by its sides: surface and half the least of them
    sides = (0.20, 0.17, 0.17)
    biot = FILM_W_M2K * 0.085 / CONDUCTION_W_MK
    surface = 2.0 * (0.20 * 0.17 + 0.17 * 0.17 + 0.17 * 0.20)
    assert soak(5.0, 1000.0, 23.0, -18.0, sides).tau_s == pytest.approx(5000.0 / (8.0 * surface) * (1.0 + biot / 3.0))
    # a usual case of 8 kg: 0.043 × 8^(2/3) = 0.172 m² at 8 W/(m² K), half as thick as 12 cm across 1 W/(m K)
    assert soak(8.0, 1000.0, 23.0, -18.0).tau_s == pytest.approx(8000.0 / (8.0 * 0.172) * (1.0 + 0.48 / 3.0))
    assert soak(8.0, 1000.0, 23.0, -18.0).sound_s == pytest.approx(1.25 * 6744.2 * math.log(41.0), rel=1e-4)
    # an hour is not enough for a large pack, a day in the freezer is safe (handbook practice): 5 kg and 18 kg
    assert 3600.0 < found.sound_s < soak(18.0, 1000.0, 23.0, -18.0).sound_s < SAFE_S


@pytest.mark.parametrize("half_thick_m", [0.02, 0.06, 0.12])
def test_the_allowance_for_the_inside_is_that_of_a_wall_cooled_from_outside(half_thick_m: float) -> None:
    """The slowest term of the exact solution: ζ tan ζ = Bi, τ = L² / (α ζ²); with ρ c L / h the lumped body's."""
    biot = FILM_W_M2K * half_thick_m / CONDUCTION_W_MK
    zeta = brentq(lambda z: z * math.tan(z) - biot, 1e-9, math.pi / 2 - 1e-9)
    thin = 2.0 * half_thick_m
    lumped = 1000.0 / (FILM_W_M2K * 2.0 * (thin * 1.0 + 1.0 * 1.0 + 1.0 * thin))
    assert soak(1.0, 1000.0, 20.0, 0.0, (1.0, 1.0, thin)).tau_s == pytest.approx(lumped * biot / zeta**2, rel=0.02)


LFP, AGM = family_named("lfp"), family_named("agm")


@pytest.mark.parametrize(
    ("seen", "here", "words"),
    [
        (Seen(), 0, "no voltage"),
        (Seen(0.4), 1, "it read 0.40 V"),
        (Seen(0.4, cell_V=2.6), 2, "lowest cell stands at 2.60 V"),
        (Seen(1.99), 1, "1.99"),
        (Seen(2.0), 3, "it is awake"),
        (Seen(11.99), 3, "it is awake"),
        (Seen(12.0), 0, "does not sleep"),
        (Seen(12.0, limit_V=13.0, current_A=2.0), 4, "it is awake"),
        (Seen(13.3, charged=True), 5, "charged to full"),
    ],
)
def test_where_a_sleeping_pack_stands(seen: Seen, here: int, words: str) -> None:
    way = way_back(LFP, 40.0, seen)
    assert [step.place for step in way].index(Place.HERE) == here and words in way[here].why
    assert all(step.place is Place.DONE for step in way[:here]) and all(
        step.place is Place.AHEAD for step in way[here + 1 :]
    )


def test_what_must_not_be_revived_ends_there() -> None:
    """A cell under 2.0 V; a lead-acid battery at the charger's limit that takes nothing (here 0.3 A of 75 Ah)."""
    low = way_back(LFP, 40.0, Seen(0.4, cell_V=1.99))
    assert low[-1].place is Place.STOP and "do not revive" in low[-1].why and len(low) == 2
    assert way_back(LFP, 40.0, Seen(0.4, cell_V=2.0))[-1].place is Place.AHEAD
    dead = way_back(AGM, 75.0, Seen(14.4, limit_V=14.4, current_A=-0.3))
    assert dead[-1].place is Place.STOP and "sulphated" in dead[-1].why
    assert way_back(AGM, 75.0, Seen(12.6, limit_V=14.4, current_A=-0.4))[-1].place is Place.AHEAD
    assert way_back(AGM, 75.0, Seen(12.6, limit_V=13.9, current_A=-0.3))[-1].place is Place.AHEAD


@pytest.mark.parametrize(
    ("seen", "here"),
    [(Seen(), 0), (Seen(4.0), 1), (Seen(10.99), 1), (Seen(11.0), 0), (Seen(11.0, limit_V=13.0, current_A=-5.0), 2), (Seen(12.9, charged=True), 3)],
)  # fmt: skip
def test_where_a_flat_lead_acid_battery_stands(seen: Seen, here: int) -> None:
    way = way_back(AGM, 75.0, seen)
    assert [step.place for step in way].index(Place.HERE) == here
    assert "5.3 A" in way[1].words


def test_the_way_follows_the_cells_and_ends_with_a_test() -> None:
    twice = pack_of(LFP, 25.6)
    assert (
        way_back(twice, 40.0, Seen(3.9))[1].place is Place.HERE and "24 V" in way_back(twice, 40.0, Seen(20.0))[3].words
    )
    done = way_back(LFP, 40.0, Seen(13.3, charged=True, tested=True))
    assert all(step.place is Place.DONE for step in done)
