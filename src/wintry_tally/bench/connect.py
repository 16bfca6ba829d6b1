"""From a described channel to one that runs: drivers made, readings put together, two meters held side by side."""

from __future__ import annotations

import math
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from wintry_tally.bench.drivers.dialect import dialect_named
from wintry_tally.bench.drivers.lines import LineMeter, WatchedFile, exchange_of
from wintry_tally.bench.drivers.link import VisaLink
from wintry_tally.bench.drivers.scpi import ScpiLoad, ScpiReads, ScpiSupply
from wintry_tally.bench.equipment import ChannelSpec, Equipment, Instrument
from wintry_tally.bench.interfaces import InstrumentChannel, Measures, Reads, Sinks, Sources
from wintry_tally.core.engine import Observation
from wintry_tally.core.errors import InputError, InstrumentError
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.core.trace.beside import INTO_TRACE, PACK_C, SECOND_A, SECOND_V, cell_number

COUNTERS = {"charge": "counter_Ah", "energy": "counter_Wh"}
"""What an instrument counts by itself, and the column it is kept in."""


def driver_for(instrument: Instrument) -> Reads:
    """The driver of an instrument; nothing is opened yet. A new way of speaking is a line here.

    Raises:
        InputError: its dialect does not fit.
    """
    dialect = dialect_named(instrument.dialect)
    if dialect.kind != instrument.way:
        raise InputError(f"dialect {dialect.title} is not for {instrument.way}", instrument.name)
    if instrument.way == "line":
        return LineMeter(instrument.name, instrument.address, dialect)
    if instrument.way == "file":
        return WatchedFile(instrument.name, instrument.address, dialect)
    link = VisaLink(instrument.name, instrument.address, dialect.line_end)
    if instrument.kind == "load":
        return ScpiLoad(instrument.name, link, dialect)
    if instrument.kind == "charger":
        return ScpiSupply(instrument.name, link, dialect)
    return ScpiReads(instrument.name, link, dialect.thermometer if instrument.kind == "thermometer" else dialect.reads)


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


class JoinedMeter(Measures):
    """Readings of several instruments as one, each asked once, all at the same time.

    Current is positive while drawn: a load's own counts as it is, a charger's the other way round. `disagreement`
    holds the last one of the second meter.
    """

    def __init__(self, equipment: Equipment, channel: ChannelSpec, drivers: dict[str, Reads]) -> None:
        self.equipment, self.channel, self.drivers = equipment, channel, drivers
        counted = (item.name for item in equipment.meter_of(channel))
        self._needed = {channel.load, channel.charger, channel.thermometer, *counted}
        self.disagreement: Disagreement | None = None
        self.second: dict[str, float] = {}
        self._pool = ThreadPoolExecutor(max_workers=max(1, len(drivers)), thread_name_prefix="read")

    def read(self) -> Observation:
        """See Measures."""
        asked = {name: self._pool.submit(driver.quantities) for name, driver in self.drivers.items()}
        found: dict[str, dict[str, float]] = {}
        failures: list[str] = []
        for name, answer in asked.items():
            try:
                found[name] = answer.result()
            except InstrumentError as error:
                if name not in self._needed:
                    continue  # what is only kept beside does not end a run when it is lost
                failures.append(str(error))
        if failures:
            raise InstrumentError("; ".join(failures))
        volts = self._voltage(found)
        amps = self._current(found)
        warm = found.get(self.channel.thermometer, {}).get("temperature")
        if warm is None:
            warm = next((values["temperature"] for values in found.values() if "temperature" in values), None)
        self._hold_side_by_side(volts, amps, found)
        return Observation(volts, amps, warm, beside=self._beside(found))

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
        channel = self.channel
        if channel.current:
            return self._signed(channel.current, found)
        parts = [self._signed(name, found) for name in (channel.load, channel.charger) if name]
        if not parts:
            meter, _ = self.equipment.meter_of(channel)
            return self._signed(meter.name, found)
        return math.fsum(parts)

    def _signed(self, name: str, found: dict[str, dict[str, float]]) -> float:
        instrument = self.equipment.instrument(name)
        way = -1.0 if (instrument.kind == "charger") != instrument.turned else 1.0
        return way * found[name].get("current", math.nan)

    def _hold_side_by_side(self, volts: float, amps: float, found: dict[str, dict[str, float]]) -> None:
        self.disagreement, self.second = None, found.get(self.channel.second, {})
        if not self.second:
            return
        first_V, first_A = self.equipment.meter_of(self.channel)
        other = self.equipment.instrument(self.channel.second)
        for quantity, value, first in (("voltage", volts, first_V), ("current", amps, first_A)):
            if quantity not in self.second or not math.isfinite(value):
                continue
            second = self.second[quantity] if quantity == "voltage" else self._signed(other.name, found)
            allowed = _limit(first, quantity, value) + _limit(other, quantity, second)
            if abs(second - value) > allowed:
                self.disagreement = Disagreement(quantity, value, second, allowed)
                return

    def close(self) -> None:
        """Let go of every line."""
        self._pool.shutdown(wait=False, cancel_futures=True)
        for driver in self.drivers.values():
            driver.close()


def _limit(instrument: Instrument, quantity: str, value: float) -> float:
    """How far a reading may be off by the instrument's specification; a percent where none is entered."""
    text = getattr(instrument, f"{quantity}_accuracy")
    digit: float = getattr(instrument, f"{quantity}_resolution")
    if not text:
        return 0.01 * abs(value) + digit
    accuracy = parse_accuracy(text)
    return abs(value) * accuracy.percent / 100.0 + accuracy.offset_limit(digit)


class BenchChannel(InstrumentChannel):
    """A channel of real instruments (or stand-ins that speak as they do). Whoever ticks it keeps the pace."""

    goes_on_alone = True

    def __init__(self, equipment: Equipment, spec: ChannelSpec, clock: Callable[[], float] = boot_clock) -> None:
        equipment.meter_of(spec)
        self.drivers = {name: driver_for(equipment.instrument(name)) for name in spec.used}
        load, charger = self.drivers.get(spec.load), self.drivers.get(spec.charger)
        self.joined = JoinedMeter(equipment, spec, self.drivers)
        super().__init__(
            load if isinstance(load, Sinks) else None, self.joined, charger if isinstance(charger, Sources) else None
        )
        self.spec = spec
        self._clock = clock
        self._last = clock()

    def wait(self, interval_s: float) -> float:
        """See Channel: what has passed since it was last asked."""
        now = self._clock()
        passed, self._last = now - self._last, now
        return passed

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
        """Let go of every line."""
        self.joined.close()


@dataclass(frozen=True)
class Tried:
    """An instrument read once: what it says, the raw exchange, and what went wrong (empty when nothing did)."""

    values: dict[str, float]
    exchange: list[str]
    problem: str = ""


def tried(instrument: Instrument) -> Tried:
    """Read an instrument once, for the Bench page; whatever goes wrong is told, not raised."""
    try:
        driver = driver_for(instrument)
    except InputError as error:
        return Tried({}, [], str(error))
    try:
        return Tried(driver.quantities(), exchange_of(driver))
    except InstrumentError as error:
        return Tried({}, exchange_of(driver), str(error))
    finally:
        driver.close()
