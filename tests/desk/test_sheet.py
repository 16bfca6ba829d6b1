"""A bench sheet from the set-up of a test, and its code read back into the window; tags found by what is typed."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog

from wintry_tally.cli.main import invoke
from wintry_tally.core.protocol.leads import ampacity_A
from wintry_tally.demo import scratch_copy
from wintry_tally.desk.window import Window
from wintry_tally.report.sheet import FUSES_A, code_read, code_text, leads_words


def test_leads_and_fuse_carry_the_current() -> None:
    """The lead's own table says that it carries it; the fuse is the next size above a quarter more: common practice."""
    for amps in (0.5, 8.0, 20.0, 55.0, 90.0, 150.0):
        words = leads_words(amps)
        area, fuse = float(words.split(" mm²")[0]), float(re.search(r"fuse ([\d.]+) A", words)[1])  # type: ignore[index]
        assert ampacity_A(area * 1.02) >= amps
        assert fuse >= 1.25 * amps and all(size < 1.25 * amps for size in FUSES_A if size < fuse)
    assert (
        leads_words(0.0) == "none" and "parallel leads" in leads_words(2000.0) and "above 2500 A" in leads_words(2000.0)
    )


def test_a_code_is_read_back_and_nothing_else_is() -> None:
    assert code_read(code_text("Mast / workshop", "M1", "surge")) == ("Mast   workshop", "M1", "surge")
    for text in ("", "M1", "wintry-tally/a/b", "wintry-tally/a/b/c/d", "other/a/b/c", "wintry-tally/a//c"):
        assert code_read(text) is None


def test_from_a_shell(tmp_path: Path, capsys) -> None:
    book, out = scratch_copy(tmp_path), tmp_path / "sheet.html"
    assert invoke(["sheet", str(book), "M1", "--recipe", "surge", "--out", str(out)]) == 0
    page = out.read_text(encoding="utf-8")
    for words in (
        "M1 · Surge",
        "Discharge at 90 A",
        "Stay with it",
        "fuse 125 A",
        "<svg",
        "wintry-tally/",
        "invented",
        "can start a fire",
    ):
        assert words in page, words
    assert "Charging current" not in page and "http" not in page.replace("http://www.w3.org", "")
    assert invoke(["sheet", str(book), "M1", "--recipe", "charge-lithium-usual", "--out", str(out)]) == 0
    assert "Charging current" in out.read_text(encoding="utf-8")
    capsys.readouterr()
    for arguments in (["M9", "--recipe", "surge", "--out", str(out)], ["M1", "--recipe", "none", "--out", str(out)],
                      ["M1", "--recipe", "surge", "--out", str(tmp_path / "no" / "sheet.html")], ["M1", "--recipe", "surge", "--out", "/"]):  # fmt: skip
        assert invoke(["sheet", str(book), *arguments]) == 2
        assert capsys.readouterr().err.count("\n") == 1


def test_saved_from_the_set_up_and_found_by_its_code(
    demo: Window, qtbot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    qtbot.waitUntil(lambda: demo.session.drawn() is not None, timeout=20000)
    number = next(sample.id for sample in demo.session.samples() if sample.code == "M1")
    demo.lead(number, "shelf", "shelf-start")
    out = tmp_path / "M1 shelf"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(out), ""))
    qtbot.mouseClick(demo.view("shelf").page("recipe").sheet, Qt.MouseButton.LeftButton)
    page = out.with_suffix(".html").read_text(encoding="utf-8")
    assert "M1 · Shelf test, start" in page and "Planned: " in page
    code = re.search(r"<figcaption>([^<]+)<", page)
    assert code is not None
    demo.show_page("bench")
    qtbot.keyClick(demo, Qt.Key.Key_F, Qt.KeyboardModifier.ControlModifier)
    find = demo.rack.looking
    qtbot.keyClicks(find, code[1])
    qtbot.keyClick(find, Qt.Key.Key_Return)
    assert demo.sample_id == number and demo.station == "shelf" and demo.view("shelf").page("recipe").isVisible()
    assert find.text() == "" and all(demo.rack.tag(sample.id).isVisible() for sample in demo.session.samples())


def test_tags_are_found_by_what_is_typed(demo: Window, qtbot) -> None:
    rack = demo.rack

    def shown() -> list[str]:
        return [sample.code for sample in demo.session.samples() if rack.tag(sample.id).isVisible()]

    qtbot.keyClicks(rack.looking, "firnwerk")
    assert shown() == ["M1", "M2"]
    qtbot.keyClicks(rack.looking, " m2")
    assert shown() == ["M2"]
    rack.fill()  # whatever is told meanwhile
    assert shown() == ["M2"]
    qtbot.keyClick(rack.looking, Qt.Key.Key_Return)
    assert demo.session.sample(demo.sample_id or 0).code == "M2" and len(shown()) == 6
    qtbot.keyClicks(rack.looking, "nothing like it")
    assert shown() == [] and rack._none.isVisible()
    qtbot.keyClick(rack.looking, Qt.Key.Key_Return)
    assert demo.session.sample(demo.sample_id or 0).code == "M2"
    rack.looking.setText("wintry-tally/book/M9/surge")
    qtbot.keyClick(rack.looking, Qt.Key.Key_Return)
    assert rack._none.isVisible() and shown() == []
