"""A claim changed in its place, or put in by its kind: the kind with a search, what is printed of it, where it is printed."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QComboBox, QCompleter, QWidget

from wintry_tally.core.battery import Claim, Sample
from wintry_tally.core.battery.claims import CLAIM_KINDS
from wintry_tally.core.errors import WintryError
from wintry_tally.desk.preferences import current
from wintry_tally.desk.widgets.lines import Line
from wintry_tally.desk.widgets.parts import button, column, label, row
from wintry_tally.report.words import claim_words

SOURCES = ("label", "manual", "web page", "packaging")


class ClaimEditor(QWidget):
    """`kept` carries the claim as it then is; `ended` says that it is no longer wanted."""

    kept = Signal(object)
    ended = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.claim: Claim | None = None
        self.printed = ""
        """What stood there unread, of a claim that is put in by its kind."""
        self._sample: Sample | None = None
        self.kind = QComboBox()
        self.kind.setEditable(True)
        self.kind.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        self.kind.setAccessibleName("Kind of claim")
        for key, definition in CLAIM_KINDS.items():
            self.kind.addItem(definition.label, key)
        found = self.kind.completer()
        assert found is not None
        found.setFilterMode(Qt.MatchFlag.MatchContains)
        found.setCompletionMode(QCompleter.CompletionMode.PopupCompletion)
        found.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self.kind.currentIndexChanged.connect(lambda _i: self._read())
        self.text = Line()
        self.text.setAccessibleName("Its value and conditions")
        self.text.setPlaceholderText("value, unit and conditions, as 90 A for 5 s")
        self.text.textChanged.connect(lambda _t: self._read())
        self.text.returnPressed.connect(self.keep)
        typed = self.kind.lineEdit()
        assert typed is not None
        typed.returnPressed.connect(self.text.setFocus)
        self.source = QComboBox()
        self.source.setAccessibleName("Where it is printed")
        self.said = label("", "read", wrap=True)
        self.problem = label("", "problem", wrap=True)
        self.problem.hide()
        keys = row(
            self.source, button("Keep", self.keep, "main", "Keep the claim"), button("Leave it", self.ended.emit, "link", "Leave the claim as it was"),
            None, gap=2,
        )  # fmt: skip
        self.setLayout(column(row(self.kind, self.text, gap=1), self.said, self.problem, keys, gap=1))

    def begin(self, claim: Claim | None, text: str, source: str, sample: Sample) -> None:
        """Take up a claim that is there, or none: then `text` waits for its kind."""
        self.claim, self._sample, self.printed = claim, sample, text
        sources = [*SOURCES] if source in SOURCES else [source, *SOURCES]
        self.source.clear()
        self.source.addItems(sources)
        self.source.setCurrentText(source)
        if claim is not None:
            self.kind.setCurrentIndex(self.kind.findData(claim.kind))
            words = claim_words(claim)[len(claim.definition.label) :].strip(": ")
            self.text.setText(claim.text if claim.value is None else words)
        else:
            self.kind.setCurrentIndex(-1)
            self.kind.setEditText("")
            self.text.setText(text)
        self._tell("")
        self._read()
        (self.text if claim is not None else self.kind).setFocus()

    def made(self) -> Claim:
        """The claim as it stands here.

        Raises:
            WintryError: no kind is chosen, or what is typed is none of it.
        """
        from wintry_tally.core.battery.printed import sense_of
        from wintry_tally.core.battery.printed.one import claim_of_kind
        from wintry_tally.core.errors import InputError

        index = self.kind.findText(self.kind.currentText(), Qt.MatchFlag.MatchFixedString)
        if index < 0:
            raise InputError("no kind is chosen", mend="type a part of its name and choose it from the list")
        assert self._sample is not None
        kind, own = self.kind.itemData(index), self._sample
        return claim_of_kind(
            kind, self.text.text(), self.source.currentText(), own.family_key, sense_of(own, current().units.money)
        )

    def keep(self) -> None:
        """Keep it, where it can be read."""
        try:
            made = self.made()
        except WintryError as error:
            self._tell(str(error))
            return
        self._tell("")
        self.kept.emit(made)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape leaves it as it was."""
        if event.key() == Qt.Key.Key_Escape:
            self.ended.emit()
        else:
            super().keyPressEvent(event)

    def _read(self) -> None:
        """What is understood, while it is typed."""
        try:
            self.said.setText(f"= {claim_words(self.made())}")
        except WintryError:
            self.said.setText("")
        self._tell("")

    def _tell(self, words: str) -> None:
        self.problem.setText(words)
        self.problem.setVisible(bool(words))
