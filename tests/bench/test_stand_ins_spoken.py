"""How stand-ins say what they show: lines of text, registers, what sends by itself; and what each fault makes of it.

Their meters here are exact. Common practice, no published source; frames by the Modbus application protocol 1.1b3, from memory.
"""

from __future__ import annotations

import contextlib
import os
import socket
import struct
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.bench.test_stand_ins import EXACT, LFP, charging, drawing, stood
from wintry_tally.bench.equipment import Equipment
from wintry_tally.bench.simulated import STAND_IN_METER
from wintry_tally.bench.stand_ins import servers
from wintry_tally.bench.stand_ins.direct import DirectLoad, DirectSupply, direct_drivers
from wintry_tally.bench.stand_ins.registers import RegisterStandIn
from wintry_tally.bench.stand_ins.servers import (
    AskedStandIn,
    FileStandIn,
    LineStandIn,
    ScpiStandIn,
    StandIns,
    stand_in_equipment,
)
from wintry_tally.bench.stand_ins.world import HOLDS_TO, SETS_TO, StandInWorld
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.errors import InstrumentError

# --- what each answers ---


@pytest.fixture
def talk() -> Iterator[Callable]:
    made: list = []

    def to(server: type, role: str, world: StandInWorld) -> object:
        made.append(server(world, role))
        return made[-1]

    yield to
    for one in made:
        one.shutdown()
        one.server_close()


def test_by_the_common_tree_a_load_is_set_switched_and_read(talk: Callable) -> None:
    world = stood()
    load = talk(ScpiStandIn, "load", world)
    assert load.answer("*IDN?") == "WINTRY,STAND-IN LOAD,0,1" and load.answer("inp?") == "0"
    for mode, setting, amps in (("CURR", 8.0, 8.0), ("POW", 60.0, 60.0 / 13.3), ("RES", 2.0, 13.3 / 2.0)):
        for line in (f"FUNC {mode}", f"{mode} {setting:.3f}", "INP ON"):
            assert load.answer(line) is None
        world.advance(1.0)
        assert load.answer("INP?") == "1" and world.true_current_A == pytest.approx(amps, rel=0.02), mode
        assert float(load.answer("MEAS:CURR?")) == pytest.approx(world.true_current_A, abs=0.0006)
        assert float(load.answer("MEAS:VOLT?")) == pytest.approx(world.read("load").voltage_V, abs=0.0006)
        assert load.answer("INP OFF") is None
        assert load.answer("INP?") == "0" and world.true_current_A == 0.0
    assert load.answer("CURR 4.0") is None
    assert world.true_current_A == 0.0  # set, and not switched on
    load.answer("FUNC CURR")
    load.answer("INP ON")
    load.answer("CURR 3.0")  # set while it is on: counts at once
    assert world.true_current_A == pytest.approx(3.0, rel=SETS_TO)
    assert load.answer("SYST:ERR?") == '0,"No error"' and load.answer("MEAS:TEMP?") == "23.0"
    assert load.answer("MEAS:FREQ?") is None and load.answer("HELLO") is None


def test_by_the_common_tree_a_supply_tells_what_it_gives_as_positive(talk: Callable) -> None:
    world = stood(state_of_charge=0.3)
    supply = talk(ScpiStandIn, "supply", world)
    for line in ("VOLT 14.400", "CURR 8.0000"):
        supply.answer(line)
    assert supply.answer("OUTP?") == "0" and not world.charger_on
    supply.answer("OUTP ON")
    world.advance(1.0)
    assert supply.answer("OUTP?") == "1" and float(supply.answer("MEAS:CURR?")) == pytest.approx(8.0, rel=SETS_TO)
    world.fault("supply", "wrong-sign")
    assert float(supply.answer("MEAS:CURR?")) == pytest.approx(-8.0, rel=SETS_TO)
    world.fault("meter", "wrong-sign")
    meter = talk(ScpiStandIn, "meter", world)
    assert float(meter.answer("MEAS:CURR?")) == pytest.approx(8.0, rel=SETS_TO)  # the battery's is -8 A
    supply.answer("OUTP OFF")
    assert world.true_current_A == 0.0


