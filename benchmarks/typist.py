"""A random typist and clicker on the real window, offscreen: `python -m benchmarks.typist SECONDS [SEED]`.

Every field is typed into, every button and menu command pressed, in any order, on a copy of the demo. Counts what was
done, what raised, and what was typed into the notes or the words and is not in the book two seconds later. Exit 1 on any.
"""

from __future__ import annotations

import os
import random
import sys
import tempfile
import time
import traceback
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QComboBox,
    QDialog,
    QFileDialog,
    QLineEdit,
    QPlainTextEdit,
    QWidget,
)

from wintry_tally.desk.window import Window

STRINGS = (
    "40 Ah",
    "1,2",
    "-5",
    "13.31 V",
    "nan",
    "ünïcode 電池",
    "9" * 40,
    "'; drop",
    "100 Ah at C20",
    "",
    "0.2 C",
    "13:61",
)
KEYS = (
    Qt.Key.Key_Return, Qt.Key.Key_Tab, Qt.Key.Key_Escape, Qt.Key.Key_Backspace, Qt.Key.Key_Delete, Qt.Key.Key_Down,
    Qt.Key.Key_Up, Qt.Key.Key_Space, Qt.Key.Key_F9,
)  # fmt: skip
LEFT_ALONE = ("New book", "Open a book", "Open the", "Quit", "Open it", "stand-in")
"""Of what is pressed: what leaves the window, opens another book, or starts instruments."""
KEPT_WITHIN_S = 5.0


class Typist:
    """Does something at random with the window, again and again."""

    def __init__(self, window: Window, dice: random.Random) -> None:
        self.window, self.dice = window, dice
        self.done = 0
        self.lost: list[str] = []
        self._typed: tuple[float, int, str, str] | None = None
        QFileDialog.getOpenFileName = staticmethod(lambda *_: ("", ""))  # type: ignore[method-assign]
        QFileDialog.getOpenFileNames = staticmethod(lambda *_: ([], ""))  # type: ignore[method-assign]
        QFileDialog.getSaveFileName = staticmethod(lambda *_: ("", ""))  # type: ignore[method-assign]

    def go_on(self, seconds: float) -> None:
        """For so long."""
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            self.act()

    def act(self) -> None:
        """One thing."""
        for dialog in QApplication.topLevelWidgets():
            if isinstance(dialog, QDialog) and dialog.isVisible():
                dialog.close()
        self.dice.choice(
            (self._type, self._type, self._click, self._click, self._key, self._choose, self._command, self.note)
        )()
        self.done += 1
        QApplication.processEvents()
        self._look()

    def rest(self) -> None:
        """Until what was typed last has been looked for."""
        while self._typed is not None:
            QTest.qWait(50)
            self._look()

    def _some(self, kind: type) -> QWidget | None:
        found = [item for item in self.window.findChildren(kind) if item.isVisible() and item.isEnabled()]
        return self.dice.choice(found) if found else None

    def _type(self) -> None:
        field = self._some(self.dice.choice((QLineEdit, QLineEdit, QPlainTextEdit)))
        if field is not None and not (isinstance(field, QPlainTextEdit) and field.isReadOnly()):
            field.setFocus()
            text = self.dice.choice(STRINGS)
            if text.isascii():
                QTest.keyClicks(field, text)
            else:  # as from an input method: Qt's test keyboard has no other keys
                (field.insert if isinstance(field, QLineEdit) else field.insertPlainText)(text)  # type: ignore[attr-defined]

    def _key(self) -> None:
        focused = QApplication.focusWidget()
        QTest.keyClick(focused or self.window, self.dice.choice(KEYS))

    def _click(self) -> None:
        pressed = self._some(QAbstractButton)
        if pressed is not None and not any(words in pressed.text() for words in LEFT_ALONE):  # type: ignore[attr-defined]
            QTest.mouseClick(pressed, Qt.MouseButton.LeftButton)

    def _choose(self) -> None:
        box = self._some(QComboBox)
        if box is not None and box.count():  # type: ignore[attr-defined]
            index = self.dice.randrange(box.count())  # type: ignore[attr-defined]
            box.setCurrentIndex(index)  # type: ignore[attr-defined]
            box.activated.emit(index)  # type: ignore[attr-defined]

    def _command(self) -> None:
        _, action = self.dice.choice(self.window.menus.actions)
        if action.isEnabled() and not any(words in action.text().replace("&", "") for words in LEFT_ALONE):
            action.trigger()

    def note(self) -> None:
        """Words into the notes or the report, to be looked for later."""
        window = self.window
        if self._typed is not None or window.sample_id is None:
            return
        where = self.dice.choice(("arrival", "report"))
        window.show_station(where)
        view = window.view(where)
        page = view.notes if where == "arrival" else view.prose  # type: ignore[attr-defined]
        word = f"word{self.dice.randrange(10**9)}"
        page.setFocus()
        QTest.keyClicks(page, word)
        self._typed = (time.monotonic(), window.sample_id, where, word)

    def _look(self) -> None:
        """Whether the words are in the book, in time; an undo or a later edit may have taken them back."""
        if self._typed is None:
            return
        since, sample, where, word = self._typed
        session = self.window.session
        if not session.holds(sample):
            self._typed = None
            return
        kept = session.sample(sample).arrival.notes if where == "arrival" else session.book.samples.prose(sample)
        if word not in kept and time.monotonic() - since < KEPT_WITHIN_S:
            return
        self._typed = None
        view = self.window.views.get(where)
        shown = (
            ""
            if view is None or view.sample_id != sample
            else (view.notes if where == "arrival" else view.prose).toPlainText()
        )  # type: ignore[attr-defined]
        if word in shown and word not in kept:
            self.lost.append(f"{where}: {word}")


def main() -> int:
    """Go on for so long; exit 1 where anything raised or was lost."""
    seconds, seed = float(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 1
    folder = Path(tempfile.mkdtemp())
    os.environ |= {
        "QT_QPA_PLATFORM": "offscreen",
        "HOME": str(folder),
        "XDG_STATE_HOME": str(folder),
        "WINTRY_TALLY_TAKEN": str(folder),
    }
    from wintry_tally.demo import scratch_copy
    from wintry_tally.desk.app import make_application
    from wintry_tally.desk.session import Session

    raised: list[str] = []
    make_application("day")
    window = Window(Session())
    window.resize(1280, 800)
    window.show()
    window.open_book(scratch_copy(folder))
    while not window.session.has_book:
        QApplication.processEvents()
    sys.excepthook = lambda *told: raised.append("".join(traceback.format_exception(*told)))
    typist = Typist(window, random.Random(seed))
    typist.go_on(seconds)
    print(f"{typist.done} acts in {seconds:g} s (seed {seed}): {len(raised)} raised, {len(typist.lost)} lost")
    print("\n".join([*dict.fromkeys(raised), *typist.lost]))
    window.close()
    return 1 if raised or typist.lost else 0


if __name__ == "__main__":
    raise SystemExit(main())
