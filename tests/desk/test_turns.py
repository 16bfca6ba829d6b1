"""What takes the window for a moment is done one after the other; what nobody sees is not drawn; long curves are their own."""

from __future__ import annotations

from contextlib import nullcontext
from types import SimpleNamespace

import numpy as np
import pytest
from PySide6.QtCore import QObject, QRect
from PySide6.QtWidgets import QHBoxLayout, QLabel, QScrollArea, QVBoxLayout, QWidget
from shiboken6 import delete, isValid

from wintry_tally.core.trace.outline import MANY, outline
from wintry_tally.desk.widgets import letting_go
from wintry_tally.desk.widgets.curve import FEW, Curve, Step
from wintry_tally.desk.widgets.letting_go import TOGETHER, let_all_go, let_go
from wintry_tally.desk.widgets.parts import anew, column, label, laid_out_once, scrolling
from wintry_tally.desk.widgets.slices import Slices, while_open
from wintry_tally.desk.widgets.turns import Turns, turns
from wintry_tally.desk.window import Window


def shown(qtbot, *curves: Curve) -> QWidget:
    holder = QWidget()
    holder.setLayout(QHBoxLayout())
    for curve in curves:
        holder.layout().addWidget(curve)
    qtbot.addWidget(holder)
    holder.resize(900, 400)
    holder.show()
    qtbot.waitExposed(holder)
    return holder


def points(curve: Curve, place: int = 0) -> tuple[list[float], list[float]]:
    if len(curve._items) <= place:
        return [], []
    x, y = curve._items[place].getOriginalDataset()
    return np.asarray(x).tolist(), np.asarray(y).tolist()


def test_acts_come_one_at_a_time_in_the_order_asked_for_each_owner_s_last(qtbot) -> None:
    own, done, owners = Turns(), list[str](), [QObject() for _ in range(4)]
    own.ask(owners[0], lambda: done.append("early"))
    own.ask(owners[1], lambda: done.append("one"))
    own.ask(owners[0], lambda: done.append("zero"))
    own.ask(owners[3], lambda: done.append("gone"))
    owners[3].deleteLater()
    assert done == []
    own._next()
    assert done == ["zero"], "one at a time"
    qtbot.waitUntil(lambda: not own._due and not own._timer.isActive(), timeout=3000)
    assert done == ["zero", "one"]
    own.ask(owners[1], lambda: (done.append("again"), own.ask(owners[2], lambda: done.append("asked within"))))
    qtbot.waitUntil(lambda: not own._due and not own._timer.isActive(), timeout=3000)
    assert done[2:] == ["again", "asked within"]


def test_a_curve_that_nobody_sees_is_drawn_when_somebody_does(qtbot, window: Window) -> None:
    curve = Curve("a", "x", "y")
    holder = shown(qtbot, curve)
    curve.show_curves([("one", [0.0, 1.0], [2.0, 3.0])])
    qtbot.waitUntil(lambda: points(curve) == ([0.0, 1.0], [2.0, 3.0]), timeout=3000)
    holder.hide()
    curve.show_curves([("two", [0.0, 2.0], [5.0, 6.0])])
    qtbot.wait(60)
    assert points(curve)[1] == [2.0, 3.0]
    holder.show()
    qtbot.waitUntil(lambda: points(curve) == ([0.0, 2.0], [5.0, 6.0]), timeout=3000)
    assert curve._plot.updatesEnabled() and holder.isVisible()


def test_a_curve_come_upon_is_drawn_dressed_and_painted_each_in_a_turn(qtbot, window: Window) -> None:
    curve = Curve("a", "x", "y")
    holder = shown(qtbot, curve)
    curve.show_curves([("one", [0.0, 1.0], [2.0, 3.0])])
    curve.decorate([(0.2, 0.6, "held", True)], [(0.4, "noted")])
    curve.set_level(2.5)
    curve._next()
    assert points(curve)[1] == [2.0, 3.0] and curve._extra == [] and curve._level_line is None
    curve._next()
    assert len(curve._extra) >= 2 and curve._level_line.value() == 2.5 and curve._plot.updatesEnabled()
    qtbot.waitUntil(lambda: not curve._plot.late, timeout=3000)

    def colours() -> int:
        picture = curve._plot.grab().toImage()
        return len({picture.pixel(x, y) for x in range(0, picture.width(), 3) for y in range(0, picture.height(), 3)})

    assert colours() > 3
    turns()._timer.stop()
    holder.hide()
    holder.show()  # come upon again, nothing drawn anew: only its picture waits
    assert curve._plot.late and colours() == 1 and curve._left == {Step.PICTURE}
    holder.hide()
    curve.show_curves([("two", [0.0, 1.0, 2.0], [2.0, 3.0, 2.0])])
    holder.show()  # nor does what was seen there before stay, while it waits to be drawn
    assert Step.CURVES in curve._left and curve._plot.updatesEnabled() and colours() == 1
    turns()._timer.start()
    qtbot.waitUntil(lambda: not curve._plot.late and colours() > 3, timeout=3000)
    curve.show_curves([("three", [0.0, 1.0], [2.0, 5.0])])
    assert not curve._plot.updatesEnabled(), "what is seen stays until the next is drawn"
    qtbot.waitUntil(lambda: not curve._left and curve._plot.updatesEnabled(), timeout=3000)


