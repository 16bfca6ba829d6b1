"""Drivers without a bench: what comes over a wire, out of registers and out of a file, and what is no answer."""

from __future__ import annotations

import os
import threading
import time
from contextlib import nullcontext
from pathlib import Path
from typing import Any

import pytest
from pymodbus.framer import FramerRTU, FramerSocket
from pymodbus.pdu import DecodePDU
from pymodbus.pdu.bit_message import (
    ReadCoilsRequest,
    ReadCoilsResponse,
    WriteSingleCoilRequest,
    WriteSingleCoilResponse,
)
from pymodbus.pdu.register_message import (
    ReadHoldingRegistersRequest,
    ReadHoldingRegistersResponse,
    WriteMultipleRegistersRequest,
    WriteMultipleRegistersResponse,
)

from wintry_tally.bench.drivers import link as link_module
from wintry_tally.bench.drivers.address import address_of
from wintry_tally.bench.drivers.dialect import LineDialect, Register, dialect_from, dialect_named
from wintry_tally.bench.drivers.lines import MOST_LINE, LineMeter, WatchedFile
from wintry_tally.bench.drivers.link import MOST_BYTES, SerialWire, SocketWire, TextLink, opened
from wintry_tally.bench.drivers.modbus import TRANSACTION, ModbusLink, ModbusReads, RegisterLoad, RegisterSupply
from wintry_tally.bench.drivers.numbers import number_in
from wintry_tally.bench.drivers.quantities import value_in
from wintry_tally.bench.drivers.scpi import ScpiReads, plan_at, question_plan
from wintry_tally.core.errors import InputError, InstrumentError, SilentError


class Registers:
    """A link whose registers are known; it notes what is asked for."""

    def __init__(self, words: dict[int, int]) -> None:
        self.words, self.asked = words, []

    def registers(self, table: str, at: int, count: int) -> list[int]:
        self.asked.append((table, at, count))
        return [self.words[place] for place in range(at, at + count)]


@pytest.mark.parametrize(
    ("kind", "words", "value"),
    [
        ("u16", [65535], 65535.0), ("i16", [65535], -1.0), ("u32", [1, 2], 65538.0), ("i32", [65535, 65534], -2.0),
        ("f32", [0x4148, 0x0000], 12.5),
    ],
)  # fmt: skip
def test_a_register_is_read_with_as_many_words_as_its_type_has(kind: str, words: list[int], value: float) -> None:
    # two's complement, the high word first (the Modbus application protocol's order), IEEE 754 for f32: from memory
    link = Registers(dict(enumerate(words, 7)))
    part = Register(register=7, table="input", type=kind, unit="mV", scale=2.0)
    assert ModbusReads("m", link, {"voltage": part}).quantities() == {"voltage": pytest.approx(value * 2e-3)}  # type: ignore[arg-type]
    assert link.asked == [("input", 7, len(words))]


def test_a_register_without_a_unit_is_in_the_kept_one_and_a_temperature_s_zero_is_moved() -> None:
    link = Registers({7: 250})
    for quantity, unit, value in (("voltage", "", 25.0), ("temperature", "°F", (25.0 - 32.0) / 1.8), ("temperature", "", 25.0)):  # fmt: skip
        part = Register(register=7, table="input", type="u16", unit=unit, scale=0.1)
        assert ModbusReads("m", link, {quantity: part}).quantities() == {quantity: pytest.approx(value)}  # type: ignore[arg-type]


def test_a_register_that_holds_no_number_is_none() -> None:
    part = Register(register=0, table="input", type="f32", unit="V")
    for words in ([0x7FC0, 0], [0x7F80, 0], [0x7149, 0xF2CA + 1]):
        with pytest.raises(InstrumentError, match="shows no number"):
            ModbusReads("m", Registers(dict(enumerate(words))), {"voltage": part}).quantities()  # type: ignore[arg-type]


def test_an_instrument_that_hangs_up_is_known_at_once(peer) -> None:
    server, _ = peer
    wire = SocketWire("127.0.0.1", server.getsockname()[1], 2.0)
    other, _ = server.accept()
    assert wire.read(10, 0.01) == b"", "nothing yet"
    other.sendall(b"12")
    assert wire.read(10, 1.0) == b"12"
    other.close()
    with pytest.raises(ConnectionResetError, match="hung up"):
        wire.read(10, 1.0)
    wire.close()


