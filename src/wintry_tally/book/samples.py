"""Samples and their claims in the book."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager
from typing import Any

from sqlalchemy import Connection, insert, select, update
from sqlalchemy import delete as delete_from

from wintry_tally.book import tables
from wintry_tally.book.feed import Noting, Topic
from wintry_tally.book.records import made_of, plain_of, read_as
from wintry_tally.core.battery import CLAIM_KINDS, FAMILIES, Arrival, Claim, Direction, Sample, family_named, pack_of
from wintry_tally.core.errors import BookError, InputError

Transaction = Callable[[], AbstractContextManager[Connection]]
_ARRIVAL = tuple(Arrival.__dataclass_fields__)


class Samples:
    """Reads and writes samples; every method is one transaction."""

    def __init__(self, transaction: Transaction, noting: Noting) -> None:
        self._transaction, self._note = transaction, noting

    def all(self, taken_off: bool = False) -> list[Sample]:
        """Every sample that hangs on the rack, or those that were taken off it, in the order they came."""
        with self._transaction() as connection:
            rows = (
                connection.execute(
                    select(tables.sample).where(tables.sample.c.removed.is_(taken_off)).order_by(tables.sample.c.id)
                )
                .mappings()
                .all()
            )
            claims: dict[int, list[Claim]] = {}
            if not rows:
                return []
            of = select(tables.sample.c.id).where(tables.sample.c.removed.is_(taken_off))
            query = select(tables.claim).where(tables.claim.c.sample_id.in_(of)).order_by(*_IN_ORDER)
            for row in connection.execute(query).mappings().all():
                claims.setdefault(row["sample_id"], []).append(_claim(row))
            return [_sample(row, claims.get(row["id"], [])) for row in rows]

    def get(self, sample_id: int, taken_off: bool = False) -> Sample:
        """One sample; with `taken_off`, also one whose tag was taken off the rack.

        Raises:
            BookError: there is none of that number.
        """
        known = tables.sample.c
        query = select(tables.sample).where(known.id == sample_id)
        if not taken_off:
            query = query.where(known.removed.is_(False))
        with self._transaction() as connection:
            row = connection.execute(query).mappings().first()
            if row is None:
                raise BookError(f"no sample {sample_id} in the book")
            of = tables.claim.c
            claims = (
                connection.execute(select(tables.claim).where(of.sample_id == sample_id).order_by(*_IN_ORDER))
                .mappings()
                .all()
            )
            return _sample(row, [_claim(one) for one in claims])

    def add(
        self, code: str, maker: str, model: str, family: str, arrival: Arrival | None = None,
        nominal_V: float | None = None,
    ) -> int:  # fmt: skip
        """Hang a tag; returns its number.

        Raises:
            BookError: the code is taken.
        """
        with self._transaction() as connection:
            taken = connection.execute(select(tables.sample.c.id).where(tables.sample.c.code == code)).first()
            if taken is not None:
                raise BookError(f"the code {code} is taken", mend="choose another")
            done = connection.execute(
                insert(tables.sample).values(
                    code=code,
                    maker=maker,
                    model=model,
                    family=family,
                    nominal_V=nominal_V,
                    **_arrival_values(arrival or Arrival()),
                )
            )
            assert done.inserted_primary_key is not None
            self._note(connection, Topic.SAMPLES, int(done.inserted_primary_key[0]))
            return int(done.inserted_primary_key[0])

    def change(self, sample_id: int, **values: Any) -> None:
        """Change columns of a sample: maker, model, family, nominal_V, removed, prose, or a part of its arrival."""
        with self._transaction() as connection:
            connection.execute(update(tables.sample).where(tables.sample.c.id == sample_id).values(**values))
            topic = Topic.SAMPLES if {"removed", "code"} & set(values) else Topic.SAMPLE
            self._note(connection, Topic.PROSE if set(values) == {"prose"} else topic, sample_id)

    def entered(self, sample_id: int) -> list[dict[str, Any]]:
        """What was measured or seen and entered beside claims: kind, of, value, limit, unit."""
        with self._transaction() as connection:
            kept = connection.execute(
                select(tables.meta.c.value).where(tables.meta.c.key == f"entered:{sample_id}")
            ).scalar()
        return entered_in(kept or "")

    def prose(self, sample_id: int) -> str:
        """The tester's own words on a sample."""
        with self._transaction() as connection:
            value = connection.execute(select(tables.sample.c.prose).where(tables.sample.c.id == sample_id)).scalar()
        return str(value or "")

    def proses(self) -> dict[int, str]:
        """The words on every sample that has any."""
        columns = tables.sample.c
        with self._transaction() as connection:
            rows = connection.execute(select(columns.id, columns.prose).where(columns.prose != "")).all()
        return {int(number): str(words) for number, words in rows}

    def next_code(self) -> str:
        """The first free code of the form B1, B2, …"""
        with self._transaction() as connection:
            taken = set(connection.execute(select(tables.sample.c.code)).scalars())
        number = 1
        while f"B{number}" in taken:
            number += 1
        return f"B{number}"

    def add_claim(self, sample_id: int, claim: Claim, place: int | None = None) -> int:
        """Keep a claim; returns its number. A claim that carries a number takes it, and its place among the others (undo)."""
        values = {"sample_id": sample_id, "place": place, **_claim_values(claim)}
        if claim.id is not None:
            values["id"] = claim.id
        with self._transaction() as connection:
            done = connection.execute(insert(tables.claim).values(**values))
            self._note(connection, Topic.SAMPLE, sample_id)
            assert done.inserted_primary_key is not None
            return int(done.inserted_primary_key[0])

    def change_claim(self, claim_id: int, claim: Claim) -> None:
        """Put another claim in the place of one, under its number."""
        with self._transaction() as connection:
            of = select(tables.claim.c.sample_id).where(tables.claim.c.id == claim_id)
            self._note(connection, Topic.SAMPLE, of)
            connection.execute(update(tables.claim).where(tables.claim.c.id == claim_id).values(**_claim_values(claim)))

    def claim_places(self, sample_id: int) -> dict[int, int | None]:
        """Where each claim of a sample was put, by its number; None for one that stands where it was typed."""
        of = tables.claim.c
        with self._transaction() as connection:
            rows = connection.execute(select(of.id, of.place).where(of.sample_id == sample_id)).all()
        return {int(number): None if place is None else int(place) for number, place in rows}

    def place_claims(self, sample_id: int, places: Mapping[int, int | None]) -> None:
        """Put claims of a sample into their places."""
        with self._transaction() as connection:
            self._note(connection, Topic.SAMPLE, sample_id)
            for number, place in places.items():
                connection.execute(update(tables.claim).where(tables.claim.c.id == number).values(place=place))

    def remove_claim(self, claim_id: int) -> None:
        """Strike a claim from the list."""
        with self._transaction() as connection:
            of = select(tables.claim.c.sample_id).where(tables.claim.c.id == claim_id)
            self._note(connection, Topic.SAMPLE, of)
            connection.execute(delete_from(tables.claim).where(tables.claim.c.id == claim_id))