def test_the_parts_of_a_list_take_turns_with_everything_else(qtbot, monkeypatch) -> None:
    monkeypatch.setattr("wintry_tally.desk.widgets.slices.SLICE_S", 0.0)
    made, owner = list[object](), QWidget()
    qtbot.addWidget(owner)

    def parts():
        for number in range(6):
            made.append(number)
            yield

    slices = Slices(owner, 2)
    slices.begin(parts(), lambda: made.append("over"))
    turns().ask(owner, lambda: made.append("another"))
    assert made == [0, 1] and slices.busy
    qtbot.waitUntil(lambda: not slices.busy, timeout=3000)
    assert made == [0, 1, 2, "another", 3, 4, 5, "over"]
    slices.begin(parts())
    slices.stop()
    qtbot.wait(60)
    assert made[8:] == [0, 1]


@pytest.mark.parametrize("then", ["closed", "another", "the same"])
def test_what_is_made_of_a_book_is_made_no_further_once_it_is_closed(then: str) -> None:
    session = SimpleNamespace(has_book=True, open=object())
    parts = while_open(session, iter([None, None, None]))
    assert next(parts, "over") is None
    if then == "closed":
        session.has_book = False
    elif then == "another":
        session.open = object()
    assert list(parts) == ([None, None] if then == "the same" else [])


def test_of_a_book_that_is_closed_before_its_turn_nothing_is_made(qtbot) -> None:
    session, made, owner = SimpleNamespace(has_book=True, open=object()), list[int](), QWidget()
    qtbot.addWidget(owner)
    slices = Slices(owner, 0)
    slices.begin(while_open(session, (made.append(number) for number in range(3))))
    session.has_book, session.open = False, None
    qtbot.waitUntil(lambda: not slices.busy, timeout=3000)
    assert made == []


