"""What stands before every start: the pre-flight list, the outlook, the cautions to acknowledge, and the button."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QWidget

from wintry_tally.core.protocol.preflight import Check, bars
from wintry_tally.desk.widgets.findings import FindingList
from wintry_tally.desk.widgets.parts import button, card, clear, column, label, row


class StartCard(QWidget):
    """Nothing starts before its checks bar nothing and its cautions are acknowledged. `offered` carries a mend chosen."""

    opened = Signal(object)
    started = Signal()
    offered = Signal(object)
    left = Signal()

    def __init__(self, words: str) -> None:
        super().__init__()
        self.checks = FindingList()
        self.checks.opened.connect(self.opened)
        self.outlook = label("", wrap=True)
        self.mends = QHBoxLayout()
        self.mends.setSpacing(8)
        self.caution_text = label("", wrap=True)
        self.acknowledged = QCheckBox("I have &read and heeded these cautions")
        self.acknowledged.clicked.connect(self._able)
        self.start_button = button(words.replace("t", "&t", 1), self.started.emit, "main")
        self._ready = False
        self.setLayout(
            column(
                card(label("Before it starts", "heading"), self.checks, self.mends, self.outlook),
                card(label("Cautions", "heading"), self.caution_text, self.acknowledged),
                row(None, button("Back", self.left.emit), self.start_button),
                None,
                gap=3,
            )
        )

    def show_checks(self, found: Sequence[Check], outlook: str = "") -> None:
        """The list as it stands now; whether it may start follows from it."""
        self.checks.reset()
        clear(self.mends)
        for check in found:
            for offer in check.offers:
                self.mends.addWidget(button(offer.words, partial(self.offered.emit, offer)))
            working = check.working
            self.checks.add(
                check.state,
                f"{check.name}: {check.message}" if check.name else check.message,
                "Working" if working else "",
                partial(self.opened.emit, working) if working else None,
            )
        self.mends.addStretch(1)
        self.outlook.setText(outlook)
        self._ready = not bars(list(found))
        self._able()

    def show_cautions(self, texts: Sequence[str]) -> None:
        """The cautions of this run, not yet acknowledged."""
        self.caution_text.setText("\n".join(f"• {text}" for text in texts))
        self.acknowledge(False)

    def acknowledge(self, on: bool) -> None:
        """Set or take back the acknowledgement."""
        self.acknowledged.setChecked(on)
        self._able()

    def _able(self) -> None:
        self.start_button.setEnabled(self._ready and self.acknowledged.isChecked())
