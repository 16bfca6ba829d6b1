"""What a log's sign is found by, against plainer ways of the same."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wintry_tally.exchange import sign

AMPS = st.one_of(st.floats(-1e4, 1e4), st.floats(-0.3, 0.3), st.sampled_from([0.0, np.nan, np.inf, 1e12]))


@given(st.lists(AMPS, max_size=40), st.integers(1, 9), st.integers(1, 12))
def test_what_flows_is_found_in_blocks_as_of_all_at_once(amps: list[float], block: int, taken: int) -> None:
    """Against the same in one line each, of all readings sorted; common practice, no published source."""
    sizes = sorted(abs(one) for one in amps if abs(one) < sign.ABSURD)
    in_turn = [abs(one) for one in amps if abs(one) < sign.ABSURD]
    top = sizes[-3] if len(sizes) >= 3 and sizes[-3] >= sign.AT_REST_A else max(sizes, default=0.0)
    live = [one for one in in_turn if one > sign.ZERO_SHARE * top]
    few = live[:: max(1, len(live) // taken)]
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(sign, "BLOCK", block)
        patch.setattr(sign, "TAKEN", taken)
        found = sign._reference(np.array(amps))
    assert found == pytest.approx(float(np.quantile(few, 0.9)) if few else top)


@pytest.mark.parametrize("odd", [np.nan, np.inf, -np.inf, 1e12])
def test_what_is_no_reading_is_no_current(odd: float) -> None:
    current, voltage = np.r_[np.zeros(20), np.full(200, 8.0)], np.r_[np.full(20, 13.3), np.full(200, 13.0)]
    current[[5, 60, 150]] = odd
    assert sign.discharge_sign(current, voltage, "") == "+"
    assert sign.discharge_sign(-current, voltage, "") == "-"
