"""What must hold whatever the log: counting over splits, other samplings, signs and units; stages; probabilities."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.amount import some
from tests.making import discharge
from wintry_tally.core.analysis import Instrument, Integral, Options, analyse
from wintry_tally.core.battery import FAMILIES, Direction
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.core.trace import Trace
from wintry_tally.core.verdict.probability import conformity

LFP = FAMILIES["lfp"]
OPTIONS = Options(LFP, 40.0, Instrument(parse_accuracy("0.5%+2d"), parse_accuracy("1%+0.01"), "meter"))
BASE = discharge(8.0, 5.0, interval_s=20.0)


@given(st.lists(st.integers(1, len(BASE) - 2), min_size=1, max_size=8, unique=True))
def test_counting_is_additive_over_splits(cuts: list[int]) -> None:
    integral = Integral(BASE)
    edges = [0, *sorted(cuts), len(BASE) - 1]
    parts = [integral.between(low, high) for low, high in zip(edges[:-1], edges[1:], strict=True)]
    whole = integral.between(0, len(BASE) - 1)
    for place in range(3):
        assert sum(part[place] for part in parts) == pytest.approx(whole[place], rel=1e-9)


@settings(max_examples=some(10, 25))
@given(st.sampled_from([2, 3, 5, 10]), st.integers(0, 9), st.floats(2.0, 20.0), st.floats(1.5, 8.0))
def test_another_sampling_counts_the_same_within_its_stated_doubt(
    keep: int, phase: int, amps: float, hours: float
) -> None:
    fine = discharge(amps, hours, interval_s=6.0, seed=3)
    coarse = fine.taking(np.arange(phase % keep, len(fine), keep))
    own = Options(LFP, None, Instrument(parse_accuracy("0%"), parse_accuracy("0%"), "ideal"))
    one, other = analyse(fine, own).capacity, analyse(coarse, own).capacity
    assert one is not None and other is not None and other.count.charge.standard is not None
    doubt = 2.5 * np.hypot(one.count.charge.standard or 0.0, other.count.charge.standard)
    assert abs(other.count.charge.value - one.count.charge.value) <= doubt + 1e-3


@settings(max_examples=20)
@given(st.floats(-1e7, 1e7))
def test_stages_do_not_mind_when_the_clock_began(shift: float) -> None:
    moved = replace(BASE, time_s=BASE.time_s + shift)
    one, other = analyse(BASE, OPTIONS), analyse(moved, OPTIONS)
    assert [(r.stage.kind, r.stage.first, r.stage.last, r.ended_by) for r in one.stages] == [
        (r.stage.kind, r.stage.first, r.stage.last, r.ended_by) for r in other.stages
    ]
    assert one.capacity is not None and other.capacity is not None
    assert other.capacity.count.charge.value == pytest.approx(one.capacity.count.charge.value, rel=1e-6)


@settings(max_examples=20)
@given(
    sign=st.sampled_from([1.0, -1.0]),
    amps=st.sampled_from(["A", "mA"]),
    volts=st.sampled_from(["V", "mV"]),
    clock=st.sampled_from(["s", "min", "h"]),
)
def test_signs_and_units_change_nothing(sign: float, amps: str, volts: str, clock: str, tmp_path_factory) -> None:
    from wintry_tally.exchange import read_log

    scale = {"A": 1.0, "mA": 1000.0, "V": 1.0, "mV": 1000.0, "s": 1.0, "min": 1 / 60.0, "h": 1 / 3600.0}
    path = tmp_path_factory.mktemp("units") / "log.csv"
    rows = zip(BASE.time_s, BASE.voltage_V, BASE.current, strict=True)
    text = [f"Time / {clock},Voltage / {volts},Current / {amps}"]
    text += [f"{t * scale[clock]:.9g},{v * scale[volts]:.9g},{sign * i * scale[amps]:.9g}" for t, v, i in rows]
    path.write_text("\n".join(text) + "\n")
    once = analyse(BASE, OPTIONS).capacity
    again = analyse(read_log(path).trace, OPTIONS).capacity
    assert once is not None and again is not None
    assert again.count.charge.value == pytest.approx(once.count.charge.value, rel=1e-6)
    assert again.count.energy.value == pytest.approx(once.count.energy.value, rel=1e-6)
    assert again.ended_by == once.ended_by


@given(st.floats(30.0, 50.0), st.floats(0.0, 3.0), st.floats(0.001, 2.0), st.floats(30.0, 50.0))
def test_probabilities_are_monotonic(value: float, more: float, standard: float, required: float) -> None:
    low = conformity(value, standard, required, Direction.AT_LEAST)
    high = conformity(value + more, standard, required, Direction.AT_LEAST)
    assert 0.0 <= low <= high + 1e-12 <= 1.0 + 1e-9
    assert conformity(value, standard, required, Direction.AT_MOST) == pytest.approx(1.0 - low, abs=1e-9)
    # a wider tolerance never makes a claim less likely to hold
    narrow = conformity(value, standard, required, Direction.WITHIN, 0.5)
    assert conformity(value, standard, required, Direction.WITHIN, 0.5 + more) >= narrow - 1e-12
    # a better instrument is surer, on either side
    sure = conformity(value, 0.5 * standard, required, Direction.AT_LEAST)
    assert abs(sure - 0.5) >= abs(low - 0.5) - 1e-12


@settings(max_examples=15)
@given(st.floats(0.95, 1.05), st.integers(1, 10_000))
def test_a_meter_s_gain_scales_the_count_and_nothing_else(gain: float, seed: int) -> None:
    base = discharge(8.0, 4.0, interval_s=20.0, seed=seed)
    turned = Trace(base.time_s, base.voltage_V, base.current * gain, resolution=base.resolution)
    one, other = analyse(base, OPTIONS).capacity, analyse(turned, OPTIONS).capacity
    assert one is not None and other is not None
    assert other.count.charge.value == pytest.approx(gain * one.count.charge.value, rel=1e-6)
    assert other.count.mean_voltage.value == pytest.approx(one.count.mean_voltage.value, rel=1e-6)
    assert other.ended_by == one.ended_by
