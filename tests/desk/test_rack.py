"""The rack: which tags are shown, in which order they hang, and how one that was taken off hangs again."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel

from tests.desk.doing import settled, there
from wintry_tally.book import RunSettings, RunStatus
from wintry_tally.desk.views.rack import Rack
from wintry_tally.desk.window import Window


def shown(window: Window) -> list[str]:
    """The codes that are seen, from the top."""
    window.rack._slices.finish()
    tags = sorted(window.rack._tags.values(), key=lambda tag: tag.mapTo(window.rack, tag.rect().topLeft()).y())
    return [tag.code for tag in tags if tag.isVisibleTo(window.rack)]


def choose(qtbot, window: Window, box: str, key: str) -> None:
    made = getattr(window.rack, box)
    made.setCurrentIndex(made.findData(key))
    made.activated.emit(made.currentIndex())
    settled(qtbot)


def test_tags_are_asked_for_by_their_state(demo: Window, qtbot) -> None:
    everyone = shown(demo)
    assert everyone == ["M1", "M2", "M3", "M4", "M5", "M6"]
    # M5 is under way; M1, M3 and M6 missed a claim, as their tallies say
    for key, codes in (("running", ["M5"]), ("missed", ["M1", "M3", "M6"]), ("hands", []), ("", everyone)):
        choose(qtbot, demo, "which", key)
        assert shown(demo) == codes, key
        assert demo.rack._none.isHidden() == bool(codes)
    choose(qtbot, demo, "which", "open")
    assert "M2" in shown(demo) and "M3" not in shown(demo)
    demo.rack.looking.setText("M2")
    assert shown(demo) == ["M2"]
    # what is judged otherwise is shown otherwise
    demo.rack.looking.clear()
    choose(qtbot, demo, "which", "missed")
    number = next(sample.id for sample in demo.session.samples() if sample.code == "M6")
    for claim in [one for one in demo.session.sample(number).claims if one.kind == "mass"]:
        demo.session.remove_claim(number, claim)
    qtbot.waitUntil(lambda: demo.session.dossier(number) is not None, timeout=15000)
    qtbot.waitUntil(lambda: shown(demo) == ["M1", "M3"], timeout=5000)


def test_tags_hang_in_another_order_and_under_headings(demo: Window, qtbot) -> None:
    session = demo.session
    first = next(sample.id for sample in session.samples() if sample.code == "M1")
    session.set_sample(first, "change the code", code="Z1")
    settled(qtbot)
    choose(qtbot, demo, "order", "code")
    assert shown(demo) == ["M2", "M3", "M4", "M5", "M6", "Z1"]
    choose(qtbot, demo, "order", "newest")
    assert shown(demo)[-1] == "M2", "its last test is the oldest"
    choose(qtbot, demo, "order", "family")
    assert shown(demo) == ["M5", "Z1", "M2", "M3", "M6", "M4"]
    headings = [one.text() for one in there(demo.rack, QLabel) if one.isVisible() and one.property("role") == "small"]
    assert headings[:2] == ["flooded lead-acid", "lithium iron phosphate"]
    # the next window hangs them so too
    other = Rack(demo.session)
    assert other.order.currentData() == "family" and other.which.currentData() == ""
    other.deleteLater()
    choose(qtbot, demo, "order", "")
    assert shown(demo) == ["Z1", "M2", "M3", "M4", "M5", "M6"]


def test_a_tag_that_was_taken_off_hangs_again(demo: Window, qtbot) -> None:
    session = demo.session
    number = next(sample.id for sample in session.samples() if sample.code == "M2")
    choose(qtbot, demo, "which", "off")
    assert shown(demo) == [] and not demo.rack._none.isHidden()
    choose(qtbot, demo, "which", "")
    session.remove_sample(number)
    settled(qtbot)
    assert "M2" not in shown(demo)
    choose(qtbot, demo, "which", "off")
    assert shown(demo) == ["M2"] and "press to hang it again" in demo.rack.tag(number).doing()
    qtbot.mouseClick(demo.rack.tag(number), Qt.MouseButton.LeftButton)
    assert session.holds(number) and demo.sample_id == number and demo.rack.which.currentData() == ""
    settled(qtbot)
    assert "M2" in shown(demo)
    session.undo_stack.undo()
    assert not session.holds(number)


def test_a_tag_says_what_is_under_way_and_else_what_ended_last(one: Window) -> None:
    """Readings typed from the morning's notes begin before a log that was imported at noon."""
    runs, noon = one.session.book.runs, datetime(2026, 11, 2, 12, tzinfo=UTC)
    with one.session.book.in_place():
        runs.begin(one.sample_id, "Charge in the cold 1", "imported", noon, RunSettings(), status=RunStatus.FINISHED)
        hand = runs.begin(one.sample_id, "Capacity 1", "hand", noon - timedelta(hours=4), RunSettings())
    one.session.open.catch_up()
    assert one.rack.tag(one.sample_id).doing() == "hand readings under way"
    with one.session.book.in_place():
        runs.finish(hand, "battery-protection", "", noon + timedelta(hours=1), RunStatus.FINISHED)
    one.session.open.catch_up()
    assert one.rack.tag(one.sample_id).doing().startswith("capacity 1 finished")
