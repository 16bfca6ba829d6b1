"""Lithium-ion of the NMC type."""

from wintry_tally.core.battery.profiles.profile import Ageing, Build, Family, Spreads

_OCV = (
    *((0.0, 8.1), (0.02, 9.3), (0.05, 10.05), (0.1, 10.5), (0.2, 10.8), (0.3, 10.98), (0.4, 11.1), (0.5, 11.25)),
    *((0.6, 11.45), (0.7, 11.7), (0.8, 11.95), (0.9, 12.2), (1.0, 12.55)),
)

NMC = Family(
    key="nmc",
    words="lithium-ion of the NMC type",
    cells=3,
    cell_nominal_V=3.7,
    charge_V=(12.3, 12.6, 12.6),
    float_V=None,
    cutoff_V=9.0,
    other_cutoff_V=8.4,
    cutoff_floor_V=8.4,
    full_taper_C=0.05,
    plausible_V=(7.5, 12.9),
    mean_V=(10.3, 11.8),
    rest_s=3600.0,
    reference_rate_C=0.2,
    own_protection=True,
    charge_C=(0.0, 45.0),
    discharge_C=(-20.0, 60.0),
    self_discharge_month=(1.0, 3.0),
    charge_state=((12.6, 100.0), (11.9, 75.0), (11.3, 50.0), (11.0, 25.0), (9.0, 0.0)),
    arrival_V=(10.9, 11.6),
    arrival_state=(25.0, 60.0),
    packs=(2, 3, 4, 6, 7, 10, 13, 14),
    peukert=(1.03, 0.02),
    per_kelvin=(0.004, 0.002),
    spreads=Spreads(0.10, 0.06, 0.10, 0.16),
    unit_spread=0.02,
    ageing=Ageing(800.0, 1.0, 10.0, 1.4, 1.2, True),
    build=Build(
        0.5,
        0.075,
        _OCV,
        self_discharge_month=0.015,
        hysteresis_V=0.01,
        surface_V=0.05,
        protection_V=(9.0, 10.5, 12.75, 12.3),
    ),
)
