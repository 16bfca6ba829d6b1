"""What the book returns beside core objects: a run with its settings."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from enum import StrEnum
from functools import lru_cache
from typing import TYPE_CHECKING, Any, TypeVar

from wintry_tally.core.battery import Family, Sample, family_named, pack_of
from wintry_tally.core.engine import Event
from wintry_tally.core.errors import BookError
from wintry_tally.core.message import NOTHING, Message, message_data, message_from
from wintry_tally.core.protocol.method import Method
from wintry_tally.core.quantity import Accuracy, parse_accuracy

if TYPE_CHECKING:
    from wintry_tally.core.analysis import Options


class RunStatus(StrEnum):
    """Where a run stands in the book."""

    RUNNING = "running"
    FINISHED = "finished"
    INTERRUPTED = "interrupted"


REPAIRS = ("none", "safe", "offered")


def _accuracy(text: str) -> Accuracy | None:
    return parse_accuracy(text) if text else None


@dataclass(frozen=True)
class RunSettings:
    """What was known and set for a run; kept as JSON. Accuracies as written in a manual, "" where unknown.

    Parts:
        channel: of the bench, "" for none; state_of_charge: at the start, 0 to 1; start_C: of the core, of a stand-in battery.
        ambient_stated: somebody said it; override: a person's written reason to go on in spite of the proof of connection.
        unnamed: of an imported log, the fields of which nothing said what unit they are in, with spaces between.
        volts_at: where the volts were read, "terminals" or "load", as somebody said.
        saw_end: how its discharge ended, as somebody saw it (`SEEN` of the analysis), where no reading tells.
        keep_every_s: what is kept as seldom as this, 0 for all; read_every_s: by hand, 0 for as usual; charging: by hand, a charge.
    """

    family: str = "lfp"
    rated_Ah: float | None = None
    cutoff_V: float | None = None
    voltage_accuracy: str = ""
    current_accuracy: str = ""
    voltage_resolution: float = 0.0
    current_resolution: float = 0.0
    instrument: str = ""
    ambient_C: float | None = None
    rest_before_s: float | None = None
    interval_s: float = 1.0
    speed: float = 1.0
    seed: int = 0
    mode: str = "current"
    setting: float = 0.0
    power_W: float = 180.0
    load_A: float = 20.0
    clock_s: float = 0.0
    health: float = 1.0
    nominal_V: float | None = None
    channel: str = ""
    state_of_charge: float = 1.0
    start_C: float | None = None
    ambient_stated: bool = False
    override: str = ""
    keep_every_s: float = 0.0
    read_every_s: float = 0.0
    charging: bool = False
    second_voltage_accuracy: str = ""
    second_current_accuracy: str = ""
    unnamed: str = ""
    volts_at: str = ""
    saw_end: str = ""

    @classmethod
    def of(cls, sample: Sample, **known: Any) -> RunSettings:
        """Of a run of this battery: its family, its cells in series and its rating are those of the run."""
        return cls(family=sample.family_key, nominal_V=sample.nominal_V, rated_Ah=sample.rated_Ah, **known)

    @property
    def pack(self) -> Family:
        """The profile of the battery's pack."""
        return pack_of(family_named(self.family), self.nominal_V)

    def options(self, dropouts_V: tuple[float, ...] = (), repair: str = "safe") -> Options:
        """The same as options of an analysis.

        Raises:
            InputError: an accuracy that cannot be read.
        """
        from wintry_tally.core.analysis import Instrument, Options

        return Options(
            family=self.pack,
            rated_Ah=self.rated_Ah,
            instrument=Instrument(
                _accuracy(self.voltage_accuracy), _accuracy(self.current_accuracy), self.instrument, self.clock_s
            ),
            second=Instrument(_accuracy(self.second_voltage_accuracy), _accuracy(self.second_current_accuracy)),
            cutoff_V=self.cutoff_V,
            dropouts_V=dropouts_V,
            ambient_C=self.ambient_C,
            repair=repair,  # type: ignore[arg-type]
            volts_at=self.volts_at,  # type: ignore[arg-type]
            ended_by=self.saw_end,
        )


@dataclass(frozen=True)
class Run:
    """One run of a sample at a station.

    Parts:
        method: by which way its readings come about.
        state, bench: the engine's and the stand-in's state, as plain data, to take it up again.
        owner: which process, of which computer, holds a running run; lease: when it last said so, by the book's clock.
        left_out: set by the user to keep it out of verdicts.
    """

    id: int
    sample_id: int
    station: str
    title: str
    method: Method
    status: RunStatus
    started: datetime
    ended: datetime | None
    settings: RunSettings
    recipe: dict[str, Any]
    state: dict[str, Any]
    bench: dict[str, Any]
    cause: str
    detail: str
    owner: str
    left_out: bool
    repair: str
    original_name: str
    lease: str | None = None


def utc_text(moment: datetime) -> str:
    """ISO 8601 in UTC."""
    return moment.astimezone(UTC).isoformat(timespec="milliseconds")


