"""Stand-in instruments on loopback TCP, on a pseudo-terminal, and as a file that grows."""

from __future__ import annotations

import contextlib
import os
import pty
import re
import socketserver
import threading
import time
import tty
from pathlib import Path
from typing import Any

from wintry_tally.bench.equipment import ChannelSpec, Equipment, Instrument
from wintry_tally.bench.simulated import STAND_IN_METER
from wintry_tally.bench.stand_ins.registers import POLL_S, RegisterStandIn
from wintry_tally.bench.stand_ins.world import StandInWorld
from wintry_tally.core.battery import family_named
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.errors import InstrumentError
from wintry_tally.core.protocol.leads import Leads

LAG_S = 4.0
ENDLESS_BYTES, ENDLESS_S = 4096, 30.0
_SETTING = re.compile(r"^(CURR|POW|RES|VOLT)\s+([-+0-9.eE]+)$")
_LINE_SETTING = re.compile(r"^([UIP])\s+([-+0-9.eE]+)$")


class _Handler(socketserver.StreamRequestHandler):
    server: TextStandIn

    def handle(self) -> None:
        server = self.server
        alone = server.faulty("one-connection")
        if alone and not server.only.acquire(blocking=False):
            return
        try:
            self._serve()
        finally:
            if alone:
                server.only.release()

    def _serve(self) -> None:
        with contextlib.suppress(OSError):
            for raw in self.rfile:
                text = raw.decode("ascii", errors="replace").strip()
                answer = self.server.answer(text)
                if self.server.faulty("disconnect"):
                    return
                if self.server.faulty("endless") and answer is not None:
                    self._endless()
                if answer is not None:
                    self.wfile.write(answer.encode() + (b"" if self.server.faulty("cut-short") else b"\n"))

    def _endless(self) -> None:
        until = time.monotonic() + ENDLESS_S
        while time.monotonic() < until and self.server.faulty("endless"):
            self.wfile.write(b"1" * ENDLESS_BYTES)