def test_what_is_let_go_of_is_seen_no_more_and_goes_some_at_a_time(qtbot, monkeypatch) -> None:
    monkeypatch.setattr(letting_go, "SLICE_S", 0.0)
    holder = QWidget()
    qtbot.addWidget(holder)
    many, few = QWidget(holder), QWidget(holder)
    for _ in range(3):
        part = QWidget(many)
        for _ in range(TOGETHER // 2):
            QWidget(part)
    QWidget(few)
    holder.show()
    let_go(few)
    let_go(many)
    turns()._timer.stop()
    left = [len(holder.findChildren(QWidget))]
    assert left == [2 + 1 + 3 + 3 * (TOGETHER // 2)] and not many.isVisible() and not few.isVisible()
    while left[-1]:
        turns()._next()
        left.append(len(holder.findChildren(QWidget)))
        assert left[-2] - left[-1] <= 1 + TOGETHER // 2, "not all at once"
    turns()._next()
    assert turns().idle and not (many.parent() or few.parent())

    area = QScrollArea(holder)
    area.setWidget(QWidget())
    for _ in range(2 * TOGETHER):
        QWidget(area.widget())
    area.show()
    viewport = area.viewport()
    let_go(area)  # what is more than a holder of others goes in one piece, or it would reach for its parts
    let_go(QWidget(holder))
    let_all_go()
    assert holder.findChildren(QWidget) == [] and viewport.parent() is area
    turns()._timer.start()
    qtbot.waitUntil(lambda: turns().idle and not isValid(area), timeout=3000)
    let_go(gone := QWidget(lost := QWidget()))
    delete(lost)
    assert not isValid(gone)
    let_all_go()


def test_what_is_left_half_made_goes_and_what_was_there_stays(qtbot) -> None:
    holder = QWidget()
    qtbot.addWidget(holder)
    there = QVBoxLayout(holder)
    there.addWidget(before := label("before"))
    holder.show()

    def parts():
        with anew(there, QVBoxLayout()) as made:
            for words in ("one", "two"):
                made.addWidget(label(words))
                yield

    half = parts()
    next(half)
    assert [one.text() for one in holder.findChildren(QLabel) if one.isVisible()] == ["before"]
    half.close()
    let_all_go()
    assert holder.findChildren(QLabel) == [before] and before.isVisible()
    assert list(parts()) == [None, None]
    let_all_go()
    assert [one.text() for one in holder.findChildren(QLabel)] == ["one", "two"] and not before.isVisible()
    gone = parts()
    next(gone)
    delete(holder)
    gone.close()  # with the page it lay on


def test_a_page_is_laid_out_once_however_many_of_its_parts_are_shown(qtbot) -> None:
    class Counted(QVBoxLayout):
        done = 0

        def setGeometry(self, rect: QRect) -> None:
            self.done += 1
            super().setGeometry(rect)

    inner, within, page = QWidget(), Counted(), QWidget()
    inner.setLayout(within)
    parts = [label("a part") for _ in range(8)]
    for part in parts:
        within.addWidget(part)
        part.hide()
    page.setLayout(column(scrolling(inner)))
    qtbot.addWidget(page)
    page.resize(300, 300)
    page.show()
    qtbot.wait(30)

    def times(one: QWidget | None) -> int:
        within.done = 0
        with nullcontext() if one is None else laid_out_once(one):
            for part in parts:
                part.setVisible(part.isHidden())
        qtbot.wait(30)
        assert within.isEnabled() and all(part.height() > 0 for part in parts)
        return within.done

    assert times(None) >= len(parts) - 1, "as Qt does it"
    assert times(page) <= 1 and times(parts[0]) <= 2 and parts[-1].y() > parts[0].y()


def test_a_long_curve_of_the_same_name_as_the_one_before_is_its_own_near_and_far(qtbot, window: Window) -> None:
    curve = Curve("a", "x", "y")
    holder = shown(qtbot, curve)
    x = np.arange(MANY + 500.0)
    for level in (1.0, 7.0):
        y = np.full(len(x), level)
        y[1000] = level + 0.5
        given = {"run": outline(x, y)} if level > 1.0 else None
        curve.show_curves([("run", x, y)], outlines=given)
        qtbot.waitUntil(lambda level=level: points(curve)[1][:1] == [level], timeout=5000)
        # from afar its lows and highs, once it is fitted; from near all of it
        qtbot.waitUntil(lambda: points(curve)[0][:4] == [0, 0, 2, 2], timeout=5000)
        assert max(points(curve)[1]) == level + 0.5
        curve.show_from(900.0, 1100.0)
        qtbot.waitUntil(lambda: points(curve)[0][:4] == [0, 1, 2, 3], timeout=5000)
        assert len(points(curve)[0]) == len(x) and points(curve)[1][0] == level
    # and a short one after it
    curve.show_curves([("run", [0.0, 1.0], [3.0, 3.0])])
    qtbot.waitUntil(lambda: points(curve)[1] == [3.0, 3.0], timeout=3000)
    curve.show_from(0.0, 0.5)
    assert points(curve)[1] == [3.0, 3.0] and holder.isVisible()


def test_single_points_are_marked_until_there_are_many(qtbot, window: Window) -> None:
    curve = Curve("a", "x", "y")
    holder = shown(qtbot, curve)
    for count in (1, FEW, FEW + 1, FEW + 2):
        curve.show_curves([("run", list(range(count)), [1.0] * count)])
        curve.settle()
        assert len(points(curve)[0]) == count
        assert (curve._items[0].opts["symbol"] is not None) == (count <= FEW) and holder.isVisible()


def test_what_is_read_of_a_long_run_is_not_drawn_where_nobody_looks_on(qtbot, demo: Window) -> None:
    demo.show_station("curves")
    view = demo.view("curves")
    qtbot.waitUntil(lambda: view._shown is not None, timeout=5000)
    drawn = list[str]()
    view._chosen = lambda: drawn.append("drawn")
    demo.show_page("bench")
    view._read()
    assert drawn == []
    demo.show_station("curves")
    assert drawn == ["drawn"], "as whoever comes back to it sees it anyway"
    view._read()
    assert drawn == ["drawn", "drawn"]


def test_the_line_of_another_battery_goes_with_it(qtbot, window: Window) -> None:
    import pyqtgraph as pg

    curve = Curve("a", "x", "y")
    holder = shown(qtbot, curve)
    for value in (48.0, 48.0, 30.0):
        # a run of the same name and size each, as two batteries have them
        curve.show_curves([("Capacity 1", [0.0, 40.0], [13.0, 11.0])], None, [("x", value, f"claimed {value:g} Ah")])
        curve.settle()
        lines = [item for item in curve._plot.getPlotItem().items if isinstance(item, pg.InfiniteLine)]
        assert [(line.value(), line.label.format) for line in lines] == [(value, f"claimed {value:g} Ah")]
    assert holder.isVisible()
