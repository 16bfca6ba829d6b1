"""From a described channel to one that runs: drivers made, readings put together, two meters held side by side."""

from __future__ import annotations

import math
import threading
import time
from collections.abc import Callable, Mapping
from concurrent.futures import Future
from dataclasses import dataclass, replace
from typing import TypeVar

from wintry_tally.bench.bounded import Hand
from wintry_tally.bench.drivers.address import address_of
from wintry_tally.bench.drivers.asked import AskedLoad, AskedReads, AskedSupply
from wintry_tally.bench.drivers.dialect import (
    AskedDialect,
    Dialect,
    FileDialect,
    LineDialect,
    ModbusDialect,
    ScpiDialect,
    dialect_named,
)
from wintry_tally.bench.drivers.lines import LineMeter, WatchedFile, exchange_of
from wintry_tally.bench.drivers.link import TextLink
from wintry_tally.bench.drivers.modbus import ModbusLink, ModbusReads, RegisterLoad, RegisterSupply
from wintry_tally.bench.drivers.scpi import ScpiLoad, ScpiReads, ScpiSupply, question_plan
from wintry_tally.bench.equipment import ChannelSpec, Equipment, Instrument
from wintry_tally.bench.interfaces import Drives, InstrumentChannel, Measures, Reads, Sinks, Sources
from wintry_tally.bench.offplan import OffPlan
from wintry_tally.bench.taken import Thing
from wintry_tally.core.engine import Observation
from wintry_tally.core.errors import InputError, InstrumentError, StillOnError, StuckError
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.core.trace.beside import INTO_TRACE, PACK_C, SECOND_A, SECOND_V, cell_number

COUNTERS = {"charge": "counter_Ah", "energy": "counter_Wh"}
"""What an instrument counts by itself, and the column it is kept in."""
READ_LIMIT_S, COMMAND_LIMIT_S = 2.0, 2.6
"""So long a reading of all instruments, and a command with its own look whether it was done, may take."""
T = TypeVar("T")


def driver_for(instrument: Instrument) -> Reads:
    """The driver of an instrument; nothing is opened yet. A new way of speaking is a line here.

    Raises:
        InputError: its dialect does not fit.
    """
    dialect = dialect_for(instrument)
    make = {
        LineDialect: _line_driver, FileDialect: _file_driver, AskedDialect: _asked_driver,
        ModbusDialect: _modbus_driver, ScpiDialect: _scpi_driver,
    }[type(dialect)]  # fmt: skip
    return make(instrument, dialect)  # type: ignore[operator,no-any-return]


def dialect_for(instrument: Instrument) -> Dialect:
    """The dialect of an instrument, one that can do what the instrument is for.

    Raises:
        InputError: there is none of that name, or it does not fit.
    """
    dialect = dialect_named(instrument.dialect)
    if dialect.kind != instrument.way:
        raise InputError(f"dialect {dialect.title} is not for {instrument.way}", instrument.name)
    if instrument.kind == "load" and dialect.load_words is None:
        raise InputError(f"dialect {dialect.title} says nothing of how a load is driven", instrument.name)
    if instrument.kind == "charger" and dialect.supply_words is None:
        raise InputError(f"dialect {dialect.title} says nothing of how a supply is driven", instrument.name)
    return dialect


def _line_driver(instrument: Instrument, dialect: LineDialect) -> Reads:
    return LineMeter(instrument.name, instrument.address, dialect)


def _file_driver(instrument: Instrument, dialect: FileDialect) -> Reads:
    return WatchedFile(instrument.name, instrument.address, dialect)


def _asked_driver(instrument: Instrument, dialect: AskedDialect) -> Reads:
    link = TextLink(instrument.name, instrument.address, dialect.line_end, dialect.baud)
    if instrument.kind == "load":
        return AskedLoad(instrument.name, link, dialect)
    if instrument.kind == "charger":
        return AskedSupply(instrument.name, link, dialect)
    return AskedReads(instrument.name, link, dialect)


