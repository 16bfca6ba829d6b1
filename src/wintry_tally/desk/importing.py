"""What importing needs beside its page: reading off the main thread, and a header's shape."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from wintry_tally.book.keeping import keep_log
from wintry_tally.core.analysis import Analysis, Options, analyse
from wintry_tally.core.errors import LogError
from wintry_tally.desk.background import Job
from wintry_tally.exchange.layout import Choices, Layout
from wintry_tally.exchange.originals import original_bytes
from wintry_tally.exchange.parts import join_logs
from wintry_tally.exchange.reader import LogFile, peek, read_log

if TYPE_CHECKING:
    from wintry_tally.book import Book
    from wintry_tally.core.battery import Sample
    from wintry_tally.core.protocol.kinds import TestKind


@dataclass(frozen=True)
class Looked:
    """A log read and analysed with some choices."""

    log: LogFile
    analysis: Analysis


@dataclass(frozen=True)
class Unread:
    """A log that could not be used, and how it is laid out where that can be told: its columns can be chosen then."""

    layout: Layout | None
    problem: str


def look(paths: Sequence[Path], choices: Choices, options: Options, job: Job) -> Looked | Unread:
    """Read and analyse; can be cancelled between files, before and within the analysis."""
    try:
        return _look(paths, choices, options, job)
    except LogError as error:
        try:
            return Unread(peek(paths[0], choices), str(error))
        except LogError:
            return Unread(None, str(error))


def _look(paths: Sequence[Path], choices: Choices, options: Options, job: Job) -> Looked:
    job.tell(0.05)
    parts = []
    for number, path in enumerate(paths, 1):
        parts.append((path.name, read_log(path, choices)))
        job.tell(0.05 + 0.55 * number / len(paths))
    log = join_logs(parts)
    return Looked(log, analyse(log.trace, options, lambda share: job.tell(0.6 + 0.4 * share)))


def shape_key(layout: Layout) -> str:
    """Names the shape of a header: the same device's logs have the same."""
    shape = json.dumps([layout.encoding == "parquet", layout.delimiter, [header.text for header in layout.headers]])
    return f"columns:{hashlib.sha256(shape.encode()).hexdigest()[:24]}"


def keep(book: Book, sample: Sample, kind: TestKind, looked: Looked, paths: Sequence[Path], device: str) -> None:
    """Keep a log as a run, the file's own bytes beside it, and what was set for its device for the next one's.

    Raises:
        WintryError: the file is gone or the book cannot be written; nothing is kept.
    """
    log = looked.log
    try:
        started = log.started or datetime.fromtimestamp(paths[0].stat().st_mtime, UTC)
    except OSError as error:
        raise LogError(f"the log cannot be read again ({error.strerror})", str(paths[0]), "open it again") from None
    keep_log(book, sample, kind, log.trace, looked.analysis, started, original_bytes(paths))
    book.set_meta(shape_key(log.layout), device)
