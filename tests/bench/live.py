"""Stand-ins on the wall's clock, a book whose bench they are, and programs that run tests on them."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

from wintry_tally.app.bench_book import bench_from, keep_equipment
from wintry_tally.bench.simulated import STAND_IN_METER
from wintry_tally.bench.stand_ins.servers import StandIns
from wintry_tally.bench.stand_ins.world import StandInWorld
from wintry_tally.book import Book
from wintry_tally.core.battery import family_named, parse_claim
from wintry_tally.core.cell import parameters_for

SPEC = {"voltage_accuracy": "0.1%+2d", "current_accuracy": "0.5%+2d"}

RECIPE = """
name = "draw"
title = "Draw"
version = 1
station = "load"
method = "hold"
families = ["lfp"]
words = "A draw for tests."
{no_proof}

[[step]]
kind = "{kind}"
title = "Draw"
{mode}
{setting}
{words}
ends = [{ends}]
"""


def recipe(
    folder: Path,
    seconds: float = 60.0,
    amps: float = 5.0,
    *,
    proof: bool = False,
    kind: str = "discharge",
    name: str = "r",
    rest_s: float = 0.0,
) -> Path:
    """A recipe of one step, in a file; with a rest behind it where one is wanted."""
    live = kind in {"discharge", "charge"}
    ends = f'{{time = "{seconds:g} s"}}' if live else "{confirm = true}"
    if kind == "discharge":
        ends = f'{{protection = "open"}}, {ends}'
    path = folder / f"{name}.toml"
    path.write_text(
        RECIPE.format(
            no_proof="" if proof else 'no_proof = "a short test"',
            kind=kind,
            mode='mode = "current"' if kind == "discharge" else 'limit = "charge.usual"' if kind == "charge" else "",
            setting=f'setting = "{amps:g} A"' if live else "",
            words='words = "Switch the kettle on."' if kind == "prompt" else "",
            ends=ends,
        )
        + (f'\n[[step]]\nkind = "rest"\ntitle = "Rebound"\nends = [{{time = "{rest_s:g} s"}}]\n' if rest_s else "")
    )
    return path


class LiveBench:
    """One stand-in battery of 40 Ah with channels of three families, in a book of its own."""

    def __init__(self, folder: Path, wiring: tuple[str, ...] = (), state: float = 0.8) -> None:
        self.folder = folder
        parameters = parameters_for(family_named("lfp"), 40.0)
        self.world = StandInWorld(
            parameters, STAND_IN_METER, 3, state_of_charge=state, power_W=300.0, current_A=30.0, wiring=wiring
        )
        self.stand_ins = StandIns(self.world)
        self.world.run()
        self.path = folder / "b.wintry"
        with Book.create(self.path) as book:
            sample = book.samples.add("M1", "", "", "lfp")
            for text in ("40 Ah", "40 A continuous"):
                book.samples.add_claim(sample, parse_claim(text))
            self.equipment = bench_from(self.bench(), "bench", folder)
            keep_equipment(book, self.equipment)

    def bench(self) -> dict:
        at = self.stand_ins.addresses()
        limits = {"power_W": 300.0, "current_A": 30.0}
        gives = {"current_A": 50.0, "voltage_V": 16.0}
        return {
            "instrument": [
                {"name": "load", "kind": "load", "address": at["load"], **limits, **SPEC},
                {"name": "supply", "kind": "charger", "address": at["supply"], **gives, **SPEC},
                {"name": "meter", "address": at["meter"], **SPEC},
                {"name": "aload", "kind": "load", "way": "asked", "address": at["asked-load"], **limits, **SPEC},
                {"name": "rload", "kind": "load", "way": "modbus", "address": at["register-load"], **limits, **SPEC},
                {
                    "name": "rsupply",
                    "kind": "charger",
                    "way": "modbus",
                    "address": at["register-supply"],
                    **gives,
                    **SPEC,
                },
            ],
            "channel": [
                {"name": "one", "load": "load", "charger": "supply", "voltage": "meter", "current": "meter"},
                {"name": "own", "load": "load", "charger": "supply", "voltage": "load"},
                {"name": "asked", "load": "aload", "voltage": "meter", "current": "meter"},
                {"name": "registers", "load": "rload", "charger": "rsupply", "voltage": "meter", "current": "meter"},
            ],
        }

    def run(
        self,
        made: Path | None = None,
        channel: str = "one",
        *more: str,
        stdin: int | None = subprocess.DEVNULL,
        resume: int = 0,
    ) -> Program:
        what = (
            ["--resume", str(resume)]
            if resume
            else ["M1", "--recipe", str(made), "--channel", channel, "--heed-cautions"]
        )
        return Program([*what[:1], *what[1:], "--json", *more], self.path, stdin)

    def until(self, holds: Callable[[], bool], limit_s: float = 60.0) -> float:
        """Wait for something, on a busy machine too; how long it took."""
        begun = time.monotonic()
        while not holds():
            assert time.monotonic() - begun < limit_s, "not in time"
            time.sleep(0.02)
        return time.monotonic() - begun

    @property
    def flows(self) -> bool:
        return abs(self.world.true_current_A) > 1.0

    def stop(self) -> None:
        self.stand_ins.stop()


class Program:
    """`wintry-tally run` in a process of its own."""

    def __init__(self, arguments: list[str], book: Path, stdin: int | None) -> None:
        self.process = subprocess.Popen(
            [sys.executable, "-m", "wintry_tally", "run", str(book), *arguments],
            stdin=stdin, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=dict(os.environ),
        )  # fmt: skip

    def end(self, limit_s: float = 90.0) -> tuple[int, list[dict], str]:
        """Its exit code, its events, and what it said on standard error."""
        out, err = self.process.communicate(timeout=limit_s)
        return self.process.returncode, [json.loads(line) for line in out.splitlines()], err

    def wait(self, limit_s: float = 60.0) -> int:
        """Its exit code; what it said is thrown away."""
        self.process.communicate(timeout=limit_s)
        return self.process.returncode

    def send(self, number: signal.Signals) -> None:
        os.kill(self.process.pid, number)