def _modbus_driver(instrument: Instrument, dialect: ModbusDialect) -> Reads:
    link = ModbusLink(instrument.name, instrument.address, dialect)
    if instrument.kind == "load":
        return RegisterLoad(instrument.name, link)
    if instrument.kind == "charger":
        return RegisterSupply(instrument.name, link)
    return ModbusReads(instrument.name, link, dialect.reads)


def _scpi_driver(instrument: Instrument, dialect: ScpiDialect) -> Reads:
    link = TextLink(instrument.name, instrument.address, dialect.line_end, dialect.baud)
    if instrument.kind == "load":
        return ScpiLoad(instrument.name, link, dialect)
    if instrument.kind == "charger":
        return ScpiSupply(instrument.name, link, dialect)
    asks = dialect.thermometer if instrument.kind == "thermometer" else dialect.reads
    return ScpiReads(instrument.name, link, asks, dialect.decimal)


def boot_clock() -> float:
    """Seconds on a clock that nobody sets and that goes on while the computer sleeps."""
    return time.clock_gettime(time.CLOCK_BOOTTIME)


@dataclass(frozen=True)
class Disagreement:
    """Two meters on one quantity, further apart than both specifications allow."""

    quantity: str
    first: float
    second: float
    allowed: float


@dataclass(frozen=True)
class Told:
    """What every instrument said at one reading: its quantities, and whether its output is on (None: it cannot say)."""

    found: Mapping[str, Mapping[str, float]]
    on: Mapping[str, bool | None]


