"""Instruments behind registers: Modbus over a network or a serial line, through pymodbus."""

from __future__ import annotations

import threading
from collections.abc import Mapping
from typing import Any

from wintry_tally.bench.drivers.address import address_of
from wintry_tally.bench.drivers.dialect import ModbusDialect
from wintry_tally.bench.drivers.drives import Flag, ModbusDrives, ModbusLoad, ModbusSupply, Register, Write
from wintry_tally.bench.drivers.link import TIME_LIMIT_S
from wintry_tally.bench.drivers.link import Exchange as Said
from wintry_tally.bench.drivers.quantities import AS_SHOWN, units_of
from wintry_tally.bench.drivers.scpi import PLUGS, plan_at, surely_off, way_of
from wintry_tally.bench.interfaces import Drives, Reads, Sinks, Sources
from wintry_tally.bench.offplan import Exchange, OffPlan
from wintry_tally.core.errors import InstrumentError, SilentError

TYPES = {"u16": "UINT16", "i16": "INT16", "u32": "UINT32", "i32": "INT32", "f32": "FLOAT32"}
TRANSACTION = 0x5754
"""The number the guard gives its own exchanges."""


class ModbusLink:
    """A client, opened when first used and again after it broke."""

    def __init__(self, name: str, address: str, dialect: ModbusDialect) -> None:
        self.name, self.address, self.dialect = name, address, dialect
        self.exchange = Said()
        self._client: Any = None
        self._lock = threading.RLock()
        self._disowned: set[threading.Thread] = set()

    def registers(self, table: str, at: int, count: int) -> list[int]:
        """What registers hold."""
        call = "read_input_registers" if table == "input" else "read_holding_registers"
        return list(self._call(call, at, count=count).registers)

    def coil(self, at: int) -> bool:
        """What a coil holds."""
        return bool(self._call("read_coils", at, count=1).bits[0])

    def write_coil(self, at: int, on: bool) -> None:
        """Write a coil."""
        self._call("write_coil", at, on)

    def write_registers(self, at: int, values: list[int]) -> None:
        """Write registers."""
        self._call("write_registers", at, values)

    def disown(self, thread: threading.Thread) -> None:
        """Never mind what this thread still has to say; see TextLink."""
        self._disowned.add(thread)
        self._lock = threading.RLock()
        client, self._client = self._client, None
        if client is not None:
            threading.Thread(target=client.close, name="closing", daemon=True).start()

    def close(self) -> None:
        """Let go of the line."""
        client, self._client = self._client, None
        if client is not None:
            client.close()

    def _call(self, name: str, *values: Any, **more: Any) -> Any:
        with self._lock:
            if threading.current_thread() in self._disowned:
                raise InstrumentError(f"{self.name}: given up")
            self.exchange.said(f"{name} {' '.join(str(value) for value in values)}")
            try:
                client = self._open()
                answer = getattr(client, name)(*values, device_id=self.dialect.unit_id, **more)
            except InstrumentError:
                raise
            except Exception as error:  # a device library raises what it likes; here it ends in one kind
                self.close()
                words = (str(error).splitlines() or [type(error).__name__])[0][:120]
                late = "No response" in words  # the library's own words: it has no kind of error for it
                reason = "no answer in time" if late else words
                raise (SilentError if late else InstrumentError)(
                    f"{self.name}: {reason} ({self.address})", mend="check its power, its line and its address"
                ) from None
            if answer.isError():
                raise InstrumentError(
                    f"{self.name} refuses ({answer})", mend="check its registers, or choose a lower setting"
                )
            self.exchange.heard(str(answer))
            return answer

    def _open(self) -> Any:
        if self._client is None:
            from pymodbus.client import ModbusSerialClient, ModbusTcpClient

            place = address_of(self.address)
            limits: Any = {"timeout": TIME_LIMIT_S, "retries": 0}
            if place.kind == "tcp":
                made: Any = ModbusTcpClient(place.host, port=place.port, **limits)
            else:
                made = ModbusSerialClient(place.path, baudrate=self.dialect.baud, parity=self.dialect.parity, **limits)
            if not made.connect():
                made.close()
                raise SilentError(
                    f"{self.name} at {self.address} cannot be reached", mend="check its power, its line and its address"
                )
            self._client = made
        return self._client


def _as_number(words: list[int], kind: str) -> float:
    from pymodbus.client import ModbusTcpClient

    return float(ModbusTcpClient.convert_from_registers(words, getattr(ModbusTcpClient.DATATYPE, TYPES[kind])))  # type: ignore[arg-type]


def _as_registers(value: float, kind: str) -> list[int]:
    from pymodbus.client import ModbusTcpClient

    shown = value if kind == "f32" else round(value)
    return ModbusTcpClient.convert_to_registers(shown, getattr(ModbusTcpClient.DATATYPE, TYPES[kind]))


class ModbusReads(Reads):
    """Registers as quantities."""

    def __init__(self, name: str, link: ModbusLink, registers: Mapping[str, Register]) -> None:
        self.name, self.link, self.registers = name, link, dict(registers)

    def quantities(self) -> dict[str, float]:
        """See Reads."""
        found = {}
        for quantity, part in self.registers.items():
            size = 2 if part.type.endswith("32") else 1
            shown = _as_number(self.link.registers(part.table, part.at, size), part.type) * part.scale
            if shown != shown or abs(shown) > 1e30:
                raise InstrumentError(f"{self.name}, {quantity}: the instrument shows no number")
            unit = units_of(quantity)[part.unit] if part.unit else AS_SHOWN
            found[quantity] = unit.factor * shown + unit.shift
        return found

    def close(self) -> None:
        """See Reads."""
        self.link.close()


