"""What goes over a wire, byte for byte, and what is kept of it to be shown.

Modbus frames by the Modbus application protocol 1.1b3 and its TCP guide 1.0b (from memory).
"""

from __future__ import annotations

import os
import struct
import threading
import time

import pytest

from tests.bench.test_drivers_small import FILE
from wintry_tally.bench.drivers.dialect import dialect_from, dialect_named
from wintry_tally.bench.drivers.lines import LineMeter, WatchedFile
from wintry_tally.bench.drivers.link import SerialWire, TextLink
from wintry_tally.bench.drivers.modbus import ModbusLink
from wintry_tally.bench.drivers.scpi import ScpiLoad
from wintry_tally.core.errors import InstrumentError

PLAIN = {"kind": "modbus", "title": "t", "reads": {"voltage": {"register": 3, "unit": "V", "table": "input"}}}


def test_a_register_is_asked_for_once_of_unit_one_and_what_it_answers_is_kept(peer) -> None:
    server, address = peer
    server.settimeout(5.0)
    heard = []

    def serve() -> None:
        other, _ = server.accept()
        asked = other.recv(100)
        heard.append(asked)
        other.sendall(asked[:4] + struct.pack(">HBBBH", 5, asked[6], asked[7], 2, 1320))
        other.recv(100)
        other.close()

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()
    link = ModbusLink("m", address, dialect_from(PLAIN, "d"))  # type: ignore[arg-type]
    assert link.registers("input", 3, 1) == [1320]
    link.close()
    thread.join(5.0)
    # transaction, protocol 0, six bytes more: unit, function 4, address, count
    assert heard[0][2:] == struct.pack(">HHBBHH", 0, 6, 1, 4, 3, 1)
    assert any("1320" in text for text in link.exchange.lines())


def test_a_bus_that_does_not_answer_is_not_asked_again(peer) -> None:
    # a command that was sent twice is carried out twice
    server, address = peer
    link = ModbusLink("m", address, dialect_from(PLAIN, "d"))  # type: ignore[arg-type]
    with pytest.raises(InstrumentError, match="no answer in time"):
        link.registers("input", 3, 1)
    server.settimeout(2.0)
    other, _ = server.accept()
    assert len(other.recv(1000)) == 12
    other.close()
    with pytest.raises(TimeoutError):
        server.settimeout(0.3)
        server.accept()


def test_what_was_sent_before_it_was_opened_is_no_answer(line) -> None:
    instrument, name = line
    first = SerialWire(name, 9600, 1.0)
    os.write(instrument, b"an old answer\n")
    time.sleep(0.1)
    first.close()
    wire = SerialWire(name, 9600, 1.0)
    assert wire.read(100, 0.1) == b""
    os.write(instrument, b"new\n")
    assert wire.read(100, 1.0) == b"new\n"
    wire.close()
    with pytest.raises((OSError, TypeError)):
        wire.write(b"x", 0.1)


def test_lines_and_files_keep_what_was_read(line, tmp_path) -> None:
    path = tmp_path / "log.csv"
    path.write_text(FILE)
    file = WatchedFile("f", str(path), dialect_named("growing-csv"))
    assert file.quantities()["voltage"] == 13.2 and file.exchange.lines()[-1].endswith("1,13.2,5.0")
    instrument, name = line
    meter = LineMeter("m", name, dialect_named("comma-line"))
    with pytest.raises(InstrumentError):
        meter.quantities()
    os.write(instrument, b"\r\n\r\nno reading\r\n")
    with pytest.raises(InstrumentError, match="which its pattern does not know"):
        meter.quantities()
    meter.close()
    assert [text for text in meter.exchange.lines() if "no reading" in text] and len(meter.exchange.lines()) == 1


def test_an_instrument_that_is_let_go_of_is_hung_up_on(peer) -> None:
    server, address = peer
    load = ScpiLoad("l", TextLink("l", address), dialect_named("plain-scpi"))  # type: ignore[arg-type]
    with pytest.raises(InstrumentError):
        load.is_on()
    load.close()
    server.settimeout(2.0)
    other, _ = server.accept()
    other.settimeout(2.0)
    while other.recv(100):
        pass
    other.close()
