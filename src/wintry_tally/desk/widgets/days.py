"""Days across, samples or instruments down: when each test stands, when nobody is there, and what needs hands."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QFocusEvent,
    QFontMetricsF,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QShowEvent,
)
from PySide6.QtWidgets import QSizePolicy, QWidget

from wintry_tally.core.quantity.moments import DAYS, MONTHS, clock_words
from wintry_tally.desk.theme.style import colour, font
from wintry_tally.desk.widgets.turns import turns

if TYPE_CHECKING:
    from wintry_tally.app.days import Placed

HEAD, ROW, SIDE, BAR = 40, 38, 76, 24
DAY_LEAST = 96
STEP = timedelta(minutes=30)


class DaysChart(QWidget):
    """`chosen` carries a bar's name; `dropped` a name and the moment it was dragged or pushed to."""

    chosen = Signal(str)
    dropped = Signal(str, object)
    opened = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Plan, days across")
        self._rows: list[str] = []
        self._bars: list[Placed] = []
        self._places: dict[str, int] = {}
        self._by_row: dict[str, list[Placed]] = {}
        self._there: list[tuple[datetime, datetime]] = []
        self._now = self._first = self._last = datetime.now().astimezone()
        self._picked = ""
        self._drag: tuple[str, float, timedelta] | None = None
        self._late = False

    def showEvent(self, event: QShowEvent) -> None:
        """Just come upon, it is painted in its turn, apart from the page it lies on."""
        super().showEvent(event)
        self._late = True
        turns().ask(self, self._appear)

    def _appear(self) -> None:
        self._late = False
        self.update()

    def show_days(
        self, rows: Sequence[str], bars: Sequence[Placed], there: Sequence[tuple[datetime, datetime]], now: datetime,
        first: datetime, last: datetime,
    ) -> None:  # fmt: skip
        """What stands where; the days from `first` to `last` are drawn, `there` says when somebody is."""
        self._rows, self._bars, self._there, self._now = (
            list(rows),
            sorted(bars, key=lambda bar: bar.begins),
            list(there),
            now,
        )
        self._places = {row: place for place, row in enumerate(self._rows)}
        self._by_row = {}
        for bar in self._bars:
            self._by_row.setdefault(bar.row, []).append(bar)
        self._first = first.replace(hour=0, minute=0, second=0, microsecond=0)
        self._last = max(last, self._first + timedelta(days=1))
        if self._picked not in {bar.id for bar in self._bars}:
            self._picked = ""
        self.updateGeometry()
        self._tell()
        self.update()

    @property
    def picked(self) -> str:
        """The name of the bar that is marked."""
        return self._picked

    def pick(self, name: str) -> None:
        """Mark a bar."""
        if name != self._picked and any(bar.id == name for bar in self._bars):
            self._picked = name
            self._tell()
            self.chosen.emit(name)
            self.update()

    def bars(self) -> list[Placed]:
        """What is drawn, by time."""
        return list(self._bars)

    def _tell(self) -> None:
        bar = self._bar(self._picked)
        self.setAccessibleDescription(bar.told if bar is not None else f"{len(self._bars)} tests")

    def _bar(self, name: str) -> Placed | None:
        return next((bar for bar in self._bars if bar.id == name), None)

    # --- places ---

    def sizeHint(self) -> QSize:
        """As wide as its days need, as high as its rows."""
        return QSize(SIDE + int(self._days() * DAY_LEAST), HEAD + max(1, len(self._rows)) * ROW + 6)

    def minimumSizeHint(self) -> QSize:
        """As `sizeHint`: it is scrolled sideways."""
        return self.sizeHint()

    def _days(self) -> int:
        return max(1, -(-(self._last - self._first) // timedelta(days=1)))

    def _per_day(self) -> float:
        return max(DAY_LEAST, (self.width() - SIDE) / self._days())

    def x_of(self, moment: datetime) -> float:
        """Where a moment stands."""
        return SIDE + (moment - self._first) / timedelta(days=1) * self._per_day()

    def _moment_at(self, x: float) -> datetime:
        return self._first + timedelta(days=(x - SIDE) / self._per_day())

    def rect_of(self, bar: Placed) -> QRectF:
        """Where a bar stands."""
        place = self._places.get(bar.row)
        top = HEAD + place * ROW + (ROW - BAR) / 2 if place is not None else -99.0
        left, right = max(self.x_of(bar.begins), SIDE), min(self.x_of(bar.ends), float(self.width()))
        if self._drag is not None and self._drag[0] == bar.id:
            left, right = (x + self._drag[2] / timedelta(days=1) * self._per_day() for x in (left, right))
        return QRectF(left, top, max(5.0, right - left), BAR)

    # --- drawing ---

    def paintEvent(self, event: QPaintEvent) -> None:
        """Days and nights, rows, bars, now; of a long list only what is seen."""
        if self._late:
            return
        seen = event.rect().adjusted(0, -ROW, 0, ROW)
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        bottom = float(HEAD + len(self._rows) * ROW)
        body = QRectF(SIDE, HEAD, self.width() - SIDE, bottom - HEAD)
        painter.fillRect(body, colour("wash"))
        for opens, closes in self._there:
            left, right = max(self.x_of(opens), SIDE), self.x_of(closes)
            if right > left:
                painter.fillRect(QRectF(left, HEAD, right - left, bottom - HEAD), colour("card"))
        self._draw_days(painter, bottom)
        painter.setFont(font("strong"))
        in_sight = []
        for place, words in enumerate(self._rows):
            top = HEAD + place * ROW
            if not seen.top() <= top <= seen.bottom():
                continue
            in_sight.append(words)
            painter.setPen(colour("ink"))
            painter.drawText(
                QRectF(0, top, SIDE - 8, ROW), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, words
            )
            painter.setPen(QPen(colour("rule"), 1))
            painter.drawLine(QPointF(0, top), QPointF(self.width(), top))
        for bar in (bar for row in in_sight for bar in self._by_row.get(row, ())):
            self._draw_bar(painter, bar)
        x = self.x_of(self._now)
        painter.setPen(QPen(colour("missed"), 1.6))
        painter.drawLine(QPointF(x, HEAD - 6), QPointF(x, bottom))
        painter.setFont(font("small"))
        painter.drawText(QRectF(x + 4, HEAD - 18, 60, 16), Qt.AlignmentFlag.AlignLeft, "now")

    def _draw_days(self, painter: QPainter, bottom: float) -> None:
        day = self._first
        while day < self._last:
            x = self.x_of(day)
            painter.setPen(QPen(colour("rule"), 1))
            painter.drawLine(QPointF(x, 6), QPointF(x, bottom))
            painter.setFont(font("strong" if day.date() == self._now.date() else "body"))
            painter.setPen(colour("ink"))
            words = f"{DAYS[day.weekday()]} {day.day}"
            dated = f"{words} {MONTHS[day.month - 1]}" if day.day == 1 or day == self._first else words
            room = self._per_day() - 6
            words = dated if painter.fontMetrics().horizontalAdvance(dated) <= room else words
            painter.drawText(QRectF(x + 5, 4, room, 18), Qt.AlignmentFlag.AlignLeft, words)
            day = (day + timedelta(days=1, hours=2)).replace(hour=0)

    def _draw_bar(self, painter: QPainter, bar: Placed) -> None:
        box = self.rect_of(bar)
        if box.left() > self.width() or box.top() < 0:
            return
        running, late = bar.state == "running", bar.state == "late"
        ink = colour("missed" if late else "accent")
        painter.setPen(QPen(ink, 2.4 if bar.id == self._picked else 1.2, Qt.PenStyle.DashLine if bar.state == "planned" else Qt.PenStyle.SolidLine))  # fmt: skip
        painter.setBrush(ink if running else colour("card"))
        painter.drawRoundedRect(box.adjusted(0.5, 0.5, -0.5, -0.5), 3, 3)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour("ink"))
        for moment in bar.hands:
            x = min(max(self.x_of(moment), box.left() + 3), box.right() - 3)
            painter.drawPolygon(
                QPolygonF([QPointF(x - 3.5, box.top() - 5), QPointF(x + 3.5, box.top() - 5), QPointF(x, box.top() + 1)])
            )
        if bar.state == "pinned":
            painter.drawRect(QRectF(box.left(), box.top(), 4, box.height()))
        painter.setFont(font("small"))
        painter.setPen(colour("card" if running else "ink"))
        inside = box.adjusted(7, 0, -3, 0)
        metrics = QFontMetricsF(painter.font())
        words = f"late: {bar.words}" if late else bar.words
        needs = metrics.horizontalAdvance(words)
        if needs > inside.width() and needs + 8 <= (room := self._room_after(bar, box)):
            # it stands beside the bar where that is too narrow for it, and beyond now where that would cross it out
            painter.setPen(colour("ink"))
            left, now = box.right() + 4, self.x_of(self._now) + 5
            left = now if left < now < left + needs + 5 and now + needs + 4 <= box.right() + room else left
            inside = QRectF(left, box.top(), needs + 2, box.height())
        if inside.width() > 14:
            words = metrics.elidedText(words, Qt.TextElideMode.ElideRight, inside.width())
            painter.drawText(inside, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, words)
        if bar.id == self._picked and self.hasFocus():
            painter.setPen(QPen(colour("ink"), 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(box.adjusted(-2.5, -2.5, 2.5, 2.5))

    def _room_after(self, bar: Placed, box: QRectF) -> float:
        later = [self.x_of(one.begins) for one in self._by_row[bar.row] if one.begins >= bar.ends]
        return min([*later, float(self.width())]) - box.right()

    # --- mouse and keys ---

    def _under(self, x: float, y: float) -> Placed | None:
        return next(
            (bar for bar in reversed(self._bars) if self.rect_of(bar).adjusted(-2, -4, 2, 4).contains(x, y)), None
        )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Mark a bar; it may be dragged from there."""
        bar = self._under(event.position().x(), event.position().y())
        if bar is not None:
            self.setFocus()
            self.pick(bar.id)
            if bar.state != "running":
                self._drag = (bar.id, event.position().x(), timedelta())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag it, or tell what is under the pointer."""
        if self._drag is not None:
            moved = timedelta(days=(event.position().x() - self._drag[1]) / self._per_day())
            self._drag = (self._drag[0], self._drag[1], moved)
            self.update()
            return
        bar = self._under(event.position().x(), event.position().y())
        self.setToolTip(bar.told if bar is not None else "")

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        """Let it go: where it is dropped it is to stand."""
        drag, self._drag = self._drag, None
        bar = self._bar(drag[0]) if drag is not None else None
        if drag is not None and bar is not None and abs(drag[2]) > timedelta(minutes=10):
            self.dropped.emit(bar.id, _rounded(bar.begins + drag[2]))
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Arrows walk the tests, with Alt they push the marked one by half an hour; Enter opens it."""
        key, bar = event.key(), self._bar(self._picked)
        push = {Qt.Key.Key_Left: -STEP, Qt.Key.Key_Right: STEP}.get(Qt.Key(key))
        if event.modifiers() & Qt.KeyboardModifier.AltModifier and bar is not None and push is not None:
            if bar.state != "running":
                self.dropped.emit(bar.id, _rounded(bar.begins + push))
            return
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and bar is not None:
            self.opened.emit(bar.id)
            return
        target = self._walked(bar, Qt.Key(key))
        if target is None:
            super().keyPressEvent(event)
            return
        self.pick(target.id)

    def _walked(self, bar: Placed | None, key: Qt.Key) -> Placed | None:
        if key not in (
            Qt.Key.Key_Left,
            Qt.Key.Key_Right,
            Qt.Key.Key_Up,
            Qt.Key.Key_Down,
            Qt.Key.Key_Home,
            Qt.Key.Key_End,
        ):
            return None
        if bar is None or key in (Qt.Key.Key_Home, Qt.Key.Key_End):
            return self._bars[-1 if key == Qt.Key.Key_End else 0] if self._bars else None
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            own = [one for one in self._bars if one.row == bar.row]
            place = own.index(bar) + (1 if key == Qt.Key.Key_Right else -1)
            return own[min(max(place, 0), len(own) - 1)]
        rows = [row for row in self._rows if any(one.row == row for one in self._bars)]
        place = rows.index(bar.row) + (1 if key == Qt.Key.Key_Down else -1)
        row = rows[min(max(place, 0), len(rows) - 1)]
        return min((one for one in self._bars if one.row == row), key=lambda one: abs(one.begins - bar.begins))

    def focusInEvent(self, event: QFocusEvent) -> None:
        """The first test is marked where none is."""
        super().focusInEvent(event)
        if not self._picked and self._bars:
            self.pick(self._bars[0].id)
        self.update()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        """The frame of focus goes."""
        super().focusOutEvent(event)
        self.update()


def _rounded(moment: datetime) -> datetime:
    """To the nearest quarter of an hour, by the clock."""
    minutes = round((moment.minute + moment.second / 60.0) / 15.0) * 15
    return moment.replace(minute=0, second=0, microsecond=0) + timedelta(minutes=minutes)


def span_words(begins: datetime, ends: datetime, now: datetime) -> str:
    """ "Fri 09:20 to 15:40"."""
    return f"{clock_words(begins, now)} to {clock_words(ends, begins)}"
