"""What the engine knows and says: phases, the table of transitions, observations, requests, commands, events."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, replace
from enum import StrEnum
from typing import Any

from wintry_tally.core.message import message_data, message_from
from wintry_tally.core.protocol.recipe import EndCause


class Phase(StrEnum):
    """Where a run is."""

    READY = "ready"
    RESTING = "resting"
    DISCHARGING = "discharging"
    CHARGING = "charging"
    PROMPTING = "prompting"
    PAUSED = "paused"
    ENDED = "ended"


LIVE = frozenset({Phase.DISCHARGING, Phase.CHARGING})
"""The phases in which current is meant to flow."""


class Trigger(StrEnum):
    """What can move it on."""

    START_REST = "start-rest"
    START_DISCHARGE = "start-discharge"
    START_CHARGE = "start-charge"
    ASK = "ask"
    PAUSE = "pause"
    RESUME_DISCHARGE = "resume-discharge"
    RESUME_CHARGE = "resume-charge"
    FINISH = "finish"
    STOP = "stop"


_GOING = (Phase.RESTING, Phase.DISCHARGING, Phase.CHARGING, Phase.PROMPTING)
_STARTS = {
    Trigger.START_REST: Phase.RESTING,
    Trigger.START_DISCHARGE: Phase.DISCHARGING,
    Trigger.START_CHARGE: Phase.CHARGING,
    Trigger.ASK: Phase.PROMPTING,
}

TRANSITIONS: dict[tuple[Phase, Trigger], Phase] = {
    **{(phase, trigger): to for phase in (Phase.READY, *_GOING) for trigger, to in _STARTS.items()},
    **{(phase, Trigger.STOP): Phase.ENDED for phase in (Phase.READY, Phase.PAUSED, *_GOING)},
    **{(phase, Trigger.FINISH): Phase.ENDED for phase in _GOING},
    **{(phase, Trigger.PAUSE): Phase.PAUSED for phase in LIVE},
    (Phase.PAUSED, Trigger.RESUME_DISCHARGE): Phase.DISCHARGING,
    (Phase.PAUSED, Trigger.RESUME_CHARGE): Phase.CHARGING,
}
"""Every move a run can make; anything else is a bug and raises."""


@dataclass(frozen=True)
class Observation:
    """One reading of the bench; NaN where the instrument gave nothing usable. Current positive while drawn.

    `fault`: why a reading is not usable, in words; empty for a good one.
    `beside`: what else was told, by the names of core.trace.beside: counters, a second meter, the pack's cells.
    """

    voltage_V: float
    current_A: float
    temperature_C: float | None = None
    fault: str = ""
    beside: Mapping[str, float] = field(default_factory=dict)

    @property
    def lowest_cell(self) -> tuple[str, float] | None:
        """The lowest cell and its V, where the pack tells its cells."""
        cells = [(value, name) for name, value in self.beside.items() if name.startswith("cell_")]
        return (min(cells)[1], min(cells)[0]) if cells else None


@dataclass(frozen=True)
class Request:
    """What a person asks: "pause", "resume", "stop", "skip", "answer", "mark" (with words), "set" a setting, or
    "hand-over" to another bench (its name in words): outputs off, and paused where current flowed.

    The bench asks too: "lost", when an instrument refuses or cannot be reached; "disturbed", when other hands changed an
    output; "cut-off", when a load stopped by itself; "limit", when something beyond the fixed limits has to stop;
    "not-proven", when the connection is wrong; "make-safe" and "fault" (each with the reason).
    To a run that has ended and would not go off a person says "unplugged".
    `of_step`: the step (its index) that whoever asks had before their eyes; of any other nothing is done.
    """

    kind: str
    setting: float = 0.0
    words: str = ""
    of_step: int | None = None


@dataclass(frozen=True)
class Command:
    """What the bench must do now: "draw" or "charge" at a setting (a charge up to `limit_V`), "ask", or "off"."""

    kind: str
    mode: str = ""
    setting: float = 0.0
    limit_V: float = 0.0
    words: str = ""


@dataclass(frozen=True)
class Event:
    """Something that happened, with its time: kept with the run. `message`: a message of the catalogue, or own words."""

    at_s: float
    kind: str
    message: str


OFF = Command("off")


@dataclass(frozen=True)
class RunState:
    """Everything the engine knows of a run; plain data, so that it can be kept and taken up again.

    Parts:
        charge_Ah, energy_Wh, load_s: drawn so far; put_in_Ah, put_in_Wh, charge_s: charged so far.
        step_Ah: moved in this step; met: readings in a row for which each of the step's rules held.
        anchor_s, anchor_V: a reading a while ago, for slopes.
        cause, detail: what ended its last discharge (a charge where there was none), and what was seen then: what is judged by.
        over, over_detail: what ended the run itself; another where it was stopped while a rebound was watched. warned: what was warned of in this step, (key, message), in the order it came.
        zero_A: what its meter may read with nothing flowing; no rule takes less for a current.
    """

    phase: Phase = Phase.READY
    index: int = 0
    step_since_s: float = 0.0
    step_live_s: float = 0.0
    last_s: float | None = None
    last_V: float = math.nan
    last_A: float = 0.0
    setting: float = 0.0
    charge_Ah: float = 0.0
    energy_Wh: float = 0.0
    load_s: float = 0.0
    put_in_Ah: float = 0.0
    put_in_Wh: float = 0.0
    charge_s: float = 0.0
    step_Ah: float = 0.0
    met: tuple[int, ...] = ()
    bad: int = 0
    cold_s: float = 0.0
    anchor_s: float | None = None
    anchor_V: float = math.nan
    cause: EndCause | None = None
    detail: str = ""
    over: EndCause | None = None
    over_detail: str = ""
    warned: tuple[tuple[str, str], ...] = ()
    warm_s: float | None = None
    warm_C: float | None = None
    warmer_s: float | None = None
    warmer_C: float | None = None
    zero_A: float = 0.0

    def after(self, changes: dict[str, Any]) -> RunState:
        """With some of its fields changed: what `dataclasses.replace` does in ten times as long, at every reading."""
        assert changes.keys() <= self.__dataclass_fields__.keys(), changes
        made = object.__new__(RunState)
        made.__dict__.update(self.__dict__, **changes)
        return made

    def as_dict(self) -> dict[str, Any]:
        """Plain data for the journal."""
        plain = asdict(self)
        for name in ("detail", "over_detail"):
            plain[name] = message_data(plain[name]) if plain[name] else ""
        plain["warned"] = [(key, message_data(words)) for key, words in self.warned]
        return plain

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> RunState:
        """Taken up again from `as_dict`."""
        known = {name: data[name] for name in cls.__dataclass_fields__ if name in data}
        known["phase"] = Phase(known["phase"])
        for name in ("cause", "over"):
            known[name] = EndCause(known[name]) if known.get(name) else None
        known["met"] = tuple(known.get("met") or ())
        known["warned"] = tuple((str(key), message_from(words)) for key, words in known.get("warned") or ())
        for name in ("detail", "over_detail"):
            known[name] = message_from(known.get(name, ""))
        for name in ("last_V", "last_A", "anchor_V"):
            known[name] = math.nan if known.get(name) is None else known[name]
        return cls(**known)


@dataclass(frozen=True)
class Result:
    """The state after a step, the commands to carry out in order, and the events to keep."""

    state: RunState
    commands: tuple[Command, ...] = ()
    events: tuple[Event, ...] = ()


def moved(state: RunState, trigger: Trigger, now_s: float, message: str, **changes: Any) -> tuple[RunState, Event]:
    """The state after a transition, and its event; a move that is not in the table is a bug and raises."""
    try:
        phase = TRANSITIONS[state.phase, trigger]
    except KeyError:
        raise AssertionError(f"no transition from {state.phase} by {trigger}") from None
    return replace(state, phase=phase, **changes), Event(now_s, trigger.value, message)