FROM_BACKUP = "something else wrote into it: fetch the book from a backup"


@contextmanager
def read_as(what: str) -> Iterator[None]:
    """What stands in a book but cannot be what it should be is told as the book's fault, in a line.

    Raises:
        BookError: `what` cannot be read.
    """
    try:
        yield
    except (ValueError, TypeError, KeyError, AttributeError, IndexError, OverflowError, RecursionError) as error:
        reason = " ".join(str(error).split())[:100]
        raise BookError(f"{what} cannot be read ({reason})", mend=FROM_BACKUP) from None


Made = TypeVar("Made")
_NONE = type(None)
_MAY_BE: dict[str, tuple[type, ...]] = {
    "str": (str,), "float": (float, int), "int": (int,), "bool": (bool,), "float | None": (float, int, _NONE),
    "str | None": (str, _NONE), "bool | None": (bool, _NONE), "int | None": (int, _NONE), "dict[str, Any]": (dict,),
}  # fmt: skip


_WANTED: dict[type, dict[str, Any]] = {}


def _wanted(kind: type) -> dict[str, Any]:
    """What the fields of a record may be; None where anything may."""
    if kind not in _WANTED:
        fields = kind.__dataclass_fields__  # type: ignore[attr-defined]
        _WANTED[kind] = {name: _MAY_BE.get(str(field.type)) for name, field in fields.items()}
    return _WANTED[kind]


def made_of(kind: type[Made], values: Mapping[str, Any]) -> Made:
    """A record of plain values, each looked at first: SQLite keeps whatever somebody writes into a column.

    Raises:
        ValueError: a value of another type, or a number without end.
    """
    wanted_of, known = _wanted(kind), {}
    for name, value in values.items():
        if name not in wanted_of:
            continue
        wanted = wanted_of[name]
        if wanted is not None and not isinstance(value, wanted):
            raise ValueError(f"{name} is {type(value).__name__}")
        if isinstance(value, float) and not math.isfinite(value):
            raise ValueError(f"{name} is {value}")
        known[name] = value
    return kind(**known)


def plain_of(text: Any, kind: type = dict) -> Any:
    """What a column of JSON holds.

    Raises:
        ValueError: it is no JSON, or of another kind.
    """
    if not isinstance(text, str):
        raise ValueError(f"{type(text).__name__} where JSON should be")
    found = json.loads(text)
    if not isinstance(found, kind):
        raise ValueError(f"{type(found).__name__} where {kind.__name__} should be")
    return found


def message_text(words: str) -> str:
    """A message as a column keeps it: JSON of its code and parts; nothing where it says nothing."""
    return json.dumps(message_data(words), ensure_ascii=False) if words else ""


@lru_cache(maxsize=512)
def message_of(text: str) -> Message:
    """A message as a column kept it.

    Raises:
        ValueError: it is no JSON.
    """
    return message_from(plain_of(text)) if text != "" else NOTHING


def event_of(row: Any) -> Event:
    """An event as its row has it.

    Raises:
        ValueError: what stands there cannot be one.
    """
    return made_of(Event, {"at_s": row["at_s"], "kind": row["kind"], "message": message_of(row["message"])})


def event_row(run_id: int, event: Event) -> dict[str, Any]:
    """The row that keeps an event of a run."""
    return {"run_id": run_id, "at_s": event.at_s, "kind": event.kind, "message": message_text(event.message)}


@lru_cache(maxsize=512)
def _settings(text: str) -> RunSettings:
    """Many runs of a book are set alike; nobody changes what is read. Older books have some of it under `extra`."""
    known = plain_of(text)
    more = known.pop("extra", {})
    if not isinstance(more, dict):
        raise ValueError(f"extra is {type(more).__name__}")
    return made_of(RunSettings, {**known, **{name: value for name, value in more.items() if value is not None}})


@lru_cache(maxsize=512)
def _recipe(text: str) -> dict[str, Any]:
    found: dict[str, Any] = plain_of(text)
    return found


def run_of(row: Any) -> Run:
    """A run as its row has it.

    Raises:
        BookError: what stands there cannot be one.
    """
    with read_as(f"run {row['id']} of the book"):
        return _run_of(row)


def _run_of(row: Any) -> Run:
    values = dict(row)
    values |= {name: plain_of(row[name]) for name in ("state", "bench")}
    values["detail"] = message_of(row["detail"])
    if row["repair"] not in REPAIRS:
        raise ValueError(f"repair is {row['repair']}")
    values |= {
        "status": RunStatus(row["status"]),
        "method": Method(row["method"]),
        "started": _moment(row["started_utc"]),
        "ended": _moment(row["ended_utc"]) if row["ended_utc"] else None,
        "recipe": _recipe(row["recipe"]),
        "settings": _settings(row["settings"]),
    }
    return made_of(Run, values)


def _moment(text: str) -> datetime:
    moment = datetime.fromisoformat(text)
    if moment.tzinfo is None:
        raise ValueError(f"{text} names no zone")
    return moment
