"""Photographs in the window: dropped, captioned, taken off, undone; asked for where the other batteries have one."""

from __future__ import annotations

from pathlib import Path

from PIL import Image
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QLabel

from tests.desk.doing import texts, there
from wintry_tally.desk.views.arrival import ArrivalView
from wintry_tally.desk.window import Window


def test_dropped_captioned_taken_off_and_back(demo: Window, qtbot, tmp_path: Path) -> None:
    session = demo.session
    number = next(sample.id for sample in session.samples() if sample.code == "M6")
    kept = session.book.attachments
    demo.show_page("today")
    page = demo.page("today")
    qtbot.waitUntil(lambda: any("Photograph its label" in text for text in texts(page)), timeout=10000)
    demo.show_sample(number)
    demo.show_station("arrival")
    view = demo.view("arrival")
    assert isinstance(view, ArrivalView)
    card = view.pictures
    Image.new("RGB", (400, 300), "gray").save(tmp_path / "label 6.png")
    (tmp_path / "page.pdf").write_bytes(b"%PDF-1.7 invented")
    (tmp_path / "notes.txt").write_text("no picture")
    given = QMimeData()
    given.setUrls([QUrl.fromLocalFile(str(tmp_path / name)) for name in ("label 6.png", "notes.txt", "page.pdf")])
    card.dropEvent(
        QDropEvent(
            QPointF(5, 5), Qt.DropAction.CopyAction, given, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
        )
    )
    qtbot.waitUntil(lambda: len(kept.of(number)) == 2, timeout=10000)
    qtbot.waitUntil(lambda: len(card.fields) == 2, timeout=10000)
    assert "no picture that can be shown" in demo.problem
    frames = [frame for frame in there(card, QLabel) if frame.property("role") == "frame"]
    assert sorted(frame.text().split("\n")[0] for frame in frames) == ["", "page.pdf"]
    assert sum(not frame.pixmap().isNull() for frame in frames) == 1
    first = kept.of(number)[0]
    _, caption, of = card.fields[first.id]
    caption.setFocus()
    qtbot.keyClicks(caption, "As it  came ")
    qtbot.keyClick(caption, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: kept.of(number)[0].caption == "As it came", timeout=10000)
    _, caption, of = card.fields[first.id]
    of.setCurrentIndex(1)
    of.activated.emit(1)
    assert kept.of(number)[0].run_id == session.runs(number)[0].id
    card.remove(kept.of(number)[1])
    assert [one.name for one in kept.of(number)] == ["label 6.png"]
    session.undo_stack.undo()
    assert [one.name for one in kept.of(number)] == ["label 6.png", "page.pdf"]
    for _ in range(5):
        session.undo_stack.undo()
    assert kept.of(number) == [] and session.undo_stack.canRedo()
    session.undo_stack.redo()
    assert [one.name for one in kept.of(number)] == ["label 6.png"]
    demo.show_page("today")
    qtbot.waitUntil(lambda: not any("Photograph its label" in text for text in texts(page)), timeout=10000)
