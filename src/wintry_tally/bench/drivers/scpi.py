"""Instruments that are asked and told in text: a question a quantity (SCPI and its relatives), in any dialect."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TypeVar

from wintry_tally.bench.drivers.address import address_of
from wintry_tally.bench.drivers.dialect import ScpiDialect, matched
from wintry_tally.bench.drivers.drives import Question, TextDrives, TextLoad, TextSupply
from wintry_tally.bench.drivers.link import TextLink
from wintry_tally.bench.drivers.numbers import is_on_in, no_error_in
from wintry_tally.bench.drivers.quantities import value_in
from wintry_tally.bench.interfaces import Drives, Reads, Sinks, Sources
from wintry_tally.bench.offplan import Exchange, OffPlan
from wintry_tally.core.errors import InstrumentError, SilentError, StillOnError

OFF_TRIES = 2
OLD_ERRORS = 8
WATCHDOG_S = 5.0
Said = TypeVar("Said")
PLUGS = {"load": "the load's lead", "supply": "the charger's lead"}


class ScpiReads(Reads):
    """Whatever a dialect can ask of an instrument."""

    def __init__(self, name: str, link: TextLink, questions: Mapping[str, Question], decimal: str = ".") -> None:
        self.name, self.link, self.questions, self.decimal = name, link, dict(questions), decimal

    def quantities(self) -> dict[str, float]:
        """See Reads."""
        return {
            quantity: value_in(self.link.ask(asked.ask), quantity, f"{self.name}, {quantity}", self.decimal, asked.unit)
            for quantity, asked in self.questions.items()
        }

    def close(self) -> None:
        """See Reads."""
        self.link.close()


def surely_off(name: str, plug: str, say: Callable[[], None], is_on: Callable[[], bool | None]) -> None:
    """Say off, ask, and say it again.

    Raises:
        InstrumentError: it is not sure; with what to unplug.
    """
    failure = ""
    for _ in range(OFF_TRIES):
        try:
            say()
            if not is_on():
                return
            failure = "it says that it is still on"
        except SilentError:
            failure = "it does not answer"
        except InstrumentError as error:
            failure = error.what
    raise StillOnError(f"{name} cannot be switched off, {failure}", mend=f"unplug {plug} at the battery")


class TextDriven(Drives):
    """Switched on and off in text; `off` asks afterwards, where the dialect knows how."""

    name: str
    link: TextLink
    words: TextDrives
    plug: str

    def say(self, says: tuple[str, ...], **values: float) -> None:
        """Send commands in order; where each gets an answer, it has to be the right one."""
        for text in says:
            made = text.format(**values)
            if not self.words.accepts:
                self.link.tell(made)
                continue
            answer = self.link.ask(made)
            if not matched(self.words.accepts, answer):
                raise InstrumentError(f"{self.name} answers “{answer[:40]}” to {made}", mend="choose a lower setting")

    def off(self) -> None:
        """See Drives: said, asked, and said again."""
        surely_off(self.name, self.plug, lambda: self.say(self.words.off), self.is_on)

    def is_on(self) -> bool | None:
        """See Drives."""
        return is_on_in(self.link.ask(self.words.is_off), self.name) if self.words.is_off else None

    def set_to(self, says: tuple[str, ...], **values: float) -> None:
        """Set it and switch it on; one that refuses is off afterwards.

        Raises:
            InstrumentError: it refuses, or does not answer.
        """
        try:
            if self.words.refused:
                self._forget_old_errors()
            self.say(says, **values)
            if self.words.refused:
                answer = self.link.ask(self.words.refused)
                if not no_error_in(answer):
                    raise InstrumentError(
                        f"{self.name} refuses the setting ({answer[:80]})", mend="choose a lower setting"
                    )
        except InstrumentError:
            self.off()
            raise

    def _forget_old_errors(self) -> None:
        for _ in range(OLD_ERRORS):
            if no_error_in(self.link.ask(self.words.refused)):
                return

    def arm(self) -> None:
        """See Drives."""
        if self.words.watchdog is not None:
            self.say(self.words.watchdog.arm)

    def feed(self) -> None:
        """See Drives."""
        if self.words.watchdog is not None:
            self.say(self.words.watchdog.feed)

    def disarm(self) -> None:
        """See Drives."""
        if self.words.watchdog is not None and self.words.watchdog.disarm:
            self.say(self.words.watchdog.disarm)

    def off_plan(self) -> OffPlan:
        """See Drives."""
        end = self.link.line_end.encode()
        answered = end if self.words.accepts else b""
        return plan_at(
            self.link.address, self.name, self.plug, self.link.baud,
            tuple(Exchange(text.encode() + end, answered) for text in self.words.off),
            Exchange(self.words.is_off.encode() + end, end) if self.words.is_off else None,
            alone=self.words.one_connection,
        )  # fmt: skip


def plan_at(
    address: str, name: str, plug: str, baud: int, says: tuple[Exchange, ...], asks: Exchange | None,
    off_answer: bytes = b"", *, alone: bool = False,
) -> OffPlan:  # fmt: skip
    """An OffPlan for an address.

    Raises:
        InstrumentError: the guard cannot speak to it there.
    """
    place = address_of(address)
    if place.kind == "visa":
        raise InstrumentError(
            f"{name} at {address} may not drive: the guard outside the program could not switch it off there",
            mend="give its network socket or its serial port",
        )
    serial = place.kind == "serial"
    return OffPlan(
        name, plug, place.host, place.port, place.path, baud, says, asks, off_answer, alone=alone or serial
    )  # fmt: skip


def question_plan(reads: Reads) -> tuple[OffPlan, Exchange] | None:
    """How the guard asks a meter for its current; None for one that cannot be asked so."""
    if not isinstance(reads, ScpiReads) or "current" not in reads.questions or reads.decimal != ".":
        return None
    question, link = reads.questions["current"], reads.link
    if question.unit not in {"", "A"} or address_of(link.address).kind == "visa":
        return None
    end = link.line_end.encode()
    return plan_at(link.address, reads.name, "", link.baud, (), None), Exchange(question.ask.encode() + end, end)


def draw_by(driven: TextDriven, words: TextLoad, mode: str, setting: float) -> None:
    """Draw; refused where the dialect has no word for the mode, or the load says so."""
    driven.set_to(way_of(driven.name, words.ways, mode), setting=setting)


def way_of(name: str, ways: Mapping[str, tuple[Said, ...]], mode: str) -> tuple[Said, ...]:
    """What is said to draw in that mode.

    Raises InstrumentError where the dialect does not know the mode.
    """
    says = ways.get(mode)
    if not says:
        raise InstrumentError(f"{name} cannot draw at constant {mode}", mend="choose another way to draw")
    return says


class ScpiLoad(TextDriven, ScpiReads, Sinks):
    """A load."""

    plug = PLUGS["load"]

    def __init__(self, name: str, link: TextLink, dialect: ScpiDialect) -> None:
        super().__init__(name, link, dialect.reads, dialect.decimal)
        assert dialect.load is not None
        self.words: TextLoad = dialect.load

    def draw(self, mode: str, setting: float) -> None:
        """See Sinks."""
        draw_by(self, self.words, mode, setting)


class ScpiSupply(TextDriven, ScpiReads, Sources):
    """A charger or a supply."""

    plug = PLUGS["supply"]

    def __init__(self, name: str, link: TextLink, dialect: ScpiDialect) -> None:
        super().__init__(name, link, dialect.reads, dialect.decimal)
        assert dialect.supply is not None
        self.words: TextSupply = dialect.supply

    def charge(self, setting_A: float, limit_V: float) -> None:
        """See Sources."""
        self.set_to(self.words.charge, setting=setting_A, limit=limit_V)
