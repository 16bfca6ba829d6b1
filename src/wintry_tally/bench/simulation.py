"""A whole test on the stand-in bench, without a book: a log as a meter would write it, and the truth beside it."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from random import Random
from typing import Any

import numpy as np

from wintry_tally.bench.loop import RunLoop
from wintry_tally.bench.simulated import STAND_IN_METER, MeterSpec, SimulatedChannel
from wintry_tally.core.battery import Family, family_named, pack_of
from wintry_tally.core.cell import Parameters, Protection, parameters_for
from wintry_tally.core.cell.ageing import worn
from wintry_tally.core.cell.parameters import Heater, aged, of_pack, one_unit, sulphated
from wintry_tally.core.engine import Event, Observation, Phase, Request, RunState
from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol import Recipe
from wintry_tally.core.room import ROOM_C
from wintry_tally.core.trace.trace import Trace

MOST_READINGS = 3_000_000
BATTERY_LIMITS = {
    "rated_Ah": (0.001, 1e6), "health": (0.01, 1.5), "sulphation": (0.0, 1.0), "cycles": (0.0, 1e5), "depth": (0.01, 1.0),
    "years": (0.0, 100.0), "state_of_charge": (0.0, 1.0), "ambient_C": (-60.0, 100.0), "start_C": (-60.0, 100.0),
}  # fmt: skip
"""What each number of a battery's file may be."""


@dataclass(frozen=True)
class SimulatedBattery:
    """A battery for simulations: its family and rating, and what makes this unit what it is.

    Parts:
        health: share of the capacity left; sulphation: 0 to 1, lead-acid only.
        cycles, depth, years: what it went through before, which wears it by its family's usual ageing.
        state_of_charge: at the start, 0 to 1; ambient_C, start_C: the room's and the core's temperature.
        protection, heater: changes to the family's usual ones, by field name.
    """

    family: Family
    rated_Ah: float
    health: float = 1.0
    sulphation: float = 0.0
    cycles: float = 0.0
    depth: float = 1.0
    years: float = 0.0
    state_of_charge: float = 1.0
    ambient_C: float = ROOM_C
    start_C: float | None = None
    protection: dict[str, float] | None = None
    heater: dict[str, float] | None = None
    no_protection: bool = False

    def parameters(self, random: Random) -> Parameters:
        """This unit's parameters, its spread drawn from `random`.

        Raises:
            InputError: a field of the protection or the heater that there is not.
        """
        fresh = aged(parameters_for(self.family, self.rated_Ah), self.health)
        made = one_unit(worn(fresh, self.family.key, self.cycles, self.years, self.depth), random)
        if self.sulphation:
            made = sulphated(made, self.sulphation)
        if self.no_protection:
            made = replace(made, protection=None)
        if self.protection:
            base = made.protection or of_pack(Protection(), made.share)
            _known(self.protection, Protection)
            made = replace(made, protection=replace(base, **self.protection))
        if self.heater is not None:
            _known(self.heater, Heater)
            made = replace(made, heater=Heater(**self.heater))
        return made


def _known(values: dict[str, float], kind: type[Protection] | type[Heater]) -> None:
    for name in values:
        if name not in kind.__dataclass_fields__:
            raise InputError(
                f'"{name}" is no part of {kind.__name__.lower()}', mend=f"use {', '.join(kind.__dataclass_fields__)}"
            )


def _within(key: str, value: Any, name: str, limits: tuple[float, float] = (-math.inf, math.inf)) -> None:
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise InputError(f"{key}: {value!r} is not a number", name)
    low, high = limits
    if not (math.isfinite(value) and low <= value <= high):
        raise InputError(f"{key} of {value} cannot be", name, f"give {low:g} to {high:g}" if math.isfinite(low) else "")


def _table(key: str, value: Any, name: str) -> None:
    if not isinstance(value, dict):
        raise InputError(f"{key}: {value!r} is not a table", name)
    for part, number in value.items():
        _within(f"{key}.{part}", number, name)


def battery_from(data: Any, name: str) -> SimulatedBattery:
    """A battery from plain data.

    Raises:
        InputError: a field that is missing, unknown, or of the wrong kind.
    """
    if not isinstance(data, dict):
        raise InputError(f"battery: {data!r} is not a table", name)
    values = dict(data)
    if "family" not in values or "rated_Ah" not in values:
        raise InputError("a battery needs family and rated_Ah", name)
    nominal_V = values.pop("nominal_V", None)
    if nominal_V is not None and (isinstance(nominal_V, bool) or not isinstance(nominal_V, int | float)):
        raise InputError(f"nominal_V: {nominal_V!r} is not a number", name)
    unknown = set(values) - set(SimulatedBattery.__dataclass_fields__)
    if unknown:
        raise InputError(f'"{sorted(unknown)[0]}" is no part of a battery', name)
    family = pack_of(family_named(str(values.pop("family"))), nominal_V)
    for key, value in values.items():
        if key in {"protection", "heater"}:
            _table(key, value, name)
        elif key == "no_protection":
            if not isinstance(value, bool):
                raise InputError(f"{key}: {value!r} is not true or false", name)
        else:
            _within(key, value, name, BATTERY_LIMITS[key])
    return SimulatedBattery(family=family, **values)


