"""Above every station: the sample's code and battery, the key to its programme, the trail, and its quarantine."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from wintry_tally.desk.session import Session
from wintry_tally.desk.states import station_states
from wintry_tally.desk.widgets.parts import button, column, label, row
from wintry_tally.desk.widgets.quarantine_card import QuarantineCard
from wintry_tally.desk.widgets.trail import Trail

PROGRAMME = "programme"
"""The one view of a sample that is no station of the trail."""


class SampleHead(QWidget):
    """What is always seen of the sample shown. `opened` carries the key of the view chosen."""

    opened = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.sample_id: int | None = None
        self.code, self.battery = label("", "title"), label("", "quiet", wrap=True)
        self.trail = Trail()
        self.trail.opened.connect(self.opened)
        self.programme = button("Programme", lambda: self.opened.emit(PROGRAMME), "choice")
        self.programme.setCheckable(True)
        self.programme.setToolTip("The tests that settle its claims, in order (Ctrl+R)")
        self.quarantine = QuarantineCard(session)
        self.quarantine.hide()
        self.quarantine.lifted.connect(self.refresh)
        head = row(self.code, self.battery, self.programme, gap=3)
        head.setStretch(1, 1)
        self.setLayout(column(head, self.trail, self.quarantine, gap=1))
        session.plan_changed.connect(self._plan_changed)

    def mark(self, key: str) -> QWidget:
        """Mark the view shown; what the keyboard may stand on."""
        self.trail.show_station(key)
        self.programme.setChecked(key == PROGRAMME)
        return self.programme if key == PROGRAMME else self.trail.button(key)

    def show_sample(self, sample_id: int | None) -> None:
        """Show another sample, or the same anew."""
        self.sample_id = sample_id
        self.refresh()

    def refresh(self) -> None:
        """As the book and the newest plan have it."""
        if self.sample_id is None or not self.session.holds(self.sample_id):
            return
        sample = self.session.sample(self.sample_id)
        held = self.session.quarantine(sample.id)
        self.quarantine.setVisible(held is not None)
        if held is not None:
            self.quarantine.show_quarantine(sample.id, held)
        self.code.setText(sample.code)
        rated = f" · {sample.rated_Ah:g} Ah" if sample.rated_Ah else ""
        self.battery.setText(f"{sample.title} · {sample.family.words}{rated}")
        self.trail.set_states(station_states(sample, self.session.runs(sample.id), self._coming(sample.id)))

    def _coming(self, sample_id: int) -> str | None:
        drawn = self.session.drawn()
        if drawn is None:
            return None
        from wintry_tally.app.programme import next_station

        return next_station(sample_id, drawn)

    def _plan_changed(self) -> None:
        if self.isVisible():
            self.refresh()