class JoinedMeter(Measures):
    """Readings of several instruments as one, each asked once, all at the same time.

    Current is positive while drawn: a load's own counts as it is, a charger's the other way round. `disagreement`
    holds the last one of the second meter, `told` all that was said.
    """

    def __init__(
        self, equipment: Equipment, channel: ChannelSpec, drivers: Mapping[str, Reads], hands: Mapping[str, Hand]
    ) -> None:
        self.equipment, self.channel, self.drivers, self.hands = equipment, channel, drivers, hands
        counted = (item.name for item in equipment.meter_of(channel))
        self._needed = {channel.load, channel.charger, channel.thermometer, *counted}
        self.disagreement: Disagreement | None = None
        self.told = Told({}, {})
        self.waiting: Callable[[], None] | None = None

    def read(self) -> Observation:
        """See Measures."""
        asked = {name: self.hands[name].begin(_telling(driver)) for name, driver in self.drivers.items()}
        found: dict[str, dict[str, float]] = {}
        on: dict[str, bool | None] = {}
        failures: list[str] = []
        stuck = False
        until = time.monotonic() + READ_LIMIT_S
        for name, answer in asked.items():
            try:
                left = max(0.0, until - time.monotonic())
                found[name], on[name] = self.hands[name].result(answer, left, self.waiting)
            except InstrumentError as error:
                if name not in self._needed:
                    continue  # what is only kept beside does not end a run when it is lost
                failures.append(str(error))
                stuck = stuck or isinstance(error, StuckError)
        self.told = Told(found, on)
        if failures:
            raise (StuckError if stuck else InstrumentError)("; ".join(failures))
        volts = self._voltage(found)
        amps = self._current(found)
        warm = found.get(self.channel.thermometer, {}).get("temperature")
        if warm is None:
            warm = next((values["temperature"] for values in found.values() if "temperature" in values), None)
        self._hold_side_by_side(volts, amps, found)
        return Observation(volts, amps, warm, beside=self._beside(found))

    def zero_A(self) -> float | None:
        """How far from zero a current may read with nothing flowing, by the specifications; None where none is known."""
        names = self._counting()
        parts = [zero_limit_A(self.equipment.instrument(name)) for name in names]
        return None if not parts or any(part is None for part in parts) else math.fsum(part or 0.0 for part in parts)

    def _counting(self) -> list[str]:
        """Whose current counts."""
        channel = self.channel
        if channel.current:
            return [channel.current]
        parts = [name for name in (channel.load, channel.charger) if name]
        return parts or [self.equipment.meter_of(channel)[1].name]

    @property
    def counted_apart(self) -> bool:
        """Whether the current is counted by something else than what is switched."""
        return not set(self._counting()) & {self.channel.load, self.channel.charger}

    def _beside(self, found: dict[str, dict[str, float]]) -> dict[str, float]:
        """What is kept beside the counted reading: counters, the second meter, what the pack itself tells."""
        told: dict[str, float] = {}
        _, counts = self.equipment.meter_of(self.channel)
        for quantity, name in COUNTERS.items():
            counter = found[counts.name].get(quantity)
            if counter is None:
                counter = next((values[quantity] for values in found.values() if quantity in values), None)
            if counter is not None:
                told[name] = counter
        second = found.get(self.channel.second, {})
        if "voltage" in second:
            told[SECOND_V.name] = second["voltage"]
        if "current" in second:
            told[SECOND_A.name] = self._signed(self.channel.second, found)
        pack = found.get(self.channel.telemetry, {})
        told |= {name: value for name, value in pack.items() if cell_number(name) is not None or name in INTO_TRACE}
        if "temperature" in pack:
            told[PACK_C.name] = pack["temperature"]
        return {name: value for name, value in told.items() if math.isfinite(value)}

    def _voltage(self, found: dict[str, dict[str, float]]) -> float:
        meter, _ = self.equipment.meter_of(self.channel)
        return found[meter.name].get("voltage", math.nan)

    def _current(self, found: dict[str, dict[str, float]]) -> float:
        return math.fsum(self._signed(name, found) for name in self._counting())

    def _signed(self, name: str, found: Mapping[str, Mapping[str, float]]) -> float:
        instrument = self.equipment.instrument(name)
        way = -1.0 if (instrument.kind == "charger") != instrument.turned else 1.0
        return way * found[name].get("current", math.nan)

    def own_current(self, name: str) -> float | None:
        """What a driven instrument itself said of its current at the last reading, drawn positive; None for nothing."""
        if "current" not in self.told.found.get(name, {}):
            return None
        return self._signed(name, self.told.found)

    def _hold_side_by_side(self, volts: float, amps: float, found: dict[str, dict[str, float]]) -> None:
        self.disagreement = None
        second = found.get(self.channel.second, {})
        if not second:
            return
        first_V, first_A = self.equipment.meter_of(self.channel)
        other = self.equipment.instrument(self.channel.second)
        for quantity, value, first in (("voltage", volts, first_V), ("current", amps, first_A)):
            if quantity not in second or not math.isfinite(value):
                continue
            shown = second[quantity] if quantity == "voltage" else self._signed(other.name, found)
            allowed = _limit(first, quantity, value) + _limit(other, quantity, shown)
            if abs(shown - value) > allowed:
                self.disagreement = Disagreement(quantity, value, shown, allowed)
                return


def _telling(driver: Reads) -> Callable[[], tuple[dict[str, float], bool | None]]:
    """What an instrument measures and, where it drives, whether it says that it is on; its own watchdog is fed."""

    def tell() -> tuple[dict[str, float], bool | None]:
        if isinstance(driver, Drives):
            driver.feed()
        values = driver.quantities()
        on = driver.is_on() if isinstance(driver, Drives) else None
        return _sound(driver, values), on if isinstance(on, bool) else None

    return tell


def _sound(driver: Reads, values: object) -> dict[str, float]:
    """What a driver gave, if it is names and numbers: a driver may be somebody's own."""
    name = getattr(driver, "name", "an instrument")
    if not isinstance(values, dict):
        raise InstrumentError(f"{name}: its driver gives no readings ({type(values).__name__})")
    for quantity, value in values.items():
        if not isinstance(quantity, str) or isinstance(value, bool) or not isinstance(value, (int, float)):
            raise InstrumentError(f"{name}: its driver gives {value!r} for {quantity}")
    return {quantity: float(value) for quantity, value in values.items()}