class ModbusDriven(Drives):
    """Switched by registers."""

    name: str
    link: ModbusLink
    words: ModbusDrives
    plug: str

    def write(self, writes: tuple[Write, ...], **values: float) -> None:
        """Write in order."""
        for item in writes:
            value = values[item.value] if isinstance(item.value, str) else float(item.value)
            if item.coil is not None:
                self.link.write_coil(item.coil, bool(value))
            else:
                assert item.at is not None
                self.link.write_registers(item.at, _as_registers(value / item.scale, item.type))

    def set_to(self, writes: tuple[Write, ...], **values: float) -> None:
        """Set it and switch it on; one that refuses is off afterwards."""
        try:
            self.write(writes, **values)
        except InstrumentError:
            self.off()
            raise

    def off(self) -> None:
        """See Drives."""
        surely_off(self.name, self.plug, lambda: self.write(self.words.off), self.is_on)

    def is_on(self) -> bool | None:
        """See Drives."""
        flag = self.words.is_off
        if flag is None:
            return None
        if flag.coil is not None:
            return int(self.link.coil(flag.coil)) != flag.off
        assert flag.at is not None
        return self.link.registers("holding", flag.at, 1)[0] != flag.off

    def off_plan(self) -> OffPlan:
        """See Drives."""
        framed = _Framer(self.link)
        says = tuple(framed.write(item) for item in self.words.off)
        asks, off_answer = framed.asks(self.words.is_off) if self.words.is_off is not None else (None, b"")
        return plan_at(
            self.link.address, self.name, self.plug, self.link.dialect.baud, says, asks, off_answer,
            alone=self.words.one_connection,
        )  # fmt: skip


class RegisterLoad(ModbusDriven, ModbusReads, Sinks):
    """A load."""

    plug = PLUGS["load"]

    def __init__(self, name: str, link: ModbusLink) -> None:
        super().__init__(name, link, link.dialect.reads)
        assert link.dialect.load is not None
        self.words: ModbusLoad = link.dialect.load

    def draw(self, mode: str, setting: float) -> None:
        """See Sinks."""
        self.set_to(way_of(self.name, self.words.ways, mode), setting=setting)


class RegisterSupply(ModbusDriven, ModbusReads, Sources):
    """A charger or a supply."""

    plug = PLUGS["supply"]

    def __init__(self, name: str, link: ModbusLink) -> None:
        super().__init__(name, link, link.dialect.reads)
        assert link.dialect.supply is not None
        self.words: ModbusSupply = link.dialect.supply

    def charge(self, setting_A: float, limit_V: float) -> None:
        """See Sources."""
        self.set_to(self.words.charge, setting=setting_A, limit=limit_V)


class _Framer:
    """Requests and their answers as bytes, for the guard, which has no library (Modbus application protocol 1.1b3)."""

    def __init__(self, link: ModbusLink) -> None:
        self.tcp, self.unit = address_of(link.address).kind == "tcp", link.dialect.unit_id

    def write(self, item: Write) -> Exchange:
        """A write and its echo."""
        value = float(item.value) if not isinstance(item.value, str) else 0.0
        if item.coil is not None:
            body = bytes([5]) + item.coil.to_bytes(2, "big") + (b"\xff\x00" if value else b"\x00\x00")
            return Exchange(self._framed(body), size=len(self._framed(body)))
        assert item.at is not None
        words = _as_registers(value / item.scale, item.type)
        head = bytes([16]) + item.at.to_bytes(2, "big") + len(words).to_bytes(2, "big")
        content = b"".join(word.to_bytes(2, "big") for word in words)
        return Exchange(self._framed(head + bytes([len(content)]) + content), size=len(self._framed(head)))

    def asks(self, flag: Flag) -> tuple[Exchange, bytes]:
        """A question, and the answer that means off."""
        if flag.coil is not None:
            body = bytes([1]) + flag.coil.to_bytes(2, "big") + b"\x00\x01"
            answer = self._framed(bytes([1, 1, flag.off]))
        else:
            assert flag.at is not None
            body = bytes([3]) + flag.at.to_bytes(2, "big") + b"\x00\x01"
            answer = self._framed(bytes([3, 2]) + flag.off.to_bytes(2, "big"))
        return Exchange(self._framed(body), size=len(answer)), answer

    def _framed(self, body: bytes) -> bytes:
        if self.tcp:
            return (
                TRANSACTION.to_bytes(2, "big")
                + b"\x00\x00"
                + (len(body) + 1).to_bytes(2, "big")
                + bytes([self.unit])
                + body
            )
        framed = bytes([self.unit]) + body
        return framed + _crc(framed)


def _crc(content: bytes) -> bytes:
    """CRC-16 of Modbus over serial line 1.02, 6.2.2 (from memory; a test holds it against pymodbus)."""
    crc = 0xFFFF
    for byte in content:
        crc ^= byte
        for _ in range(8):
            crc = (crc >> 1) ^ 0xA001 if crc & 1 else crc >> 1
    return crc.to_bytes(2, "little")