@pytest.mark.parametrize(("server", "asked"), [(ScpiStandIn, "MEAS:VOLT?"), (AskedStandIn, "ASK")])
def test_a_measurement_is_spoilt_as_its_fault_says_and_nothing_else_is(
    server: type, asked: str, talk: Callable
) -> None:
    world = stood()
    load = talk(server, "load", world)
    whole = load.answer(asked)
    spoilt = {
        "garbage": "\x15#?~", "no-number": "9.91E+37", "empty": "", "out-of-range": "-4711.0", "silence": None, "hang": None,
        "error-text": "0.00E: execution error", "comma": whole.replace(".", ","), "cut-short": whole[: len(whole) // 2],
    }  # fmt: skip
    other = "INP?" if server is ScpiStandIn else "RUN?"
    says = load.answer(other)
    for fault, answer in spoilt.items():
        world.fault("load", fault)
        assert load.answer(asked) == answer, fault
        assert load.answer(other) == (None if answer is None else says), fault
        world.fault("load", fault, on=False)


def test_a_setting_above_the_ceiling_is_an_error_that_is_told_once(talk: Callable) -> None:
    world = stood()
    load = talk(ScpiStandIn, "load", world)
    for refused in (False, True):
        world.fault("load", "refuses", on=refused)
        for line in ("FUNC CURR", "CURR 80.0" if not refused else "CURR 8.0", "INP ON"):
            load.answer(line)
        assert load.answer("SYST:ERR?").startswith("-222,") and load.answer("SYST:ERR?") == '0,"No error"'
        assert world.true_current_A == 0.0


def test_by_lines_each_is_acknowledged_and_one_question_gives_all(talk: Callable) -> None:
    world = stood()
    load = talk(AskedStandIn, "load", world)
    assert [load.answer(line) for line in ("I 8.0", "RUN?", "RUN", "RUN?")] == ["OK", "OFF", "OK", "ON"]
    world.advance(1.0)
    seen = world.read("load")
    assert load.answer("ASK") == f"U={seen.voltage_V:.3f};I={seen.current_A:.3f};T={seen.temperature_C:.1f}"
    assert seen.current_A == pytest.approx(8.0, rel=SETS_TO)
    assert [load.answer(line) for line in ("HALT", "RUN?", "WHAT")] == ["OK", "OFF", "ERR"]
    assert [load.answer(line) for line in ("P 60.0", "RUN")] == ["OK", "OK"]
    assert world.true_current_A == pytest.approx(60.0 / 13.3, rel=0.02)
    load.answer("HALT")
    assert [load.answer(line) for line in ("P 900.0", "RUN", "P 60.0", "RUN")] == ["OK", "ERR", "OK", "OK"]
    world = stood(state_of_charge=0.3)
    supply = talk(AskedStandIn, "supply", world)
    assert [supply.answer(line) for line in ("U 14.4", "I 8.0", "RUN")] == ["OK", "OK", "OK"]
    assert world.true_current_A == pytest.approx(-8.0, rel=SETS_TO) and "I=8.0" in supply.answer("ASK").replace(
        "I=7.9", "I=8.0"
    )


def test_by_registers_each_request_has_its_answer(talk: Callable) -> None:
    world = drawing()
    load = talk(RegisterStandIn, "load", world)
    seen = world.read("load")
    words = struct.pack(">Ii", round(1000 * seen.voltage_V), round(1000 * seen.current_A))
    assert load.answer(struct.pack(">BHH", 4, 0, 4)) == bytes([4, 8]) + words
    assert load.answer(struct.pack(">BHH", 4, 2, 2)) == bytes([4, 4]) + words[4:]
    assert load.answer(struct.pack(">BHH", 1, 0, 1)) == bytes([1, 1, 1])
    off = struct.pack(">BHH", 5, 0, 0)
    assert load.answer(off) == off and world.true_current_A == 0.0
    assert load.answer(struct.pack(">BHH", 1, 0, 1)) == bytes([1, 1, 0])
    written = struct.pack(">BHHBI", 16, 10, 2, 4, 70_000)
    assert load.answer(written) == written[:5] and load.answer(struct.pack(">BHH", 3, 10, 2)) == bytes(
        [3, 4]
    ) + struct.pack(">I", 70_000)
    on = struct.pack(">BHH", 5, 0, 0xFF00)
    assert load.answer(on) == bytes([5 | 0x80, 4])  # 70 A: above its ceiling
    load.answer(struct.pack(">BHHBI", 16, 10, 2, 4, 6_500))
    assert load.answer(on) == on and world.true_current_A == pytest.approx(6.5, rel=SETS_TO)
    assert load.answer(struct.pack(">BHH", 4, 3, 2)) == bytes([4 | 0x80, 2])  # beyond the last
    assert load.answer(struct.pack(">BHH", 3, 13, 2)) == bytes([3 | 0x80, 2])
    assert load.answer(bytes([7])) == bytes([7 | 0x80, 1]) and load.answer(b"") is None
    world.fault("load", "refuses")
    assert load.answer(on) == bytes([5 | 0x80, 4])
    for fault in ("silence", "hang"):
        world.fault("load", fault)
        assert load.answer(off) is None
        world.fault("load", fault, on=False)


def test_a_supply_of_registers_is_set_by_current_and_limit_and_tells_what_it_gives_as_positive(talk: Callable) -> None:
    world = stood(state_of_charge=0.3)
    supply = talk(RegisterStandIn, "supply", world)
    supply.answer(struct.pack(">BHHBII", 16, 10, 4, 8, 8_000, 13_200))
    supply.answer(struct.pack(">BHH", 5, 0, 0xFF00))
    world.advance(1.0)
    assert world._connected.limit_V == pytest.approx(13.2, rel=HOLDS_TO) and world.charger_on
    told = struct.unpack(">i", supply.answer(struct.pack(">BHH", 4, 2, 2))[2:])[0]  # type: ignore[index]
    assert told == pytest.approx(-1000 * world.true_current_A, abs=1) and told > 0
    meter = talk(RegisterStandIn, "meter", world)
    assert struct.unpack(">i", meter.answer(struct.pack(">BHH", 4, 2, 2))[2:])[0] == -told  # type: ignore[index]


# --- what sends by itself, and all of them ---


def sent(world: StandInWorld, role: str) -> str:
    """What the "line" or the "pack" sends at first."""
    running = StandIns(world)
    try:
        handle = {"line": running.line, "pack": running.pack}[role]
        reader = os.open(handle.port, os.O_RDONLY | os.O_NOCTTY)
        got, until = b"", time.monotonic() + 10.0
        while got.count(b"\n") < 2 and len(got) < 60 and time.monotonic() < until:
            got += os.read(reader, 4096)
        os.close(reader)
        return got.decode("latin-1")
    finally:
        running.stop()


@pytest.mark.parametrize(
    ("role", "fault", "says"),
    [
        ("line", "", "V={volts:.3f} A=+8.0"), ("pack", "", "S=100 C1="), ("line", "comma", "V={volts:.3f} A=+8,0"),
        ("line", "garbage", "\x00\xfe?\r\n\x00\xfe?"), ("line", "endless", "Q=0.002V="),
    ],
)  # fmt: skip
def test_what_sends_by_itself_sends_lines(role: str, fault: str, says: str) -> None:
    world = stood(seed=3)
    world._loads[world._connected].sets = 1.0
    world.draw("current", 8.0)
    world.advance(1.0)
    if fault:
        world.fault(role, fault)
    said = sent(world, role)
    asked = says.format(volts=world._connected.voltage_V)
    assert (asked.replace(".", ",") if fault == "comma" else asked) in said


def test_a_file_grows_by_a_line_while_its_writer_lives(tmp_path: Path) -> None:
    world = drawing()
    file = FileStandIn(world, tmp_path / "grows.csv", every_s=0.05)
    until = time.monotonic() + 20.0
    while len((tmp_path / "grows.csv").read_text().splitlines()) < 4 and time.monotonic() < until:
        time.sleep(0.02)
    world.fault("file", "silence")
    time.sleep(0.15)
    quiet = (tmp_path / "grows.csv").read_text()
    time.sleep(0.2)
    file.stop()
    head, *rows = quiet.splitlines()
    assert (
        tmp_path / "grows.csv"
    ).read_text() == quiet and head == "Time / s,Voltage / V,Current / A,Temperature / degC"
    times = [float(row.split(",")[0]) for row in rows]
    assert times == sorted(times) and 0.0 <= times[0] < 5.0
    seen = world.read("file")
    assert rows[-1].split(",")[1:] == [f"{seen.voltage_V:.3f}", f"{seen.current_A:.3f}", f"{seen.temperature_C:.1f}"]


def test_ports_are_one_after_the_other_where_the_first_is_said() -> None:
    world = stood()
    running = None
    for first in range(10_000 + os.getpid() % 10_000, 32_000, 10):  # where no machine gives ports by itself
        with contextlib.suppress(OSError):
            running = StandIns(world, first_port=first)
            break
    assert running is not None
    try:
        at = running.addresses()
        ports = [
            int(address.split("::")[2])
            for address in (*(at[role] for role in StandIns.SCPI_ROLES), at["asked-load"], at["asked-supply"])
        ]
        ports += [int(at[f"register-{role}"].split(":")[1]) for role in ("load", "supply", "meter")]
        assert ports == list(range(first, first + 10)) and "file" not in at
    finally:
        running.stop()


def test_a_bench_of_stand_ins_is_entered_with_its_ceilings_and_what_its_meters_state() -> None:
    running = StandIns(StandInWorld(parameters_for(LFP, 40.0), STAND_IN_METER))
    try:
        equipment = stand_in_equipment(running, Equipment())
        load, supply = equipment.instrument("stand-in load"), equipment.instrument("stand-in supply")
        assert (load.power_W, load.current_A, supply.current_A, supply.voltage_V) == (300.0, 30.0, 50.0, 16.0)
        for instrument in (load, supply, equipment.instrument("stand-in line meter")):
            assert (instrument.voltage_accuracy, instrument.current_resolution) == ("0.1%+2d", 0.001)
        channel = equipment.channel("stand-in")
        assert (channel.leads.area_mm2, channel.leads.length_m) == (6.0, 1.5)
    finally:
        running.stop()


def test_stand_ins_without_a_line_between_show_the_same() -> None:
    world = charging()
    drivers = direct_drivers(world)
    assert drivers["supply"].quantities()["current"] == pytest.approx(8.0, rel=SETS_TO)
    assert drivers["meter"].quantities()["current"] == pytest.approx(-8.0, rel=SETS_TO)
    assert drivers["thermometer"].quantities() == {"temperature": pytest.approx(world.read("meter").temperature_C)}
    cells = {name: volts for name, volts in drivers["pack"].quantities().items() if name.startswith("cell")}
    assert list(cells.values()) == list(world.cells_V()) and next(iter(cells)) == "cell_1_V"


# --- over the wire ---


def connected(server: ScpiStandIn | RegisterStandIn) -> socket.socket:
    line = socket.create_connection(server.server_address[:2], timeout=20.0)
    line.settimeout(20.0)
    return line


def test_an_answer_ends_its_line_and_one_cut_short_does_not(talk: Callable) -> None:
    world = stood()
    meter = talk(ScpiStandIn, "meter", world)
    with connected(meter) as line:
        for _ in range(2):
            line.sendall(b"MEAS:VOLT?\n")
            assert line.recv(100) == f"{world.read('meter').voltage_V:.3f}\n".encode()
        world.fault("meter", "cut-short")
        line.sendall(b"MEAS:VOLT?\n")
        assert line.recv(100) == f"{world.read('meter').voltage_V:.3f}".encode()[:3]
        world.fault("meter", "cut-short", on=False)
        world.fault("meter", "disconnect")
        line.sendall(b"MEAS:VOLT?\n")
        assert line.recv(100) == b""


def test_one_that_serves_one_program_at_a_time_takes_the_next_when_that_is_gone(talk: Callable) -> None:
    world = stood()
    meter = talk(ScpiStandIn, "meter", world)
    for alone in (False, True, True):
        world.fault("meter", "one-connection", on=alone)
        with connected(meter) as first:
            first.sendall(b"*IDN?\n")
            assert first.recv(100).startswith(b"WINTRY")
            with connected(meter) as second:
                second.sendall(b"*IDN?\n")
                try:
                    answer = second.recv(100)
                except ConnectionError:
                    answer = b""
                assert (answer == b"") is alone
        until = time.monotonic() + 20.0
        while meter.only.locked() and time.monotonic() < until:
            time.sleep(0.01)
        assert not meter.only.locked()


def test_one_that_lags_answers_late_and_one_without_end_for_half_a_minute(
    talk: Callable, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert (servers.LAG_S, servers.ENDLESS_S) == (4.0, 30.0)
    monkeypatch.setattr(servers, "LAG_S", 0.4)
    monkeypatch.setattr(servers, "ENDLESS_S", 0.3)
    world = stood()
    meter = talk(ScpiStandIn, "meter", world)
    with connected(meter) as line:
        world.fault("meter", "lag")
        asked = time.monotonic()
        line.sendall(b"MEAS:VOLT?\n")
        assert line.recv(100).endswith(b"\n") and time.monotonic() - asked >= 0.4
        world.fault("meter", "lag", on=False)
        world.fault("meter", "endless")
        for said, many in ((b"MEAS:VOLT?\n", True), (b"CURR 8.0\n", False), (b"MEAS:VOLT?\n", True)):
            got = b""
            line.sendall(said)
            while many and b"\n" not in got:  # it gives up, and then answers
                got += line.recv(65536)
            assert not many or (got.startswith(b"1" * 4096) and got.endswith(b"\n")), said


def test_frames_of_registers_carry_their_transaction_and_unit(talk: Callable) -> None:
    """Transaction, protocol 0, how many bytes follow, unit; two requests may come at once."""
    world = stood()
    meter = talk(RegisterStandIn, "meter", world)
    body = struct.pack(">BHH", 1, 0, 1)
    with connected(meter) as line:
        line.sendall(b"".join(struct.pack(">HHHB", number, 0, len(body) + 1, 3) + body for number in (7, 8)))
        got = b""
        while len(got) < 20:
            got += line.recv(100)
        assert got == b"".join(struct.pack(">HHHB", number, 0, 4, 3) + bytes([1, 1, 0]) for number in (7, 8))
        world.fault("meter", "silence")
        line.sendall(struct.pack(">HHHB", 9, 0, len(body) + 1, 3) + body)
        line.settimeout(0.3)
        with pytest.raises(TimeoutError):
            line.recv(100)
    assert meter._holding == dict.fromkeys(range(10, 14), 0)


def test_what_is_stopped_is_gone(tmp_path: Path) -> None:
    running = StandIns(drawing(), tmp_path / "grows.csv")
    running.world.run()
    texts = [*running.scpi.values(), *running.asked.values(), *running.registers.values()]
    lines, clock = (
        [running.line.port, running.pack.port],
        [t for t in threading.enumerate() if t.name == "stand-in clock"],
    )
    before = set(Path("/proc/self/fd").iterdir())
    running.stop()
    for server in texts:
        with pytest.raises(OSError, match="refused"):
            connected(server).close()
    for port in lines:
        with pytest.raises(OSError, match="No such"):
            os.close(os.open(port, os.O_RDONLY | os.O_NOCTTY))
    assert len(before - set(Path("/proc/self/fd").iterdir())) >= len(texts) + 4  # two ends of two lines
    for thread in clock:
        thread.join(10.0)
        assert not thread.is_alive()
    time.sleep(0.25)
    grown = (tmp_path / "grows.csv").read_text()
    time.sleep(0.5)
    assert (tmp_path / "grows.csv").read_text() == grown


def test_what_sends_by_itself_does_so_five_times_a_second_and_is_silent_when_told() -> None:
    world = stood()
    line = LineStandIn(world)
    reader = os.open(line.port, os.O_RDONLY | os.O_NOCTTY | os.O_NONBLOCK)
    try:
        assert line.every_s == 0.2
        world.fault("line", "silence")
        time.sleep(0.45)
        with contextlib.suppress(BlockingIOError):
            os.read(reader, 4096)
        time.sleep(0.5)
        with pytest.raises(BlockingIOError):
            os.read(reader, 4096)
    finally:
        os.close(reader)
        line.stop()


def test_a_line_that_nobody_reads_holds_nothing_up() -> None:
    """What a pseudo-terminal holds is a few thousand bytes; the sender must not wait for a reader."""
    line = LineStandIn(stood(), every_s=1e-4)
    time.sleep(1.0)
    begun = time.monotonic()
    line.stop()
    assert time.monotonic() - begun < 5.0


def test_the_usual_world_is_40_Ah_of_lfp_behind_300_W_30_A() -> None:
    world = servers.usual_world()
    assert world._connected.model.parameters.capacity_Ah == pytest.approx(parameters_for(LFP, 40.0).capacity_Ah)
    for mode, most, beyond in (("current", 22.0, 30.2), ("power", 300.0, 310.0)):
        world.draw(mode, most)
        world.off("load")
        with pytest.raises(InstrumentError, match="ceiling"):
            world.draw(mode, beyond)
    bare = StandInWorld(parameters_for(LFP, 40.0), EXACT)
    assert [(load.power_W, load.current_A) for load in bare._loads.values()] == [(180.0, 20.0)] * 2
    assert bare._connected.model.state_of_charge == 1.0 and len(bare.cells_V()) == 4


def test_a_load_and_a_supply_without_a_line_switch_and_say_so() -> None:
    world = stood(state_of_charge=0.5)
    load, supply = (direct_drivers(world)[role] for role in ("load", "supply"))
    assert isinstance(load, DirectLoad) and isinstance(supply, DirectSupply)
    load.draw("current", 8.0)
    assert load.is_on() and not supply.is_on() and world.true_current_A > 7.9
    load.off()
    assert not load.is_on() and world.true_current_A == 0.0
    supply.charge(8.0, 14.4)
    assert supply.is_on() and world.true_current_A < -7.9
    supply.off()
    assert not supply.is_on() and world.true_current_A == 0.0
