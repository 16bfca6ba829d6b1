"""Meters, packs, loads and supplies that answer one question with a line of several values."""

from __future__ import annotations

from wintry_tally.bench.drivers.dialect import AskedDialect
from wintry_tally.bench.drivers.drives import TextLoad, TextSupply
from wintry_tally.bench.drivers.lines import values_in
from wintry_tally.bench.drivers.link import TextLink
from wintry_tally.bench.drivers.scpi import PLUGS, TextDriven, draw_by
from wintry_tally.bench.interfaces import Reads, Sinks, Sources
from wintry_tally.core.errors import InstrumentError


class AskedReads(Reads):
    """Asked once for all it measures."""

    def __init__(self, name: str, link: TextLink, dialect: AskedDialect) -> None:
        self.name, self.link, self.dialect = name, link, dialect

    def quantities(self) -> dict[str, float]:
        """See Reads."""
        answer = self.link.ask(self.dialect.ask)
        found = values_in(answer, self.dialect, self.name)
        if not found:
            raise InstrumentError(f"{self.name} answers “{answer[:40]}”, which its pattern does not know")
        return found

    def close(self) -> None:
        """See Reads."""
        self.link.close()


class AskedLoad(TextDriven, AskedReads, Sinks):
    """A load."""

    plug = PLUGS["load"]

    def __init__(self, name: str, link: TextLink, dialect: AskedDialect) -> None:
        super().__init__(name, link, dialect)
        assert dialect.load is not None
        self.words: TextLoad = dialect.load

    def draw(self, mode: str, setting: float) -> None:
        """See Sinks."""
        draw_by(self, self.words, mode, setting)


class AskedSupply(TextDriven, AskedReads, Sources):
    """A charger or a supply."""

    plug = PLUGS["supply"]

    def __init__(self, name: str, link: TextLink, dialect: AskedDialect) -> None:
        super().__init__(name, link, dialect)
        assert dialect.supply is not None
        self.words: TextSupply = dialect.supply

    def charge(self, setting_A: float, limit_V: float) -> None:
        """See Sources."""
        self.set_to(self.words.charge, setting=setting_A, limit=limit_V)
