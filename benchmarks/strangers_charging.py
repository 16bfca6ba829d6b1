"""The trials of `strangers.py` in which something is charged: what comes back, what is taken, where it opens, what cold does."""

from __future__ import annotations

from collections.abc import Callable
from random import Random

from benchmarks.apart import Log, Meter, Part, goes_on, run
from benchmarks.trials import LIMIT, LOW, Trial, battery_of, meter_for, said, usual_A

TAPER_C = {"lfp": 0.05, "nmc": 0.05}


def efficiency(dice: Random) -> Trial:
    """A full discharge and the charge to full behind it, or the other way round."""
    battery = battery_of(dice)
    amps, back_A = usual_A(battery), battery.rated_Ah * (0.2 if battery.lithium else 0.1)
    meter, every_s = meter_for(dice, amps), dice.choice([10.0, 30.0, 60.0])
    taper_A = battery.rated_Ah * TAPER_C.get(battery.family, 0.02)
    out = Part(amps, volts=LOW.get(battery.family, 10.5))
    into = Part(-back_A, 40 * 3600.0, LIMIT.get(battery.family, 14.6), taper_A * dice.choice([1.0, 0.8]))
    rest = Part(seconds=dice.choice([300.0, 1800.0]))
    log = run(battery, [Part(seconds=60.0), out, rest, into, Part(seconds=300.0)], meter, every_s, 10.0)
    truth = 100.0 * log.drawn_Wh / log.put_Wh
    claim = {
        "kind": "efficiency",
        "value": round(truth + dice.uniform(-6.0, 6.0)),
        "unit": "%",
        "direction": "at-least",
    }
    return Trial(battery, meter, claim, "cycle", (log,), truth >= claim["value"], (truth - claim["value"]) / 100.0)


def charge_current(dice: Random) -> Trial:
    """A charger set to the claimed current, or near it: taken for minutes, or refused within seconds."""
    battery = battery_of(dice, "lfp")
    battery.charged, battery.cut_V = dice.uniform(0.1, 0.5), None
    takes_A = battery.rated_Ah * dice.uniform(0.3, 1.2)
    amps = battery.rated_Ah * dice.choice([0.3, 0.5, 0.5, 0.8, 1.0])
    meter, every_s = meter_for(dice, amps), dice.choice([0.5, 1.0, 2.0, 5.0])
    carries, delay = amps < takes_A, dice.uniform(1.5, 12.0)
    lasts = dice.choice([180.0, 600.0, 1800.0]) if carries else delay
    log = run(battery, [Part(seconds=60.0), Part(-amps, lasts, 14.6)], meter, every_s, min(0.5, every_s))
    if not carries:
        goes_on(log, battery, meter, 60.0, every_s, 14.6)
    goes_on(log, battery, meter, 60.0, every_s)
    value = float(f"{amps * dice.choice([1.0, 1.0, 0.95, 0.9]):.3g}")
    claim = {"kind": "charge-current", "value": value, "unit": "A", "direction": "at-least"}
    return Trial(battery, meter, claim, "charge", (log,), carries, 0.5)


def over_voltage(dice: Random) -> Trial:
    """A charge above the usual limit until the pack's own protection opens; the charger's limit stands there then."""
    battery = battery_of(dice, "lfp")
    battery.charged, opens_V, limit_V = 0.9, dice.uniform(14.1, 14.65), dice.choice([15.0, 15.2])
    amps = battery.rated_Ah * dice.choice([0.1, 0.2, 0.3])
    meter, every_s = meter_for(dice, amps), dice.choice([0.5, 1.0, 2.0, 5.0])
    log = run(
        battery, [Part(seconds=60.0), Part(-amps, 1e5, limit_V, opens_V=opens_V)], meter, every_s, min(1.0, every_s)
    )
    goes_on(log, battery, meter, 60.0, every_s, limit_V)
    goes_on(log, battery, meter, 60.0, every_s)
    tolerance = dice.choice([0.1, 0.2])
    value = round(opens_V + dice.uniform(-3.0, 3.0) * tolerance, 2)
    claim = {"kind": "over-voltage-cut", "value": value, "unit": "V", "direction": "within", "tolerance": tolerance}
    inside = tolerance - abs(opens_V - value)
    return Trial(battery, meter, claim, "charge", (log,), inside >= 0, inside / value)


