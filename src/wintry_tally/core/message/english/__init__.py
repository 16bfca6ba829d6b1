"""The catalogue in English: a template a code, with named parts. Another language is another such table of the same codes.

A part with a format (`{volts:.2f}`) is a number in the kept unit, with `~` seconds as a duration, with `#` a number as it
would be printed, with `?row|rows` a count told by one of two words; one without is a name or another message; one whose
format joins (`{names: and }`) is several of them; `{remark:within}` is a sentence within another, without its full stop.

A file a place where it is said. `RUNNING` alone was ever kept in books as sentences.
"""

from wintry_tally.core.message.english.checks import CHECKS
from wintry_tally.core.message.english.findings import FINDINGS
from wintry_tally.core.message.english.logs import LOGS
from wintry_tally.core.message.english.running import RUNNING
from wintry_tally.core.message.english.verdicts import VERDICTS

ENGLISH: dict[str, str] = {**RUNNING, **LOGS, **FINDINGS, **CHECKS, **VERDICTS}

__all__ = ["CHECKS", "ENGLISH", "FINDINGS", "LOGS", "RUNNING", "VERDICTS"]
