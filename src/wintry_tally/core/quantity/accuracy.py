"""An instrument's stated accuracy, and the standard uncertainties it stands for."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from wintry_tally.core.errors import InputError

_TERM = re.compile(
    r"^(?P<number>\d+(?:[.,]\d+)?|[.,]\d+)\s*(?P<unit>%|percent|ppm|digits?|dgts?|d|counts?|lsd|mV|V|mA|A|°C|degC|C|K)?"
    r"(?:\s*(?:of\s+)?(?:rdg|reading|v\.?\s?m\.?))?$",
    re.IGNORECASE,
)
_SCALE = {"mv": 1e-3, "ma": 1e-3}
_IN_BRACKETS = re.compile(r"\(([^()%]*%[^()]*?\+\s*\d+)\s*\)")
"""As meters' manuals print it, "(0.8%+3)": a whole number in such a bracket is of digits."""


@dataclass(frozen=True)
class Accuracy:
    """Limits of error: percent of reading, plus an absolute part, plus digits of the last place.

    Each of the gain part and the offset part is one uniform distribution, common to every reading of a
    log taken with that instrument: it does not average out (JCGM 100:2008, 4.3.7: u = a/√3).
    """

    percent: float = 0.0
    absolute: float = 0.0
    digits: float = 0.0

    def gain_standard(self) -> float:
        """Relative standard uncertainty of the gain (a pure number)."""
        return self.percent / 100.0 / math.sqrt(3.0)

    def offset_limit(self, resolution: float = 0.0) -> float:
        """Half-width of the offset, in the reading's unit; a digit is one `resolution`."""
        return self.absolute + self.digits * resolution

    def offset_standard(self, resolution: float = 0.0) -> float:
        """Standard uncertainty of the offset, in the reading's unit."""
        return self.offset_limit(resolution) / math.sqrt(3.0)

    def limit(self, reading: float, resolution: float = 0.0) -> float:
        """The largest error allowed at this reading, gain and offset added."""
        return abs(reading) * self.percent / 100.0 + self.offset_limit(resolution)

    def __str__(self) -> str:
        parts = []
        if self.percent:
            parts.append(f"{self.percent:g}%")
        if self.absolute:
            parts.append(f"{self.absolute:g}")
        if self.digits:
            parts.append(f"{self.digits:g}d")
        return "+".join(parts) if parts else "0"


def parse_accuracy(text: str) -> Accuracy:
    """Read "0.5% + 2 digits", "±0.01 V", "1%+0.05", "0,5 %+2d", "±(0.8%+3)" (three digits) or "100 ppm".

    Raises:
        InputError: a part is not a percentage, a number or digits; the message names the part.
    """
    cleaned = _IN_BRACKETS.sub(r"\1d", text).replace("+/-", "±").replace("(", " ").replace(")", " ").strip()
    cleaned = cleaned.lstrip("± ").replace("±", "+")
    mend = 'write it like "0.5%+2d", "1%+0.01" or "±0.01 V"'
    if not cleaned:
        raise InputError("the accuracy is empty", mend=mend)
    percent = absolute = digits = 0.0
    for part in cleaned.split("+"):
        match = _TERM.match(part.strip())
        if match is None and re.search(r"range|\bf\.?\s?s\b|full scale", part, re.IGNORECASE):
            raise InputError(
                f'accuracy "{text.strip()}": "{part.strip()}" is of a range that is not known here',
                mend="write that part in volts or amperes: 0.1 % of a 20 A range is 0.02 A",
            )
        if match is None:
            raise InputError(f'accuracy "{text.strip()}": cannot read "{part.strip()}"', mend=mend)
        number = float(match["number"].replace(",", "."))
        unit = (match["unit"] or "").lower()
        if unit in {"%", "percent"}:
            percent += number
        elif unit == "ppm":
            percent += number / 1e4
        elif (unit.startswith("d") and unit != "degc") or unit.startswith("count") or unit == "lsd":
            digits += number
        else:
            absolute += number * _SCALE.get(unit, 1.0)
    if percent > 50.0:
        raise InputError(f"accuracy of {percent:g} % of reading is not an instrument's", mend=mend)
    return Accuracy(percent, absolute, digits)