_IN_ORDER = (tables.claim.c.place.is_(None), tables.claim.c.place, tables.claim.c.id)
"""Claims that were put in order first, then those that were typed since."""


def entered_in(kept: str) -> list[dict[str, Any]]:
    """What was entered beside claims, as the book keeps it in words.

    Raises:
        BookError: it cannot be that.
    """
    with read_as("what was entered beside the claims"):
        found: list[dict[str, Any]] = plain_of(kept, list) if kept else []
        if not all(isinstance(item, dict) and {"kind", "of", "value"} <= set(item) for item in found):
            raise ValueError("a part of it is missing")
        return found


def _arrival_values(arrival: Arrival) -> dict[str, Any]:
    return {name: getattr(arrival, name) for name in _ARRIVAL}


def _claim(row: Any) -> Claim:
    with read_as(f"claim {row['id']} of the book"):
        if row["kind"] not in CLAIM_KINDS:
            raise ValueError(f"no claim is of the kind {row['kind']}")
        values = dict(row)
        values["direction"] = Direction(row["direction"])
        values["conditions"] = {str(name): float(value) for name, value in plain_of(row["conditions"]).items()}
        return made_of(Claim, values)


def _sample(row: Any, claims: list[Claim]) -> Sample:
    with read_as(f"sample {row['id']} of the book"):
        if row["family"] not in FAMILIES:
            raise ValueError(f"no family is called {row['family']}")
        arrival = made_of(Arrival, {name: row[name] for name in _ARRIVAL})
        values = {name: row[name] for name in ("id", "code", "maker", "model", "nominal_V")}
        made = made_of(Sample, values | {"family_key": row["family"], "claims": tuple(claims), "arrival": arrival})
        try:
            pack_of(family_named(made.family_key), made.nominal_V)
        except InputError as error:
            raise ValueError(str(error)) from None
        return made


def _claim_values(claim: Claim) -> dict[str, Any]:
    return {
        "kind": claim.kind, "value": claim.value, "unit": claim.unit, "direction": claim.direction.value,
        "tolerance": claim.tolerance, "conditions": json.dumps(dict(claim.conditions)), "source": claim.source,
        "dated": claim.dated, "text": claim.text, "wanted": claim.wanted,
    }  # fmt: skip
