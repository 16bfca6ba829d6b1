"""What the facts of a battery say when it arrives, what its label says of itself, and what speaks against joining some."""

from __future__ import annotations

FINDINGS: dict[str, str] = {
    # as received
    "protection-unprinted": "No protection data is printed for this lithium pack: overload steps stay withheld until someone "
    "takes that decision and writes down why.",
    "voltage-not-rested": "{volts:.2f} V was taken on charge, under load or too soon after: it is kept, but it does not tell the "
    "charge state.",
    "pack-asleep": "{volts:.2f} V: the pack's protection is probably open, which is no proof of a dead battery. It must be woken "
    "before any test; follow its manual.",
    "rested-outside": "{volts:.2f} V lies outside {low:g} to {high:g} V, where a {family} battery can be. Check the meter's "
    "range, the leads and the digits; a decimal mark may have slipped.",
    "rested-outside-fits": "{volts:.2f} V lies outside {low:g} to {high:g} V, where a {family} battery can be. It would fit "
    "{others: or }. Check the meter's range, the leads and the digits; a decimal mark may have slipped.",
    "rested-charged": "{volts:.2f} V rested: about {low:.0f} to {high:.0f} % charged. Charge fully before the capacity test; it "
    "never starts from the as-received state.",
    "received-below": "As received it is below the usual {low:.1f} to {high:.1f} V for a {family} battery in its box: a remark, "
    "not a failure.",
    "received-above": "As received it is above the usual {low:.1f} to {high:.1f} V for a {family} battery in its box: a remark, "
    "not a failure.",
    "perhaps-other-family": "{volts:.2f} V rested is nearly empty for {family} (under {most:.0f} %), but normal for lead-acid, "
    "and for a lithium-ion pack of the NMC type sold as a drop-in. Make sure of the family before connecting a charger: the "
    "wrong setting is dangerous.",
    "perhaps-three-cells": "{volts:.2f} V rested is nearly empty for {family} (under {most:.0f} %), but normal for lead-acid, "
    "and for a lithium-ion pack of the NMC type sold as a drop-in (3 cells: 12.6 V is its full). Make sure of the family before "
    "connecting a charger: the wrong setting is dangerous.",
    "rested-no-family": "{volts:.2f} V rested is outside {low:.1f} to {high:.1f} V, the rested range of a {family} battery. Make "
    "sure of the family before connecting a charger.",
    "rested-other-family": "{volts:.2f} V rested is outside {low:.1f} to {high:.1f} V, the rested range of a {family} battery; "
    "it would fit {others: or }. Make sure of the family before connecting a charger.",
    "charge-limit-unfit": "A charge limit of {volts:g} V does not fit a {family} battery ({low:g} to {high:g} V).",
    "charge-limit-fits": "A charge limit of {volts:g} V does not fit a {family} battery ({low:g} to {high:g} V); it would fit "
    "{others: or }.",
    "cutoff-unfit": "A cut-off of {volts:g} V does not fit a {family} battery: its floor is {floor:g} V and full is {full:g} V.",
    "weighed": "Weighed {mass:g} kg against {claimed:g} kg claimed: {share:+.1f} %.",
    "holds-per-mass": "By its label it holds {density:.0f} Wh per kg.",
    "holds-per-mass-unusual": "By its label it holds {density:.0f} Wh per kg: outside {low:.0f} to {high:.0f} Wh/kg, usual for "
    "such a battery. Check the weighing, the family and the rating.",
    "price-of-rating": "{per_Ah:.2f} per Ah and {per_Wh:.3f} per Wh of its rating.",
    # the label's own figures
    "label-sums": "{volts:#} V × {charge_Ah:#} Ah = {energy_Wh:#} Wh: agrees with the {stated_Wh:#} Wh {where}.",
    "label-does-not-sum": "{volts:#} V × {charge_Ah:#} Ah ({source}) = {energy_Wh:#} Wh, but {stated_Wh:#} Wh is printed "
    "{where}; that would need {needed:#} V.",
    "two-values": "{claim}: {first} {first_where}, {second} {second_where}. Both are kept and judged.",
    "at-odds": "{one}, {other}: {why}. Both are kept and judged.",
    "claim-printed": "{claim} {value} {where}",
    "value-within": "{value} ± {tolerance}",
    "value-for": "{value} for {time}",
    "value-after": "{value} after {time}",
    "cut-before-full": "a charge to that would be cut before it is there",
    "window-holds-rating": "the trip's window holds what is to flow for good",
    "window-below-rating": "the trip's window lies below what is to flow for good",
    "surge-not-above": "a surge is above what flows for good",
    "surge-too-long": "the trip would end the surge before its time",
    "cut-at-once-again": "what is released there would be cut at once again",
    "printed-by": "by {source}",
    "printed-in": "in the {source}",
    "printed-on": "on the {source}",
    # before batteries are joined
    "models-unlike": "They are of unlike models: a weaker one is worked harder.",
    "ratings-unlike": "Their ratings are unlike: a string gives what its smallest unit gives.",
    "rested-unread": "Read the rested voltage of {codes:, }: they are joined within {limit:g} V of each other.",
    "stand-apart": "As received, {highest} stands at {high:.2f} V and {lowest} at {low:.2f} V, {apart:.2f} V apart: charge each "
    "by itself first, until they stand within {limit:g} V, or a current flows between them at once.",
    "stand-together": "They stand within {apart:.2f} V of each other as received.",
    "came-apart": "They came {days} days apart: the older ages the newer.",
    "cycles-apart": "{unit} has had {most:.0f} cycles, the least used {least:.0f}.",
    "allowed-unknown": "How many its maker allows in series and side by side is not among the claims: look it up, and put it in "
    "by its kind, as the feature “4 in series, 2 in parallel”.",
}
