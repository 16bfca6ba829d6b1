"""The one style sheet and palette, made from the tokens and applied once to the whole application."""

from __future__ import annotations

from dataclasses import fields
from functools import cache
from pathlib import Path
from string import Template

from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication

from wintry_tally.desk.theme.tokens import DAY, FAMILY, MONO, NIGHT, Tokens, current, set_current

_FOLDER = Path(__file__).parent
_SIZES = {"small": 0.88, "large": 1.15, "title": 1.45, "larger": 1.9, "pull": 2.4, "huge": 3.0}
"""Of text, as shares of the body's."""
_loaded: list[int] = []


def load_fonts() -> None:
    """Load the shipped typefaces; once."""
    if not _loaded:
        for file in sorted((_FOLDER / "fonts").glob("*.otf")):
            _loaded.append(QFontDatabase.addApplicationFont(str(file)))


def base_points() -> float:
    """The body size in points: the system's, so that all text scales with it."""
    size = QApplication.font().pointSizeF()
    return max(7.0, size) if size > 0 else 10.0


def font(role: str = "body") -> QFont:
    """A font by role: "small", "body", "strong", "figure", "huge", "mono"."""
    return QFont(_font(role, float(QApplication.instance().property("base_points") or 0.0)))  # one's own to change


@cache
def _font(role: str, points: float) -> QFont:
    scale, family, weight = {
        "small": (0.88, FAMILY, QFont.Weight.Normal),
        "body": (1.0, FAMILY, QFont.Weight.Normal),
        "strong": (1.0, FAMILY, QFont.Weight.Bold),
        "title": (1.45, FAMILY, QFont.Weight.Bold),
        "figure": (1.45, FAMILY, QFont.Weight.Bold),
        "huge": (3.4, FAMILY, QFont.Weight.Bold),
        "mono": (0.92, MONO, QFont.Weight.Normal),
    }[role]
    made = QFont(family)
    made.setPointSizeF((points or base_points()) * scale)
    made.setWeight(weight)
    return made


def colour(name: str) -> QColor:
    """A token as a colour."""
    return QColor(getattr(current(), name))


def apply(application: QApplication, tokens: Tokens) -> None:
    """Put a theme in force everywhere, unless it is already: all that is shown would be dressed anew."""
    load_fonts()
    set_current(tokens)
    points = application.property("base_points")
    if points is None:
        points = base_points()
        application.setProperty("base_points", points)
    dress = f"{tokens.name} {points}"
    if application.property("dress") == dress:
        return
    application.setProperty("dress", dress)
    application.setStyle("Fusion")
    body = QFont(FAMILY)
    body.setPointSizeF(float(points))
    application.setFont(body)
    application.setPalette(_palette(tokens))
    application.setStyleSheet(_sheet(tokens, float(points)))
    for widget in application.allWidgets():
        widget.update()


def apply_named(application: QApplication, name: str) -> None:
    """Put "day" or "night" in force."""
    apply(application, NIGHT if name == "night" else DAY)


def _palette(t: Tokens) -> QPalette:
    palette = QPalette()
    roles = {
        QPalette.ColorRole.Window: t.paper,
        QPalette.ColorRole.WindowText: t.ink,
        QPalette.ColorRole.Base: t.card,
        QPalette.ColorRole.AlternateBase: t.paper,
        QPalette.ColorRole.Text: t.ink,
        QPalette.ColorRole.Button: t.card,
        QPalette.ColorRole.ButtonText: t.ink,
        QPalette.ColorRole.Highlight: t.accent,
        QPalette.ColorRole.HighlightedText: t.card,
        QPalette.ColorRole.ToolTipBase: t.card,
        QPalette.ColorRole.ToolTipText: t.ink,
        QPalette.ColorRole.PlaceholderText: t.quiet,
        QPalette.ColorRole.Link: t.accent,
        QPalette.ColorRole.Mid: t.rule,
        QPalette.ColorRole.Light: t.card,
        QPalette.ColorRole.Dark: t.rule,
    }
    for role, value in roles.items():
        palette.setColor(role, QColor(value))
    for role in (QPalette.ColorRole.WindowText, QPalette.ColorRole.Text, QPalette.ColorRole.ButtonText):
        palette.setColor(QPalette.ColorGroup.Disabled, role, QColor(t.quiet))
    return palette


def _sheet(t: Tokens, points: float) -> str:
    """The style sheet, filled in; what it says stands in `sheet.qss`."""
    colours = {one.name: getattr(t, one.name) for one in fields(t)}
    sheet = Template((_FOLDER / "sheet.qss").read_text(encoding="utf-8"))
    return sheet.substitute(
        {**colours, **{name: points * share for name, share in _SIZES.items()}, "icons": (_FOLDER / "icons").as_posix()}
    )
