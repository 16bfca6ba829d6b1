"""Opening the demo: always a scratch copy, so that it can be played with and is the same the next time."""

from __future__ import annotations

import shutil
import tempfile
from datetime import UTC, datetime, timedelta
from importlib import resources
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from wintry_tally.book import Book


def scratch_copy(folder: Path | None = None) -> Path:
    """Copy the shipped demo book to a folder (a new one in the system's temporary place) and return its path."""
    target = (folder or Path(tempfile.mkdtemp(prefix="wintry-demo-"))) / "demo.wintry"
    with resources.as_file(resources.files("wintry_tally.demo").joinpath("demo.wintry")) as shipped:
        shutil.copyfile(shipped, target)
    target.chmod(0o600)
    return target


def begin_now(book: Book) -> None:
    """Let the run in progress have begun just so long ago as it has been going, so that the window shows it live."""
    from wintry_tally.book import RunStatus
    from wintry_tally.book.records import utc_text

    for run in book.runs.all():
        if run.status is RunStatus.RUNNING and run.method == "simulated":
            elapsed = book.runs.last_elapsed_s(run.id) or 0.0
            book.runs.change(run.id, started_utc=utc_text(datetime.now(UTC) - timedelta(seconds=elapsed)))
