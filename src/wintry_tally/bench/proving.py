"""Proving the connection before a run: OFF and a look, then a pulse of seconds at two levels, and what it says."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace

from wintry_tally.bench.interfaces import Channel
from wintry_tally.core.engine import OFF, Command, Observation
from wintry_tally.core.engine.proof import Expected, Finding, Level, Proof, at_rest, level_of
from wintry_tally.core.engine.pulse import judge_pulse
from wintry_tally.core.message import Message, as_message, said, several
from wintry_tally.core.protocol import Recipe
from wintry_tally.core.protocol.preflight import Bench
from wintry_tally.core.protocol.recipe import most_amps

EVERY_S = 0.25
LOOKS, PULSES = 4, 5
SETTLED = 3
"""Of a level's readings the last three count: instruments take their time."""
DRAW_C, CHARGE_C = 0.4, 0.2
IN_HAND = 0.9
COLD_C = 5.0
NEAR_FULL, NEAR_EMPTY = 0.983, 1.1
"""Of a charge's limit and of the family's cut-off: a charge is not tried above the one, nothing is drawn below the other."""


@dataclass(frozen=True)
class ProofPlan:
    """What may be tried on a bench.

    Parts:
        draw_A, charge_A: the higher of the two levels; 0 where it is left out. limit_V: the charge's.
        left_out: why no pulse, in words; empty where one is tried.
        least_V: below it nothing is drawn; cold_C: below it nothing is charged.
    """

    expected: Expected
    draw_A: float = 0.0
    charge_A: float = 0.0
    limit_V: float = 0.0
    left_out: str = ""
    least_V: float = -math.inf
    override: str = ""


def plan_proof(recipe: Recipe, bench: Bench, rated_Ah: float, expected: Expected) -> ProofPlan:
    """The pulse for a recipe on a bench: within its ceilings, and left out where the recipe forbids it."""
    if recipe.no_proof or not recipe.live:
        return ProofPlan(expected, left_out=recipe.no_proof or said("no-pulse-undriven"))
    family, volts = expected.family, expected.volts[1]
    draws = any(step.kind == "discharge" and step.mode != "hand" for step in recipe.steps)
    charges = [step for step in recipe.steps if step.kind == "charge"]
    own = [
        most_amps(step, family) for step in recipe.steps if step.kind in {"discharge", "charge"} and step.mode != "hand"
    ]
    most = max(own, default=0.0)  # leads and fuse are chosen for the run, not for the pulse
    draw = min(
        most,
        DRAW_C * rated_Ah,
        IN_HAND * bench.load_A,
        IN_HAND * bench.load_W / volts,
        IN_HAND * recipe.stops.current_high_A,
    )
    draw = draw if bench.load_W > 0 else 0.0
    charge = (
        min(most, CHARGE_C * rated_Ah, IN_HAND * bench.charger_A, IN_HAND * recipe.stops.charge_high_A)
        if charges
        else 0.0
    )
    if not draws and not charges:
        return ProofPlan(expected, left_out=said("no-pulse-hands"))
    limit = charges[0].limit_V if charges else math.inf
    return ProofPlan(
        replace(expected, limit_V=limit), draw, charge, charges[0].limit_V if charges else 0.0, least_V=NEAR_EMPTY * family.cutoff_V
    )  # fmt: skip


@dataclass
class _Stage:
    command: Command
    readings: int
    set_A: float = 0.0
    doing: str = ""
    seen: list[Observation] = field(default_factory=list)
    beside: list[dict[str, float]] = field(default_factory=list)

    def level(self, doing: str) -> Level:
        """Means of the last readings, with what the load ("draw") or the charger ("charge") said itself."""
        own = [
            {name.removeprefix(f"{doing}_"): value for name, value in item.items()} for item in self.beside[-SETTLED:]
        ]
        return level_of(self.set_A, self.seen[-SETTLED:], own)


