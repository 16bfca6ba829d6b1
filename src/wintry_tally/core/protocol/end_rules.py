"""The rules that end a step in the ordinary way: what each is worth, why it ends, and its words. One row a rule.

What tells whether a rule holds stands in the engine (`core/engine/rules.py`), under the same name.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum

from wintry_tally.core.protocol.recipe import EndCause
from wintry_tally.core.quantity import format_set_time


class Worth(StrEnum):
    """What a rule's value may be."""

    ANY = "any"
    NOT_BELOW_ZERO = "not below zero"
    ABOVE_ZERO = "above zero"


@dataclass(frozen=True)
class EndRuleKind:
    """One of them.

    Parts:
        cause: what it names where the recipe names none; words: of its value, after "until".
        once: it needs no second reading, since what it looks at cannot jump.
    """

    cause: EndCause
    words: Callable[[float], str]
    worth: Worth = Worth.ANY
    once: bool = False


def _always(words: str) -> Callable[[float], str]:
    return lambda _value: words


END_RULES: dict[str, EndRuleKind] = {
    # under load at or below so many V
    "voltage": EndRuleKind(EndCause.SET_CUTOFF, "{:g} V".format, Worth.NOT_BELOW_ZERO),
    # on charge at or above so many V
    "above": EndRuleKind(EndCause.SET_CUTOFF, "{:g} V is reached".format, Worth.ABOVE_ZERO),
    # the load asks for current and none flows, the voltage below so many V
    "protection": EndRuleKind(EndCause.PROTECTION, _always("the protection opens"), Worth.NOT_BELOW_ZERO),
    # the charger's voltage stands at so many V or more and no current flows
    "refused": EndRuleKind(EndCause.CHARGE_PROTECTION, _always("no current is taken"), Worth.NOT_BELOW_ZERO),
    # a charging current of so many A or more flows
    "flows": EndRuleKind(EndCause.FLOWS, "{:g} A flows".format, Worth.ABOVE_ZERO),
    # the cells take the charge: current flows at or below so many V
    "taken": EndRuleKind(EndCause.FLOWS, "the cells take it (below {:.4g} V)".format, Worth.NOT_BELOW_ZERO),
    # the charging current at or below so many A, the voltage at the step's limit
    "taper": EndRuleKind(EndCause.TAPER, "the current tapers to {:.3g} A".format, Worth.ABOVE_ZERO),
    # so many s in this step
    "time": EndRuleKind(EndCause.TIME, format_set_time, Worth.ABOVE_ZERO, once=True),
    # so many Ah moved in this step
    "moved": EndRuleKind(EndCause.CHARGE, "{:g} Ah are moved".format, Worth.ABOVE_ZERO, once=True),
    # at rest, the voltage changes by less than so many V/h
    "slope": EndRuleKind(
        EndCause.SETTLED, lambda value: f"it changes by less than {1000 * value:.0f} mV/h", Worth.ABOVE_ZERO, once=True
    ),
    # the temperature at or beyond so many °C
    "warmer": EndRuleKind(EndCause.TEMPERATURE, "{:g} °C or warmer".format),
    "colder": EndRuleKind(EndCause.TEMPERATURE, "{:g} °C or colder".format),
    # a person answers the prompt
    "confirm": EndRuleKind(EndCause.CONFIRMED, _always("you say so")),
}
"""By the name that recipes have for them."""