def charge_voltage(dice: Random) -> Trial:
    """Charged to full at a limit; the claim is of another, or of this one."""
    battery = battery_of(dice, "lfp", "nmc")
    limit_V = LIMIT[battery.family] + dice.uniform(-0.2, 0.1)
    battery.charged, battery.cut_V = dice.uniform(0.3, 0.8), None
    amps, taper_A = 0.2 * battery.rated_Ah, 0.05 * battery.rated_Ah
    meter, every_s = meter_for(dice, amps), dice.choice([5.0, 10.0, 30.0])
    parts = [Part(seconds=60.0), Part(-amps, 1e5, limit_V, taper_A * dice.choice([1.0, 0.6])), Part(seconds=300.0)]
    log, tolerance = run(battery, parts, meter, every_s, min(5.0, every_s)), dice.choice([0.1, 0.2])
    value = round(limit_V + dice.uniform(-3.0, 3.0) * tolerance, 1)
    claim = {"kind": "charge-voltage", "value": value, "unit": "V", "direction": "within", "tolerance": tolerance}
    inside = tolerance - abs(limit_V - value)
    return Trial(battery, meter, claim, "charge", (log,), inside >= 0, inside / value)


def warming(dice: Random) -> Trial:
    """A frozen pack with a charger on it that refuses until it is warm enough."""
    battery = battery_of(dice, "lfp")
    battery.charged, battery.cut_V, battery.celsius = 0.2, None, dice.uniform(-12.0, -4.0)
    takes_C, amps = dice.uniform(0.5, 8.0), battery.rated_Ah * dice.choice([0.1, 0.2])
    meter, every_s = meter_for(dice, amps), dice.choice([1.0, 2.0, 5.0])
    log = run(battery, [Part(seconds=30.0)], meter, every_s, min(1.0, every_s))
    while battery.celsius < takes_C:
        battery.celsius += dice.uniform(0.3, 0.6)
        goes_on(log, battery, meter, 60.0, every_s, 14.4)
    later = run(battery, [Part(-amps, 600.0, 14.4), Part(seconds=60.0)], meter, every_s, min(1.0, every_s))
    log.rows += [(log.ends_s + every_s + at, *row) for at, *row in later.rows]  # type: ignore[misc]
    tolerance = 2.0
    value = round(takes_C + dice.uniform(-8.0, 8.0))
    claim = {"kind": "cold-charge-release", "value": value, "unit": "°C", "direction": "within", "tolerance": tolerance}
    inside = tolerance - abs(takes_C - value)
    return Trial(battery, meter, claim, "charge-block", (log,), inside >= 0, inside / 10.0, True)


def heater(key: str) -> Callable[[Random], Trial]:
    """A charger on a frozen pack that feeds its heater first: a small steady current at its limit, then the cells."""

    def trial(dice: Random) -> Trial:
        battery = battery_of(dice, "lfp")
        battery.rated_Ah = battery.holds_Ah = dice.choice([50.0, 100.0])
        battery.charged, battery.cut_V, battery.celsius = 0.2, None, dice.uniform(-12.0, -6.0)
        limit_V, watts, lasts = 14.4, dice.uniform(40.0, 90.0), dice.uniform(15.0, 60.0) * 60.0
        meter, every_s = meter_for(dice, 20.0), dice.choice([2.0, 5.0, 10.0])
        log = run(battery, [Part(seconds=60.0)], meter, every_s, min(2.0, every_s))
        fed = _fed(battery.celsius, watts, limit_V, lasts, log.ends_s, every_s, meter, dice)
        log.rows += fed.rows
        battery.celsius = 5.0
        later = run(battery, [Part(-0.2 * battery.rated_Ah, 1800.0, limit_V)], meter, every_s, min(2.0, every_s))
        log.rows += [(log.ends_s + every_s + at, *row) for at, *row in later.rows]  # type: ignore[misc]
        if key == "heater-time":
            value = said(dice, lasts / 60.0, 0.2)
            claim = {"kind": key, "value": value, "unit": "min", "direction": "at-most"}
            return Trial(
                battery, meter, claim, "heater", (log,), lasts / 60.0 <= value, 1.0 - lasts / 60.0 / value, True
            )
        value = said(dice, watts, 0.15)
        claim = {"kind": key, "value": value, "unit": "W", "direction": "at-least"}
        return Trial(battery, meter, claim, "heater", (log,), watts >= value, watts / value - 1.0, True)

    return trial


def _fed(
    celsius: float,
    watts: float,
    limit_V: float,
    lasts: float,
    after_s: float,
    every_s: float,
    meter: Meter,
    dice: Random,
) -> Log:
    """A heater at the charger's limit, warming the pack to 5 °C as it goes."""
    log, count = Log(), max(2, round(lasts / every_s))
    for place in range(count):
        swings = 1.0 + dice.gauss(0.0, 0.004)
        shown = meter.read(limit_V, -watts * swings / limit_V)
        log.rows.append((after_s + (place + 1) * every_s, *shown, celsius + (5.0 - celsius) * place / count))
    return log


CHARGING: dict[str, Callable[[Random], Trial]] = {
    "efficiency": efficiency, "charge-current": charge_current, "over-voltage": over_voltage, "charge-voltage": charge_voltage,
    "release": warming, "heater-time": heater("heater-time"), "heater-power": heater("heater-power"),
}  # fmt: skip