class Proving:
    """Goes from stage to stage as readings come in; `command` is what the bench has to do now, `done` when it is over."""

    def __init__(self, plan: ProofPlan, channel: Channel) -> None:
        self.plan, self._channel = plan, channel
        self._stages = [_Stage(OFF, LOOKS, doing="look")]
        self._place = 0
        self._last_s: float | None = None
        self.moved_Ah = 0.0
        self.proof = Proof(())
        self.left_out = plan.left_out
        self.done = False

    @property
    def command(self) -> Command:
        """What the bench has to do in this stage."""
        return self._stages[self._place].command

    def see(self, seen: Observation, now_s: float) -> Command | None:
        """Take a usable reading; the next command, where there is one."""
        stage = self._stages[self._place]
        if self._last_s is not None and stage.set_A:
            self.moved_Ah += seen.current_A * (now_s - self._last_s) / 3600.0
        self._last_s = now_s
        stage.seen.append(seen)
        stage.beside.append(self._beside(stage))
        if len(stage.seen) < stage.readings:
            return None
        if stage.doing == "look":
            self._looked(stage)
        elif stage.doing in {"drawn", "charged"}:
            self._pulsed()
        if self.done or self._place + 1 >= len(self._stages):
            self.done = True
            return OFF
        self._place += 1
        return self.command

    def _beside(self, stage: _Stage) -> dict[str, float]:
        told = {"second_V": stage.seen[-1].beside.get("second_V"), "pack_V": self._channel.pack_voltage()}
        for doing in ("draw", "charge"):
            told[f"{doing}_own_V"] = self._channel.own_voltage(doing)
            told[f"{doing}_own_A"] = self._channel.own_current(doing)
        return {name: value for name, value in told.items() if value is not None}

    def _looked(self, stage: _Stage) -> None:
        """Before anything flows: what is wrong at once, and what may be tried."""
        plan = self.plan
        if self.left_out:
            return  # this was its only stage
        rest = stage.level("draw" if plan.draw_A > 0 else "charge")
        found = at_rest(rest, plan.expected, supply=plan.draw_A <= 0)
        if plan.draw_A > 0 and plan.charge_A > 0 and not found:
            found = at_rest(stage.level("charge"), plan.expected, supply=True)
        self._found(found)
        if self.proof.bars and not plan.override:
            return  # so was this
        if plan.draw_A > 0 and rest.volts >= plan.least_V:
            self._stages += self._pulse("draw", plan.draw_A)
        cold = rest.celsius if rest.celsius is not None else plan.expected.ambient_C
        warm = cold is None or cold >= COLD_C
        awake = rest.volts >= plan.expected.family.cutoff_V
        if plan.charge_A > 0 and warm and awake and rest.volts < NEAR_FULL * plan.limit_V:
            self._stages += self._pulse("charge", plan.charge_A)
        if len(self._stages) == 1:
            self.left_out = said("no-pulse-rests")

    def _pulse(self, doing: str, most: float) -> list[_Stage]:
        past = {"draw": "drawn", "charge": "charged"}[doing]
        way = 1.0 if doing == "draw" else -1.0

        def command(amps: float) -> Command:
            return (
                Command("draw", "current", amps)
                if doing == "draw"
                else Command("charge", "charge", amps, self.plan.limit_V)
            )

        return [
            _Stage(command(0.5 * most), PULSES, way * 0.5 * most, doing),
            _Stage(command(most), PULSES, way * most, doing),
            _Stage(OFF, LOOKS, doing=past),
        ]

    def _pulsed(self) -> None:
        doing = self._stages[self._place - 1].doing
        rest, low, high = (part.level(doing) for part in self._stages[self._place - 3 : self._place])
        made = judge_pulse(rest, low, high, self.plan.expected, doing)
        ohm, lead = (
            (made.ohm, made.lead_ohm)
            if doing == "draw" or self.proof.ohm is None
            else (self.proof.ohm, self.proof.lead_ohm)
        )
        self.proof = replace(self.proof, ohm=ohm, lead_ohm=lead, ohms={**self.proof.ohms, **made.ohms})
        self._found(list(made.findings))
        if self.proof.bars and not self.plan.override:
            self.done = True

    def _found(self, more: list[Finding]) -> None:
        self.proof = replace(self.proof, findings=(*self.proof.findings, *more), moved_Ah=self.moved_Ah)

    @property
    def words(self) -> Message:
        """What it showed, in a sentence for the record."""
        if self.left_out and not self.proof.findings:
            return said("no-pulse", why=as_message(self.left_out))
        told = [item.message for item in self.proof.findings]
        if self.proof.ohm is not None:
            told.append(said("proof-ohm", mohm=1000 * self.proof.ohm))
        if self.proof.lead_ohm is not None:
            told.append(said("proof-leads", mohm=1000 * self.proof.lead_ohm))
        if self.moved_Ah:
            told.append(said("proof-moved", charge_Ah=abs(self.moved_Ah)))
        return several(told) if told else said("proof-clean")
