"""Which run settles a claim, what two meters share, runs that scatter, and results in the claim's own unit."""

from __future__ import annotations

import math
from dataclasses import replace
from random import Random
from statistics import NormalDist

import numpy as np
import pytest

from tests.core.test_kinds import LFP, analysed, claim, discharge, piecewise, verdict
from wintry_tally.core.analysis import Analysis, Instrument
from wintry_tally.core.analysis.cold import loss
from wintry_tally.core.battery import parse_claim
from wintry_tally.core.quantity import Quantity, Term, combine_linear
from wintry_tally.core.verdict import School, judge
from wintry_tally.core.verdict.evidence import LogEvidence
from wintry_tally.core.verdict.outcome import Outcome
from wintry_tally.core.verdict.settle_capacity import scatter_beyond


def at(log: Analysis, celsius: float) -> Analysis:
    return replace(log, options=replace(log.options, ambient_C=celsius))


DEVICE = claim("runtime", 44.0 * 3600, "s", "at-least", device_A=0.85)


def runtime(*logs: tuple[str, Analysis]) -> object:
    evidence = [LogEvidence(method, (f"{method} {n}",), (log,)) for n, (method, log) in enumerate(logs)]
    return judge(LFP, 40.0, [DEVICE], evidence, School.STRICT)[0]


def test_the_run_with_the_device_itself_settles_its_hours_whatever_came_later() -> None:
    own = at(analysed(discharge(0.85, 46.0, interval_s=60.0, opened=True, end_V=10.0), rated=40.0), 23.0)
    cold = at(analysed(discharge(8.0, 3.9, interval_s=10.0, opened=True, end_V=10.0), rated=40.0), -15.0)
    warm = at(analysed(discharge(8.0, 4.8, interval_s=10.0, opened=True, end_V=10.0), rated=40.0), 24.0)
    for logs in ((("runtime", own), ("capacity", cold)), (("capacity", cold), ("capacity", own)), (("capacity", cold), ("runtime", own), ("capacity", warm))):  # fmt: skip
        found = runtime(*logs)
        assert found.outcome is Outcome.MET and found.measured.value == pytest.approx(46.0 * 3600, rel=0.01)
    left = {name: text for step in found.working.steps for name, text in step.inputs.items() if "left aside" in text}
    assert set(left) == {"capacity 0", "capacity 2"} and "temperature -15" in left["capacity 0"]
    nearest = runtime(("capacity", cold), ("capacity", warm))
    assert nearest.evidence == ("capacity 1",), "the warm one is nearer"
    alone = runtime(("capacity", cold))
    assert alone.conditions[1].effect.value > 0, "and a cold one alone says what the cold took"


def test_a_device_run_that_was_stopped_is_a_bound() -> None:
    stopped = at(analysed(discharge(0.85, 45.0, interval_s=60.0, opened=False, end_V=12.9), rated=40.0), 23.0)
    found = runtime(("runtime", stopped))
    assert found.outcome is Outcome.MET and found.bound == "at-least"
    shorter = at(analysed(discharge(0.85, 40.0, interval_s=60.0, opened=False, end_V=12.9), rated=40.0), 23.0)
    found = runtime(("runtime", shorter))
    assert found.outcome is Outcome.NOT_TESTED and found.bound == "at-least" and "would settle" in found.advice


def test_meters_of_one_name_share_their_errors_and_others_do_not() -> None:
    """Two logs, each read by a meter drawn from one specification: coverage of the difference, 400 pairs."""
    random = Random(2)
    limit = 0.01
    gain = limit / math.sqrt(3.0)
    for same in (True, False):
        covered = 0
        for _ in range(400):
            one = 1 + random.uniform(-limit, limit)
            two = one if same else 1 + random.uniform(-limit, limit)
            cold = Quantity.from_terms(30.0 * one, "Ah", [Term("gain", 30.0 * one * gain, "a:current-gain"), Term("own", 0.05)])  # fmt: skip
            name = "a" if same else "b"
            warm = Quantity.from_terms(40.0 * two, "Ah", [Term("gain", 40.0 * two * gain, f"{name}:current-gain"), Term("own", 0.05)])  # fmt: skip
            off = random.gauss(0, 0.05), random.gauss(0, 0.05)
            lost, _ = loss(replace(cold, value=cold.value + off[0]), replace(warm, value=warm.value + off[1]))
            covered += abs(lost.value - 25.0) <= lost.expanded
        assert 0.93 <= covered / 400 <= 1.0, same
        assert lost.standard == pytest.approx(0.156 if same else 0.630, rel=0.03)