def test_an_answer_is_read_to_the_end_of_its_line_and_no_further_than_it_may_be_long(peer) -> None:
    server, address = peer
    answers = [[b"1", b"2.5", b"\n"], [b"x" * (MOST_BYTES + 10)]]

    def serve() -> None:
        for parts in answers:
            other, _ = server.accept()
            other.recv(100)
            for part in parts:
                other.sendall(part)
                time.sleep(0.02)
            other.recv(100)
            other.close()

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()
    for wanted in ("12.5", None):
        link = TextLink("m", address)
        if wanted is not None:
            assert link.ask("READ?") == wanted
        else:
            with pytest.raises(InstrumentError, match=f"more than {MOST_BYTES} bytes"):
                link.ask("READ?")
        link.close()
    thread.join(5.0)


def test_a_thread_that_was_given_up_says_nothing_more_and_the_next_one_does(peer) -> None:
    server, address = peer
    link, told, goes = TextLink("m", address), [], threading.Event()

    def late() -> None:
        goes.wait(5.0)
        try:
            link.tell("ON")
        except InstrumentError as error:
            told.append(str(error))

    thread = threading.Thread(target=late)
    thread.start()
    link.disown(thread)
    goes.set()
    thread.join(5.0)
    assert len(told) == 1 and "given up" in told[0]
    link.tell("OFF")
    server.settimeout(5.0)
    other, _ = server.accept()
    assert other.recv(100) == b"OFF\n", "and nothing before it"
    other.close()
    link.close()


def test_a_serial_line_does_not_wait_for_more_than_there_is(line) -> None:
    instrument, name = line
    wire = SerialWire(name, 9600, 1.0)
    os.write(instrument, b"13.2")
    begun = time.monotonic()
    found = b""
    while len(found) < 4 and time.monotonic() < begun + 5.0:
        found += wire.read(100, 0.2)
    assert found == b"13.2" and time.monotonic() - begun < 0.9, "it took what was there, and no more time"
    assert wire.read(100, 0.01) == b""
    wire.close()


