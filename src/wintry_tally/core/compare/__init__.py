"""Batteries side by side: figures at like conditions, differences and how surely one is better; and needs."""

from wintry_tally.core.compare.comparing import Comparison, Row, Unlike, compare_samples
from wintry_tally.core.compare.figures import QUANTITIES, Conditions, Figure, figures_of
from wintry_tally.core.compare.need import Device, Need, NeedResult, judge_need
from wintry_tally.core.compare.tested import Tested, emptied, share_held, whole_discharges, whole_test

__all__ = [
    "QUANTITIES", "Comparison", "Conditions", "Device", "Figure", "Need", "NeedResult", "Row", "Tested", "Unlike",
    "compare_samples", "emptied", "figures_of", "judge_need", "share_held", "whole_discharges", "whole_test",
]  # fmt: skip
