"""What importing needs beside its page: reading off the main thread, and a header's shape."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from wintry_tally.core.analysis import Analysis, Options, analyse
from wintry_tally.core.errors import LogError
from wintry_tally.desk.background import Job
from wintry_tally.exchange.layout import Choices, Layout
from wintry_tally.exchange.parts import join_logs
from wintry_tally.exchange.reader import LogFile, peek, read_log


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
