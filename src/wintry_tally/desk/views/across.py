"""Across the room: a running test in figures that can be read from the far wall."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent, QResizeEvent
from PySide6.QtWidgets import QGridLayout, QLabel, QVBoxLayout, QWidget

from wintry_tally.core.engine import Phase
from wintry_tally.core.quantity import format_duration
from wintry_tally.desk.live import LiveRun
from wintry_tally.desk.theme import current as current_tokens

NAMES = ("V", "A", "Ah", "to the end")


class AcrossRoom(QWidget):
    """A window of its own; Escape or F11 closes it."""

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
        layout = QVBoxLayout(self)
        layout.addWidget(self.head)
        layout.addLayout(grid, 1)
        self._scale()

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
