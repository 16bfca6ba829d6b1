"""What a log's sign is found by, against plainer ways of the same."""

from __future__ import annotations

import numpy as np
import pytest

from wintry_tally.exchange import sign


def test_what_flows_is_found_in_blocks_as_of_all_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    """Against the same in one line each, of all readings sorted; common practice, no published source."""
    dice = np.random.default_rng(20261128)
    for _ in range(400):
        amps = dice.normal(0.0, dice.choice([0.05, 3.0, 80.0]), dice.choice([0, 1, 2, 3, 4, 12, 60]))
        amps *= dice.random(len(amps)) < dice.choice([0.1, 0.6, 1.0])
        amps[dice.random(len(amps)) < 0.05] = dice.choice([np.nan, np.inf, 1e12])
        taken = int(dice.integers(1, 13))
        monkeypatch.setattr(sign, "BLOCK", int(dice.integers(1, 10)))
        monkeypatch.setattr(sign, "TAKEN", taken)
        in_turn = [abs(one) for one in amps if abs(one) < sign.ABSURD]
        sizes = sorted(in_turn)
        top = sizes[-3] if len(sizes) >= 3 and sizes[-3] >= sign.AT_REST_A else max(sizes, default=0.0)
        live = [one for one in in_turn if one > sign.ZERO_SHARE * top]
        few = live[:: max(1, len(live) // taken)]
        assert sign._reference(amps) == pytest.approx(float(np.quantile(few, 0.9)) if few else top)


@pytest.mark.parametrize("odd", [np.nan, np.inf, -np.inf, 1e12])
def test_what_is_no_reading_is_no_current(odd: float) -> None:
    current, voltage = np.r_[np.zeros(20), np.full(200, 8.0)], np.r_[np.full(20, 13.3), np.full(200, 13.0)]
    current[[5, 60, 150]] = odd
    assert sign.discharge_sign(current, voltage, "") == "+"
    assert sign.discharge_sign(-current, voltage, "") == "-"
