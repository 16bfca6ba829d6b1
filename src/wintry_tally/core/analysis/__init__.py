"""What a trace says, one subject a file."""

from wintry_tally.core.analysis.analyse import Analysis, Options, analyse, down_to, mended_trace
from wintry_tally.core.analysis.counting import Count, Instrument, Integral, count
from wintry_tally.core.analysis.stages import Stage, StageKind

__all__ = [
    "Analysis",
    "Count",
    "Instrument",
    "Integral",
    "Options",
    "Stage",
    "StageKind",
    "analyse",
    "count",
    "down_to",
    "mended_trace",
]
