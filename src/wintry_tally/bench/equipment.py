"""The bench described: instruments with their limits and accuracies, and channels that say who does what."""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from typing import Any

from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.leads import Leads
from wintry_tally.core.protocol.preflight import Bench
from wintry_tally.core.quantity import parse_accuracy

KINDS = {
    "load": "load",
    "charger": "charger or supply",
    "meter": "meter or shunt",
    "thermometer": "thermometer",
    "telemetry": "the pack itself, telling its cells",
}
"""What an instrument is, in words."""
WAYS = {
    "scpi": "SCPI (network or serial)",
    "asked": "lines, when asked (network or serial)",
    "modbus": "Modbus registers (network or serial)",
    "line": "lines it sends by itself on a serial port",
    "file": "a file that grows",
}
"""How it is spoken to."""


@dataclass(frozen=True)
class Instrument:
    """One instrument as its owner knows it.

    Parts:
        kind: a key of KINDS; way: a key of WAYS; dialect: see bench.drivers.dialect.
        address: a VISA address, a serial port, or a file's path.
        power_W, current_A, voltage_V: its ceilings, 0 where none is known.
        voltage_accuracy, current_accuracy: as in its manual; resolutions: one unit of its last digit.
        turned: its current has the other sign (a shunt put in the other way round).
        own_cutoff: a load that stops by itself at its cut-off, without this program; proven.
    """

    name: str
    kind: str = "meter"
    way: str = "scpi"
    dialect: str = "plain-scpi"
    address: str = ""
    power_W: float = 0.0
    current_A: float = 0.0
    voltage_V: float = 0.0
    voltage_accuracy: str = ""
    current_accuracy: str = ""
    voltage_resolution: float = 0.001
    current_resolution: float = 0.001
    turned: bool = False
    own_cutoff: bool = False


@dataclass(frozen=True)
class ChannelSpec:
    """Who does what for one battery; each part names an instrument, empty for none.

    Parts:
        voltage, current: whose voltage and whose current count; current empty: load and charger count their own.
        second: a second meter on the same quantities, judged against the first.
        telemetry: the pack's own telling: its cells, its temperature, its gauge; kept beside the readings.
    """

    name: str
    load: str = ""
    charger: str = ""
    voltage: str = ""
    current: str = ""
    thermometer: str = ""
    second: str = ""
    leads: Leads | None = None
    telemetry: str = ""

    @property
    def used(self) -> tuple[str, ...]:
        """Every instrument named, once."""
        names = (*(self.load, self.charger, self.voltage, self.current, self.thermometer, self.second, self.telemetry),)
        return tuple(dict.fromkeys(name for name in names if name))


