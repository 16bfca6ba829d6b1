"""Across the room: a running test in figures that can be read from the far wall."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent, QResizeEvent
from PySide6.QtWidgets import QGridLayout, QLabel, QVBoxLayout, QWidget

from wintry_tally.app.live_run import LiveRun
from wintry_tally.core.battery import Family
from wintry_tally.core.engine import Phase
from wintry_tally.core.quantity import format_duration
from wintry_tally.desk.theme import current as current_tokens
from wintry_tally.desk.views.safe_page import SafePage
from wintry_tally.desk.widgets.parts import button

if TYPE_CHECKING:
    from wintry_tally.app.safety import AllOff

NAMES = ("V", "A", "Ah", "to the end")


class AcrossRoom(QWidget):
    """A window of its own; Escape or F11 closes it. `wanted`: everything off."""

    wanted = Signal()

    def __init__(self) -> None:
        super().__init__(None, Qt.WindowType.Window)
        self.setWindowTitle("Across the room – Wintry Tally")
        self.setAccessibleName("Across the room")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.head = QLabel()
        self.head.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.head.setWordWrap(True)
        self.values = {name: QLabel("–") for name in NAMES}
        self.units = {name: QLabel(name) for name in NAMES}
        grid = QGridLayout()
        grid.setSpacing(0)
        for place, name in enumerate(NAMES):
            line, across = divmod(place, 2)
            for offset, shown in ((0, self.values[name]), (1, self.units[name])):
                edge = Qt.AlignmentFlag.AlignTop if offset else Qt.AlignmentFlag.AlignBottom
                shown.setAlignment(Qt.AlignmentFlag.AlignHCenter | edge)
                grid.addWidget(shown, 2 * line + offset, across)
            grid.setRowStretch(2 * line, 3)
            grid.setRowStretch(2 * line + 1, 2)
            grid.setColumnStretch(across, 1)
        self.figures = QWidget()
        self.figures.setLayout(grid)
        self.safe = SafePage()
        self.safe.hide()
        self.safe.left.connect(self._safe_read)
        self.all_off = button("All off  ·  F12", self.wanted.emit, "off", "Everything off, at once")
        layout = QVBoxLayout(self)
        layout.addWidget(self.head)
        layout.addWidget(self.figures, 1)
        layout.addWidget(self.safe, 1)
        layout.addWidget(self.all_off)
        self._scale()

    def show_all_off(self, doing: AllOff, families: list[Family]) -> None:
        """In the place of the figures: what is off, what is not, what to do."""
        self.figures.hide()
        self.safe.show()
        self.safe.show_all_off(doing, families, [])

    def _safe_read(self) -> None:
        self.safe.hide()
        self.figures.show()

    def show_run(self, live: LiveRun, code: str, doing: str) -> None:
        """The newest figures of a run."""
        seen = live.latest
        part = live.recipe.steps[seen.state.index]
        asked = part.words or part.title if seen.state.phase is Phase.PROMPTING else seen.asks
        wants = seen.trouble or asked or (seen.state.warned[-1][1] if seen.state.warned else "")
        self.head.setText(f"{code} · {live.run.title} · {wants or doing}")
        moved = seen.state.put_in_Ah if seen.state.phase is Phase.CHARGING else seen.state.charge_Ah
        remaining = live.remaining_s()
        texts = {
            "V": f"{seen.voltage_V:.2f}" if seen.voltage_V == seen.voltage_V else "–",
            "A": f"{seen.current_A:.2f}".replace("-", "−") if seen.current_A == seen.current_A else "–",
            "Ah": f"{moved:.2f}",
            "to the end": format_duration(60.0 * round(remaining / 60.0)) if remaining is not None else "–",
        }
        for name, text in texts.items():
            self.values[name].setText(text)
            self.values[name].setAccessibleName(f"{text} {name}")

    def _scale(self) -> None:
        tokens = current_tokens()
        big, small = max(24, min(self.height() // 6, self.width() // 10)), max(12, self.height() // 26)
        self.setStyleSheet(f"background: {tokens.paper}; color: {tokens.ink};")
        for shown in self.values.values():
            shown.setStyleSheet(f"font-size: {big}px; font-weight: 500;")
        for shown in (*self.units.values(), self.head):
            shown.setStyleSheet(f"font-size: {small}px; color: {tokens.quiet};")
        self.all_off.setStyleSheet(
            f"background: {tokens.missed}; color: {tokens.card}; font-weight: bold; padding: 12px; font-size: {small}px;"
        )
        longest = self.values["to the end"]
        longest.setStyleSheet(f"font-size: {int(big * 0.62)}px; font-weight: 500;")

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Figures fill the window."""
        super().resizeEvent(event)
        self._scale()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape and F11 close it."""
        if event.key() in {Qt.Key.Key_Escape, Qt.Key.Key_F11}:
            self.close()
        else:
            super().keyPressEvent(event)
