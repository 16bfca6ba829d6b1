"""Evidence: what tests and measurements found, ready to be held against claims."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from wintry_tally.core.analysis import Analysis, down_to
from wintry_tally.core.analysis.beginning import COLD_C
from wintry_tally.core.analysis.derivation import charge_working, energy_working
from wintry_tally.core.analysis.place import PlaceHistory
from wintry_tally.core.analysis.stages import StageKind
from wintry_tally.core.battery.families import charge_state_band
from wintry_tally.core.message import NOTHING, Message, said
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.trace.repair import gaps_of
from wintry_tally.core.verdict.leads import Sag, sag_of
from wintry_tally.core.working import Working

ALTERS = frozenset({"sign-flipped", "unit-suspect"})
"""Remarks whose offered repair would change values: until it is taken or the run left out, nothing is settled."""
ASKED_ABOUT = ALTERS | {"amps-not-noted"}
"""Those that whoever brings a log in is asked about: the last leaves readings out until then, and bars nothing."""


SURELY_NOT_FULL = {"lithium": 20.0, "lead": 80.0}
"""A rested voltage at which no chart of the family allows more than this many percent was no full battery's; on lithium's
flat chart the charts are further apart."""
RESTED_S = 60.0


def begun_low(analysis: Analysis) -> Message:
    """Why a discharge says less than what the battery holds: it rested too low before for a full one. Empty where it may
    have been full: a flat chart allows that at most voltages, and in the cold no chart holds.

    Source: common practice, no published source.
    """
    test, family = analysis.capacity, analysis.options.family
    if test is None or family is None or test.first == 0:
        return NOTHING if test is None else test.begun_low
    before = analysis.stages[test.first - 1]
    celsius = before.temperature_mean if before.temperature_mean is not None else analysis.options.ambient_C
    if before.stage.kind != StageKind.REST or before.end_s - before.start_s < RESTED_S:
        return NOTHING
    if celsius is not None and celsius < COLD_C:
        return NOTHING
    volts = float(analysis.trace.voltage_V[before.stage.last])
    most = charge_state_band(family, volts)[1]
    if volts < family.cutoff_floor_V or most > SURELY_NOT_FULL["lithium" if family.lithium else "lead"]:
        return NOTHING
    return said("rested-low", volts=volts, most=most)


def begun_unseen(analysis: Analysis) -> Message:
    """That its log begins under load, and nothing shows that it began full; else empty."""
    test = analysis.capacity
    return said("maybe-not-full") if test and test.lacking else NOTHING


def begun_note(analysis: Analysis) -> list[Message]:
    """What is told beside a figure whose log begins while current already flows; nothing where its start is seen."""
    unseen = any(remark.code == "begins-under-load" for remark in analysis.remarks)
    return [said("flowed-before")] if unseen else []


@dataclass(frozen=True)
class CapacityEvidence:
    """A capacity test: what was drawn, how fast, how it ended.

    Parts:
        name: the log's path or the run's title.
        charge, energy: with all their terms, so that several runs combine rightly.
        mean_current_A, end_V, ended_by, temperature_C: conditions of the test.
        undecided: why gaps could change a verdict, or nothing.
        hidden_s, hidden_Ah: a gap at its end, and what may have flowed in it unseen.
        unread_s, unread_Ah: how long after its last reading somebody saw it end, at the most, and what flowed in that time.
        bridged_Ah: what was counted over long gaps within it, where perhaps nothing flowed; 0 while readings wait.
        charge_step, energy_step: the working of each.
        begun_low: why it did not begin full, where its rest before says so.
        before: what may have been drawn before its log began, in what was counted.
        sag: how the volts fell as its load came on; None where that is not in its log.
        near_V: how far above a voltage it may have ended to have reached it.
    """

    name: str
    charge: Quantity
    energy: Quantity
    mean_current_A: float
    duration_s: float
    end_V: float
    ended_by: str
    temperature_C: float | None
    rates: tuple[float, ...]
    undecided: Message
    charge_step: Working
    energy_step: Working
    hidden_s: float = 0.0
    hidden_Ah: float = 0.0
    unread_s: float = 0.0
    unread_Ah: float = 0.0
    bridged_Ah: float = 0.0
    begun_low: Message = NOTHING
    before: float = 0.0
    sag: Sag | None = None
    near_V: float = 0.0


@dataclass(frozen=True)
class MeasuredEvidence:
    """Something measured directly: a mass, a size, a yes or no; `of` names one claim of several of its kind.

    `digit`: one of the last digit it was read to, in the quantity's unit; 0 where that is not known.
    """

    name: str
    kind: str
    quantity: Quantity
    step: Working | None = None
    of: str = ""
    digit: float = 0.0

    def as_read(self) -> Quantity:
        """With its own uncertainty; where none is given a price is exact, and a size or a mass is read to its last digit."""
        if self.quantity.standard is not None:
            return self.quantity
        if self.kind == "price":
            return replace(self.quantity, standard=0.0)
        if self.kind in READ and self.digit > 0.0:
            return replace(self.quantity, standard=0.5 * self.digit / math.sqrt(3.0))
        return self.quantity


READ = frozenset({"mass", "length", "width", "height"})
"""What is read off a scale or a rule."""


@dataclass(frozen=True)
class LogEvidence:
    """A log, or two that belong together, analysed; `method` is the test it was taken for, or empty for any.

    For "cold-loss": the cold one first. For "self-discharge": before and after the shelf, or the recharge alone.

    Parts:
        apart_s: how long the battery stood between the two, where that was recorded.
        stood: what the place was like where it stood before the (first, cold) log; None where nobody asked.
    """

    method: str
    names: tuple[str, ...]
    analyses: tuple[Analysis, ...]
    apart_s: float | None = None
    stood: PlaceHistory | None = None

    @property
    def analysis(self) -> Analysis:
        """The last of its logs."""
        return self.analyses[-1]

    @property
    def waiting(self) -> Message:
        """Why nothing is settled until a decision is taken about some readings; empty when there is none."""
        return next((text for analysis in self.analyses if (text := waiting_for(analysis))), NOTHING)


Evidence = CapacityEvidence | MeasuredEvidence | LogEvidence


def evidence_from_log(method: str, name: str, analysis: Analysis, ambient_C: float | None = None) -> list[Evidence]:
    """Everything one log can be evidence of: a capacity test where it was (or may have been) one, and the log itself."""
    found: list[Evidence] = [LogEvidence(method, (name,), (analysis,))]
    if method in {"capacity", ""}:
        capacity = capacity_evidence(name, analysis, ambient_C)
        found += [] if capacity is None else [capacity]
    return found


def likely_method(analysis: Analysis) -> str:
    """Which kind of test a log most likely is of, by what it holds; a person may know better."""
    if any(trip.kind == "over-current" for trip in analysis.trips):
        return "overload"
    if any(trip.kind == "low-temperature" for trip in analysis.trips):
        return "charge-block"
    if analysis.charge is not None and analysis.charge.heating is not None:
        return "heater"
    if analysis.capacity is None and analysis.charge is not None:
        return "charge"
    return "capacity"


def waiting_for(analysis: Analysis) -> Message:
    """Which readings wait for a decision; empty when none do."""
    beyond = next((remark for remark in analysis.remarks if remark.code == "more-than-possible"), None)
    if beyond is not None:
        return said("cannot-be-right", remark=beyond.message)
    waiting = [remark for remark in analysis.remarks if remark.code in ALTERS and remark.offer]
    if not waiting or analysis.options.repair == "offered":
        return NOTHING
    return said("readings-wait", remark=waiting[0].message)


def capacity_evidence(name: str, analysis: Analysis, ambient_C: float | None = None) -> CapacityEvidence | None:
    """What a log says of capacity and energy; None when nothing was discharged in it."""
    test = analysis.capacity
    if test is None:
        return None
    instrument, trace = analysis.options.instrument, analysis.trace
    readings = analysis.readings_counted
    temperature = ambient_C
    temperatures = [
        result.temperature_mean
        for result in analysis.stages[test.first : test.last + 1]
        if result.temperature_mean is not None
    ]
    if temperatures:
        temperature = temperatures[0]
    gap = next((term.standard for term in test.count.charge.terms if term.name == "gaps bridged"), 0.0)
    undecided, bridged = NOTHING, 0.0
    gaps = [i for span in test.count.spans for i in _gaps_inside(analysis, span.first, span.last)]
    longest = max((float(trace.time_s[i + 1] - trace.time_s[i]) for i in gaps), default=0.0)
    charge = test.count.charge
    waiting = waiting_for(analysis)
    if waiting:
        undecided = waiting
    elif longest > 0.05 * test.count.duration_s or (charge.standard and gap > 0.7 * charge.standard):
        undecided = said("gap-decides", seconds=longest)
        bridged = sum(
            0.5 * abs(float(trace.current[i] + trace.current[i + 1])) * float(trace.time_s[i + 1] - trace.time_s[i])
            for i in gaps
        ) / 3600.0  # fmt: skip
    return CapacityEvidence(
        name=name,
        charge=charge,
        energy=test.count.energy,
        mean_current_A=test.count.mean_current.value,
        duration_s=test.count.duration_s,
        end_V=test.voltage_end,
        ended_by=test.ended_by,
        temperature_C=temperature,
        rates=test.rates,
        undecided=undecided,
        charge_step=charge_working(test.count, instrument, readings),
        energy_step=energy_working(test.count, instrument, readings),
        hidden_s=test.hidden_s,
        hidden_Ah=test.hidden_Ah,
        unread_s=test.unread_s,
        unread_Ah=test.unread_Ah,
        bridged_Ah=bridged,
        begun_low=begun_low(analysis),
        before=test.before,
        sag=sag_of(analysis),
        near_V=test.near_V,
    )


def counted_down_to(run: CapacityEvidence, analysis: Analysis, cutoff_V: float) -> CapacityEvidence:
    """A capacity test that went on below a claim's cut-off, counted no further than to that."""
    if run.end_V + run.near_V >= cutoff_V:
        return run
    above = down_to(analysis, cutoff_V)
    found = capacity_evidence(run.name, above, run.temperature_C) if above is not analysis else None
    if found is None:
        return run
    told = "counted down to", f"{cutoff_V:g} V, the claim's cut-off; the log goes on to {run.end_V:.2f} V"
    return replace(
        found, charge_step=found.charge_step.with_input(*told), energy_step=found.energy_step.with_input(*told)
    )


def _gaps_inside(analysis: Analysis, first: int, last: int) -> list[int]:
    found = gaps_of(analysis.trace.time_s[first : last + 1], analysis.scale.usual_s)
    return [first + int(index) for index in found]
