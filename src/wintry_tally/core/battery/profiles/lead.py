"""Lead-acid: sealed (AGM), gel, flooded."""

from dataclasses import replace

from wintry_tally.core.battery.profiles.profile import Ageing, Build, Family, Spreads

_AGM_CHART = ((12.85, 100.0), (12.59, 80.0), (12.33, 70.0), (12.05, 50.0), (11.8, 0.0))
_PER_KELVIN = (0.01, 0.003)
"""After IEC 60095-1 (value from memory)."""

AGM = Family(
    key="agm",
    words="sealed lead-acid (AGM)",
    cells=6,
    cell_nominal_V=2.0,
    charge_V=(14.4, 14.6, 14.7),
    float_V=(13.5, 13.8),
    cutoff_V=10.5,
    other_cutoff_V=10.8,
    cutoff_floor_V=9.6,
    full_taper_C=0.02,
    plausible_V=(8.0, 15.5),
    mean_V=(11.5, 12.6),
    rest_s=4 * 3600.0,
    reference_rate_C=0.05,
    own_protection=False,
    charge_C=(-15.0, 40.0),
    discharge_C=(-20.0, 50.0),
    self_discharge_month=(1.0, 3.0),
    charge_state=_AGM_CHART,
    schools=(((12.85, 100.0), (12.55, 75.0), (12.3, 50.0), (11.8, 0.0)),),
    arrival_V=(12.5, 13.1),
    packs=(3, 6, 12, 18, 24),
    per_kelvin=_PER_KELVIN,
    peukert=(1.15, 0.05),
    spreads=Spreads(0.14, 0.10, 0.30, 0.16),
    unit_spread=0.03,
    ageing=Ageing(450.0, 0.5, 6.0, 1.2, 1.6, False),
    build=Build(0.55, 0.3, exchange_per_h=1.6, self_discharge_month=0.02),
)

GEL = replace(
    AGM,
    key="gel",
    words="gel lead-acid",
    charge_V=(14.1, 14.2, 14.4),
    plausible_V=(8.0, 15.0),
    peukert=(1.18, 0.05),
    ageing=Ageing(600.0, 0.5, 7.0, 1.2, 1.6, False),
    build=Build(0.7, 0.31, exchange_per_h=1.3, self_discharge_month=0.02),
)
FLOODED = replace(
    AGM,
    key="flooded",
    words="flooded lead-acid",
    charge_V=(14.4, 14.6, 14.8),
    float_V=(13.2, 13.5),
    plausible_V=(8.0, 16.5),
    mean_V=(11.3, 12.5),
    charge_C=(-15.0, 45.0),
    self_discharge_month=(4.0, 8.0),
    charge_state=((12.65, 100.0), (12.45, 75.0), (12.24, 50.0), (12.06, 25.0), (11.89, 0.0)),
    schools=(),
    arrival_V=(12.35, 12.8),
    peukert=(1.22, 0.06),
    spreads=Spreads(0.15, 0.10, 0.30, 0.16),
    unit_spread=0.04,
    ageing=Ageing(350.0, 0.5, 5.0, 1.2, 1.6, False),
    build=Build(0.8, 0.27, exchange_per_h=1.0, self_discharge_month=0.05),
)
