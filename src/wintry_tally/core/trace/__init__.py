"""A log as columns, its remarks, and the repairs offered."""

from wintry_tally.core.trace.remarks import REMARK_CODES, Remark
from wintry_tally.core.trace.repair import REPAIRS, mend
from wintry_tally.core.trace.trace import Trace, resolution_of

__all__ = ["REMARK_CODES", "REPAIRS", "Remark", "Trace", "mend", "resolution_of"]
