"""Finding one's way: help for the page one is on, every command by typing, the books and the tag of the last time."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from PySide6.QtCore import QSettings, Qt
from PySide6.QtWidgets import QPushButton

from tests.desk.doing import there
from wintry_tally.core.battery import Sample
from wintry_tally.desk import remembered
from wintry_tally.desk.commands import COMMANDS
from wintry_tally.desk.views import PAGES, VIEWS
from wintry_tally.desk.views.help import HelpPage, purposes
from wintry_tally.desk.views.welcome import welcome
from wintry_tally.desk.widgets.command_list import CommandList, Entry, fitting
from wintry_tally.desk.window import Window


def test_every_page_says_what_it_is_for_and_every_station_has_a_key() -> None:
    assert set(purposes()) == {*VIEWS, *PAGES}
    keys = {spec.argument: spec.shortcut for spec in COMMANDS if spec.method in {"show_station", "show_page"}}
    assert all(keys[station] for station in VIEWS)
    used = [spec.shortcut for spec in COMMANDS if spec.shortcut]
    assert len(used) == len(set(used))


def test_f1_tells_of_the_page_one_is_on_and_leads_back(qtbot, demo: Window) -> None:
    demo.show_station("cold")
    qtbot.keyClick(demo, Qt.Key.Key_F1)
    page = demo.page("help")
    assert (
        isinstance(page, HelpPage) and page.page_title.text() == "Cold" and "how long a soak" in page.page_says.text()
    )
    demo.show_help()  # once more from there: it still leads back to where one was
    page.leads_back()
    assert demo.station == "cold" and demo.page_shown == ""
    demo.show_page("plan")
    demo.show_help()
    assert page.page_title.text() == "Plan" and page.page_keys.isVisible()
    page.leads_back()
    assert demo.page_shown == "plan"


def test_help_is_there_without_a_book(qtbot, window: Window) -> None:
    qtbot.keyClick(window, Qt.Key.Key_F1)
    shown = window.pages.currentWidget()
    assert isinstance(shown, HelpPage) and shown.page_title.text() == "No book is open"
    shown.leads_back()
    assert window.pages.currentIndex() == 0


def test_whatever_is_typed_in_whatever_order_is_found() -> None:
    entries = [
        Entry("Open book…", "Ctrl+O", print),
        Entry("The bench", "Ctrl+B", print),
        Entry("M1  Firn Bench 40", "", print),
    ]
    assert [one.words for one in fitting(entries, "bench the")] == ["The bench"]
    assert [one.words for one in fitting(entries, "ctrl+o")] == ["Open book…"]
    assert [one.words for one in fitting(entries, "m1")] == ["M1  Firn Bench 40"]
    assert fitting(entries, "") == entries and fitting(entries, "xyz") == []
    first = fitting([Entry("Save a copy", "", print), Entry("A copy", "", print)], "a")
    assert [one.words for one in first] == ["A copy", "Save a copy"]


def test_a_command_and_a_tag_are_reached_by_typing(qtbot, demo: Window) -> None:
    demo.show_commands()
    made = demo.findChild(CommandList)
    qtbot.keyClicks(made.typed, "ledger")
    qtbot.keyClick(made.typed, Qt.Key.Key_Return)
    assert demo.station == "ledger"
    demo.show_commands()
    made = [one for one in there(demo, CommandList) if one.isVisible()][-1]
    qtbot.keyClicks(made.typed, "m4")
    assert made.list.count() >= 1
    qtbot.keyClick(made.typed, Qt.Key.Key_Down)
    qtbot.keyClick(made.typed, Qt.Key.Key_Up)
    qtbot.keyClick(made.typed, Qt.Key.Key_Return)
    assert demo.session.sample(demo.sample_id).code == "M4"
    demo.show_commands()
    made = [one for one in there(demo, CommandList) if one.isVisible()][-1]
    qtbot.keyClicks(made.typed, "qqqq")
    qtbot.keyClick(made.typed, Qt.Key.Key_Return)
    assert made.isVisible() and made.none.isVisible() and not made.list.isVisible()
    made.close()


def test_books_and_the_tag_of_the_last_time_are_remembered(
    qtbot, window: Window, sample_book: Path, tmp_path: Path
) -> None:
    first, second = tmp_path / "first.wintry", tmp_path / "second.wintry"
    window.new_book(first)
    window.new_book(second)
    window.open_book(sample_book)
    assert remembered.books() == [sample_book, second, first]
    window.open_book(first)
    second.unlink()
    assert remembered.books() == [first, sample_book], "the newest first, none twice, none that is gone"
    for number in range(12):
        remembered.remember_book(tmp_path / f"{number}.wintry")
    assert len(remembered._kept()) == remembered.MOST
    remembered.remember_book(sample_book)
    again: list[Path] = []
    page = welcome(lambda: None, lambda: None, lambda: None, again.append)
    qtbot.addWidget(page)
    link = next(b for b in there(page, QPushButton) if b.text().startswith(sample_book.stem))
    link.click()
    assert again == [sample_book]


def test_the_sample_shown_last_is_found_without_looking_at_the_others(window: Window, tmp_path: Path) -> None:
    rack = {number: Sample(number, f"M{number}", "", "", "lfp") for number in (3, 5, 8)}

    class Unlooked(list[Sample]):
        def __iter__(self) -> Iterator[Sample]:
            raise AssertionError("every one of them is unpacked for it")

    path, samples = tmp_path / "a.wintry", list(rack.values())
    assert remembered.shown_in(path, Unlooked(samples), rack.get) == 3, "nobody knows"
    remembered.remember_shown(path, rack[8])
    assert remembered.shown_in(path, Unlooked(samples), rack.get) == 8
    # hung anew under another number, or kept by a version that knew the code alone
    moved = [Sample(11, "M8", "", "", "lfp"), *samples[:2]]
    assert remembered.shown_in(path, moved[::-1], {one.id: one for one in moved}.get) == 11
    QSettings().setValue(f"{remembered.SHOWN}/{path}".replace("/", "|"), "M5")
    assert remembered.shown_in(path, samples, rack.get) == 5
    QSettings().setValue(f"{remembered.SHOWN}/{path}".replace("/", "|"), "7 gone")
    assert remembered.shown_in(path, samples, rack.get) == 3


def test_the_window_stands_where_it_stood(qtbot, window: Window) -> None:
    assert not remembered.put_back(window)
    window.resize(1010, 690)
    remembered.remember_place(window)
    window.resize(1200, 760)
    # the width is that of the screen, which here is narrower than any window of this kind
    assert remembered.put_back(window) and window.height() == 690


def test_a_code_half_typed_goes_with_the_tag_that_comes_off(fresh: Window, qtbot) -> None:
    fresh.hang_tag()
    view = fresh.view("arrival")
    view.code.setFocus()
    view.code.clear()
    fresh.session.remove_sample(fresh.sample_id)
    view.code.editingFinished.emit()
    view.family.activated.emit(1)
    assert not fresh.session.samples() and not fresh.problem
