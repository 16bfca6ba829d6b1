"""Half a screen, and text as large as some need it: nothing is cut, and no page has to be moved sideways."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PySide6.QtCore import QPoint, QRect
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QLabel,
    QLineEdit,
    QScrollArea,
    QWidget,
)

from tests.amount import some
from tests.desk.doing import settled, there
from tests.desk.test_preferences import OTHER_UNITS, choose, told
from wintry_tally.core.quantity.preferred import US
from wintry_tally.desk import preferences
from wintry_tally.desk.theme.style import apply_named, base_points
from wintry_tally.desk.views import PAGES, VIEWS
from wintry_tally.desk.widgets.days import DaysChart
from wintry_tally.desk.widgets.flow import Columns, Flow, Halves
from wintry_tally.desk.window import Window
from wintry_tally.exchange.recipe_file import shipped_recipe

LARGE = 1.6
ARROW = 24
"""What a box to choose from has beside its words at the least, px."""


@pytest.fixture
def usual_text(qapp: QApplication) -> Iterator[float]:
    """The size of text in points as it is, and is again once the window is gone: nothing of it is styled once more."""
    usual, before = base_points(), QApplication.font()
    yield usual
    qapp.setProperty("base_points", usual)
    QApplication.setFont(before)
    apply_named(qapp, "day")


@pytest.fixture
def large(usual_text: float, demo: Window) -> Window:
    """The smallest window there is, its text as large as it may be."""
    application = QApplication.instance()
    made = QApplication.font()
    made.setPointSizeF(usual_text * LARGE)
    application.setProperty("base_points", usual_text * LARGE)
    QApplication.setFont(made)
    apply_named(application, "day")
    demo.resize(900, 600)
    demo.forget_pages()
    return demo


def cut(window: Window) -> list[str]:
    """What is seen only in part, and the pages that have to be moved sideways."""
    found = []
    for part in there(window, QWidget):
        if not part.isVisible():
            continue
        least = part.minimumSizeHint()
        if isinstance(part, QScrollArea) and part.horizontalScrollBar().maximum() > 0:
            # days go on sideways as time does, tags beside each other as the rack is wide
            if part is not window.rack._area and not isinstance(part.widget(), DaysChart):
                found.append(f"{type(part.parent()).__name__} is moved sideways")
        elif isinstance(part, QComboBox):
            words = part.fontMetrics().horizontalAdvance(part.currentText())
            if part.width() < words + ARROW:
                found.append(f"{part.accessibleName()}: {part.currentText()}")
        elif isinstance(part, QLineEdit | QAbstractSpinBox):
            inner = isinstance(part.parent(), QAbstractSpinBox | QComboBox)  # it draws the edge of its line itself
            if part.height() < least.height() - 1 and not inner:
                found.append(part.accessibleName())
        elif isinstance(part, QAbstractButton) and part.text():
            if part.width() < least.width() - 1 or part.height() < least.height() - 1:
                found.append(part.text())
        elif isinstance(part, QLabel) and part.text():
            high = part.heightForWidth(part.width()) if part.wordWrap() else part.sizeHint().height() - 2
            if part.height() < high or (not part.wordWrap() and part.width() < part.sizeHint().width() - 1):
                found.append(part.text())
    return found


def beyond(window: Window) -> list[str]:
    """Keys that stand beyond the window's edge, on no page that can be scrolled to them."""
    found = []
    for part in there(window, QAbstractButton):
        up = part
        while up is not None and not isinstance(up, QScrollArea):
            up = up.parentWidget() if up is not window else None
        if part.isVisible() and part.window() is window and up is None:
            corner = part.mapTo(window, QPoint(part.width(), part.height()))
            if corner.x() > window.width() + 1 or corner.y() > window.height() + 1:
                found.append(part.text())
    return found


def sees_all(window: Window, qtbot) -> None:
    settled(qtbot)
    for _ in range(40):  # a page is laid out once more when its verdicts and pictures have come
        if not (left := cut(window)):
            break
        qtbot.wait(100)
    assert not left and not beyond(window)
    assert (window.width(), window.height()) == (900, 600)


@pytest.fixture
def in_us_units(large: Window) -> Iterator[None]:
    """Words are longer in them."""
    choose(large, US)
    yield
    preferences._now[0] = preferences.Preferences()


def speaks_in_them(window: Window) -> str:
    """All that is read here, none of it in other units."""
    here = told(window)
    left = [words for words in here if OTHER_UNITS.search(words)]
    assert not left, left[:5]
    return "\n".join(here)


def test_every_view_of_a_battery_is_seen_whole_in_the_units_chosen(large: Window, in_us_units: None, qtbot) -> None:
    shown = ""
    for sample in large.session.samples():
        if sample.code in {"M1", "M6"}:
            large.show_sample(sample.id)
            for key in list(VIEWS)[:: some(4, 1)] if sample.code == "M6" else VIEWS:
                large.show_station(key)
                sees_all(large, qtbot)
                shown += speaks_in_them(large)
    assert "lb" in shown and "°F" in shown


