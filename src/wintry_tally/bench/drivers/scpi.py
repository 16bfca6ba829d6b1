"""Instruments that are asked and told in text (SCPI and its relatives), in whatever dialect a data file gives."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping

from wintry_tally.bench.drivers.dialect import Dialect
from wintry_tally.bench.drivers.link import VisaLink
from wintry_tally.bench.interfaces import Reads, Sinks, Sources
from wintry_tally.core.errors import InstrumentError

_NUMBER = re.compile(r"[-+]?\d+(?:\.\d*)?(?:[eE][-+]?\d+)?")
OFF_TRIES = 3


def number_in(answer: str, what: str) -> float:
    """The number an instrument answered.

    Raises:
        InstrumentError: there is none, or it is SCPI's word for "not a number" or "overload".
    """
    match = _NUMBER.match(answer.strip())
    if match is None:
        raise InstrumentError(f'{what}: "{answer[:40]}" is no number')
    value = float(match[0])
    if not math.isfinite(value) or abs(value) >= 9.9e36:
        raise InstrumentError(f"{what}: the instrument shows no number (out of its range)")
    return value


class ScpiReads(Reads):
    """Whatever a dialect can ask of an instrument."""

    def __init__(self, name: str, link: VisaLink, questions: Mapping[str, str]) -> None:
        self.name, self.link, self.questions = name, link, dict(questions)

    def quantities(self) -> dict[str, float]:
        """See Reads."""
        return {
            quantity: number_in(self.link.ask(question), f"{self.name}, {quantity}")
            for quantity, question in self.questions.items()
        }

    def close(self) -> None:
        """See Reads."""
        self.link.close()


def _off(name: str, link: VisaLink, words: Mapping[str, object], lead: str) -> None:
    """Say off, and make sure; a line that broke is opened anew.

    Raises:
        InstrumentError: three tries failed; the message says what to unplug.
    """
    failure = ""
    for _ in range(OFF_TRIES):
        try:
            _say(link, words["off"])
            if not words.get("is_off") or link.ask(str(words["is_off"])).upper() in {"0", "OFF"}:
                return
            failure = "it says that it is still on"
        except InstrumentError:
            failure = "it does not answer"
    raise InstrumentError(f"{name} cannot be switched off, {failure}", mend=f"unplug {lead} at the battery")


def _say(link: VisaLink, words: object, **values: float) -> None:
    for text in words if isinstance(words, (list, tuple)) else [words]:
        link.tell(str(text).format(**values))


def _refusal(name: str, link: VisaLink, question: object) -> None:
    if not question:
        return
    answer = link.ask(str(question))
    if not answer.lstrip("+").startswith("0"):
        raise InstrumentError(f"{name} refuses the setting ({answer[:80]})", mend="choose a lower setting")


def _accepted(instrument: ScpiLoad | ScpiSupply) -> None:
    """Whether it took the setting; one that did not is off afterwards."""
    try:
        _refusal(instrument.name, instrument.link, instrument.words.get("refused"))
    except InstrumentError:
        instrument.off()
        raise


class ScpiLoad(ScpiReads, Sinks):
    """A load."""

    def __init__(self, name: str, link: VisaLink, dialect: Dialect) -> None:
        super().__init__(name, link, dialect.reads)
        self.words = dialect.load

    def draw(self, mode: str, setting: float) -> None:
        """See Sinks; refused where the dialect has no word for the mode, or the load says so."""
        if mode not in self.words:
            raise InstrumentError(f"{self.name} cannot draw at constant {mode}", mend="choose another way to draw")
        _say(self.link, self.words[mode], setting=setting)
        _accepted(self)

    def off(self) -> None:
        """See Sinks."""
        _off(self.name, self.link, self.words, "the load's lead")


class ScpiSupply(ScpiReads, Sources):
    """A charger or a supply."""

    def __init__(self, name: str, link: VisaLink, dialect: Dialect) -> None:
        super().__init__(name, link, dialect.reads)
        self.words = dialect.supply

    def charge(self, setting_A: float, limit_V: float) -> None:
        """See Sources."""
        _say(self.link, self.words["charge"], setting=setting_A, limit=limit_V)
        _accepted(self)

    def off(self) -> None:
        """See Sources."""
        _off(self.name, self.link, self.words, "the charger's lead")
