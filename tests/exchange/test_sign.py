"""What a log's sign is found by, against plainer ways of the same."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wintry_tally.exchange import sign

AMPS = st.floats(0.0, 1e4, allow_nan=False)


@given(st.lists(AMPS, min_size=3, max_size=60), st.integers(1, 20))
def test_the_third_largest_is_that_of_all_sorted(sizes: list[float], sampled: int) -> None:
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(sign, "SAMPLED", sampled)
        assert sign._third(np.array(sizes)) == sorted(sizes)[-3]


@pytest.mark.parametrize("odd", [np.nan, np.inf, -np.inf, 1e12])
def test_what_is_no_reading_is_no_current(odd: float) -> None:
    current, voltage = np.r_[np.zeros(20), np.full(200, 8.0)], np.r_[np.full(20, 13.3), np.full(200, 13.0)]
    current[[5, 60, 150]] = odd
    assert sign.discharge_sign(current, voltage, "") == "+"
    assert sign.discharge_sign(-current, voltage, "") == "-"