def test_a_cold_pair_says_which_meters_it_was_taken_with() -> None:
    cold, warm = (analysed(discharge(8.0, hours, opened=True, end_V=10.0), rated=40.0) for hours in (3.9, 4.8))
    assumed = [replace(log, options=replace(log.options, instrument=Instrument(name="x", assumed=True))) for log in (cold, warm)]  # fmt: skip
    other = [replace(log, options=replace(log.options, instrument=Instrument(name=name))) for log, name in ((cold, "a"), (warm, "b"))]  # fmt: skip
    for logs, words in ((assumed, "taken as one meter"), (other, "different meters")):
        found = verdict(claim("cold-loss", 30.0, "%", "at-most"), "cold-loss", *logs, rated=40.0)
        assert words in found.working.steps[0].inputs["meter"]


def quantities(*values: float, own: float = 0.1) -> list[Quantity]:
    return [Quantity.from_terms(value, "Ah", [Term("gain", 0.3, "m:gain"), Term("own", own)]) for value in values]


def test_scatter_beyond_what_the_meters_explain_enters_with_students_t() -> None:
    """Against SciPy's distributions; JCGM 100:2008, 4.2.3 and G.3."""
    values = (40.0, 41.0, 40.4)
    few = quantities(*values)
    mean = combine_linear([(1 / 3, item) for item in few], "Ah")
    scatter, factor = scatter_beyond(few, mean)
    assert scatter == pytest.approx(np.std(values, ddof=1) / math.sqrt(3.0))
    assert factor == pytest.approx(
        0.95 * math.sqrt(2.0 / (1.0 - 0.95**2))
    )  # Student's t with two degrees of freedom, closed form
    edge = math.sqrt(NormalDist().inv_cdf(0.975) ** 2 * 2.0) * 0.1
    for apart, beyond in ((0.98 * edge, False), (1.02 * edge, True)):
        pair = quantities(40.0, 40.0 + apart)
        assert (scatter_beyond(pair, combine_linear([(0.5, item) for item in pair], "Ah")) is not None) == beyond
    assert scatter_beyond(few[:1], few[0]) is None


@pytest.mark.parametrize(
    ("text", "value", "tolerance"),
    [("weighs 11 ± 0.2 lb", 4.98952, 0.0907185), ("reserve 90 ± 5 min", 5400.0, 300.0), ("trips at 300 ± 50 A", 300.0, 50.0),
     ("capacity 100 Ah ± 5%", 100.0, 5.0), ("11 lb ± 100 g", 4.98952, 0.1), ("cuts at 10 V ± 200 mV", 10.0, 0.2),
     ("self-discharge 3 ± 1 %/month", 3.0, 1.0), ("charge release 41 ± 9 °F", 5.0, 5.0)],
)  # fmt: skip
def test_a_tolerance_is_in_its_own_unit_or_the_values(text: str, value: float, tolerance: float) -> None:
    # 1 lb = 0.453 592 37 kg (international pound, from memory)
    read = parse_claim(text)
    assert read.value == pytest.approx(value, rel=1e-5) and read.tolerance == pytest.approx(tolerance, rel=1e-5)


def test_a_result_stands_in_its_claims_unit() -> None:
    log = analysed(piecewise((60, 0.0, 13.2), (18480, 8.0, 12.8), (60, 0.0, 0.2), interval_s=10.0), rated=40.0)
    six = verdict(replace(parse_claim("runs for 6 h"), conditions={"device_A": 8.0}), "runtime", log, rated=40.0)
    assert six.as_dict()["shown"].startswith("5.13") and six.as_dict()["shown"].endswith(" h")
    assert six.measured.unit == "s" and "≥ 6 h" in six.working.inputs["claimed"]
    minutes = verdict(replace(parse_claim("runs for 360 min"), conditions={"device_A": 8.0}), "runtime", log, rated=40.0)  # fmt: skip
    assert minutes.as_dict()["shown"].startswith("308") and minutes.as_dict()["shown"].endswith(" min")
