"""A long curve from afar: held against each stretch looked through by hand. Common practice, no published source."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wintry_tally.core.trace import outline as outlines
from wintry_tally.core.trace.outline import ends, outline

VALUES = st.lists(st.floats(-50, 50), min_size=0, max_size=300)


@given(VALUES, st.integers(4, 40))
def test_no_low_and_no_high_is_lost_and_nothing_is_moved(values: list[float], many: int) -> None:
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(outlines, "MANY", many)
        x, y = np.arange(float(len(values))), np.array(values, float)
        found = outline(x, y)
    assert found.x is x and found.y is y
    if len(values) <= many:
        assert found.coarse_x is x and found.coarse_y is y
        return
    stretch = len(values) // (many // 2)
    assert stretch >= 2
    expected = [
        value for begin in range(0, len(values), stretch) for value in (min(values[begin : begin + stretch]), max(values[begin : begin + stretch]))
    ]  # fmt: skip
    assert found.coarse_y.tolist() == expected
    assert len(found.coarse_x) == len(expected) and (np.diff(found.coarse_x) >= 0).all()
    assert found.coarse_x[0] == 0.0 and found.coarse_x[-1] >= len(values) - stretch
    # as many points as are drawn at once, give or take what is left over of the last stretches
    assert len(expected) <= 2 * many + 2


def test_the_last_stretch_is_drawn_to_its_end(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(outlines, "MANY", 4)
    four = np.arange(4.0)
    assert outline(four, four).coarse_y is four, "as many as are drawn at once are drawn as they are"
    found = outline(np.arange(9.0), np.array([0, 1, 2, 3, 4, 5, 6, 7, 40.0]))
    assert found.coarse_x.tolist() == [0, 0, 4, 4, 8, 8] and found.coarse_y.tolist() == [0, 3, 4, 7, 40, 40]


@given(st.lists(st.one_of(st.floats(-9, 9), st.just(math.nan), st.just(math.inf), st.just(-math.inf)), max_size=30))
def test_its_ends_are_those_of_the_numbers_in_it(values: list[float]) -> None:
    finite = [value for value in values if math.isfinite(value)]
    assert ends(np.array(values, float)) == ((min(finite), max(finite)) if finite else None)
    found = outline(np.arange(float(len(values))), np.array(values, float))
    assert found.up == ends(np.array(values, float)) and found.across == ((0.0, len(values) - 1.0) if values else None)
