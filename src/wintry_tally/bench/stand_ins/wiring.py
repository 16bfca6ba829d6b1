"""The ways in which a bench can be wired wrong, for stand-ins to show: what each part then reads, and what flows."""

from __future__ import annotations

WIRINGS = {
    "meter-turned": "the meter's voltage leads are the wrong way round",
    "meter-elsewhere": "the meter's voltage leads are on another battery",
    "meter-open": "one of the meter's voltage leads has come off",
    "meter-at-clamps": "the meter's voltage leads sit on the load's terminals",
    "meter-half": "the meter's voltage leads are across half the pack",
    "shunt-turned": "the shunt sits the wrong way round",
    "shunt-tenfold": "the meter is set to another shunt and shows ten times the current",
    "shunt-tenth": "the meter is set to another shunt and shows a tenth of the current",
    "shunt-double": "the meter is set to another shunt and shows twice the current",
    "shunt-half": "half of the current passes beside the shunt",
    "shunt-out": "the shunt is not in the battery's lead",
    "shunt-elsewhere": "the shunt is in another circuit",
    "load-elsewhere": "the load is on another battery",
    "load-turned": "the load is the wrong way round",
    "load-open": "one of the load's leads has come off",
    "charger-elsewhere": "the charger is on another battery",
    "charger-turned": "the charger is the wrong way round",
    "charger-open": "one of the charger's leads has come off",
    "battery-off": "a clamp has come off the battery: its leads, and the meter's, hang in the air",
    "clamp-loose": "a clamp is loose",
    "leads-thin": "the leads are far too thin",
    "second-elsewhere": "the second meter is on another battery",
    "pack-elsewhere": "the telemetry is another pack's",
    "thermometer-out": "the thermometer's probe is not plugged in",
    "thermometer-elsewhere": "the thermometer is outdoors",
    "other-family": "it is a pack of another chemistry",
    "two-in-series": "two such packs are in series",
    "other-load": "another load is still on the battery",
    "other-battery": "it is another, far weaker battery than the one of this tag",
}
"""Every wrong way, in words."""
LOOSE_OHM, THIN_OHM = 0.25, 0.20
BACKGROUND_A = 2.5
ELSEWHERE_A = 3.2
SHUNT_SHARES = {"shunt-turned": -1.0, "shunt-tenfold": 10.0, "shunt-tenth": 0.1, "shunt-double": 2.0, "shunt-half": 0.5, "shunt-out": 0.0}  # fmt: skip