def test_every_page_of_the_book_is_seen_whole_in_the_units_chosen(large: Window, in_us_units: None, qtbot) -> None:
    for key in PAGES:
        large.show_page(key)
        if key == "compare":
            qtbot.waitUntil(lambda: large.page("compare")._table.count() > 20, timeout=10000)
        sees_all(large, qtbot)
        if key not in {"help", "preferences"}:
            speaks_in_them(large)


def test_what_a_test_is_set_up_run_and_typed_on_is_seen_whole(large: Window, qtbot) -> None:
    numbers = {one.code: one.id for one in large.session.samples()}
    for code, station, recipe in (("M1", "load", "hold"), ("M3", "cold", "heater"), ("M6", "capacity", "two-rates")):
        large.show_sample(numbers[code])
        large.show_station(station)
        large.view(station).plan_recipe(shipped_recipe(recipe))
        sees_all(large, qtbot)
    large.show_sample(numbers["M5"])
    large.show_station("capacity")  # it runs
    sees_all(large, qtbot)
    large.show_sample(numbers["M2"])
    large.view("capacity").show_plan()
    sees_all(large, qtbot)
    large.view("capacity").begin_hand()
    sees_all(large, qtbot)
    large.show_station("arrival")
    arrival = large.view("arrival")
    arrival.claim.set_text("12.8 V 40 Ah 512 Wh; something else 7 A; surge 80 A (5 s)")
    arrival.put_by_kind()
    sees_all(large, qtbot)
    large.show_page("bench")
    bench = large.page("bench")
    bench.instrument_form.show()
    bench.channel_form.show()
    sees_all(large, qtbot)


def parts_of(widths: list[int]) -> list[QWidget]:
    made = []
    for width in widths:
        part = QWidget()
        part.setMinimumSize(width, 20 + width % 7)
        made.append(part)
    return made


@settings(max_examples=some(20, 60), deadline=None)
@given(st.lists(st.integers(10, 200), min_size=1, max_size=8), st.integers(0, 900), st.integers(0, 3), st.booleans())
def test_whatever_the_room_parts_stand_in_it_in_order_and_apart(
    qapp, widths: list[int], more: int, kind: int, fills: bool
) -> None:
    """Held against the rules themselves: inside, in reading order, none over another, none narrower than it has to be."""
    parts, holder = parts_of(widths), QWidget()
    makers = (
        lambda: Flow(*parts, fills=fills),
        lambda: Columns(*parts),
        lambda: Halves(*((part, 1 + place) for place, part in enumerate(parts))),
        lambda: Halves(*((part, 1) for part in parts)),
    )
    made = makers[kind]()
    holder.setLayout(made)
    room = max(widths) + more
    high = made.heightForWidth(room)
    made.setGeometry(QRect(0, 0, room, high))
    boxes = [part.geometry() for part in parts]
    assert made.minimumSize().width() == max(widths)
    assert all(box.left() >= 0 and box.right() < room and box.top() >= 0 and box.bottom() < high for box in boxes)
    assert max(box.bottom() for box in boxes) == high - 1
    assert not any(a.intersects(b) for n, a in enumerate(boxes) for b in boxes[n + 1 :])
    for (before, after), least in zip(zip(boxes, boxes[1:], strict=False), widths[1:], strict=True):
        assert after.left() > before.right() or after.top() > before.bottom()
        assert after.width() >= least
    together = sum(widths) + made._gap * (len(widths) - 1)
    if kind == 0:
        if fills and room >= together:
            assert boxes[-1].right() == room - 1  # the others stand at the far edge
        if room >= together:
            assert max(box.height() for box in boxes) == high  # one line where there is room for one
    elif kind == 1:
        assert len({box.width() for box in boxes}) == 1
        if room >= len(widths) * (max(widths) + made._gap):
            assert len({box.top() for box in boxes}) == 1
    elif kind == 3:
        share = (room - made._gap * (len(widths) - 1)) // len(widths)
        assert (len({box.left() for box in boxes}) == len(boxes)) is (share >= max(widths) or len(boxes) == 1)
        assert made.beside(room) is (share >= max(widths))


def test_a_text_that_wraps_gives_way_to_keys_only_as_far_as_it_can_be_read(qapp) -> None:
    words, key = QLabel("what this is for, said in a line that is long enough to wrap more than once " * 2), QWidget()
    words.setWordWrap(True)
    key.setMinimumSize(100, 20)
    holder, flow = QWidget(), Flow(words, key, fills=True)
    holder.setLayout(flow)
    letter = words.fontMetrics().horizontalAdvance("n")
    for room, beside in ((120 + 30 * letter, True), (120 + 15 * letter, False)):
        flow.setGeometry(QRect(0, 0, room, flow.heightForWidth(room)))
        assert (key.geometry().left() > words.geometry().right()) is beside
        assert words.height() == words.heightForWidth(words.width())
        assert key.geometry().right() == room - 1 if beside else key.geometry().top() > words.geometry().bottom()
