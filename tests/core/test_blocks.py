"""What is looked for in a long log a block at a time, against the same of all readings at once; no published source."""

from __future__ import annotations

import numpy as np
import pytest

from wintry_tally.core.analysis import trips
from wintry_tally.core.trace import repair, unit_slips


def test_blocks_find_what_is_found_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    dice = np.random.default_rng(20261128)
    for _ in range(400):
        for module in (trips, repair, unit_slips):
            monkeypatch.setattr(module, "BLOCK", int(dice.integers(1, 7)))
        values = dice.integers(-3, 4, int(dice.integers(0, 14))).astype(float)
        values[dice.random(len(values)) < 0.1] = np.nan
        for falling in (True, False):
            inside = [n for n, one in enumerate(values) if (one > 1.0 if falling else one < 1.0)]
            assert trips._last_within(values, 1.0, falling) == (inside[-1] if inside else None)
        sound = [abs(one) for one in values if one == one]
        assert unit_slips._largest(values) == max(sound, default=0.0)
        time_s = np.cumsum(
            dice.choice([1.0, 1.0, 1.0, 0.0, -1.0, np.nan], len(values), p=[0.3, 0.3, 0.34, 0.02, 0.02, 0.02])
        )
        assert repair._rises(time_s) is all(b > a for a, b in zip(time_s[:-1], time_s[1:], strict=True))
