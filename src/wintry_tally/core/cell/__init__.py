"""The battery model: voltage, charge wells, heat and protection, for lithium and lead-acid packs."""

from wintry_tally.core.cell.battery_model import BatteryModel, Terminal
from wintry_tally.core.cell.parameters import Parameters, Protection, aged, parameters_for

__all__ = ["BatteryModel", "Parameters", "Protection", "Terminal", "aged", "parameters_for"]
