"""What lies packed is what was packed: held against a plain dictionary, whatever is looked at, changed and kept in between."""

from __future__ import annotations

import pickle
import threading

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wintry_tally.app import packed
from wintry_tally.app.packed import InOrder, Packed

NUMBERS = st.integers(0, 6)
RECORDS = st.dictionaries(NUMBERS, st.tuples(st.text(max_size=3)), max_size=5)
ACTS = st.lists(st.one_of(st.tuples(st.just("ask"), NUMBERS), st.tuples(st.just("keep"), NUMBERS), RECORDS), max_size=6)


@given(RECORDS, ACTS)
def test_it_is_as_a_dictionary_of_the_same(plain: dict[int, tuple[str]], acts: list[object]) -> None:
    made = Packed.of(plain)
    for act in acts:
        if isinstance(act, dict):
            before, kept = made, dict(plain)
            made, plain = made.but(act), {**plain, **act}
            assert before == kept, "the one before stays as it was"
        elif act[0] == "keep":
            made = pickle.loads(pickle.dumps(Packed.of(made)))
        else:
            assert made.get(act[1]) == plain.get(act[1]) and (act[1] in made) is (act[1] in plain)
        ordered = InOrder(made)
        assert len(ordered) == len(plain) and ordered.numbers == tuple(plain)
    ordered = pickle.loads(pickle.dumps(InOrder(made)))
    whole = tuple(plain.values())
    assert made == plain and plain == made and list(made) == list(plain)
    assert ordered == whole and whole == ordered and ordered[1:3] == whole[1:3] and list(ordered) == list(whole)
    assert (ordered == (*whole, ("more",))) is False and ordered != 1
    if whole:
        assert ordered[-1] == whole[-1] and ordered[0] == whole[0]
    with pytest.raises(IndexError):
        ordered[len(whole)]
    with pytest.raises(KeyError):
        made[99]


def test_only_what_is_asked_for_is_unpacked_and_that_once_for_every_thread(monkeypatch: pytest.MonkeyPatch) -> None:
    kept = pickle.loads(pickle.dumps(InOrder(Packed.of({n: (f"record {n}",) for n in range(50)}))))
    opened: list[bytes] = []
    both, real = threading.Barrier(2), pickle.loads

    def loads(content: bytes) -> object:
        opened.append(content)
        if len(opened) <= 2:
            both.wait(10.0)  # two threads come to it at the same time
        return real(content)

    monkeypatch.setattr(packed.pickle, "loads", loads)
    assert len(kept) == 50 and kept.numbers[7] == 7 and 7 in kept.by_number and not opened
    found: list[object] = []
    threads = [threading.Thread(target=lambda: found.append(kept[7])) for _ in range(2)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert found[0] is found[1] and kept[7] is found[0] and len(opened) == 2
    assert kept[8:10] == (("record 8",), ("record 9",)) and len(opened) == 4
