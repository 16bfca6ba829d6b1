"""Photographs and printed pages of a sample: put into the book, made ready for a page, missed where others have one."""

from __future__ import annotations

import base64
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from wintry_tally.core.errors import WintryError
from wintry_tally.core.protocol.method import BY_HAND

if TYPE_CHECKING:
    from wintry_tally.book import Book, Run
    from wintry_tally.core.battery import Sample
    from wintry_tally.report.page import Shown


def put_in(book: Book, sample_id: int, path: Path, kind: str = "other", caption: str = "", shown: bool = False) -> int:
    """Keep a file in the book; returns its number. Without `shown` it is not seen until an edit shows it.

    Raises:
        WintryError: it cannot be read, is nothing that can be shown, or the book refused it.
    """
    from wintry_tally.exchange.picture import read_picture

    found = read_picture(path)
    return book.attachments.add(
        sample_id, found.name, found.media, found.content, found.small, kind, caption, removed=not shown
    )


def shown_in(book: Book, sample_id: int) -> list[Shown]:
    """The pictures of a sample as a page shows them; a page kept as PDF is named, one that cannot be read is told."""
    from wintry_tally.exchange.picture import PDF, for_page
    from wintry_tally.report.page import Shown

    titles = {run.id: run.title for run in book.runs.all(sample_id)}
    found = []
    for one in book.attachments.of(sample_id):
        of = titles.get(one.run_id, "") if one.run_id is not None else ""
        if one.media == PDF:
            found.append(Shown(one.words, of, "", f"{one.name}, kept in the book"))
            continue
        try:
            jpeg = for_page(one.name, book.attachments.content(one.id))
            found.append(Shown(one.words, of, "data:image/jpeg;base64," + base64.b64encode(jpeg).decode("ascii")))
        except WintryError as error:
            found.append(Shown(one.words, of, "", str(error)))
    return found


def written_out(book: Book, number: int, media: str) -> Path:
    """The file itself, where the desktop can open it; it goes with the computer's temporary files.

    Raises:
        WintryError: it is not there or damaged. OSError: it cannot be written.
    """
    from wintry_tally.exchange.picture import ENDINGS

    content = book.attachments.content(number)
    with tempfile.NamedTemporaryFile(prefix="wintry-tally-", suffix=ENDINGS.get(media, ""), delete=False) as file:
        file.write(content)
    return Path(file.name)


def missing(
    samples: Sequence[Sample], runs: Mapping[int, Sequence[Run]], kinds: Mapping[int, set[str]]
) -> dict[int, str]:
    """By sample, the kind of picture that others of the book have and it has not: nobody is asked who keeps none."""
    kept = set().union(*kinds.values()) if kinds else set()
    found = {}
    for sample in samples:
        own = kinds.get(sample.id, set())
        if "label" in kept - own and any(claim.source == "label" for claim in sample.claims):
            found[sample.id] = "label"
        elif "meter" in kept - own and any(
            run.method in BY_HAND and run.ended is not None and not run.left_out for run in runs.get(sample.id, ())
        ):
            found[sample.id] = "meter"
    return found
