"""Stand-ins without a line between: the same wrong ways and faults, spoken to as objects, for thousands of trials."""

from __future__ import annotations

from wintry_tally.bench.interfaces import Reads, Sinks, Sources
from wintry_tally.bench.offplan import OffPlan
from wintry_tally.bench.stand_ins.world import StandInWorld
from wintry_tally.core.trace.beside import cell_name


class DirectReads(Reads):
    """A meter, a thermometer or the pack."""

    def __init__(self, world: StandInWorld, role: str) -> None:
        self.world, self.role = world, role

    def quantities(self) -> dict[str, float]:
        """See Reads."""
        seen = self.world.read(self.role)
        if self.role == "thermometer":
            return {"temperature": seen.temperature_C or 0.0}
        amps = -seen.current_A if self.role == "supply" else seen.current_A
        found = {"voltage": seen.voltage_V, "current": amps}
        if self.role == "pack":
            found |= {cell_name(number): volts for number, volts in enumerate(self.world.cells_V(), 1)}
        return found

    def close(self) -> None:
        """See Reads."""


class DirectLoad(DirectReads, Sinks):
    """A load."""

    def draw(self, mode: str, setting: float) -> None:
        """See Sinks."""
        self.world.draw(mode, setting)

    def off(self) -> None:
        """See Drives."""
        self.world.off("load")

    def is_on(self) -> bool | None:
        """See Drives."""
        return self.world.load_on

    def off_plan(self) -> OffPlan | None:
        """See Drives: nothing real is switched."""
        return None


class DirectSupply(DirectReads, Sources):
    """A supply."""

    def charge(self, setting_A: float, limit_V: float) -> None:
        """See Sources."""
        self.world.charge(setting_A, limit_V)

    def off(self) -> None:
        """See Drives."""
        self.world.off("supply")

    def is_on(self) -> bool | None:
        """See Drives."""
        return self.world.charger_on

    def off_plan(self) -> OffPlan | None:
        """See Drives: nothing real is switched."""
        return None


def direct_drivers(world: StandInWorld) -> dict[str, Reads]:
    """Every stand-in of a world, by its role."""
    made: dict[str, Reads] = {role: DirectReads(world, role) for role in ("meter", "second", "thermometer", "pack")}
    return made | {"load": DirectLoad(world, "load"), "supply": DirectSupply(world, "supply")}
