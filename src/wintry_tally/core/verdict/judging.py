"""Judging claims: one function a way of settling, chosen by the claim's kind."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from wintry_tally.core.battery import Claim, Family
from wintry_tally.core.message import NOTHING, said
from wintry_tally.core.quantity import format_quantity
from wintry_tally.core.verdict import (
    settle_capacity,
    settle_charge,
    settle_cold,
    settle_efficiency,
    settle_load,
    settle_time,
)
from wintry_tally.core.verdict.case import Case
from wintry_tally.core.verdict.deciding import decide, not_settled
from wintry_tally.core.verdict.evidence import Evidence, MeasuredEvidence
from wintry_tally.core.verdict.outcome import OUTCOME_WORDS, Outcome, School, Verdict
from wintry_tally.core.working import Working


def judge(
    family: Family,
    rated_Ah: float | None,
    claims: Sequence[Claim],
    evidence: Sequence[Evidence],
    school: School = School.STRICT,
) -> list[Verdict]:
    """A verdict for every claim, in their order; a claim without evidence is not tested, never dropped."""
    return [_judge_one(Case(claim, family, rated_Ah, tuple(evidence), school)) for claim in claims]


def _judge_one(case: Case) -> Verdict:
    kind = case.claim.definition
    direct = case.measured(kind.key)
    if direct:
        return _by_measurement(case, direct)
    if kind.beyond:
        return Verdict(
            case.claim,
            Outcome.CANNOT_TEST,
            advice=kind.beyond,
            working=Working(kind.label, "", {}, OUTCOME_WORDS[Outcome.CANNOT_TEST], kind.beyond),
        )
    settle = SETTLERS.get(kind.key)
    # only a block is settled without a value: whether a charge was taken in the cold
    valued = case.claim.value is not None or settle is None or settle is settle_cold.settle_block
    verdict = settle(case) if settle is not None and valued else None
    if verdict is not None:
        return verdict
    way = said(f"settle-{kind.evidence}") if valued else said("no-value-claimed")
    return Verdict(
        case.claim,
        Outcome.NOT_TESTED,
        advice=way,
        working=Working(kind.label, "", {}, OUTCOME_WORDS[Outcome.NOT_TESTED], said("to-settle", way=way)),
    )


def _by_measurement(case: Case, direct: Sequence[MeasuredEvidence]) -> Verdict:
    money = case.claim.currency
    own = [one for one in direct if not money or one.quantity.unit in {"", "money", money}]
    latest = (own or direct)[-1]
    read = latest.as_read()
    if not own:
        told = said("other-currency", given=read.unit, claimed=money)
        return not_settled(case, told, (latest.name,), read)
    if money:
        read = replace(read, unit=money)
    how = (
        "as measured"
        if read.standard == latest.quantity.standard or not latest.digit
        else "read to its last digit: u = d / (2√3)"
    )
    step = latest.step or Working(case.claim.definition.label, how, {"from": latest.name}, format_quantity(read))
    if case.claim.value is None:
        holds = bool(latest.quantity.value) == (case.claim.wanted is not False)
        return Verdict(
            case.claim,
            Outcome.MET if holds else Outcome.MISSED,
            read,
            1.0 if holds else 0.0,
            evidence=(latest.name,),
            working=step,
        )
    return decide(case, read, [step], [], (latest.name,), [], NOTHING)


SETTLERS: dict[str, Callable[[Case], Verdict | None]] = {
    "capacity": settle_capacity.settle_capacity,
    "energy": settle_capacity.settle_energy,
    "reserve": settle_time.settle_reserve,
    "runtime": settle_time.settle_runtime,
    "self-discharge": settle_time.settle_self_discharge,
    "continuous-discharge": settle_load.settle_hold,
    "surge": settle_load.settle_surge,
    "over-current-trip": settle_load.settle_over_current,
    "low-voltage-cut": settle_load.settle_low_voltage_cut,
    "low-voltage-release": settle_load.settle_low_voltage_release,
    "over-voltage-cut": settle_charge.settle_over_voltage_cut,
    "over-voltage-release": settle_charge.settle_over_voltage_release,
    "charge-voltage": settle_charge.settle_charge_voltage,
    "charge-current": settle_charge.settle_charge_current,
    "charge-time": settle_charge.settle_charge_time,
    "efficiency": settle_efficiency.settle_efficiency,
    "cold-charge-block": settle_cold.settle_block,
    "cold-charge-release": settle_cold.settle_release,
    "heater-power": settle_cold.settle_heater_power,
    "heater-time": settle_cold.settle_heater_time,
    "heater-stop": settle_cold.settle_heater_stop,
    "cold-loss": settle_cold.settle_loss,
}
"""How each kind is settled from logs; kinds measured directly need no line here."""