def test_lines_without_an_end_are_no_readings(line) -> None:
    instrument, name = line
    meter = LineMeter("m", name, dialect_named("spaced-line"))
    with pytest.raises(InstrumentError, match="has sent nothing"):
        meter.quantities()
    for _ in range(1 + MOST_LINE // 512):
        os.write(instrument, b"9" * 512)
        time.sleep(0.01)
    with pytest.raises(InstrumentError, match="without an end of line"):
        meter.quantities()
    meter.close()


FILE = "t,Voltage,Current\n1,13.2,5.0\n"


def test_a_file_that_stood_still_before_it_was_looked_at_gives_no_reading(tmp_path: Path) -> None:
    path = tmp_path / "log.csv"
    path.write_text(FILE)
    assert WatchedFile("f", str(path), dialect_named("growing-csv")).quantities()["voltage"] == 13.2
    long_ago = time.time() - 3600.0
    os.utime(path, (long_ago, long_ago))
    reader = WatchedFile("f", str(path), dialect_named("growing-csv"))
    for _ in range(2):
        with pytest.raises(InstrumentError, match="has not grown for 10 s"):
            reader.quantities()
    with path.open("a") as file:
        file.write("2,13.1,5.0\n")
    assert reader.quantities()["voltage"] == 13.1
    ahead = time.time() + 3600.0  # a share whose clock is ahead
    os.utime(path, (ahead, ahead))
    assert WatchedFile("f", str(path), dialect_named("growing-csv")).quantities()["voltage"] == 13.1


@pytest.mark.parametrize(
    ("end", "good"), [("\n", True), ("\r", True), ("\r\n", True), (";", True), ("x", False), ("", False)]
)
def test_a_dialect_ends_its_lines_as_instruments_do(end: str, good: bool) -> None:
    data = {"kind": "asked", "title": "t", "ask": "?", "pattern": "(?P<voltage>.+)", "line_end": end}
    if good:
        assert dialect_from(data, "d").line_end == end  # type: ignore[union-attr]
        return
    with pytest.raises(InputError, match="a line ends with"):
        dialect_from(data, "d")


@pytest.mark.parametrize(("unit", "good"), [(0, True), (247, True), (248, False), (-1, False)])
def test_a_modbus_unit_has_a_number_that_the_line_knows(unit: int, good: bool) -> None:
    data = {"kind": "modbus", "title": "t", "unit_id": unit, "reads": {"voltage": {"register": 0, "unit": "V"}}}
    if good:
        assert dialect_from(data, "d").unit_id == unit  # type: ignore[union-attr]
        return
    with pytest.raises(InputError):
        dialect_from(data, "d")


def test_the_guard_asks_only_a_meter_whose_answer_it_can_read() -> None:
    def meter(address: str = "tcp://127.0.0.1:5", **more: str) -> ScpiReads:
        dialect = dialect_from(
            {"kind": "scpi", "title": "t", **{key: value for key, value in more.items() if key == "decimal"},
             "reads": {more.get("of", "current"): {"ask": "I?", "unit": more.get("unit", "A")}}}, "d"
        )  # fmt: skip
        return ScpiReads("m", TextLink("m", address), dialect.reads, decimal=dialect.decimal)  # type: ignore[union-attr]

    plan, exchange = question_plan(meter()) or (None, None)
    assert plan is not None and plan.port == 5 and exchange is not None and exchange.send == b"I?\n"
    assert question_plan(meter(decimal=",")) is None
    assert question_plan(meter(of="voltage", unit="V")) is None
    assert question_plan(meter(unit="mA")) is None
    assert question_plan(meter("visa://USB0::1::INSTR")) is None


def test_a_serial_line_serves_the_guard_alone_and_a_socket_only_where_its_dialect_says_so() -> None:
    def alone(address: str, said: bool) -> bool:
        return plan_at(address, "m", "plug", 9600, (), None, alone=said).alone

    assert alone("/dev/ttyUSB0", False) and not alone("tcp://127.0.0.1:5", False) and alone("tcp://127.0.0.1:5", True)
    assert isinstance(dialect_named("spaced-line"), LineDialect)


def framed(line: bool, request: Any, answer: bool = False) -> bytes:
    """The bytes of a request (or an answer) by pymodbus."""
    request.dev_id, request.transaction_id = 9, TRANSACTION
    return (FramerRTU if line else FramerSocket)(DecodePDU(answer)).buildFrame(request)


WRITES = [
    ({"coil": 0, "value": 0}, WriteSingleCoilRequest(address=0, bits=[False])),
    ({"coil": 300, "value": 1}, WriteSingleCoilRequest(address=300, bits=[True])),
    ({"register": 258, "value": 2.0, "scale": 0.1}, WriteMultipleRegistersRequest(address=258, registers=[20])),
    ({"register": 10, "value": -1, "type": "i16"}, WriteMultipleRegistersRequest(address=10, registers=[65535])),
    ({"register": 10, "value": 65538, "type": "u32"}, WriteMultipleRegistersRequest(address=10, registers=[1, 2])),
]


@pytest.mark.parametrize("address", ["tcp:127.0.0.1:502", "/dev/ttyUSB0"])
@pytest.mark.parametrize(("says", "request_"), WRITES, ids=[str(item[0]) for item in WRITES])
@pytest.mark.parametrize("flag", [{"coil": 5}, {"coil": 5, "off": 1}, {"register": 6, "off": 258}])
def test_the_guard_s_frames_are_those_of_pymodbus(address: str, says: dict, request_: Any, flag: dict) -> None:
    # Modbus application protocol 1.1b3 and over serial line 1.02, by pymodbus, which shares no line with the guard
    dialect = dialect_from(
        {
            "kind": "modbus", "title": "t", "unit_id": 9,
            "load": {"current": [{"register": 1, "value": "setting"}], "off": [says], "is_off": flag, "one_connection": False},
        },
        "d",
    )  # fmt: skip
    plan = RegisterLoad("l", ModbusLink("l", address, dialect)).off_plan()  # type: ignore[arg-type]
    line = address.startswith("/")
    assert plan.says[0].send == framed(line, request_) and plan.alone is line
    coil, off = flag.get("coil"), flag.get("off", 0)
    asks = (
        ReadCoilsRequest(address=coil, count=1) if coil is not None else ReadHoldingRegistersRequest(address=6, count=1)
    )
    tells = ReadCoilsResponse(bits=[bool(off)]) if coil is not None else ReadHoldingRegistersResponse(registers=[off])
    assert plan.asks is not None and plan.asks.send == framed(line, asks)
    assert plan.off_answer == framed(line, tells, answer=True) and plan.asks.size == len(plan.off_answer)
    echo = WriteSingleCoilResponse(address=says["coil"], bits=[bool(says["value"])]) if "coil" in says else (
        WriteMultipleRegistersResponse(address=says["register"], count=len(request_.registers))
    )  # fmt: skip
    assert plan.says[0].size == len(framed(line, echo, answer=True))


@pytest.mark.parametrize(
    ("typed", "kind", "place"),
    [
        ("TCPIP0::Bench-3.local::5025::SOCKET", "tcp", ("bench-3.local", 5025, "")), ("tcp://localhost:5025", "tcp", ("127.0.0.1", 5025, "")),
        ("tcp:[::1]:5025", "tcp", ("127.0.0.1", 5025, "")), (" 10.0.0.7:502 ", "tcp", ("10.0.0.7", 502, "")),
        ("ASRL/dev/ttyUSB0::INSTR", "serial", ("", 0, "/dev/ttyUSB0")), ("asrl/dev/ttyUSB0", "serial", ("", 0, "/dev/ttyUSB0")),
        ("/dev/ttyUSB0", "serial", ("", 0, "/dev/ttyUSB0")), ("USB0::1::2::3::INSTR", "visa", ("", 0, "")),
    ],
)  # fmt: skip
def test_a_place_is_the_same_however_it_is_written(typed: str, kind: str, place: tuple[str, int, str]) -> None:
    found = address_of(typed)
    assert (found.kind, (found.host, found.port, found.path)) == (kind, place)
    again = {"tcp": f"{place[0]}:{place[1]}", "serial": place[2], "visa": typed.lower()}[kind]
    assert address_of(again).key == found.key or kind == "visa"


class Visa:
    """A resource of VISA's that says back what it is told."""

    def __init__(self) -> None:
        self.told, self.session, self.visalib, self.closed, self.timeout = b"", 7, self, False, 0

    def open_resource(self, address: str, open_timeout: int) -> Visa:
        self.opened = (address, open_timeout)
        return self

    def write_raw(self, content: bytes) -> None:
        self.told += content

    def read(self, session: int, most: int) -> tuple[bytes, int]:
        assert session == self.session
        found, self.told = self.told[:most], self.told[most:]
        return found, 0

    def close(self) -> None:
        self.closed = True


def test_what_only_visa_reaches_is_asked_through_it(monkeypatch: pytest.MonkeyPatch) -> None:
    visa = Visa()
    monkeypatch.setattr(link_module, "_manager", lambda: visa)
    link = TextLink("m", "USB0::1::2::3::INSTR")
    assert link.ask("13.2") == "13.2" and visa.timeout == visa.opened[1] > 0
    assert visa.opened[0] == "USB0::1::2::3::INSTR"
    link.close()
    assert visa.closed


@pytest.mark.parametrize(
    ("shown", "quantity", "unit", "value"),
    [
        ("26.85 °C", "temperature", "", 26.85), ("26.85 C", "temperature", "", 26.85), ("80.33 °F", "temperature", "", 26.85),
        ("80.33", "temperature", "F", 26.85), ("300 K", "temperature", "", 26.85), ("13200 mV", "voltage", "", 13.2),
        ("3300", "cell_1_V", "mV", 3.3), ("-500 mA", "current", "", -0.5), ("1500 mAh", "charge", "", 1.5),
        ("1.2", "energy", "kWh", 1200.0), ("55 %", "charge_state", "", 55.0), ("13.2 V", "voltage", "mV", 13.2), ("7", "power", "", 7.0),
    ],
)  # fmt: skip
def test_what_is_shown_in_its_own_unit_or_the_one_declared(shown: str, quantity: str, unit: str, value: float) -> None:
    # °C = (°F − 32) × 5/9 = K − 273.15 (the definitions)
    assert value_in(shown, quantity, "it", unit=unit) == pytest.approx(value, abs=2e-3)


def test_a_serial_port_that_is_not_there_says_why() -> None:
    meter = LineMeter("m", "/dev/none-there", dialect_named("spaced-line"))
    with pytest.raises(InstrumentError, match=r"/dev/none-there: .*(No such file|could not open)"):
        meter.quantities()
    meter.close()


class Bank(Registers):
    """Coils and registers that hold what is written; `refuses` a register that takes nothing."""

    def __init__(self, dialect: Any, refuses: int = -1) -> None:
        super().__init__(dict.fromkeys(range(40), 0))
        self.dialect, self.refuses, self.coils, self.wrote = dialect, refuses, dict.fromkeys(range(8), False), []

    def coil(self, at: int) -> bool:
        return self.coils[at]

    def write_coil(self, at: int, on: bool) -> None:
        self.coils[at] = on
        self.wrote.append((f"coil {at}", on))

    def write_registers(self, at: int, values: list[int]) -> None:
        if at == self.refuses:
            raise InstrumentError("it takes nothing there")
        self.words |= dict(enumerate(values, at))
        self.wrote.append((f"register {at}", values))


def test_a_load_of_registers_is_set_switched_on_and_seen_off() -> None:
    dialect = dialect_named("register-bench")
    load = RegisterLoad("l", Bank(dialect))  # type: ignore[arg-type]
    assert load.is_on() is False
    load.draw("current", 5.0)
    assert load.link.wrote == [("register 10", [0, 5000]), ("coil 0", True)] and load.is_on() is True  # type: ignore[attr-defined]
    load.off()
    assert load.link.wrote[-1] == ("coil 0", False) and load.is_on() is False  # type: ignore[attr-defined]
    with pytest.raises(InstrumentError):
        load.draw("power", 5.0)
    supply = RegisterSupply("s", Bank(dialect))  # type: ignore[arg-type]
    supply.charge(10.0, 14.4)
    assert supply.link.wrote == [("register 12", [0, 14400]), ("register 10", [0, 10000]), ("coil 0", True)]  # type: ignore[attr-defined]


def test_a_bus_that_is_not_there_is_silent_and_one_that_is_let_go_of_is_hung_up_on(peer) -> None:
    server, address = peer
    server.settimeout(5.0)
    for let_go in (ModbusLink.close, lambda link: link.disown(threading.Thread())):
        link = ModbusLink("m", address, dialect_named("register-bench"))
        let_go(link)  # nothing to let go of yet
        with pytest.raises(InstrumentError, match="no answer in time"):
            link.registers("input", 0, 1)
        other, _ = server.accept()
        assert other.recv(100) and other.recv(100) == b"", "what did not answer is hung up on"
        other.close()
        link._open()
        other, _ = server.accept()
        let_go(link)
        other.settimeout(5.0)
        assert other.recv(100) == b"" and link._client is None
        other.close()
    server.close()
    with pytest.raises(SilentError, match="cannot be reached"):
        ModbusLink("m", address, dialect_named("register-bench")).registers("input", 0, 1)


def test_a_setting_that_is_refused_leaves_it_off() -> None:
    bank = Bank(dialect_named("register-bench"), refuses=10)
    bank.coils[0] = True  # it was on
    with pytest.raises(InstrumentError, match="takes nothing"):
        RegisterSupply("s", bank).charge(10.0, 14.4)  # type: ignore[arg-type]
    assert bank.wrote[-1] == ("coil 0", False) and not bank.coils[0]


def test_a_flag_in_a_register_means_off_by_its_own_number() -> None:
    data = {
        "kind": "modbus", "title": "t", "reads": {"current": {"register": 20, "unit": "A"}},
        "load": {"current": [{"register": 1, "value": "setting", "scale": 0.1}, {"register": 2, "value": "setting"}], "off": [{"register": 6, "value": 3}], "is_off": {"register": 6, "off": 3}},
    }  # fmt: skip
    load = RegisterLoad("l", Bank(dialect_from(data, "d")))  # type: ignore[arg-type]
    assert load.is_on() is True and load.quantities() == {"current": 0.0}
    load.draw("current", 4.2)
    assert load.link.wrote == [("register 1", [42]), ("register 2", [4])]  # type: ignore[attr-defined]
    load.off()
    assert load.is_on() is False and load.link.asked[-1] == ("holding", 6, 1)  # type: ignore[attr-defined]


@pytest.mark.parametrize("at", [0, 65535, 65536, -1])
def test_a_register_has_a_number_of_sixteen_bits(at: int) -> None:
    # Modbus application protocol 1.1b3, from memory: addresses 0x0000 to 0xFFFF
    reads = {"current": {"register": at, "unit": "A"}}
    load = {"current": [{"register": at, "value": "setting"}], "off": [{"register": at, "value": 3}], "is_off": {"register": at, "off": 3}}  # fmt: skip
    for part in ({"reads": reads}, {"reads": {"current": {"register": 1, "unit": "A"}}, "load": load}):
        with nullcontext() if 0 <= at <= 65535 else pytest.raises(InputError):
            assert dialect_from({"kind": "modbus", "title": "t"} | part, "d").title == "t"


@pytest.mark.parametrize("answer", ["9.9E+37", "9.9e36", "-9.91E37", "1e400"])
def test_what_an_instrument_answers_out_of_its_range_is_no_number(answer: str) -> None:
    # IEEE 488.2 and SCPI-99, from memory: 9.9E+37 is infinity, 9.91E+37 not a number
    with pytest.raises(InstrumentError, match="shows no number"):
        number_in(answer, "m")
    assert number_in("9.8e36", "m") == 9.8e36


def test_a_line_of_a_file_that_is_too_short_is_no_reading(tmp_path: Path) -> None:
    path = tmp_path / "log.csv"
    path.write_text(FILE + "2,13.1\n")
    with pytest.raises(InstrumentError, match="is too short"):
        WatchedFile("f", str(path), dialect_named("growing-csv")).quantities()


def test_a_serial_address_is_opened_as_one(line) -> None:
    instrument, name = line
    wire = opened(address_of(name), 9600)
    os.write(instrument, b"1")
    assert wire.read(5, 2.0) == b"1"
    wire.close()