@dataclass(frozen=True)
class Simulated:
    """A simulated test: the log, its events, how it ended, and what was true."""

    trace: Trace
    events: tuple[Event, ...]
    state: RunState
    truth: dict[str, Any]


class Keeper:
    """Takes the place of the journal: keeps readings and events in memory."""

    def __init__(self) -> None:
        self.rows: list[tuple[float, Observation]] = []
        self.kept: list[Event] = []
        self.problem, self.unsaved_s = "", 0.0

    def reading(self, elapsed_s: float, seen: Observation) -> None:
        self.rows.append((elapsed_s, seen))

    def events(self, events: tuple[Event, ...]) -> None:
        self.kept.extend(events)

    def due(self) -> bool:
        return False

    def write(self, state: RunState, bench: dict[str, Any]) -> None:
        return


def simulate(
    recipe: Recipe, battery: SimulatedBattery, seed: int, interval_s: float = 1.0, spec: MeterSpec = STAND_IN_METER
) -> Simulated:
    """Run a recipe on a simulated battery; prompts are answered at once. The same seed gives the same log.

    Raises:
        InputError: the run would be longer than three million readings.
    """
    random = Random(seed)
    parameters = battery.parameters(random)
    channel = SimulatedChannel(
        parameters, spec, random.randrange(1 << 30), power_W=1e9, current_A=1e9, charger=(1e9, 1e9),
        ambient_C=battery.ambient_C, state_of_charge=battery.state_of_charge,
    )  # fmt: skip
    if battery.start_C is not None:
        channel.world.model.temperature_C = battery.start_C
    keeper = Keeper()
    loop = RunLoop(recipe, channel, keeper, interval_s)  # type: ignore[arg-type]
    count = _TrueCount()
    loop.start()
    while loop.state.phase is not Phase.ENDED:
        if len(keeper.rows) >= MOST_READINGS:
            raise InputError("the run is longer than three million readings", mend="choose a longer interval")
        if loop.state.phase is Phase.PROMPTING:
            loop.ask(Request("answer", words="simulated"))
            continue
        loop.tick()
        count.follow(loop.elapsed_s, channel)
    truth = {
        "battery": {"family": battery.family.key, "rated_Ah": battery.rated_Ah, "capacity_Ah": parameters.capacity_Ah},
        "seed": seed,
        "recipe": recipe.name,
        "ended_by": loop.state.cause.value if loop.state.cause else None,
        "drawn_Ah": count.drawn_Ah,
        "drawn_Wh": count.drawn_Wh,
        "put_in_Ah": count.put_in_Ah,
        "put_in_Wh": count.put_in_Wh,
        "heater_Wh": count.heater_Wh,
        "state_of_charge": channel.world.model.state_of_charge,
        "meter": {
            "gain_V": channel.true_errors[0],
            "offset_V": channel.true_errors[1],
            "gain_A": channel.true_errors[2],
            "offset_A": channel.true_errors[3],
        },
        "events": [{"at_s": event.at_s, "kind": event.kind, "message": event.message} for event in keeper.kept],
        "protection": None if parameters.protection is None else vars(parameters.protection),
    }
    return Simulated(trace_of(keeper, spec), tuple(keeper.kept), loop.state, truth)


class _TrueCount:
    """What truly flowed: the model holds a current through each of its steps."""

    def __init__(self) -> None:
        self.drawn_Ah = self.drawn_Wh = self.put_in_Ah = self.put_in_Wh = self.heater_Wh = 0.0
        self._at = 0.0

    def follow(self, elapsed_s: float, channel: SimulatedChannel) -> None:
        world = channel.world
        hours = (elapsed_s - self._at) / 3600.0
        amps, volts = world.current_A, world.voltage_V
        charge, energy = amps * hours, amps * volts * hours
        if amps > 0:
            self.drawn_Ah += charge
            self.drawn_Wh += energy
        elif world.model.heating:
            self.heater_Wh -= energy
        else:
            self.put_in_Ah -= charge
            self.put_in_Wh -= energy
        self._at = elapsed_s


def trace_of(keeper: Keeper, spec: MeterSpec) -> Trace:
    """The readings that were kept, as a log of such a meter."""
    time_s = np.array([row[0] for row in keeper.rows])
    seen = [row[1] for row in keeper.rows]
    return Trace(
        time_s,
        np.array([item.voltage_V for item in seen]),
        np.array([item.current_A for item in seen]),
        temperature_C=np.array([np.nan if item.temperature_C is None else item.temperature_C for item in seen]),
        resolution={"voltage_V": spec.voltage_resolution, "current_A": spec.current_resolution, "temperature_C": 0.1},
    )
