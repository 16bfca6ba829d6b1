"""What the desk remembers from one time to the next: the books opened, where one was in each, where the window stood."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QByteArray, QSettings
from PySide6.QtWidgets import QWidget

if TYPE_CHECKING:
    from wintry_tally.core.battery import Sample

MOST = 8
BOOKS, SHOWN, PLACE, ORDER = "books", "shown", "window", "rack/order"


def _kept() -> list[str]:
    kept = QSettings().value(BOOKS, [])
    return [str(one) for one in kept] if isinstance(kept, list) else [str(kept)] if kept else []


def books() -> list[Path]:
    """The books opened before, the newest first; those that are no longer there are left out."""
    return [path for path in map(Path, _kept()) if path.is_file()]


def remember_book(path: Path) -> None:
    """Keep a book as the newest."""
    name = str(path.absolute())
    QSettings().setValue(BOOKS, [name, *(one for one in _kept() if one != name)][:MOST])


def remember_shown(path: Path, sample: Sample) -> None:
    """Keep which sample was shown last in a book."""
    QSettings().setValue(f"{SHOWN}/{path.absolute()}".replace("/", "|"), f"{sample.id} {sample.code}")


def shown_in(path: Path, samples: Sequence[Sample], by_number: Callable[[int], Sample | None]) -> int:
    """The sample shown last in a book, or the first: by its number, so that no other is looked at, or else by its code."""
    kept = str(QSettings().value(f"{SHOWN}/{path.absolute()}".replace("/", "|"), ""))
    number, _, code = kept.partition(" ")
    known = by_number(int(number)) if number.isdecimal() else None
    if known is not None and known.code == code:
        return known.id
    return next((one.id for one in samples if one.code in {kept, code}), samples[0].id) if kept else samples[0].id


def remember_order(key: str) -> None:
    """Keep in which order the rack hangs."""
    QSettings().setValue(ORDER, key)


def order_kept() -> str:
    """The order in which the rack hung last; empty where nobody chose one."""
    return str(QSettings().value(ORDER, ""))


def remember_place(window: QWidget) -> None:
    """Keep where the window stands, and how large it is."""
    QSettings().setValue(PLACE, window.saveGeometry())


def put_back(window: QWidget) -> bool:
    """Put the window where it stood; False where that is not known. Qt keeps it on the screens that are there."""
    kept = QSettings().value(PLACE)
    return isinstance(kept, QByteArray) and window.restoreGeometry(kept)
