"""Round-trip efficiency: what came back of the energy that was put in, from a charge and a discharge in one log."""

from __future__ import annotations

from wintry_tally.core.message import NOTHING, Message, said
from wintry_tally.core.verdict.case import Case
from wintry_tally.core.verdict.deciding import as_bound, decide
from wintry_tally.core.verdict.evidence import LogEvidence, begun_low, begun_unseen
from wintry_tally.core.verdict.leads import beyond_own_of, leads_condition
from wintry_tally.core.verdict.outcome import Verdict
from wintry_tally.core.verdict.settle_charge import empty_before

SETTLES = said("both-in-one-log")


def settle_efficiency(case: Case) -> Verdict | None:
    """Energy out over energy in, between the same two ends; where they may not be the same, a bound on the side it is on."""
    for log in case.logs("cycle", "capacity", "charge"):
        found = log.analysis.efficiency
        if found is None:
            continue
        conditions = []
        beyond, test = beyond_own_of(log.analysis, case.family, case.rated_Ah), log.analysis.capacity
        if beyond is not None and test is not None:
            # what leads take on the way out they take on the way in too
            by = 2.0 * found.energy.value / test.count.mean_voltage.value
            conditions = [one for one in [leads_condition(case.claim, beyond, by)] if one is not None]
        verdict = decide(case, found.energy, [found.working], conditions, log.names, [], log.waiting)
        bound, why = _apart(case, log)
        return as_bound(case, verdict, bound, why, SETTLES) if bound else verdict
    return None


def _apart(case: Case, log: LogEvidence) -> tuple[str, Message]:
    """On which side the figure is a bound, and why; empty where charge and discharge lie between the same two ends.

    Source: common practice, no published source.
    """
    test, charge = log.analysis.capacity, log.analysis.charge
    assert test is not None and charge is not None
    if test.hidden_s:
        return "at-least", said("gap-hides-discharge", seconds=test.hidden_s)
    if test.unread_s:
        return "at-least", said("unread-end", seconds=test.unread_s)
    first = charge.count.spans[0].first
    if first > test.count.spans[0].first:
        if low := begun_low(log.analysis):
            return "at-least", said("discharge-not-full", why=low)
        unseen = begun_unseen(log.analysis)
        return ("at-least", said("discharge-before", why=unseen)) if unseen else ("", NOTHING)
    if first > 0 and empty_before(log, first, log.analysis.options.family or case.family):
        return "", NOTHING
    return "at-most", said("began-charged")
