"""The one style sheet and palette, made from the tokens and applied once to the whole application."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication

from wintry_tally.desk.theme.tokens import DAY, FAMILY, MONO, NIGHT, Tokens, current, set_current

_FOLDER = Path(__file__).parent
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
    made.setPointSizeF(base_points() * scale)
    made.setWeight(weight)
    return made


def colour(name: str) -> QColor:
    """A token as a colour."""
    return QColor(getattr(current(), name))


def apply(application: QApplication, tokens: Tokens) -> None:
    """Put a theme in force everywhere."""
    load_fonts()
    set_current(tokens)
    application.setStyle("Fusion")
    points = application.property("base_points")
    if points is None:
        points = base_points()
        application.setProperty("base_points", points)
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
    small = points * 0.88
    icons = (_FOLDER / "icons").as_posix()
    return f"""
    * {{ outline: none; }}
    QToolTip {{ background: {t.card}; color: {t.ink}; border: 1px solid {t.rule}; padding: 4px; }}
    QMainWindow, QDialog, QStackedWidget {{ background: {t.paper}; }}
    QScrollArea {{ border: none; background: transparent; }}
    QScrollArea > QWidget > QWidget {{ background: transparent; }}
    QSplitter::handle {{ background: {t.rule}; }}
    QSplitter::handle:horizontal {{ width: 1px; }}
    QMenuBar {{ background: {t.paper}; color: {t.ink}; padding: 2px 8px; border-bottom: 1px solid {t.rule}; }}
    QMenuBar::item {{ padding: 4px 8px; background: transparent; }}
    QMenuBar::item:selected {{ background: {t.wash}; color: {t.ink}; }}
    QMenu {{ background: {t.card}; color: {t.ink}; border: 1px solid {t.rule}; padding: 4px; }}
    QMenu::item {{ padding: 5px 28px 5px 12px; }}
    QMenu::item:selected {{ background: {t.wash}; color: {t.ink}; }}
    QMenu::item:disabled {{ color: {t.quiet}; }}
    QMenu::separator {{ height: 1px; background: {t.rule}; margin: 4px 8px; }}
    QLabel {{ background: transparent; color: {t.ink}; }}
    QLabel[role="quiet"] {{ color: {t.quiet}; }}
    QLabel[role="small"] {{ color: {t.quiet}; font-size: {small}pt; }}
    QLabel[role="frame"] {{ border: 1px solid {t.rule}; background: {t.paper}; color: {t.quiet}; }}
    QLabel[role="title"] {{ font-size: {points * 1.45}pt; font-weight: bold; }}
    QLabel[role="heading"] {{ font-weight: bold; }}
    QLabel[role="late"] {{ color: {t.missed}; }}
    QLabel[role="problem"] {{ color: {t.missed}; font-size: {small}pt; }}
    QLabel[role="read"] {{ color: {t.met}; font-size: {small}pt; }}
    QLabel[role="warning"] {{ color: {t.close}; }}
    QFrame[role="card"] {{ background: {t.card}; border: 1px solid {t.rule}; border-radius: 3px; }}
    QFrame[role="banner"] {{ background: {t.wash}; border: 1px solid {t.accent}; border-radius: 3px; }}
    QFrame[role="rule"] {{ background: {t.rule}; border: none; max-height: 1px; min-height: 1px; }}
    QWidget[role="rack"] {{ background: {t.paper}; }}
    QLineEdit, QPlainTextEdit, QComboBox {{
        background: {t.card}; color: {t.ink}; border: 1px solid {t.rule}; border-radius: 3px; padding: 5px 7px;
        selection-background-color: {t.accent}; selection-color: {t.card}; }}
    QLineEdit:focus, QPlainTextEdit:focus, QComboBox:focus {{ border: 2px solid {t.accent}; padding: 4px 6px; }}
    QLineEdit[state="problem"] {{ border: 2px solid {t.missed}; padding: 4px 6px; }}
    QLineEdit:disabled, QComboBox:disabled {{ color: {t.quiet}; background: {t.paper}; }}
    QComboBox {{ combobox-popup: 0; }}
    QComboBox::drop-down {{ border: none; width: 22px; }}
    QComboBox::down-arrow {{ image: url({icons}/chevron-{t.name}.svg); width: 12px; height: 12px; }}
    QCheckBox::indicator {{ width: 14px; height: 14px; border: 1.5px solid {t.quiet}; border-radius: 2px; background: {t.card}; }}
    QCheckBox::indicator:focus {{ border-color: {t.accent}; }}
    QCheckBox::indicator:checked {{ background: {t.accent}; border-color: {t.accent}; image: url({icons}/check-{t.name}.svg); }}
    QComboBox QAbstractItemView::item, QListWidget::item {{ padding: 4px 6px; }}
    QListWidget::item:selected {{ background: {t.wash}; color: {t.ink}; }}
    QComboBox QAbstractItemView, QListWidget {{ background: {t.card}; color: {t.ink}; border: 1px solid {t.rule};
        selection-background-color: {t.wash}; selection-color: {t.ink}; }}
    QPushButton {{ background: {t.card}; color: {t.ink}; border: 1px solid {t.rule}; border-radius: 3px; padding: 6px 14px; }}
    QPushButton:hover {{ border-color: {t.accent}; }}
    QPushButton:focus {{ border: 2px solid {t.accent}; padding: 5px 13px; }}
    QPushButton:pressed {{ background: {t.wash}; }}
    QPushButton:disabled {{ color: {t.quiet}; background: {t.paper}; }}
    QPushButton[role="main"] {{ background: {t.accent}; color: {t.card}; border: 1px solid {t.accent}; font-weight: bold; }}
    QPushButton[role="main"]:focus {{ border: 2px solid {t.ink}; padding: 5px 13px; }}
    QPushButton[role="main"]:disabled {{ background: {t.paper}; color: {t.quiet}; border-color: {t.rule}; }}
    QPushButton[role="off"] {{ background: {t.missed}; color: {t.card}; border: 1px solid {t.missed}; font-weight: bold;
        font-size: {points * 1.15}pt; padding: 8px 22px; }}
    QPushButton[role="off"]:focus {{ border: 2px solid {t.ink}; padding: 7px 21px; }}
    QLabel[role="huge"] {{ font-size: {points * 3.0}pt; font-weight: bold; }}
    QLabel[role="large"] {{ font-size: {points * 1.9}pt; }}
    QLabel[role="pull"] {{ font-size: {points * 2.4}pt; font-weight: bold; color: {t.missed}; }}
    QPushButton[role="choice"] {{ padding: 3px 10px; }}
    QPushButton[role="choice"]:checked {{ background: {t.wash}; border: 1px solid {t.accent}; color: {t.ink}; font-weight: bold; }}
    QPushButton[role="link"] {{ background: transparent; border: none; color: {t.accent}; padding: 2px 2px; text-align: left; }}
    QPushButton[role="link"]:focus {{ border: 1px dotted {t.accent}; padding: 1px 1px; }}
    QPushButton[role="link"]:disabled {{ color: {t.rule}; }}
    QPushButton[role="link"]:hover {{ text-decoration: underline; }}
    QCheckBox, QRadioButton {{ color: {t.ink}; spacing: 6px; background: transparent; padding: 2px; }}
    QCheckBox:focus, QRadioButton:focus {{ color: {t.accent}; }}
    QTableWidget, QTableView {{ background: {t.card}; color: {t.ink}; border: 1px solid {t.rule}; gridline-color: {t.rule};
        selection-background-color: {t.wash}; selection-color: {t.ink}; alternate-background-color: {t.paper}; }}
    QHeaderView::section {{ background: {t.paper}; color: {t.quiet}; border: none; border-bottom: 1px solid {t.rule};
        padding: 4px 6px; }}
    QTableCornerButton::section {{ background: {t.paper}; border: none; }}
    QProgressBar {{ background: {t.paper}; border: 1px solid {t.rule}; border-radius: 3px; text-align: center; color: {t.ink}; }}
    QProgressBar::chunk {{ background: {t.wash}; }}
    QStatusBar {{ background: {t.paper}; color: {t.quiet}; border-top: 1px solid {t.rule}; }}
    QStatusBar::item {{ border: none; }}
    QScrollBar:vertical {{ background: transparent; width: 10px; margin: 0; }}
    QScrollBar:horizontal {{ background: transparent; height: 10px; margin: 0; }}
    QScrollBar::handle {{ background: {t.rule}; border-radius: 4px; min-height: 24px; min-width: 24px; }}
    QScrollBar::handle:hover {{ background: {t.quiet}; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
    """
