"""A book opened from the desktop a second time brings the window forward that shows it already."""

from __future__ import annotations

import os
import socket
import threading
from pathlib import Path

import pytest
from click.testing import CliRunner

from wintry_tally.cli.main import cli
from wintry_tally.desk import one_window
from wintry_tally.desk.one_window import Door, call_forward
from wintry_tally.desk.window import Window


@pytest.fixture(autouse=True)
def of_its_own(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    folder = Path("/tmp") / f"wt-{os.getpid()}"  # a socket's path is short
    folder.mkdir(mode=0o700, exist_ok=True)
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(folder))
    return folder


def _called(qtbot, book: Path) -> bool:
    """Called from elsewhere, while the window goes on."""
    answers: list[bool] = []
    other = threading.Thread(target=lambda: answers.append(call_forward(book)))
    other.start()
    qtbot.waitUntil(lambda: bool(answers), timeout=5000)
    other.join()
    return answers[0]


def test_the_window_that_shows_a_book_comes_forward(qtbot, window: Window, tmp_path: Path) -> None:
    book, other = tmp_path / "a.wintry", tmp_path / "b.wintry"
    assert not _called(qtbot, book)
    door = Door(window)
    door.open(book)
    window.showMinimized()
    assert _called(qtbot, book) and not window.isMinimized()
    assert _called(qtbot, tmp_path / "x" / ".." / "a.wintry") and not _called(qtbot, other)
    door.open(other)
    assert not _called(qtbot, book) and _called(qtbot, other)
    door.close()
    assert not _called(qtbot, other) and not list(one_window._folder().iterdir())  # type: ignore[union-attr]


def test_what_a_killed_window_left_is_in_nobody_s_way(qtbot, window: Window, tmp_path: Path, of_its_own: Path) -> None:
    book = tmp_path / "a.wintry"
    place = one_window._place(book)
    assert place is not None
    gone = socket.socket(socket.AF_UNIX)
    gone.bind(str(place))
    gone.close()  # its file stays, as after a kill
    assert place.exists() and not _called(qtbot, book)
    door = Door(window)
    door.open(book)
    assert _called(qtbot, book)
    # a second window on the same book lets the first one listen
    window.showMinimized()
    second = Door(window)
    thread = threading.Thread(target=lambda: second.open(book))
    thread.start()
    qtbot.waitUntil(lambda: not thread.is_alive(), timeout=5000)
    assert second._heard is None and window.isMinimized(), "nobody asked the first one to come forward"
    second.close()
    assert _called(qtbot, book)
    door.close()


def test_a_place_that_others_may_write_to_is_not_used(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, of_its_own: Path
) -> None:
    of_its_own.chmod(0o777)
    assert one_window._folder() is None and not call_forward(tmp_path / "a.wintry")
    of_its_own.chmod(0o700)
    long = tmp_path / ("x" * 120)
    long.mkdir(mode=0o700)
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(long))
    assert one_window._place(tmp_path / "a.wintry") is None
    monkeypatch.delenv("XDG_RUNTIME_DIR")
    monkeypatch.setattr(one_window.tempfile, "gettempdir", lambda: str(tmp_path))
    made = one_window._folder()
    assert made is not None and made.stat().st_mode & 0o777 == 0o700


def test_a_book_s_file_alone_opens_it(monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[dict[str, object]] = []
    monkeypatch.setattr("wintry_tally.desk.starting.hold_collector", lambda: None)
    monkeypatch.setattr("wintry_tally.desk.app.run", lambda **given: asked.append(given) or 0)
    assert CliRunner().invoke(cli, ["my tests.wintry"]).exit_code == 0
    assert CliRunner().invoke(cli, ["--book", "b.wintry"]).exit_code == 0
    assert (asked[0]["book"], asked[0]["again"]) == (Path("my tests.wintry"), False)
    assert (asked[1]["book"], asked[1]["again"]) == (Path("b.wintry"), True)
    assert CliRunner().invoke(cli, ["no-such-command"]).exit_code == 2
