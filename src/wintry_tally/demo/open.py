"""Opening the demo: always a scratch copy, so that it can be played with and is the same the next time."""

from __future__ import annotations

import shutil
import tempfile
from datetime import UTC, date, datetime, timedelta
from importlib import resources
from pathlib import Path
from typing import TYPE_CHECKING

from wintry_tally.core.protocol.method import Method

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
    """Let the run in progress have begun just so long ago as it has been going, and all before it as long before it.

    The window shows it live then, and the campaign stands in its middle, whenever the demo is opened.
    """
    from wintry_tally.book import RunStatus
    from wintry_tally.book.records import utc_text

    runs, now = book.runs.all(), datetime.now(UTC)
    going = next((run for run in runs if run.status is RunStatus.RUNNING and run.method is Method.SIMULATED), None)
    if going is None:
        return
    begun = now - timedelta(seconds=book.runs.last_elapsed_s(going.id) or 0.0)
    # whole days, so that what was begun in the morning was begun in the morning
    days = timedelta(days=round((begun - going.started) / timedelta(days=1)))
    for run in runs:
        if run is going:
            book.runs.change(run.id, started_utc=utc_text(begun))
        elif days and run.ended is not None:
            book.runs.change(run.id, started_utc=utc_text(run.started + days), ended_utc=utc_text(run.ended + days))
    book.places.shift(begun - going.started)
    for sample in book.samples.all():
        if days and sample.arrival.received:
            received = date.fromisoformat(sample.arrival.received) + days
            book.samples.change(sample.id, received=received.isoformat())