@dataclass(frozen=True)
class Equipment:
    """All instruments and channels of a bench."""

    instruments: tuple[Instrument, ...] = ()
    channels: tuple[ChannelSpec, ...] = ()

    def instrument(self, name: str) -> Instrument:
        """By name.

        Raises:
            InputError: there is none.
        """
        found = next((item for item in self.instruments if item.name == name), None)
        if found is None:
            raise InputError(f'there is no instrument "{name}" on the bench', mend="add it on the Bench page")
        return found

    def channel(self, name: str) -> ChannelSpec:
        """By name.

        Raises:
            InputError: there is none.
        """
        found = next((item for item in self.channels if item.name == name), None)
        if found is None:
            raise InputError(f'there is no channel "{name}" on the bench', mend="add it on the Bench page")
        return found

    def with_instrument(self, made: Instrument) -> Equipment:
        """With one added, or put in the place of the one of its name."""
        others = tuple(item for item in self.instruments if item.name != made.name)
        return replace(self, instruments=(*others, made))

    def with_channel(self, made: ChannelSpec) -> Equipment:
        """With one added, or put in the place of the one of its name."""
        return replace(self, channels=(*(item for item in self.channels if item.name != made.name), made))

    def without(self, name: str) -> Equipment:
        """Without the instrument or channel of this name.

        Raises:
            InputError: a channel still uses it.
        """
        user = next((channel.name for channel in self.channels if name in channel.used and channel.name != name), None)
        if user is not None:
            raise InputError(f"channel {user} uses it", mend="take it off that channel first")
        return Equipment(
            tuple(item for item in self.instruments if item.name != name),
            tuple(item for item in self.channels if item.name != name),
        )

    def limits(self, channel: ChannelSpec) -> Bench:
        """What a channel can do, for the pre-flight list."""
        load = self.instrument(channel.load) if channel.load else None
        charger = self.instrument(channel.charger) if channel.charger else None
        return Bench(
            load_W=(load.power_W or 1e9) if load else 0.0,
            load_A=(load.current_A or 1e9) if load else 0.0,
            charger_A=(charger.current_A or 1e9) if charger else 0.0,
            charger_V=(charger.voltage_V or 1e9) if charger else 0.0,
            leads=channel.leads,
            measures_temperature=bool(channel.thermometer),
            own_cutoff=load is not None and load.own_cutoff,
            counted_apart=self._counted_apart(channel),
            digit_V=self.meter_of(channel)[0].voltage_resolution,
        )

    def _counted_apart(self, channel: ChannelSpec) -> bool:
        """Whether the current is read by something else than what is switched."""
        driven = {name for name in (channel.load, channel.charger) if name}
        return not driven or (bool(channel.current) and channel.current not in driven)

    def meter_of(self, channel: ChannelSpec) -> tuple[Instrument, Instrument]:
        """Whose voltage and whose current count.

        Raises:
            InputError: nothing on the channel measures.
        """
        voltage = channel.voltage or channel.current or channel.load or channel.charger
        current = channel.current or channel.load or channel.charger or channel.voltage
        if not voltage:
            raise InputError(f"nothing on channel {channel.name} measures", mend="say whose voltage and current count")
        return self.instrument(voltage), self.instrument(current)


def checked(instrument: Instrument) -> Instrument:
    """The instrument, if it can be.

    Raises:
        InputError: which field cannot be, and why.
    """
    if not instrument.name.strip():
        raise InputError("an instrument needs a name", mend="any name you would call it by")
    if instrument.kind not in KINDS or instrument.way not in WAYS:
        raise InputError(f'"{instrument.kind}" by "{instrument.way}" is not known')
    if instrument.way not in DRIVING and instrument.kind in {"load", "charger"}:
        raise InputError(
            "only an instrument that takes commands can draw or charge", mend="choose another way, or call it a meter"
        )
    if not instrument.address.strip():
        raise InputError("where it is, is missing", mend=ADDRESS_HINTS[instrument.way])
    for text in (instrument.voltage_accuracy, instrument.current_accuracy):
        if text:
            parse_accuracy(text)
    return instrument


DRIVING = frozenset({"scpi", "asked", "modbus"})
"""Ways in which an instrument can be told to do something."""
ADDRESS_HINTS = {
    "scpi": "like TCPIP::192.168.1.20::5025::SOCKET or ASRL/dev/ttyUSB0::INSTR",
    "asked": "like 192.168.1.20:4001 or /dev/ttyUSB0",
    "modbus": "like 192.168.1.20:502 or /dev/ttyUSB0",
    "line": "like /dev/ttyUSB0",
    "file": "the path of the file",
}


def equipment_data(equipment: Equipment) -> dict[str, Any]:
    """Plain data."""
    return asdict(equipment)


def equipment_from(data: dict[str, Any]) -> Equipment:
    """From plain data.

    Raises:
        InputError: it is none.
    """
    from pydantic import TypeAdapter, ValidationError

    try:
        return TypeAdapter(Equipment).validate_python(data)
    except ValidationError as error:
        raise InputError(f"the bench kept in the book cannot be read ({error.error_count()} problems)") from None
