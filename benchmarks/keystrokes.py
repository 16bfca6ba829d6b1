"""From an empty book to a saved report by keyboard alone, every key counted: `python -m benchmarks.keystrokes`.

A person who knows the shortcuts and walks by Tab or Shift+Tab, whichever is shorter. What is typed counts apart; a file's
name in a dialog counts as nothing, and its Enter as one.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QSettings, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QApplication, QFileDialog, QLabel, QWidget

from wintry_tally.bench.simulation import SimulatedBattery, simulate
from wintry_tally.book import Book
from wintry_tally.core.battery import family_named, parse_claim
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.desk.app import make_application
from wintry_tally.desk.session import Session
from wintry_tally.desk.window import Window
from wintry_tally.exchange.recipe_file import shipped_recipe
from wintry_tally.exchange.writer import write_log

MOST_TABS = 120


class Person:
    """Presses keys and counts them."""

    def __init__(self, window: Window) -> None:
        self.window, self.keys, self.typed = window, 0, 0
        self.steps: list[str] = []

    def press(self, key: Qt.Key, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        """One key, with what is held down beside it."""
        QTest.keyClick(QApplication.focusWidget() or self.window, key, modifier)
        QApplication.processEvents()
        self.keys += 1

    def ctrl(self, letter: str) -> None:
        """A shortcut: two keys."""
        self.press(getattr(Qt.Key, f"Key_{letter.upper()}"), Qt.KeyboardModifier.ControlModifier)
        self.keys += 1
        settle(0.3)

    def alt(self, letter: str) -> None:
        """What an underlined letter stands for: two keys."""
        self.press(getattr(Qt.Key, f"Key_{letter.upper()}"), Qt.KeyboardModifier.AltModifier)
        self.keys += 1
        settle(0.3)

    def type(self, text: str) -> None:
        """Words and numbers."""
        QTest.keyClicks(QApplication.focusWidget(), text)
        self.typed += len(text)

    def go(self, name: str) -> None:
        """To what has this accessible name or text, the shorter way round."""
        here = QApplication.focusWidget()
        ways = []
        for key, name_of_key in ((Qt.Key.Key_Tab, "Tab"), (Qt.Key.Key_Backtab, "Shift+Tab")):
            if here is not None:
                here.setFocus()
            for count in range(MOST_TABS):
                if is_called(QApplication.focusWidget(), name):
                    ways.append((count, key, name_of_key))
                    break
                QTest.keyClick(QApplication.focusWidget() or self.window, key)
        if not ways:
            raise SystemExit(f"“{name}” is not to be reached by Tab")
        count, key, name_of_key = min(ways)
        if here is not None:
            here.setFocus()
        for _ in range(count):
            QTest.keyClick(QApplication.focusWidget() or self.window, key)
        self.keys += count * (2 if key is Qt.Key.Key_Backtab else 1)
        self.steps.append(f"{name}: {count} × {name_of_key}")


def is_called(widget: QWidget | None, name: str) -> bool:
    """Whether a widget is what a person would call so."""
    if widget is None:
        return False
    said = [widget.accessibleName(), widget.text() if isinstance(widget, QAbstractButton | QLabel) else ""]
    return any(name.lower() in words.lower().replace("&", "") for words in said if words)


def settle(seconds: float = 0.2, until: Callable[[], bool] | None = None) -> None:
    """Let the window live, for so long or until something is so."""
    end = time.monotonic() + (30.0 if until else seconds)
    while time.monotonic() < end and not (until and until()):
        QApplication.processEvents()
        time.sleep(0.005)


def log(path: Path) -> Path:
    """A clean capacity test of an invented battery."""
    family = family_named("lfp")
    recipe = fill(shipped_recipe("capacity-reference"), Facts(family, 40.0, (parse_claim("40 Ah"),)))
    made = simulate(recipe, SimulatedBattery(family, 40.0), 3, 10.0)
    write_log(made.trace, path)
    return path


def main() -> None:
    """Print how many keys each way takes."""
    folder = Path(tempfile.mkdtemp())
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, str(folder))
    os.environ |= {f"XDG_{name}_HOME": str(folder / name.lower()) for name in ("CONFIG", "CACHE", "STATE")}
    make_application("day")
    for words, way in (("from another device's log", by_log), ("on the simulated bench", by_bench)):
        book, report = folder / f"{way.__name__}.wintry", folder / f"{way.__name__}.html"
        Book.create(book).close()
        window = Window(Session())
        window.open_book(book)
        window.resize(1280, 800)
        window.show()
        window.activateWindow()
        settle(0.5)  # by then it is open
        QFileDialog.getSaveFileName = lambda *_, to=report: (str(to), "")  # type: ignore[method-assign,assignment]
        person = Person(window)
        label(person)
        way(person, folder)
        person.ctrl("e")
        person.ctrl("s")
        person.keys += 1
        settle(until=report.exists)
        if not report.exists() or "Capacity" not in report.read_text():
            raise SystemExit("no report was saved")
        print(f"{words}: {person.keys} keys, and {person.typed} signs typed")
        if "-v" in sys.argv:
            print("   " + "; ".join(person.steps))
        window.close()


def label(person: Person) -> None:
    """A new tag with what is printed on it, and how it came."""
    person.ctrl("n")
    person.type("Firnwerk")
    person.press(Qt.Key.Key_Return)
    person.type("Spur 40")
    person.press(Qt.Key.Key_Return)
    person.type("12.8 V 40 Ah 512 Wh; cuts at 10 V")
    person.press(Qt.Key.Key_Return)
    person.go("as-received voltage")
    person.type("13.1 V")
    person.press(Qt.Key.Key_Return)


def by_log(person: Person, folder: Path) -> None:
    """A log is kept."""
    path = log(folder / "log.csv")
    QFileDialog.getOpenFileNames = lambda *_: ([str(path)], "")  # type: ignore[method-assign,assignment]
    QFileDialog.getOpenFileName = lambda *_: (str(path), "")  # type: ignore[method-assign,assignment]
    person.ctrl("i")
    person.keys += 1
    settle(2.0)
    person.go("keep in the book")
    person.press(Qt.Key.Key_Return)
    number = person.window.sample_id
    assert number is not None
    settle(until=lambda: bool(person.window.session.runs(number)))
    settle(1.5)


def by_bench(person: Person, _folder: Path) -> None:
    """A capacity test in fast time."""
    person.ctrl("4")
    person.go("simulated bench")
    person.press(Qt.Key.Key_Return)
    settle(1.0)
    person.alt("r")
    person.alt("t")
    running = person.window.session.running
    settle(1.0)
    settle(until=lambda: not running.live)
    settle(1.5)


if __name__ == "__main__":
    main()
