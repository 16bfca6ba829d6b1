"""Photographs and printed pages of a sample: dropped or chosen, each with what it shows, its caption and its run."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QSize, Qt, QUrl
from PySide6.QtGui import QDesktopServices, QDragEnterEvent, QDropEvent, QPixmap
from PySide6.QtWidgets import QComboBox, QLabel, QWidget

from wintry_tally.book.attachments import KINDS
from wintry_tally.desk.asking import pictures_to_keep
from wintry_tally.desk.session import Session
from wintry_tally.desk.widgets.flow import Flow
from wintry_tally.desk.widgets.lines import Line
from wintry_tally.desk.widgets.parts import button, card, clear, column, label, row

if TYPE_CHECKING:
    from wintry_tally.book import Run
    from wintry_tally.book.attachments import Attachment

FRAME = QSize(250, 170)


class PicturesCard(QWidget):
    """One card of a sample. Reading and shrinking a file is done beside everything else."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session, self.sample_id = session, 0
        self.setAcceptDrops(True)
        self._frames = Flow(gap=3, down=3)
        self.kind = _kinds("What the next ones show")
        self.told = label("", "small", wrap=True)
        self.add_button = button("Add…", self.ask, "", "Add photographs or pages")
        whole = card(
            label("Photographs and pages", "heading"),
            label("Drop them here, or add them; they are kept in the book and go into the report.", "small", wrap=True),
            self._frames,
            Flow(self.add_button, label("of the", "quiet"), self.kind, self.told),
        )
        self.setLayout(column(whole))
        self.fields: dict[int, tuple[QComboBox, Line, QComboBox]] = {}
        session.pictures_changed.connect(self._changed)

    def show_sample(self, sample_id: int) -> None:
        """As the book has them; what is half typed stays."""
        if sample_id != self.sample_id:
            self.told.setText("")
            self.sample_id, self.fields = sample_id, {}
            clear(self._frames)
        book = self.session.book
        if not self.session.open.known.pictures.get(sample_id):
            self._show([], sample_id)
            return
        self.session.reading.start(
            lambda _job: (book.attachments.of(sample_id), sample_id), lambda found: self._show(*found), self._refused
        )

    def _show(self, pictures: list[Attachment], sample_id: int) -> None:
        if sample_id != self.sample_id or not self.session.has_book:
            return
        runs = self.session.runs(sample_id)
        half = {n: line for n, (_, line, _) in self.fields.items() if line.isModified() and line.hasFocus()}
        typed = {number: (line.text(), line.cursorPosition()) for number, line in half.items()}
        clear(self._frames)
        self.fields = {}
        for one in pictures:
            self._frames.put(self._of(one, runs))
        for number, (text, at) in typed.items():
            if number in self.fields:
                line = self.fields[number][1]
                line.setText(text)
                line.setModified(True)
                line.setCursorPosition(at)
                line.setFocus()

    def _changed(self, sample_id: int) -> None:
        if sample_id == self.sample_id and self.isVisible():
            self.show_sample(sample_id)

    def _of(self, one: Attachment, runs: list[Run]) -> QWidget:
        kind, of, caption = _kinds(f"What {one.name} shows"), QComboBox(), Line()
        kind.setCurrentIndex(kind.findData(one.kind))
        kind.activated.connect(lambda _i: self._set(one, "say what a picture shows", kind=kind.currentData()))
        of.setAccessibleName(f"What {one.name} belongs to")
        of.addItem("the battery", None)
        for run in runs:
            of.addItem(run.title, run.id)
        of.setCurrentIndex(max(0, of.findData(one.run_id)))
        of.setMinimumContentsLength(12)
        of.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        of.activated.connect(lambda _i: self._set(one, "say what a picture belongs to", run_id=of.currentData()))
        caption.setText(one.caption)
        caption.setCursorPosition(0)
        caption.setPlaceholderText("caption")
        caption.setAccessibleName(f"Caption of {one.name}")
        caption.editingFinished.connect(partial(self._keep_caption, one, caption))
        self.fields[one.id] = (kind, caption, of)
        keys = row(
            button("Open", partial(self.open, one), "link", f"Open {one.name}"),
            button("Remove", partial(self.remove, one), "link", f"Remove {one.name}"),
            None,
        )
        made = QWidget()
        made.setFixedWidth(FRAME.width())
        made.setLayout(column(_frame(one), Flow(kind, of, gap=1), caption, keys, gap=1))
        return made

    def ask(self) -> None:
        """Choose files."""
        self.take_in(pictures_to_keep(self))

    def take_in(self, paths: list[Path]) -> None:
        """Keep files as pictures of this sample, one undoable edit each."""
        from wintry_tally.app.pictures import put_in

        session, sample_id, kind = self.session, self.sample_id, str(self.kind.currentData())
        book = session.book
        for path in paths:
            self.told.setText(f"keeping {path.name}…")

            def kept(number: int, name: str = path.name) -> None:
                if session.has_book and session.book is book:
                    session.change(session.open.edits.show_picture(number, name))
                    self.told.setText("")

            session.workshop.start(
                lambda _job, path=path: put_in(book, sample_id, path, kind), kept, self._refused
            )  # fmt: skip

    def _refused(self, words: str) -> None:
        self.told.setText("")
        self.session.failed.emit(words)

    def open(self, one: Attachment) -> None:
        """Show it as the desktop does."""
        from wintry_tally.app.pictures import written_out

        book = self.session.book
        self.session.workshop.start(
            lambda _job: written_out(book, one.id, one.media), _shown_by_the_desktop, self.session.failed.emit
        )

    def remove(self, one: Attachment) -> None:
        """Take it off; Ctrl+Z shows it again."""
        self.session.change(self.session.open.edits.remove_picture(one))

    def _keep_caption(self, one: Attachment, line: Line) -> None:
        if line.isModified() and self.session.has_book:
            line.setModified(False)
            self._set(one, "change a caption", caption=" ".join(line.text().split()))

    def _set(self, one: Attachment, words: str, **values: object) -> None:
        with self.session.guard():
            self.session.change(self.session.open.edits.set_picture(one, words, **values))

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Files of this computer are welcome."""
        if event.mimeData().hasUrls() and all(url.isLocalFile() for url in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """Keep them."""
        self.take_in([Path(url.toLocalFile()) for url in event.mimeData().urls()])
        event.acceptProposedAction()


def _shown_by_the_desktop(path: Path) -> None:
    QDesktopServices.openUrl(QUrl.fromLocalFile(str(path)))


def _kinds(name: str) -> QComboBox:
    made = QComboBox()
    made.setAccessibleName(name)
    for key, words in KINDS.items():
        made.addItem(words, key)
    return made


def _frame(one: Attachment) -> QLabel:
    frame = QLabel()
    frame.setFixedSize(FRAME)
    frame.setAlignment(Qt.AlignmentFlag.AlignCenter)
    frame.setAccessibleName(one.words)
    picture = QPixmap()
    if one.small and picture.loadFromData(one.small):
        frame.setPixmap(
            picture.scaled(FRAME, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation)
        )
    else:
        frame.setText(f"{one.name}\n{one.size / 1e6:.1f} MB")
        frame.setWordWrap(True)
    frame.setProperty("role", "frame")
    return frame
