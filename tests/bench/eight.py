"""Eight channels used at random, through the application's own entry points, with random faults: nothing left on unsaid."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from pathlib import Path
from random import Random

from wintry_tally.app.bench_book import bench_from, keep_equipment
from wintry_tally.app.launch import ambient_of
from wintry_tally.app.live import LiveRuns
from wintry_tally.app.run_settings import bench_settings
from wintry_tally.app.safety import SIGNS, Inspection, lift_quarantine, quarantine_of
from wintry_tally.bench.simulated import STAND_IN_METER
from wintry_tally.bench.stand_ins.servers import StandIns
from wintry_tally.bench.stand_ins.world import StandInWorld
from wintry_tally.book import Book
from wintry_tally.core.battery import family_named, parse_claim
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.engine import LIVE, Request
from wintry_tally.core.errors import WintryError
from wintry_tally.core.protocol import EndCause, EndRule, Recipe, Step, StopLimits

CHANNELS = 8
STOPS = StopLimits(8.0, 15.0, 25.0, 400.0, -20.0, 60.0, charge_high_A=25.0)
FAULTS = (
    ("meter", "silence"), ("meter", "garbage"), ("meter", "lag"), ("meter", "wrong-sign"), ("meter", "disconnect"),
    ("meter", "error-text"), ("meter", "endless"), ("load", "silence"), ("load", "hang"), ("load", "ignores-off"),
    ("load", "lies-off"), ("load", "other-hands"), ("supply", "silence"), ("supply", "lies-off"), ("load", "refuses"),
)  # fmt: skip
GRACE_S = 8.0
"""So long something may flow that nothing asks for before it has to be said: three seconds or three readings, and a line
that does not answer."""


@dataclass
class Shown:
    """In the place of a window."""

    words: list[str] = field(default_factory=list)

    def failed(self, words: str) -> None:
        self.words.append(words)

    def said(self, words: str) -> None:
        self.words.append(words)

    def rang(self, title: str, words: str, grave: bool = False) -> None:
        self.words.append(f"{title}: {words}")

    def runs_changed(self, sample_id: int) -> None: ...


class Eight:
    """Eight stand-in batteries, each with a load, a supply and a meter of its own, in one book."""

    def __init__(self, folder: Path, seed: int) -> None:
        self.random = Random(seed)
        parameters = parameters_for(family_named("lfp"), 40.0)
        self.worlds = [
            StandInWorld(parameters, STAND_IN_METER, seed + n, state_of_charge=0.6, power_W=400.0, current_A=30.0)
            for n in range(CHANNELS)
        ]
        self.stand_ins = [StandIns(world) for world in self.worlds]
        for world in self.worlds:
            world.run()
        self.book = Book.create(folder / "eight.wintry")
        spec = {"voltage_accuracy": "0.1%+2d", "current_accuracy": "0.5%+2d"}
        data: dict[str, list] = {"instrument": [], "channel": []}
        for n, made in enumerate(self.stand_ins):
            at = made.addresses()
            data["instrument"] += [
                {
                    "name": f"load {n}",
                    "kind": "load",
                    "address": at["load"],
                    "power_W": 400.0,
                    "current_A": 30.0,
                    **spec,
                },
                {
                    "name": f"supply {n}",
                    "kind": "charger",
                    "address": at["supply"],
                    "current_A": 50.0,
                    "voltage_V": 16.0,
                    **spec,
                },
                {"name": f"meter {n}", "address": at["meter"], **spec},
            ]
            data["channel"].append(
                {
                    "name": f"c{n}",
                    "load": f"load {n}",
                    "charger": f"supply {n}",
                    "voltage": f"meter {n}",
                    "current": f"meter {n}",
                }
            )
            sample = self.book.samples.add(f"B{n}", "", "", "lfp")
            self.book.samples.add_claim(sample, parse_claim("40 Ah"))
        self.equipment = bench_from(data, "bench", folder)
        keep_equipment(self.book, self.equipment)
        self.samples = self.book.samples.all()
        self.shown = Shown()
        self.runs = LiveRuns(self.book, lambda: self.equipment, self.shown)
        self.faulty: dict[int, tuple[float, str, str]] = {}
        self.since: dict[int, float] = {}
        self.unsaid: list[str] = []
        self.done: dict[str, int] = {}

    def recipe(self) -> Recipe:
        """A short draw or charge."""
        seconds = self.random.uniform(1.0, 6.0)
        ends = (EndRule("time", seconds, EndCause.TIME),)
        draw = Step("discharge", "Draw", "current", 5.0, ends)
        charge = Step("charge", "Charge", "charge", 5.0, ends, limit_V=14.4)
        steps = self.random.choice(((draw,), (charge,), (draw, charge), (charge, draw)))
        return Recipe("eight", "Eight", 1, steps, STOPS, no_proof="short", method="hold")

    def use(self, seconds: float) -> None:
        """Start, pause, resume, stop, spoil and mend at random; look all the while."""
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            act = self.random.choice((self.start, self.start, self.ask, self.ask, self.spoil, self.mend, self.safe))
            if act is not self.safe or self.random.random() < 0.1:
                act(self.random.randrange(CHANNELS))
            self.look_for(0.15)

    def look_for(self, seconds: float) -> None:
        """Follow, and hold what truly flows against what is asked for and what is said."""
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            self.runs.follow()
            now = time.monotonic()
            for n, world in enumerate(self.worlds):
                live = self.runs.on_channel(f"c{n}")
                wanted = live is not None and live.latest.state.phase in LIVE
                said = live is not None and bool(live.latest.trouble)
                if abs(world.true_current_A) <= 0.1 or wanted or said:
                    self.since.pop(n, None)
                elif now - self.since.setdefault(n, now) > GRACE_S:
                    self.unsaid.append(f"{world.true_current_A:.2f} A on channel {n}, {self.faulty.get(n)}")
                    self.since[n] = now + 1e6
            time.sleep(0.02)

    def start(self, n: int) -> None:
        """A run on a channel, where there is none."""
        sample = self.samples[n]
        if self.runs.on_channel(f"c{n}") is not None:
            return
        if quarantine_of(self.book, sample.id) is not None:
            lift_quarantine(self.book, sample.id, Inspection("cool", tuple(SIGNS)))
            self.runs.looked_at(sample.id)
        made = self.recipe()
        try:
            settings = bench_settings(sample, made, self.equipment, f"c{n}", every_s=0.3)
            assert ambient_of(settings) == 23.0
            self.runs.start(sample, made, settings, (), "load", f"c{n}")
            self.count("started")
        except WintryError as error:
            self.count(f"refused: {str(error)[:20]}")

    def ask(self, n: int) -> None:
        live = self.runs.on_channel(f"c{n}")
        if live is not None:
            live.worker.ask(Request(self.random.choice(("pause", "resume", "stop", "skip", "mark"))))
            self.count("asked")

    def spoil(self, n: int) -> None:
        if n not in self.faulty:
            instrument, fault = self.random.choice(FAULTS)
            self.faulty[n] = (time.monotonic(), instrument, fault)
            self.worlds[n].fault(instrument, fault)
            self.count("spoilt")

    def mend(self, n: int) -> None:
        if n in self.faulty and time.monotonic() - self.faulty[n][0] > 3.0:
            _, instrument, fault = self.faulty.pop(n)
            self.worlds[n].fault(instrument, fault, on=False)

    def safe(self, n: int) -> None:
        self.runs.make_safe(self.samples[n].id)
        self.count("made safe")

    def count(self, what: str) -> None:
        self.done[what] = self.done.get(what, 0) + 1

    def close(self) -> list[str]:
        """Everything mended and parked; what still flows, in words."""
        for n in list(self.faulty):
            _, instrument, fault = self.faulty.pop(n)
            self.worlds[n].fault(instrument, fault, on=False)
        self.look_for(3.0)
        self.runs.park(15.0)
        time.sleep(0.5)
        left = [
            f"channel {n}: {world.true_current_A:.2f} A"
            for n, world in enumerate(self.worlds)
            if abs(world.true_current_A) > 0.1
        ]
        self.book.close()
        for made in self.stand_ins:
            made.stop()
        return left
