"""What somebody prefers at this desk: units, day or night, sound, and how a new book begins. Kept where the desktop keeps such."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field, fields, replace

from PySide6.QtCore import QLocale, QSettings, Qt
from PySide6.QtGui import QGuiApplication

from wintry_tally.core.quantity.preferred import CHOICES, Units, name_in, words_in
from wintry_tally.core.verdict.outcome import School

THEMES = ("day", "night", "system")
KEY = "preferences"


@dataclass(frozen=True)
class Preferences:
    """One person's; `school` and `attended` ("" for the usual hours) are how a new book begins."""

    units: Units = field(default_factory=Units)
    theme: str = "day"
    sound: bool = True
    school: str = School.STRICT.value
    attended: str = ""


_now = [Preferences()]


def current() -> Preferences:
    """Those in force."""
    return _now[0]


def put(wanted: Preferences) -> None:
    """Put them in force and keep them."""
    _now[0] = wanted
    kept = QSettings()
    for name, value in {**asdict(wanted.units), **asdict(wanted)}.items():
        if name != "units":
            kept.setValue(f"{KEY}/{name}", value)


def decimal_here() -> str:
    """The decimal mark of this desktop's language."""
    mark = QLocale().decimalPoint()
    return mark if mark in CHOICES["decimal"] else "."


def put_units(dimension: str, unit: str) -> None:
    """Change one unit."""
    put(replace(current(), units=replace(current().units, **{dimension: unit})))


def take_up() -> Preferences:
    """Those kept; what cannot be understood is as usual."""
    kept, usual = QSettings(), Preferences()

    def word(name: str, known: tuple[str, ...], otherwise: str) -> str:
        found = str(kept.value(f"{KEY}/{name}", otherwise))
        return found if found in known else otherwise

    local = {**{one.name: str(one.default) for one in fields(Units)}, "decimal": decimal_here()}
    units = Units(**{name: word(name, CHOICES[name], otherwise) for name, otherwise in local.items()})
    _now[0] = Preferences(
        units,
        word("theme", THEMES, str(kept.value("theme", usual.theme))),
        str(kept.value(f"{KEY}/sound", "true")).lower() != "false",
        word("school", tuple(School), usual.school),
        str(kept.value(f"{KEY}/attended", "")),
    )
    return _now[0]


def theme_named(wanted: str) -> str:
    """Day or night, where the system's is wanted: as it is there."""
    if wanted != "system":
        return "night" if wanted == "night" else "day"
    hints = QGuiApplication.styleHints()
    return "night" if hints is not None and hints.colorScheme() == Qt.ColorScheme.Dark else "day"


def shown(text: str) -> str:
    """Words in the units preferred."""
    return words_in(text, current().units)


def unit_name(unit: str) -> str:
    """A kept unit's name alone, as preferred."""
    return name_in(unit, current().units)
