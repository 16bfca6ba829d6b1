"""The feed of a book: what was changed in it, by whomever, in the order it was done; every writer notes it as it writes.

A note stands in the same transaction as what it speaks of, so that none is lost and none is early. Readings as they are
journalled, and what a running test keeps of its state, are not noted: who follows a run looks at it anyway.
"""

from __future__ import annotations

import uuid
from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum

from sqlalchemy import Connection, Select, func, insert, literal, select
from sqlalchemy import delete as delete_from

from wintry_tally.book import tables

KEPT = 5_000
"""So many notes stay; who looked longer ago than that reads everything anew."""


class Topic(StrEnum):
    """What a note speaks of."""

    SAMPLES = "samples"
    """A tag hung or taken off."""
    SAMPLE = "sample"
    """What is known of a sample: its facts and claims."""
    ENTERED = "entered"
    """What was measured or seen beside its claims."""
    PROSE = "prose"
    """Its tester's words."""
    RUNS = "runs"
    """Its runs, their ends, what is left out or repaired; and its quarantine."""
    BENCH = "bench"
    """The bench and who is at it when."""
    RULE = "rule"
    """The decision rule."""
    PLAN = "plan"
    """What is wished for the campaign (days away, pins, tests left out), and what batteries are needed for."""

    ATTACHED = "attached"
    """Photographs and pages of a sample."""

    PLACES = "places"
    """What a place was like."""


OF_META = {
    "bench": Topic.BENCH,
    "attended": Topic.BENCH,
    "school": Topic.RULE,
    "campaign": Topic.PLAN,
    "needs": Topic.PLAN,
    "places": Topic.BENCH,
}
OF_SAMPLE = {"entered": Topic.ENTERED, "quarantine": Topic.RUNS, "quarantine-log": Topic.RUNS, "cycles": Topic.ENTERED}
"""The topic of small facts kept by key, alone and of a sample ("entered:3")."""


@dataclass(frozen=True)
class Note:
    """One change: its number in the feed, who did it (one open book, of any program), and of which sample, if of one."""

    number: int
    origin: str
    topic: Topic
    sample_id: int | None


Noting = Callable[[Connection, Topic, "int | Select[tuple[int]] | None"], None]
"""Enters a note into a transaction; the sample may be a question to the book."""


class Feed:
    """Writes and reads the notes of one open book."""

    def __init__(self) -> None:
        self.origin = uuid.uuid4().hex

    def note(self, connection: Connection, topic: Topic, sample: int | Select[tuple[int]] | None = None) -> None:
        """Enter a note; it becomes true with the transaction."""
        of = literal(sample) if sample is None or isinstance(sample, int) else sample.scalar_subquery()
        done = connection.execute(
            insert(tables.change).values(origin=self.origin, topic=topic.value, sample_id=of)
        ).inserted_primary_key
        if done is not None and int(done[0]) % 500 == 0:
            connection.execute(delete_from(tables.change).where(tables.change.c.id <= int(done[0]) - KEPT))

    def note_meta(self, connection: Connection, key: str) -> None:
        """Enter a note on a small fact kept by its key, where others have to know of it."""
        name, _, sample = key.partition(":")
        if not sample and name in OF_META:
            self.note(connection, OF_META[name])
        elif name in OF_SAMPLE and sample.isdigit():
            self.note(connection, OF_SAMPLE[name], int(sample))

    def since(self, connection: Connection, number: int) -> list[Note]:
        """Every note after that number, in order."""
        rows = (
            connection.execute(select(tables.change).where(tables.change.c.id > number).order_by(tables.change.c.id))
            .mappings()
            .all()
        )
        known = Topic._value2member_map_
        return [
            Note(row["id"], row["origin"], Topic(row["topic"]), row["sample_id"])
            for row in rows
            if row["topic"] in known
        ]

    def last(self, connection: Connection) -> int:
        """The number of the newest note; 0 before the first."""
        return int(connection.execute(select(func.max(tables.change.c.id))).scalar() or 0)
