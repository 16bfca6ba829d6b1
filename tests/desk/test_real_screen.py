"""A real X window under Xvfb, driven from outside by xdotool: started by its command, typed into, closed, nothing lost."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest

from wintry_tally.book import Book

TOOLS = ("Xvfb", "xdotool", "openbox")


def wait_for(ready, seconds: float = 30.0):
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        found = ready()
        if found:
            return found
        time.sleep(0.1)
    raise AssertionError("did not come up in time")


@pytest.mark.skipif(
    any(shutil.which(tool) is None for tool in TOOLS),
    reason="needs Xvfb, xdotool and openbox (./run test installs them)",
)
def test_a_person_at_a_real_screen(tmp_path: Path) -> None:
    path = tmp_path / "tests.wintry"
    Book.create(path).close()
    read, write = os.pipe()
    server = subprocess.Popen(
        ["Xvfb", "-displayfd", str(write), "-screen", "0", "1280x800x24", "-nolisten", "tcp", "-noreset"],
        pass_fds=[write],
        stderr=subprocess.DEVNULL,
    )
    os.close(write)
    with os.fdopen(read) as told:  # to the end of the line: the server dies of a pipe closed before
        display = f":{told.readline().strip()}"
    env = {
        **os.environ,
        "DISPLAY": display,
        "QT_QPA_PLATFORM": "xcb",
        "HOME": str(tmp_path),
        "XDG_CONFIG_HOME": str(tmp_path / "c"),
    }

    def xdo(*arguments: str) -> str:
        done = subprocess.run(["xdotool", *arguments], env=env, capture_output=True, text=True, timeout=20)
        return done.stdout.strip()

    wait_for(lambda: xdo("getdisplaygeometry") != "")
    manager = subprocess.Popen(["openbox"], env=env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    time.sleep(1.0)
    window = subprocess.Popen([sys.executable, "-m", "wintry_tally.cli.main", "--book", str(path)], env=env)

    try:
        number = wait_for(lambda: xdo("search", "--onlyvisible", "--name", "Wintry Tally").splitlines())[0]
        xdo("windowactivate", "--sync", number)
        time.sleep(1.0)

        def samples() -> list:
            with Book.open(path) as book:
                return book.samples.all()

        xdo("key", "--clearmodifiers", "ctrl+n")
        wait_for(lambda: len(samples()) == 1)
        time.sleep(0.3)
        xdo("type", "--delay", "25", "Invented")
        xdo("key", "Tab")
        wait_for(lambda: samples()[0].maker == "Invented")
        time.sleep(0.3)
        xdo("key", "--clearmodifiers", "ctrl+z")
        wait_for(lambda: samples()[0].maker == "")
        xdo("key", "--clearmodifiers", "ctrl+q")
        assert window.wait(20) == 0
        assert len(samples()) == 1
    finally:
        for process in (window, manager, server):
            process.terminate()
            process.wait(10)