def zero_limit_A(instrument: Instrument) -> float | None:
    """The offset part of its current's specification and a flicker of its last digit; None where none is entered."""
    if not instrument.current_accuracy:
        return None
    digit = instrument.current_resolution
    return parse_accuracy(instrument.current_accuracy).offset_limit(digit) + digit


def _limit(instrument: Instrument, quantity: str, value: float) -> float:
    """How far a reading may be off by the instrument's specification; a percent where none is entered."""
    text = getattr(instrument, f"{quantity}_accuracy")
    digit: float = getattr(instrument, f"{quantity}_resolution")
    if not text:
        return 0.01 * abs(value) + digit
    accuracy = parse_accuracy(text)
    return abs(value) * accuracy.percent / 100.0 + accuracy.offset_limit(digit)


class BenchChannel(InstrumentChannel):
    """A channel of real instruments (or stand-ins that speak as they do). Whoever ticks it keeps the pace.

    The load is off before the charger goes on, and the other way round. OFF reaches both at once, whatever either says.
    Every call comes back within its limit, whatever a driver does; `carry_out(OFF)` may be called from any thread.
    """

    goes_on_alone = True

    def __init__(
        self,
        equipment: Equipment,
        spec: ChannelSpec,
        clock: Callable[[], float] = boot_clock,
        drivers: Mapping[str, Reads] | None = None,
    ) -> None:
        equipment.meter_of(spec)
        made = drivers or {name: driver_for(equipment.instrument(name)) for name in spec.used}
        self.drivers: dict[str, Reads] = {name: made[name] for name in spec.used}
        self.hands = {name: Hand(name, driver) for name, driver in self.drivers.items()}
        load, charger = self.drivers.get(spec.load), self.drivers.get(spec.charger)
        self.joined = JoinedMeter(equipment, spec, self.drivers, self.hands)
        super().__init__(
            load if isinstance(load, Sinks) else None, self.joined, charger if isinstance(charger, Sources) else None
        )
        self.equipment, self.spec = equipment, spec
        self._clock = clock
        self._last = clock()
        self._armed: set[str] = set()

    def watch_with(self, waiting: Callable[[], None]) -> None:
        """Called while an instrument is waited for: the guard must not take a slow instrument for a dead program."""
        self.joined.waiting = waiting

    # --- what it is made of ---

    @property
    def driven(self) -> dict[str, Drives]:
        """What it switches, by name."""
        return {name: driver for name, driver in self.drivers.items() if isinstance(driver, Drives)}

    def plugs(self) -> dict[str, str]:
        """See Channel."""
        return {name: getattr(driver, "plug", f"the lead of {name}") for name, driver in self.driven.items()}

    def off_plans(self) -> list[OffPlan]:
        """How the guard switches everything here off, and sees it.

        Raises:
            InstrumentError: one that the guard could not reach.
        """
        found = []
        for driver in self.driven.values():
            plan = driver.off_plan()
            if plan is not None:
                found.append(self._seen_by(plan))
        return found

    def _seen_by(self, plan: OffPlan) -> OffPlan:
        if plan.asks is not None:
            return plan
        _, counts = self.joined.equipment.meter_of(self.spec)
        asked = question_plan(self.drivers[counts.name]) if counts.name != plan.name else None
        if asked is None:
            return plan
        return replace(plan, meter=asked[0], current=asked[1], zero_A=self.joined.zero_A() or 0.05)

    def things(self) -> list[Thing]:
        """What a run on it takes."""
        return [thing_of(self.equipment.instrument(name)) for name in self.spec.used]

    # --- what it does ---

    def do(self, driver: Drives, act: Callable[[], None]) -> None:
        """See InstrumentChannel; its own watchdog, where it has one, is armed first."""
        name = self._name_of(driver)
        if name not in self._armed:
            self._call(name, driver.arm)
            self._armed.add(name)
        self._call(name, act)

    def _name_of(self, driver: Drives) -> str:
        return next(name for name, item in self.drivers.items() if item is driver)  # type: ignore[comparison-overlap]

    def _call(self, name: str, act: Callable[[], T]) -> T:
        return self.hands[name].call(act, COMMAND_LIMIT_S, self.joined.waiting)

    def off(self, *instruments: Drives | None) -> None:
        """See InstrumentChannel; all of them at once."""
        begun: list[tuple[str, Drives, Future[None]]] = []
        for driver in instruments:
            if driver is not None:
                name = self._name_of(driver)
                begun.append((name, driver, self.hands[name].begin(driver.off)))
        failures = []
        for name, driver, done in begun:
            try:
                self.hands[name].result(done, COMMAND_LIMIT_S, self.joined.waiting)
            except InstrumentError as error:
                failures.append(_with_plug(error, driver))
        if failures:
            raise StillOnError("; ".join(failures))

    def wait(self, interval_s: float) -> float:
        """See Channel: what has passed since it was last asked."""
        now = self._clock()
        passed, self._last = now - self._last, now
        return passed

    def outputs(self) -> dict[str, bool | None]:
        """See Channel."""
        return {name: self.joined.told.on.get(name) for name in self.driven}

    @property
    def sees_apart(self) -> bool:
        """See Channel."""
        return self.joined.counted_apart

    def zero_A(self) -> float | None:
        """See Channel."""
        return self.joined.zero_A()

    def commanded(self, doing: str) -> str:
        """See Channel."""
        return self.spec.charger if doing == "charge" else self.spec.load

    def own_current(self, doing: str) -> float | None:
        """See Channel."""
        return self.joined.own_current(self.commanded(doing)) if self.joined.counted_apart else None

    def own_voltage(self, doing: str) -> float | None:
        """See Channel."""
        name = self.commanded(doing)
        meter, _ = self.equipment.meter_of(self.spec)
        return None if name == meter.name else self.joined.told.found.get(name, {}).get("voltage")

    def pack_voltage(self) -> float | None:
        """See Channel."""
        return self.joined.told.found.get(self.spec.telemetry, {}).get("voltage")

    def noticed(self) -> str:
        """See Channel: two meters that disagree."""
        apart = self.joined.disagreement
        if apart is None:
            return ""
        unit = "V" if apart.quantity == "voltage" else "A"
        return (
            f"two meters disagree on the {apart.quantity}: {apart.first:.3f} and {apart.second:.3f} {unit}, and their "
            f"specifications allow {apart.allowed:.3f} {unit}"
        )

    def close(self) -> None:
        """Let go of every line; watchdogs of their own are not needed any more."""
        for name in self._armed:
            driver = self.drivers[name]
            assert isinstance(driver, Drives)
            try:
                self.hands[name].call(driver.disarm, 1.0)
            except InstrumentError:
                continue  # it ends by itself
        self._armed = set()
        closing = [threading.Thread(target=hand.close, daemon=True) for hand in self.hands.values()]
        for thread in closing:
            thread.start()
        for thread in closing:
            thread.join(2.5)


def _with_plug(error: InstrumentError, driver: Drives) -> str:
    text = str(error)
    return (
        text
        if isinstance(error, StillOnError)
        else f"{text}; unplug {getattr(driver, 'plug', 'its lead')} at the battery"
    )


@dataclass(frozen=True)
class Tried:
    """An instrument read once: what it says, the raw exchange, and what went wrong (empty when nothing did)."""

    values: dict[str, float]
    exchange: list[str]
    problem: str = ""


def thing_of(instrument: Instrument) -> Thing:
    """An instrument as something that belongs to one run at a time."""
    return Thing(address_of(instrument.address).key, f"instrument {instrument.name}")


def tried(instrument: Instrument) -> Tried:
    """Read an instrument once, for the Bench page; whatever goes wrong is told, not raised."""
    try:
        driver = driver_for(instrument)
    except InputError as error:
        return Tried({}, [], str(error))
    hand = Hand(instrument.name, driver)
    try:
        return Tried(hand.call(driver.quantities, READ_LIMIT_S + 2.0), exchange_of(driver))
    except InstrumentError as error:
        return Tried({}, exchange_of(driver), str(error))
    finally:
        hand.close()
