"""A battery in quarantine: what has to be looked at before it is used again."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QFileDialog, QFrame

from wintry_tally.app.safety import SIGNS, Quarantine
from wintry_tally.core.errors import InputError
from wintry_tally.desk.session import Session
from wintry_tally.desk.widgets.lines import Line
from wintry_tally.desk.widgets.parts import button, column, label, row


class QuarantineCard(QFrame):
    """Ticks, a note, perhaps a photograph; `lifted` once the book has them."""

    lifted = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setProperty("role", "banner")
        self._sample_id = 0
        self.head = label("", "heading", wrap=True)
        self.signs = {key: QCheckBox(words) for key, words in SIGNS.items()}
        self.note = Line()
        self.note.setPlaceholderText("what you saw, in a word or two")
        self.note.setAccessibleName("What you saw")
        self.photograph = ""
        self.photo = button("Photograph…", self._choose, "link", "Name a photograph of it")
        self.problem = label("", "problem", wrap=True)
        self.problem.hide()
        self._lift = button("Lift the quarantine", self.lift, "main")
        self.setLayout(
            column(
                self.head,
                row(*list(self.signs.values())[:2], None),
                row(*list(self.signs.values())[2:], None),
                row(self.note, self.photo, self._lift),
                self.problem,
                gap=1,
                margin=2,
            )
        )

    def show_quarantine(self, sample_id: int, held: Quarantine) -> None:
        """Of this sample; what was ticked for another does not count."""
        if sample_id != self._sample_id:
            self._sample_id = sample_id
            self.note.clear()
            for box in self.signs.values():
                box.setChecked(False)
            self.photograph = ""
            self.photo.setText("Photograph…")
        since = held.since.astimezone()
        self.head.setText(f"In quarantine since {since:%a %H:%M}: {held.why}. Look at it before it is used again.")

    def _choose(self) -> None:
        name, _ = QFileDialog.getOpenFileName(
            self, "A photograph of it", "", "Pictures (*.jpg *.jpeg *.png);;All files (*)"
        )
        if name:
            self.photograph = name
            self.photo.setText(name.rsplit("/", 1)[-1])

    def lift(self) -> None:
        """Keep what was seen."""
        from wintry_tally.app.safety import Inspection

        of = self._sample_id
        try:
            inspection = Inspection(
                self.note.text(), tuple(key for key, box in self.signs.items() if box.isChecked()), self.photograph
            )
        except InputError as error:
            self.problem.setText(str(error))
            self.problem.show()
            return
        self.problem.hide()
        self._lift.setEnabled(False)  # once is enough

        def over(done: bool) -> None:
            self._lift.setEnabled(True)
            if done and of == self._sample_id:
                self._sample_id = 0  # what was ticked does not count for the next time
            if done:
                self.lifted.emit()

        self.session.lift_quarantine(of, inspection, over)
