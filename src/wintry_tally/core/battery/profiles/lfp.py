"""Lithium iron phosphate."""

from wintry_tally.core.battery.profiles.profile import Ageing, Build, Family, Spreads

_OCV = (
    *((0.0, 9.6), (0.01, 10.8), (0.03, 11.75), (0.05, 12.2), (0.08, 12.5), (0.12, 12.72), (0.17, 12.87)),
    *((0.25, 12.97), (0.35, 13.06), (0.45, 13.12), (0.55, 13.15), (0.63, 13.18), (0.68, 13.26), (0.78, 13.31)),
    *((0.9, 13.33), (0.96, 13.36), (0.985, 13.42), (1.0, 13.5)),
)

LFP = Family(
    key="lfp",
    words="lithium iron phosphate",
    cells=4,
    cell_nominal_V=3.2,
    charge_V=(14.0, 14.4, 14.6),
    float_V=None,
    cutoff_V=10.0,
    other_cutoff_V=11.2,
    cutoff_floor_V=8.0,
    full_taper_C=0.05,
    plausible_V=(8.0, 15.0),
    mean_V=(12.2, 13.2),
    rest_s=3600.0,
    reference_rate_C=0.2,
    own_protection=True,
    charge_C=(0.0, 45.0),
    discharge_C=(-20.0, 60.0),
    self_discharge_month=(0.0, 3.0),
    charge_state=(
        *((13.6, 100.0), (13.4, 99.0), (13.3, 90.0), (13.2, 70.0), (13.1, 40.0), (13.0, 30.0)),
        *((12.9, 20.0), (12.8, 17.0), (12.5, 14.0), (12.0, 9.0), (10.0, 0.0)),
    ),
    schools=(((13.6, 100.0), (13.3, 90.0), (13.0, 50.0), (12.8, 17.0), (12.0, 9.0), (10.0, 0.0)),),
    arrival_V=(13.0, 13.3),
    arrival_state=(30.0, 60.0),
    cell_revival_V=2.0,
    packs=(2, 4, 8, 12, 16),
    peukert=(1.02, 0.015),
    per_kelvin=(0.003, 0.002),
    spreads=Spreads(0.10, 0.03, 0.10, 0.16),
    unit_spread=0.015,
    ageing=Ageing(3500.0, 1.0, 15.0, 1.1, 0.9, True),
    build=Build(
        0.6,
        0.105,
        _OCV,
        self_discharge_month=0.01,
        hysteresis_V=0.03,
        surface_V=0.22,
        protection_V=(10.0, 12.0, 14.8, 14.0),
        least_trip_A=120.0,
    ),
    flat=True,
    doubtful_below_V=12.75,
    mistaken_for_lead_V=(12.4, 12.9),
)