class TextStandIn(socketserver.ThreadingTCPServer):
    """One instrument that is spoken to in text, on a port of its own on loopback."""

    allow_reuse_address = True
    daemon_threads = True

    def __init__(self, world: StandInWorld, role: str, port: int = 0) -> None:
        super().__init__(("127.0.0.1", port), _Handler)
        self.world, self.role = world, role
        self.only = threading.Lock()
        self._set: dict[str, float] = {}
        self._mode = "current"
        self._error = '0,"No error"'
        threading.Thread(target=self.serve_forever, args=(POLL_S,), name=f"stand-in {role}", daemon=True).start()

    @property
    def address(self) -> str:
        """As a VISA address."""
        return f"TCPIP::127.0.0.1::{self.server_address[1]}::SOCKET"

    def handle_error(self, request: Any, client_address: Any) -> None:
        """A line that breaks is an ordinary thing here."""

    def faulty(self, name: str) -> bool:
        """Whether it has this fault now."""
        return self.world.has(self.role, name)

    @property
    def output(self) -> str:
        """Whether its output is on, by its own word."""
        return "1" if (self.world.load_on if self.role == "load" else self.world.charger_on) else "0"

    def answer(self, text: str) -> str | None:
        """What it answers to a line; None for nothing."""
        known = self._answer(text.upper())
        if self.faulty("silence") or self.faulty("hang"):
            return None
        if self.faulty("lag"):
            time.sleep(LAG_S)
        return self._spoilt(known) if known is not None and self._measures(text.upper()) else known

    def _spoilt(self, known: str) -> str:
        """A measurement, as an instrument with a fault answers it."""
        words = {"garbage": "\x15#?~", "no-number": "9.91E+37", "empty": "", "out-of-range": "-4711.0"}
        words["error-text"] = "0.00E: execution error"
        for name, text in words.items():
            if self.faulty(name):
                return text
        if self.faulty("comma"):
            return known.replace(".", ",")
        return known[: len(known) // 2] if self.faulty("cut-short") else known

    def _measures(self, text: str) -> bool:
        """Whether a line asks for a measurement."""
        return False

    def _answer(self, text: str) -> str | None:
        """What it answers when nothing is wrong with it."""
        return None

    def own_current(self) -> float:
        """What it shows of its current, by its own sign."""
        amps = self.world.read(self.role).current_A
        amps = -amps if self.role == "supply" else amps
        return -amps if self.faulty("wrong-sign") else amps

    def switch_on(self) -> None:
        """Draw or charge as set."""
        if self.faulty("refuses"):
            self._error = '-222,"Data out of range"'
            return
        try:
            if self.role == "load":
                self.world.draw(self._mode, self._set.get(self._mode, 0.0))
            else:
                self.world.charge(self._set.get("current", 0.0), self._set.get("voltage", 0.0))
        except InstrumentError as error:
            self._error = f'-222,"{error.what}"'


class ScpiStandIn(TextStandIn):
    """ "load", "supply", "meter", "second" or "thermometer", by the common command tree."""

    def _measures(self, text: str) -> bool:
        return text.startswith("MEAS")

    def _answer(self, text: str) -> str | None:
        if text == "*IDN?":
            return f"WINTRY,STAND-IN {self.role.upper()},0,1"
        if text == "SYST:ERR?":
            error, self._error = self._error, '0,"No error"'
            return error
        if text in {"INP?", "OUTP?"}:
            return self.output
        if text.startswith("MEAS:"):
            return self._measured(text)
        if text.startswith("FUNC "):
            self._mode = {"CURR": "current", "POW": "power", "RES": "resistance"}.get(text[5:], self._mode)
            return None
        match = _SETTING.match(text)
        if match is not None:
            name = {"CURR": "current", "POW": "power", "RES": "resistance", "VOLT": "voltage"}[match[1]]
            self._set[name] = float(match[2])
            if (self.world.load_on if self.role == "load" else self.world.charger_on) and self.role in {
                "load",
                "supply",
            }:
                self.switch_on()  # a setting changed while it is on counts at once
            return None
        if text in {"INP ON", "OUTP ON"}:
            self.switch_on()
        elif text in {"INP OFF", "OUTP OFF"}:
            self.world.off(self.role)
        return None

    def _measured(self, text: str) -> str | None:
        seen = self.world.read(self.role)
        if text == "MEAS:VOLT?":
            return f"{seen.voltage_V:.3f}"
        if text == "MEAS:TEMP?" and seen.temperature_C is not None:
            return f"{seen.temperature_C:.1f}"
        if text != "MEAS:CURR?":
            return None
        if self.role in {"load", "supply"}:
            return f"{self.own_current():.3f}"
        return f"{-seen.current_A if self.faulty('wrong-sign') else seen.current_A:.3f}"


class AskedStandIn(TextStandIn):
    """A "load" or a "supply" that is told in lines, acknowledges each, and answers one question with all it measures."""

    def _measures(self, text: str) -> bool:
        return text == "ASK"

    def _answer(self, text: str) -> str | None:
        if text == "ASK":
            seen = self.world.read(self.role)
            return f"U={seen.voltage_V:.3f};I={self.own_current():.3f};T={seen.temperature_C or 0.0:.1f}"
        if text == "RUN?":
            return "ON" if self.output == "1" else "OFF"
        if text == "HALT":
            self.world.off(self.role)
            return "OK"
        if text == "RUN":
            self.switch_on()
            refused, self._error = not self._error.startswith("0"), '0,"No error"'
            return "ERR" if refused else "OK"
        match = _LINE_SETTING.match(text)
        if match is None:
            return "ERR"
        if self.role == "load":
            self._mode = {"I": "current", "P": "power"}.get(match[1], self._mode)
            self._set[self._mode] = float(match[2])
        else:
            self._set[{"I": "current", "U": "voltage"}.get(match[1], "power")] = float(match[2])
        return "OK"


class LineStandIn:
    """Something that sends a line by itself, on a pseudo-terminal: a "line" meter with a counter, or the "pack"."""

    def __init__(self, world: StandInWorld, role: str = "line", every_s: float = 0.2) -> None:
        self.world, self.role, self.every_s = world, role, every_s
        self._inner, outer = pty.openpty()
        tty.setraw(outer)
        os.set_blocking(self._inner, False)
        self.port = os.ttyname(outer)
        self._outer = outer
        self._halt = threading.Event()
        self._lock = threading.Lock()
        threading.Thread(target=self._send, name="stand-in line", daemon=True).start()

    def _send(self) -> None:
        while not self._halt.wait(self.every_s):
            if self.world.has(self.role, "silence"):
                continue
            text = self._line()
            if self.world.has(self.role, "garbage"):
                text = "\x00\xfe?"
            elif self.world.has(self.role, "comma"):
                text = text.replace(".", ",")
            end = "" if self.world.has(self.role, "endless") else "\r\n"
            with self._lock, contextlib.suppress(OSError):  # nobody listens and the line is full
                if not self._halt.is_set():
                    os.write(self._inner, f"{text}{end}".encode("latin-1"))

    def _line(self) -> str:
        seen, world = self.world.read(self.role), self.world
        head = f"V={seen.voltage_V:.3f} A={seen.current_A:+.3f} T={seen.temperature_C or 0.0:.1f}"
        if self.role == "line":
            return f"{head} Q={world.counted_Ah:.3f}"
        cells = " ".join(f"C{number}={volts:.3f}" for number, volts in enumerate(world.cells_V(), 1))
        return f"{head} S={world.gauge_percent():.0f} {cells}"

    def stop(self) -> None:
        """End it; the port goes away, as when its plug is pulled."""
        self._halt.set()
        with self._lock:
            for handle in (self._inner, self._outer):
                with contextlib.suppress(OSError):
                    os.close(handle)


class FileStandIn:
    """Another program's log: a CSV that grows by a line every so often."""

    def __init__(self, world: StandInWorld, path: Path, every_s: float = 0.2) -> None:
        self.world, self.path, self.every_s = world, path, every_s
        self._halt = threading.Event()
        path.write_text("Time / s,Voltage / V,Current / A,Temperature / degC\n", encoding="utf-8")
        threading.Thread(target=self._grow, name="stand-in file", daemon=True).start()

    def _grow(self) -> None:
        begun = time.monotonic()
        while not self._halt.wait(self.every_s):
            if self.world.has("file", "silence"):
                continue
            seen = self.world.read("file")
            line = f"{time.monotonic() - begun:.1f},{seen.voltage_V:.3f},{seen.current_A:.3f},{seen.temperature_C or 0.0:.1f}\n"
            with contextlib.suppress(OSError), self.path.open("a", encoding="utf-8") as file:
                file.write(line)

    def stop(self) -> None:
        """No more lines."""
        self._halt.set()


class StandIns:
    """All of them at once on one battery: by the common command tree, by lines, by registers, by themselves."""

    SCPI_ROLES = ("load", "supply", "meter", "second", "thermometer")

    def __init__(self, world: StandInWorld, file: Path | None = None, first_port: int = 0) -> None:
        self.world = world

        def port(place: int) -> int:
            return first_port + place if first_port else 0

        self.scpi = {role: ScpiStandIn(world, role, port(place)) for place, role in enumerate(self.SCPI_ROLES)}
        self.asked = {role: AskedStandIn(world, role, port(5 + place)) for place, role in enumerate(("load", "supply"))}
        self.registers = {
            role: RegisterStandIn(world, role, port(7 + place))
            for place, role in enumerate(("load", "supply", "meter"))
        }
        self.line = LineStandIn(world)
        self.pack = LineStandIn(world, "pack")
        self.file = FileStandIn(world, file) if file is not None else None

    def addresses(self) -> dict[str, Any]:
        """Where each is."""
        found: dict[str, Any] = {role: server.address for role, server in self.scpi.items()}
        found |= {f"asked-{role}": server.address for role, server in self.asked.items()}
        found |= {f"register-{role}": server.address for role, server in self.registers.items()}
        found["line"], found["pack"] = self.line.port, self.pack.port
        if self.file is not None:
            found["file"] = str(self.file.path)
        return found

    def stop(self) -> None:
        """End them all."""
        for server in (*self.scpi.values(), *self.asked.values()):
            server.shutdown()
            server.server_close()
        for register in self.registers.values():
            register.stop()
        self.line.stop()
        self.pack.stop()
        if self.file is not None:
            self.file.stop()
        self.world.stop()


def usual_world() -> StandInWorld:
    """LFP, 40 Ah, full, behind a 300 W load and a 50 A charger."""
    parameters = parameters_for(family_named("lfp"), 40.0)
    return StandInWorld(parameters, STAND_IN_METER, power_W=300.0, current_A=30.0)


def stand_in_equipment(running: StandIns, equipment: Equipment) -> Equipment:
    """A bench with these stand-ins and a channel of theirs entered, or their new addresses where they stood before."""
    at, spec = running.addresses(), running.world.spec
    known: dict[str, Any] = {
        "voltage_accuracy": spec.voltage_accuracy,
        "current_accuracy": spec.current_accuracy,
        "voltage_resolution": spec.voltage_resolution,
        "current_resolution": spec.current_resolution,
    }
    made = [
        Instrument("stand-in load", "load", address=at["load"], power_W=300.0, current_A=30.0, **known),
        Instrument("stand-in supply", "charger", address=at["supply"], current_A=50.0, voltage_V=16.0, **known),
        Instrument("stand-in meter", address=at["meter"], **known),
        Instrument("stand-in second meter", address=at["second"], **known),
        Instrument("stand-in thermometer", "thermometer", address=at["thermometer"]),
        Instrument("stand-in line meter", way="line", dialect="spaced-line", address=at["line"], **known),
        Instrument("stand-in pack", "telemetry", "line", "telling-pack", at["pack"]),
    ]
    for instrument in made:
        equipment = equipment.with_instrument(instrument)
    channel = ChannelSpec(
        "stand-in", "stand-in load", "stand-in supply", "stand-in meter", "stand-in meter", "stand-in thermometer",
        "stand-in second meter", Leads(6.0, 1.5), "stand-in pack",
    )  # fmt: skip
    return equipment.with_channel(channel)
