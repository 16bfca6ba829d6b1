"""Photographs and printed pages of a sample: the files' own bytes, a small picture of each, what they show."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from contextlib import AbstractContextManager
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import Connection, insert, select, update

from wintry_tally.book import tables
from wintry_tally.book.feed import Noting, Topic
from wintry_tally.book.large import Large, whole
from wintry_tally.book.records import read_as, utc_text
from wintry_tally.core.errors import BookError, InputError

Transaction = Callable[[], AbstractContextManager[Connection]]
KINDS = {
    "label": "label",
    "manual": "manual's page",
    "web": "web page",
    "meter": "meter at the end",
    "inside": "inside",
    "case": "case",
    "other": "other",
}
"""What a picture shows, in words."""
MOST_CAPTION = 500


@dataclass(frozen=True)
class Attachment:
    """One of them, without its bytes.

    Parts:
        run_id: the run it belongs to, where it belongs to one; kind: a key of KINDS.
        name: the file's own; media: its type; size: in bytes; small: a small JPEG, empty where it is none.
    """

    id: int
    sample_id: int
    run_id: int | None
    kind: str
    caption: str
    name: str
    media: str
    size: int
    added: datetime
    small: bytes

    @property
    def words(self) -> str:
        """Its caption, or what it shows."""
        return self.caption or KINDS[self.kind][:1].upper() + KINDS[self.kind][1:]


_SHOWN = [column for column in tables.attachment.c if column.name not in {"content", "large_id", "sha256", "removed"}]


class Attachments:
    """Reads and writes them; every method is one transaction."""

    def __init__(self, transaction: Transaction, noting: Noting, large: Large) -> None:
        self._transaction, self._note, self._large = transaction, noting, large

    def add(
        self, sample_id: int, name: str, media: str, content: bytes, small: bytes, kind: str = "other", caption: str = "",
        run_id: int | None = None, removed: bool = False,
    ) -> int:  # fmt: skip
        """Keep a file; returns its number. `removed`: it is kept, and not shown yet.

        Raises:
            InputError: no such kind, or words too many.
        """
        values = _checked({"kind": kind, "caption": caption})
        with self._large.kept(content) as (in_pieces,), self._transaction() as connection:
            made = connection.execute(
                insert(tables.attachment).values(
                    sample_id=sample_id, run_id=run_id, name=name[-200:], media=media, size=len(content),
                    content=content if in_pieces is None else b"", large_id=in_pieces,
                    sha256=hashlib.sha256(content).hexdigest(), small=small, added_utc=utc_text(datetime.now(UTC)),
                    removed=removed, **values,
                )
            ).inserted_primary_key  # fmt: skip
            if not removed:
                self._note(connection, Topic.ATTACHED, sample_id)
            return int(made[0]) if made is not None else 0

    def change(self, number: int, **values: Any) -> None:
        """Change what is said of one (kind, caption, run_id), or whether it is there (removed).

        Raises:
            InputError: no such kind, or words too many.
        """
        column = tables.attachment.c
        with self._transaction() as connection:
            connection.execute(update(tables.attachment).where(column.id == number).values(**_checked(values)))
            of = connection.execute(select(column.sample_id).where(column.id == number)).scalar()
            self._note(connection, Topic.ATTACHED, of)

    def of(self, sample_id: int) -> list[Attachment]:
        """Those of a sample, in the order they were added."""
        column = tables.attachment.c
        query = select(*_SHOWN).where(column.sample_id == sample_id, column.removed.is_(False)).order_by(column.id)
        with self._transaction() as connection:
            return [_made(row) for row in connection.execute(query).mappings().all()]

    def kinds(self) -> dict[int, set[str]]:
        """By sample, of which kinds there are any."""
        column = tables.attachment.c
        found: dict[int, set[str]] = {}
        with self._transaction() as connection:
            for sample, kind in connection.execute(
                select(column.sample_id, column.kind).where(column.removed.is_(False))
            ):
                found.setdefault(int(sample), set()).add(str(kind))
        return found

    def content(self, number: int) -> bytes:
        """The file's own bytes.

        Raises:
            BookError: there is none of that number, or its bytes are not those that were kept.
        """
        column = tables.attachment.c
        with self._transaction() as connection:
            row = connection.execute(select(column.sha256, column.name).where(column.id == number)).first()
            content = whole(connection, column.content, column.id, number)
        if row is None or content is None:
            raise BookError(f"there is no picture {number}")
        if hashlib.sha256(content).hexdigest() != row[0]:
            raise BookError(f"the picture {row[1]} is damaged in the book", mend="keep it again from its file")
        return content


def _checked(values: dict[str, Any]) -> dict[str, Any]:
    if "kind" in values and values["kind"] not in KINDS:
        raise InputError(f'there is no kind of picture "{values["kind"]}"', mend=f"use one of {', '.join(KINDS)}")
    if len(values.get("caption", "")) > MOST_CAPTION:
        raise InputError(f"a caption of more than {MOST_CAPTION} letters", mend="say it shorter")
    return values


def _made(row: Any) -> Attachment:
    with read_as("a picture"):
        return Attachment(
            int(row["id"]), int(row["sample_id"]), None if row["run_id"] is None else int(row["run_id"]),
            row["kind"] if row["kind"] in KINDS else "other", str(row["caption"]), str(row["name"]), str(row["media"]),
            int(row["size"]), datetime.fromisoformat(row["added_utc"]), bytes(row["small"]),
        )  # fmt: skip
