"""Runs in the book: the journal of rows while one goes on, the sealed trace when it ended."""

from __future__ import annotations

import gzip
import hashlib
import json
import math
import time
import zlib
from collections.abc import Iterable, Mapping
from dataclasses import asdict, replace
from datetime import datetime
from typing import TYPE_CHECKING, Any

from sqlalchemy import Connection, func, insert, select, update
from sqlalchemy import delete as delete_from

from wintry_tally.book import tables
from wintry_tally.book.feed import Noting, Topic
from wintry_tally.book.large import Large, whole
from wintry_tally.book.owner import LEASE_S, by_clock, owner_lives, this_host, this_process
from wintry_tally.book.records import (
    Run,
    RunSettings,
    RunStatus,
    event_of,
    event_row,
    message_text,
    read_as,
    run_of,
    utc_text,
)
from wintry_tally.book.samples import Transaction
from wintry_tally.book.sqlite import insert_or_keep
from wintry_tally.core.engine import Event, RunState
from wintry_tally.core.errors import BookError
from wintry_tally.core.protocol.method import DRIVEN, Method
from wintry_tally.files import MOST_LOG_BYTES

if TYPE_CHECKING:
    from wintry_tally.core.trace.trace import Trace


ROWS_AT_ONCE = 5_000


class Runs:
    """Reads and writes runs; every method is one transaction. Also the journal's store."""

    def __init__(self, transaction: Transaction, noting: Noting, large: Large) -> None:
        self._transaction, self._noting, self._large = transaction, noting, large

    def _note(self, connection: Connection, run_id: int) -> None:
        self._noting(connection, Topic.RUNS, select(tables.run.c.sample_id).where(tables.run.c.id == run_id))

    # --- reading ---

    def all(self, sample_id: int | None = None) -> list[Run]:
        """Runs, oldest first; of one sample, or all."""
        query = select(tables.run).order_by(tables.run.c.started_utc, tables.run.c.id)
        if sample_id is not None:
            query = query.where(tables.run.c.sample_id == sample_id)
        with self._transaction() as connection:
            return [run_of(row) for row in connection.execute(query).mappings().all()]

    def under_way(self) -> list[Run]:
        """Those that are running, whoever holds them or held them last."""
        query = select(tables.run).where(tables.run.c.status == RunStatus.RUNNING.value).order_by(tables.run.c.id)
        with self._transaction() as connection:
            return [run_of(row) for row in connection.execute(query).mappings().all()]

    def get(self, run_id: int) -> Run:
        """One run.

        Raises:
            BookError: there is none of that number.
        """
        with self._transaction() as connection:
            row = connection.execute(select(tables.run).where(tables.run.c.id == run_id)).mappings().first()
        if row is None:
            raise BookError(f"no run {run_id} in the book")
        return run_of(row)

    def events(self, run_id: int) -> list[Event]:
        """Its events in order."""
        with self._transaction() as connection:
            query = select(tables.event).where(tables.event.c.run_id == run_id).order_by(tables.event.c.id)
            rows = connection.execute(query).mappings().all()
            with read_as(f"the events of run {run_id}"):
                return [event_of(row) for row in rows]

    def readings(self, run_id: int) -> list[tuple[float, float | None, float | None, float | None, float | None, str]]:
        """The rows journalled so far: elapsed s, V, A, °C, counter Ah, note."""
        columns = tables.reading.c
        with self._transaction() as connection:
            rows = connection.execute(
                select(
                    columns.elapsed_s,
                    columns.voltage_V,
                    columns.current_A,
                    columns.temperature_C,
                    columns.counter_Ah,
                    columns.note,
                )
                .where(columns.run_id == run_id)
                .order_by(columns.seq)
            )
            return [(row[0], row[1], row[2], row[3], row[4], row[5] or "") for row in rows]

    def last_elapsed_s(self, run_id: int) -> float | None:
        """When its last journalled reading was taken, s from its start; None where there is none."""
        columns = tables.reading.c
        with self._transaction() as connection:
            found = connection.execute(select(func.max(columns.elapsed_s)).where(columns.run_id == run_id)).scalar()
        with read_as(f"the readings of run {run_id}"):
            return None if found is None else float(found)

    def readings_mark(self, run_id: int) -> str:
        """What tells its readings from any others it may have held or hold: of a sealed trace its size, else how far it is.

        Empty where it holds none.
        """
        return self.readings_marks(run_id).get(run_id, "")

    def readings_marks(self, run_id: int | None = None) -> dict[int, str]:
        """The same of every run that holds readings, or of one."""
        kept, rows = tables.sealed.c, tables.reading.c
        sealed = select(kept.run_id, kept.rows, func.length(kept.parquet))
        counted = select(rows.run_id, func.count(), func.max(rows.seq), func.max(rows.elapsed_s)).group_by(rows.run_id)
        if run_id is not None:
            sealed, counted = sealed.where(kept.run_id == run_id), counted.where(rows.run_id == run_id)
        with self._transaction() as connection:
            found = {int(one[0]): f"sealed {one[1]} {one[2]}" for one in connection.execute(sealed)}
            if run_id not in found:
                for one in connection.execute(counted):
                    found.setdefault(int(one[0]), f"rows {one[1]} {one[2]} {one[3]}")
        return found

    def trace(self, run_id: int) -> Trace:
        """The run's readings as a trace: sealed, or as journalled so far.

        Raises:
            BookError: it holds no readings.
        """
        run = self.get(run_id)
        resolution = {
            name: value
            for name, value in (
                ("voltage_V", run.settings.voltage_resolution),
                ("current_A", run.settings.current_resolution),
            )
            if value
        }
        with self._transaction() as connection:
            from wintry_tally.book.streaming import journalled_trace

            sealed = whole(connection, tables.sealed.c.parquet, tables.sealed.c.run_id, run_id)
            if sealed is not None:
                from wintry_tally.book.seal import unseal

                return replace(unseal(sealed, resolution), unnamed=frozenset(run.settings.unnamed.split()))

            # at a charge by hand people write down what the charger shows: as typed in the rows, turned only here
            with read_as(f"the readings of {run.title}"):
                found = journalled_trace(connection, run_id, run.settings.charging, resolution)
        if found is None:
            raise BookError("this run holds no readings yet")
        return found

    def past(self, run_id: int, points: int) -> list[tuple[float, float, float, float]]:
        """About so many of the rows journalled so far, for a curve: elapsed s, V, A, Ah drawn by then."""
        from wintry_tally.book.streaming import thinned

        columns = tables.reading.c
        with self._transaction() as connection:
            rows = connection.execute(
                select(func.count()).select_from(tables.reading).where(columns.run_id == run_id)
            ).scalar()
            return thinned(connection, run_id, max(1, int(rows or 0) // points))

    def original(self, run_id: int) -> tuple[str, bytes] | None:
        """Name and bytes of the file a run was imported from."""
        with self._transaction() as connection:
            name = connection.execute(select(tables.original.c.name).where(tables.original.c.run_id == run_id)).scalar()
            content = whole(connection, tables.original.c.gzip, tables.original.c.run_id, run_id)
        if content is None:
            return None
        with read_as(f"the file of run {run_id}"):
            if int.from_bytes(content[-4:], "little") > MOST_LOG_BYTES:
                raise ValueError("it is larger than any that is imported")
            try:
                return str(name), gzip.decompress(content)
            except (OSError, EOFError, zlib.error) as error:
                raise ValueError(str(error)) from None

    # --- writing ---

    def begin(
        self,
        sample_id: int,
        title: str,
        method: Method,
        started: datetime,
        settings: RunSettings,
        recipe: dict[str, Any] | None = None,
        station: str = "capacity",
        status: RunStatus = RunStatus.RUNNING,
    ) -> int:
        """Enter a run; returns its number."""
        with self._transaction() as connection:
            done = connection.execute(
                insert(tables.run).values(
                    sample_id=sample_id,
                    station=station,
                    title=title,
                    method=method,
                    status=status.value,
                    started_utc=utc_text(started),
                    recipe=json.dumps(recipe or {}),
                    settings=json.dumps(asdict(settings)),
                    owner=this_process() if status is RunStatus.RUNNING and method in DRIVEN else "",
                    lease=func.current_timestamp(),
                )
            )
            assert done.inserted_primary_key is not None
            self._noting(connection, Topic.RUNS, sample_id)
            return int(done.inserted_primary_key[0])

    def claim(self, run_id: int, before: str) -> bool:
        """Become the owner of a running run whose owner was `before`: one step, which only one process can win."""
        with self._transaction() as connection:
            done = connection.execute(
                update(tables.run)
                .where(
                    tables.run.c.id == run_id,
                    tables.run.c.owner == before,
                    tables.run.c.status == RunStatus.RUNNING.value,
                )
                .values(owner=this_process(), lease=func.current_timestamp())
            )
            self._note(connection, run_id)
            return bool(done.rowcount == 1)

    def renew(self, run_ids: Iterable[int]) -> None:
        """Say that this process still has these runs, by the clock that all who have the book open share: the book's."""
        mine = (tables.run.c.id.in_(list(run_ids)), tables.run.c.owner == this_process())
        with self._transaction() as connection:
            connection.execute(update(tables.run).where(*mine).values(lease=func.current_timestamp()))

    def in_hands(self, run: Run) -> bool:
        """Whether somebody has this running run: a process of this computer that lives, or another's whose lease does."""
        host, _, process = run.owner.partition("/")
        if not process:
            host, process = this_host(), run.owner  # of a book that knew one computer only
        if host == this_host() or not run.owner:
            return owner_lives(process)
        with self._transaction() as connection:
            now = connection.execute(select(func.current_timestamp())).scalar()
        with read_as(f"the lease of {run.title}"):
            age = by_clock(now) - by_clock(run.lease or "1970-01-01")
        return age.total_seconds() < LEASE_S

    def change(self, run_id: int, **values: Any) -> None:
        """Change columns of a run: status, left_out, repair, title, cause, detail, owner, ended_utc, settings."""
        if isinstance(values.get("settings"), RunSettings):
            values["settings"] = json.dumps(asdict(values["settings"]))
        if "detail" in values:
            values["detail"] = message_text(values["detail"])
        with self._transaction() as connection:
            connection.execute(update(tables.run).where(tables.run.c.id == run_id).values(**values))
            self._note(connection, run_id)

    def append(
        self,
        run_id: int,
        rows: list[tuple[float, float, float, float | None, Mapping[str, float]]],
        events: list[Event],
        state: RunState,
        bench: dict[str, Any],
    ) -> None:
        """Journal readings, events and state in one transaction; see bench.journal.Store.

        Raises:
            BookError: the book cannot be written, or another has taken the run up meanwhile: nothing is written.
        """
        with self._transaction() as connection:
            self._still_ours(connection, run_id)
            if rows:
                first = self._next_seq(connection, run_id)
                connection.execute(
                    insert(tables.reading),
                    [
                        {
                            "run_id": run_id,
                            "seq": first + offset,
                            "elapsed_s": row[0],
                            "voltage_V": row[1],
                            "current_A": row[2],
                            "temperature_C": row[3],
                            "beside": json.dumps(dict(row[4])) if row[4] else None,
                        }
                        for offset, row in enumerate(rows)
                    ],
                )
            if events:
                connection.execute(insert(tables.event), [event_row(run_id, event) for event in events])
            connection.execute(
                update(tables.run)
                .where(tables.run.c.id == run_id)
                .values(
                    state=json.dumps(_plain(state.as_dict())), bench=json.dumps(bench), lease=func.current_timestamp()
                )
            )

    @staticmethod
    def _still_ours(connection: Connection, run_id: int) -> None:
        """A computer that slept beyond its lease comes back to a run that another has taken up: it keeps out of it."""
        owner = connection.execute(select(tables.run.c.owner).where(tables.run.c.id == run_id)).scalar()
        if owner and owner != this_process():
            host = str(owner).rpartition("/")[0] or "this computer"
            raise BookError(
                f"the run was taken up elsewhere meanwhile (on {host})",
                mend="nothing of it is kept here any more; go on there",
            )

    @staticmethod
    def _next_seq(connection: Any, run_id: int) -> int:
        last = connection.execute(
            select(func.max(tables.reading.c.seq)).where(tables.reading.c.run_id == run_id)
        ).scalar()
        return 0 if last is None else int(last) + 1

    def add_hand(
        self,
        run_id: int,
        elapsed_s: float,
        voltage_V: float | None,
        current_A: float | None,
        counter_Ah: float | None,
        note: str = "",
        temperature_C: float | None = None,
    ) -> int:
        """Keep one reading typed by hand, at once; returns its sequence number."""
        with self._transaction() as connection:
            seq = self._next_seq(connection, run_id)
            connection.execute(
                insert(tables.reading).values(
                    run_id=run_id,
                    seq=seq,
                    elapsed_s=elapsed_s,
                    voltage_V=voltage_V,
                    current_A=current_A,
                    temperature_C=temperature_C,
                    counter_Ah=counter_Ah,
                    note=note or None,
                )
            )
            self._note(connection, run_id)
            return seq

    def remove_hand(self, run_id: int, seq: int) -> None:
        """Take back the reading just typed (undo)."""
        with self._transaction() as connection:
            connection.execute(
                delete_from(tables.reading).where(tables.reading.c.run_id == run_id, tables.reading.c.seq == seq)
            )
            self._note(connection, run_id)

    def remove_last(self, run_id: int) -> None:
        """Take back the last reading journalled; see bench.journal.Store."""
        with self._transaction() as connection:
            last = select(func.max(tables.reading.c.seq)).where(tables.reading.c.run_id == run_id).scalar_subquery()
            connection.execute(
                delete_from(tables.reading).where(tables.reading.c.run_id == run_id, tables.reading.c.seq == last)
            )

    def add_event(self, run_id: int, event: Event) -> None:
        """Keep an event."""
        with self._transaction() as connection:
            connection.execute(insert(tables.event).values(event_row(run_id, event)))

    def keep_original(self, run_id: int, name: str, content: bytes) -> None:
        """Keep the bytes of an imported file."""
        self.keep_packed(run_id, name, packed(content))

    def keep_packed(self, run_id: int, name: str, content: tuple[str, bytes], large_id: int | None = None) -> None:
        """Keep what `packed` made of an imported file's bytes; `large_id`: where they lie in pieces (`Large.kept`)."""
        inline = content[1] if large_id is None else b""
        with self._transaction() as connection:
            connection.execute(
                insert(tables.original).values(
                    run_id=run_id, name=name, sha256=content[0], gzip=inline, large_id=large_id
                )
            )
            connection.execute(update(tables.run).where(tables.run.c.id == run_id).values(original_name=name))

    def seal(self, run_id: int, trace: Trace | None = None) -> None:
        """Seal a trace (the journalled one, where none is given) as Parquet; rows go only after it reads back alike.

        Raises:
            BookError: what was sealed does not read back alike; the rows stay.
        """
        if trace is not None:
            with self._transaction() as connection:
                connection.execute(delete_from(tables.sealed).where(tables.sealed.c.run_id == run_id))
        kept = self.trace(run_id) if trace is None else trace
        from wintry_tally.book.seal import sealed_bytes

        content = sealed_bytes(kept)
        with self._large.kept(content) as (in_pieces,):
            self.keep_sealed(run_id, len(kept), content, in_pieces)
        if trace is None:
            self.drop_rows(run_id)

    def keep_sealed(self, run_id: int, rows: int, content: bytes, large_id: int | None = None) -> None:
        """Keep what `sealed_bytes` made of a trace of so many rows; where it is sealed already, that stays.

        `large_id`: where the bytes lie in pieces (`Large.kept`).
        """
        values = {"run_id": run_id, "rows": rows, "parquet": content if large_id is None else b"", "large_id": large_id}
        with self._transaction() as connection:
            connection.execute(insert_or_keep(tables.sealed).values(**values))

    def drop_rows(self, run_id: int) -> None:
        """Rows that are sealed go in pieces, so that no other run has to wait for its own readings to be written."""
        reading = tables.reading
        while True:
            with self._transaction() as connection:
                last = connection.execute(
                    select(reading.c.seq)
                    .where(reading.c.run_id == run_id)
                    .order_by(reading.c.seq)
                    .limit(1)
                    .offset(ROWS_AT_ONCE)
                ).scalar()
                gone = delete_from(reading).where(reading.c.run_id == run_id)
                connection.execute(gone if last is None else gone.where(reading.c.seq < last))
            if last is None:
                return
            time.sleep(0.005)  # whoever waits for the book comes first

    def finish(
        self, run_id: int, cause: str, detail: str, ended: datetime, status: RunStatus = RunStatus.FINISHED
    ) -> None:
        """Close a run. Runs of this program's own benches are sealed; hand readings stay rows, open to later addition.

        Raises:
            BookError: somebody else has it, and it goes on there.
        """
        run = self.get(run_id)
        if run.owner not in {"", this_process()} and self.in_hands(run):
            raise BookError(f"{run.title} goes on elsewhere: another program has it", mend="end it there")
        self.change(run_id, status=status.value, cause=cause, detail=detail, ended_utc=utc_text(ended), owner="")
        if self.get(run_id).method in DRIVEN and self.last_elapsed_s(run_id) is not None:
            self.seal(run_id)

    def remove(self, run_id: int) -> None:
        """Remove a run with everything it holds; only for one that was entered by mistake and holds no reading."""
        with self._transaction() as connection:
            self._note(connection, run_id)
            connection.execute(delete_from(tables.run).where(tables.run.c.id == run_id))


def packed(content: bytes) -> tuple[str, bytes]:
    """An imported file's bytes as kept: their SHA-256, and they themselves by gzip."""
    return hashlib.sha256(content).hexdigest(), gzip.compress(content, compresslevel=6, mtime=0)


def _plain(data: dict[str, Any]) -> dict[str, Any]:
    return {key: None if isinstance(value, float) and math.isnan(value) else value for key, value in data.items()}
