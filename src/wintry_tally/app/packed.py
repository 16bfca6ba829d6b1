"""Many records of which few are looked at: each is unpacked when it is first asked for.

A laboratory's book has thousands of claims and runs. To make all of them takes longer than to open the book and to draw
what is seen of it; so what was known of it lies packed, a sample at a time, until somebody comes to it.
"""

from __future__ import annotations

import pickle
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any, TypeVar, overload

T = TypeVar("T")


class Packed(Mapping[int, T]):
    """By number, in the order given; frozen, and looked at from whatever thread.

    Holds pickles: only for what this user's own program kept (`app/kept.py`).
    """

    def __init__(self, kept: Mapping[int, bytes], made: Mapping[int, T] | None = None) -> None:
        self._kept, self._made = dict(kept), dict(made or {})

    @classmethod
    def of(cls, records: Mapping[int, T]) -> Packed[T]:
        """Packed, of records that can be pickled."""
        if isinstance(records, Packed):
            return records
        return cls({number: pickle.dumps(record, protocol=5) for number, record in records.items()})

    def __getitem__(self, number: int) -> T:
        if number not in self._made:  # two threads get the same one
            self._made.setdefault(number, pickle.loads(self._kept[number]))
        return self._made[number]

    def __contains__(self, number: object) -> bool:
        return number in self._kept

    def __iter__(self) -> Iterator[int]:
        return iter(self._kept)

    def __len__(self) -> int:
        return len(self._kept)

    def but(self, changed: Mapping[int, T]) -> Packed[T]:
        """The same with some that are others by now."""
        return Packed({**self._kept, **dict.fromkeys(changed, b"")}, {**self._made, **changed})

    def __reduce__(self) -> tuple[Callable[..., Any], tuple[object, ...]]:
        """As it lies: what was unpacked meanwhile is as it was, and what is another by now is packed."""
        kept = {number: one or pickle.dumps(self[number], protocol=5) for number, one in self._kept.items()}
        return Packed, (kept,)


class InOrder(Sequence[T]):
    """The records themselves, in their order; equal to a tuple of the same."""

    def __init__(self, by_number: Packed[T]) -> None:
        self.by_number, self.numbers = by_number, tuple(by_number)

    @overload
    def __getitem__(self, place: int) -> T: ...

    @overload
    def __getitem__(self, place: slice) -> tuple[T, ...]: ...

    def __getitem__(self, place: int | slice) -> T | tuple[T, ...]:
        if isinstance(place, slice):
            return tuple(self.by_number[number] for number in self.numbers[place])
        return self.by_number[self.numbers[place]]

    def __iter__(self) -> Iterator[T]:
        return (self.by_number[number] for number in self.numbers)

    def __len__(self) -> int:
        return len(self.numbers)

    def __eq__(self, other: object) -> bool:
        return tuple(self) == tuple(other) if isinstance(other, Sequence) else NotImplemented

    __hash__ = None  # type: ignore[assignment]

    def __reduce__(self) -> tuple[Callable[..., Any], tuple[object, ...]]:
        return InOrder, (self.by_number,)
