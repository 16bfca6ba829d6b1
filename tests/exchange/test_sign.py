"""What a log's sign is found by, against plainer ways of the same."""

from __future__ import annotations

import numpy as np
import pytest

from tests.amount import some
from tests.reference import scraps
from wintry_tally.exchange import sign

LEFT_WRONG = {(7, 0), (7, 2), (12, 0), (12, 1), (12, 3), (59, 3), (135, 1), (135, 3), (146, 2), (146, 3), (216, 1), (218, 1), (218, 3), (257, 1)}  # fmt: skip
"""Scraps, and which part of each, whose sign is found wrongly; 7 is a pulse of one reading before a charge, 12 a battery that
still comes back when the next load begins; the others nobody has looked at."""


def test_what_flows_is_found_in_blocks_as_of_all_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    """Against the same in one line each, of all readings sorted; common practice, no published source."""
    dice = np.random.default_rng(20261128)
    monkeypatch.setattr(sign, "THIN", 1000)
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


@pytest.mark.parametrize(("share", "near"), [(0.9, 0.05), (0.1, 0.05), (0.0004, 1e-9)])
def test_what_usually_flows_in_a_long_log_is_told_by_a_part_of_it(
    share: float, near: float, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Against all of it sorted: a test that lasts, and one that flows for a moment."""
    dice = np.random.default_rng(20261129)
    monkeypatch.setattr(sign, "BLOCK", 1 << 10)
    amps = np.where(dice.random(80_000) < share, dice.uniform(6.0, 9.0, 80_000), dice.uniform(0.0, 0.01, 80_000))
    assert sign._reference(amps) == pytest.approx(float(np.quantile(amps[amps > 1.0], 0.9)), rel=near)


@pytest.mark.parametrize("odd", [np.nan, np.inf, -np.inf, 1e12])
def test_what_is_no_reading_is_no_current(odd: float) -> None:
    current, voltage = np.r_[np.zeros(20), np.full(200, 8.0)], np.r_[np.full(20, 13.3), np.full(200, 13.0)]
    current[[5, 60, 150]] = odd
    assert sign.discharge_sign(current, voltage, "") == "+"
    assert sign.discharge_sign(-current, voltage, "") == "-"


def _told(*parts: tuple[int, float, float, float]) -> str:
    """The sign found in stretches of so many readings: a current, and the voltage from its first to its last."""
    current = np.concatenate([np.full(count, amps) for count, amps, _, _ in parts])
    voltage = np.concatenate([np.linspace(begins, ends, count) for count, _, begins, ends in parts])
    turned = {"+": "-", "-": "+"}[sign.discharge_sign(-current, voltage.round(3), "")]
    assert sign.discharge_sign(current, voltage.round(3), "") == turned
    return turned


def test_a_load_that_is_made_less_tells_as_one_that_is_switched_on() -> None:
    """Common practice, no published source: less load, more voltage; the log of each begins and ends under it."""
    assert _told((60, 62.0, 12.10, 11.90), (60, 4.0, 12.80, 12.76)) == "+"
    assert _told((60, -18.0, 11.90, 12.28), (60, -6.0, 12.15, 12.11)) == "+"  # and a charge falls then
    assert _told((60, 62.0, 12.10, 11.90), (60, 1.0, 12.80, 12.76)) == "+"  # to next to nothing: by its trend


def test_what_the_voltage_was_about_to_do_anyway_tells_nothing() -> None:
    """A charge in the last minute before its limit: the voltage climbs on over the step at which its current gives way."""
    assert _told((20, -15.0, 13.20, 13.40), (3, -15.0, 13.60, 14.00), (2, -7.0, 14.15, 14.12)) == "+"
    # a battery that comes back after a load of which the log saw no beginning, and a small load then
    assert _told((40, 6.0, 12.6, 11.9), (4, 0.0, 12.30, 12.42), (40, 0.7, 12.44, 12.43), (9, 0.0, 12.46, 12.46)) == "+"


def test_a_heater_that_lets_the_cells_take_over_turns_nothing() -> None:
    """A charger at its limit in current: where the cells are let in, its voltage falls to theirs; its beginning tells."""
    turns = [(40, -3.5, 14.43, 14.43), (40, -12.0, 13.20, 13.40)] * 4
    assert _told((30, 0.0, 12.93, 12.93), *turns, (20, 0.0, 13.30, 13.20)) == "+"


def test_a_current_about_the_share_that_counts_as_live_leaves_nothing_behind() -> None:
    """A protection that opened and let go under a load a fifth of what flowed before: its readings lie on both sides."""
    few = np.where(np.arange(26) % 3 == 1, 1.22, 1.20)
    current = np.concatenate([np.full(178, 6.02), [0.03, 0.03], few, [0.0, 0.0, 0.0, 0.0]])
    voltage = np.concatenate(
        [np.linspace(16.3, 12.04, 178), [0.01, 0.01], np.linspace(12.03, 12.37, 13), np.linspace(12.37, 12.31, 13), [12.43, 12.49, 12.56, 12.61]]
    )  # fmt: skip
    assert sign.discharge_sign(current, voltage, "") == "+"
    assert sign.discharge_sign(-current, voltage, "") == "-"


def test_a_charge_that_goes_over_into_a_load_is_no_stretch_of_one_sign() -> None:
    charged = (100, -3.75, 12.28, 12.68)
    assert _told((1, 0.0, 12.26, 12.26), charged, (1, 30.0, 12.2, 12.2), (4, 0.0, 12.02, 12.02)) == "+"


def test_a_charger_that_is_switched_off_lets_the_voltage_fall() -> None:
    """The last minutes of a charge and a rest; its voltage is held all the while, so that no trend tells."""
    assert _told((5, -5.0, 14.40, 14.40), (20, 0.0, 13.90, 13.50)) == "+"
    # where the charge is refused the charger's own voltage leaps up, and the climb before it tells
    assert _told((20, -5.0, 13.60, 14.20), (20, 0.0, 14.60, 14.60)) == "+"
    assert _told((20, 5.0, 12.60, 12.20), (20, 0.0, 12.50, 12.60)) == "+"


def test_the_sign_of_logs_cut_anywhere_is_that_of_what_was_drawn() -> None:
    """Of scraps nobody flawed, whole and in parts; the batteries of benchmarks/apart.py are no model of this house."""
    asked, wrong = 0, set()
    count = some(100, 300)
    for seed in range(count):
        amps, volts = scraps.readings(seed)
        size = len(amps)
        parts = slice(None), slice(size // 3, None), slice(None, size // 2), slice(size // 4, 3 * size // 4)
        for number, part in enumerate(parts):
            if size >= 40 and float(np.abs(amps[part]).max()) >= 0.3:
                asked += 1
                if sign.discharge_sign(amps[part], volts[part], "") != "+":
                    wrong.add((seed, number))
    assert asked > 2.3 * count and wrong <= LEFT_WRONG, wrong - LEFT_WRONG


@pytest.mark.parametrize(
    ("header", "told"), [("Load / A", "+"), ("Discharge Current / A", "+"), ("Entladestrom (A)", "+"), ("I / A", "-")]
)
def test_where_nothing_moves_the_header_tells_or_else_the_sign_there_is(header: str, told: str) -> None:
    assert sign.discharge_sign(np.full(60, -5.0), np.full(60, 12.8), header) == told
