"""The guard processes that a test's programs have started, and their end: one left over says OFF every second to ports that
the next stand-ins are given."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
from pathlib import Path

from wintry_tally.files import state_folder


def guards() -> set[int]:
    """Numbers of the guard processes that were started with this test's own places."""
    found = subprocess.run(["pgrep", "-f", "bench/guard/process.py"], capture_output=True, text=True, check=False)
    mine = f"XDG_STATE_HOME={os.environ['XDG_STATE_HOME']}".encode()
    numbers = set()
    for line in found.stdout.split():
        with contextlib.suppress(OSError):
            if mine in Path(f"/proc/{line}/environ").read_bytes().split(b"\0"):
                numbers.add(int(line))
    return numbers


def end_guards() -> None:
    """End those that are left, whatever they still shout for; where none was started nobody is looked for."""
    for number in guards() if (state_folder() / "guard").is_dir() else ():
        with contextlib.suppress(ProcessLookupError):
            os.kill(number, signal.SIGKILL)
