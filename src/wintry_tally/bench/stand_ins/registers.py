"""Stand-ins behind registers: Modbus over TCP on loopback, by the dialect "register-bench".

The frames are taken apart here by hand (Modbus application protocol 1.1b3, from memory), so that the driver, which uses
a library, is held against something that is not that library.
"""

from __future__ import annotations

import contextlib
import socketserver
import struct
import threading

from wintry_tally.bench.stand_ins.world import StandInWorld
from wintry_tally.core.errors import InstrumentError

POLL_S = 0.02
ILLEGAL_FUNCTION, ILLEGAL_ADDRESS, FAILURE = 1, 2, 4


class _Handler(socketserver.StreamRequestHandler):
    server: RegisterStandIn

    def handle(self) -> None:
        with contextlib.suppress(OSError, struct.error):
            while head := self.rfile.read(7):
                transaction, _, size, unit = struct.unpack(">HHHB", head)
                answer = self.server.answer(self.rfile.read(size - 1))
                if answer is not None:
                    self.wfile.write(struct.pack(">HHHB", transaction, 0, len(answer) + 1, unit) + answer)


class RegisterStandIn(socketserver.ThreadingTCPServer):
    """ "load", "supply" or "meter": input registers 0 and 1 mV, 2 and 3 mA, holding registers 10 to 13, coil 0."""

    allow_reuse_address = True
    daemon_threads = True

    def __init__(self, world: StandInWorld, role: str, port: int = 0) -> None:
        super().__init__(("127.0.0.1", port), _Handler)
        self.world, self.role = world, role
        self._holding = dict.fromkeys(range(10, 14), 0)
        threading.Thread(
            target=self.serve_forever, args=(POLL_S,), name=f"stand-in registers {role}", daemon=True
        ).start()

    @property
    def address(self) -> str:
        """Host and port."""
        return f"127.0.0.1:{self.server_address[1]}"

    def answer(self, asked: bytes) -> bytes | None:
        """What it answers to a request without its head; None for nothing."""
        if self.world.has(self.role, "silence") or self.world.has(self.role, "hang") or not asked:
            return None
        function = asked[0]
        try:
            if function == 4:
                at, count = struct.unpack(">HH", asked[1:5])
                words = self._input()  # one moment for all of them: a number of two words is never torn
                return self._words(function, [words[at + place] for place in range(count)])
            if function == 3:
                at, count = struct.unpack(">HH", asked[1:5])
                return self._words(function, [self._holding[at + place] for place in range(count)])
            if function == 1:
                return bytes([1, 1, int(self._on)])
            if function == 5:
                self._switch(asked[3] == 0xFF)
                return asked[:5]
            if function == 16:
                at, count = struct.unpack(">HH", asked[1:5])
                for place, word in enumerate(struct.unpack(f">{count}H", asked[6 : 6 + 2 * count])):
                    self._holding[at + place] = word
                return asked[:5]
        except (KeyError, IndexError, struct.error):
            return bytes([function | 0x80, ILLEGAL_ADDRESS])
        except InstrumentError:
            return bytes([function | 0x80, FAILURE])
        return bytes([function | 0x80, ILLEGAL_FUNCTION])

    @staticmethod
    def _words(function: int, words: list[int]) -> bytes:
        return bytes([function, 2 * len(words)]) + struct.pack(f">{len(words)}H", *words)

    @property
    def _on(self) -> bool:
        return self.world.load_on if self.role == "load" else self.world.charger_on

    def _input(self) -> tuple[int, ...]:
        seen = self.world.read(self.role)
        amps = -seen.current_A if self.role == "supply" else seen.current_A
        return struct.unpack(">4H", struct.pack(">Ii", max(0, round(1000 * seen.voltage_V)), round(1000 * amps)))

    def _setting(self, at: int) -> float:
        return (self._holding[at] * 65536 + self._holding[at + 1]) / 1000.0

    def _switch(self, on: bool) -> None:
        if not on:
            self.world.off(self.role)
        elif self.world.has(self.role, "refuses"):
            raise InstrumentError("refused")
        elif self.role == "load":
            self.world.draw("current", self._setting(10))
        else:
            self.world.charge(self._setting(10), self._setting(12))

    def stop(self) -> None:
        """End it."""
        self.shutdown()
        self.server_close()
