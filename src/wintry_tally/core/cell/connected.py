"""A battery model with a load or a charger connected to it: one body for forecasts, practice and the stand-ins."""

from __future__ import annotations

from wintry_tally.core.cell.battery_model import BatteryModel


class Connected:
    """The simulated battery and what is set on it; nothing flows until `draw` or `source`."""

    __slots__ = ("current_A", "limit_V", "mode", "model", "setting", "voltage_V")

    def __init__(self, model: BatteryModel) -> None:
        self.model = model
        self.off()
        self.voltage_V = model.terminal_V(0.0)

    def draw(self, mode: str, setting: float) -> None:
        """Draw at "current" (A), "power" (W) or "resistance" (Ω)."""
        self.mode, self.setting, self.limit_V = mode, setting, 0.0

    def source(self, setting: float, limit_V: float) -> None:
        """Charge at constant current up to a limit, then at constant voltage."""
        self.mode, self.setting, self.limit_V = "charge", setting, limit_V

    def off(self) -> None:
        """Nothing flows from now on."""
        self.mode, self.setting, self.limit_V, self.current_A = "", 0.0, 0.0, 0.0

    def advance(self, seconds: float) -> None:
        """Let time pass."""
        if self.mode == "charge":
            seen = self.model.charge(self.setting, self.limit_V, seconds)
        else:
            wanted = self.model.current_for(self.mode, self.setting) if self.mode else 0.0
            seen = self.model.advance(wanted, seconds)
        self.voltage_V, self.current_A = seen.voltage_V, seen.current_A
