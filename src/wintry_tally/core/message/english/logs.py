"""What is remarked about a log, and what is offered to mend it."""

from __future__ import annotations

LOGS: dict[str, str] = {
    # files, columns and clocks
    "files-joined": "{count} files joined: {parts:; }.",
    "part-joined": "{name} from row {row}",
    "part-put-behind": "{name} from row {row}, its clock anew: put {seconds:~} behind the part before",
    "part-overlaps": "{part}, {count} readings of times already covered left out",
    "files-signs": "The files do not agree on the sign of a discharge; in {names:, } it was found to be −.",
    "cells-added": "No column of the pack's voltage: its {count} cells are added up.",
    "frames-counted": "No clock: frames {first:g} to {last:g}, {interval:g} s apart, make {hours:.4g} h; check that against a "
    "clock.",
    "rows-counted": "No clock: {count} rows, {interval:g} s apart, make {hours:.4g} h; check that against a clock.",
    "hour-ahead": "The clock jumps ahead by about an hour at row {row}: a likely change of daylight saving; the time zone "
    "it was kept in would settle it.",
    "hour-back": "The clock jumps back by about an hour at row {row}: a likely change of daylight saving; the time zone it "
    "was kept in would settle it.",
    "one-channel": "The log holds several channels (column “{column}”): only the {count} rows of channel {channel} are read, "
    "those of {others:, } are left out.",
    "no-channel": "no channel",
    # temperatures
    "temperatures-out": "{count} {count:?temperature|temperatures} that cannot be, left out: row {row}: {celsius:.4g} °C.",
    "thermometer-out": "{count} {count:?temperature|temperatures} that cannot be, all of that sensor is left out: row {row}: "
    "{celsius:.4g} °C.",
    "other-degrees": "Temperatures around {level:.4g} look like {unit}, not like °C: left out until that is said.",
    "other-degrees-read": "Temperatures around {level:.4g} look like {unit}, not like °C: read so, as offered.",
    "offer-degrees": "read the temperatures as {unit}",
    # rows
    "power-over-volts": "No current column: the current is power divided by voltage.",
    "slope-of-energy": "No current column: the current is the slope of the energy counter, divided by the voltage.",
    "slope-of-charge": "No current column: the current is the slope of the charge counter.",
    "amps-blank": "{count} {count:?row has|rows have} volts and no amperes.",
    "offer-as-noted": "take the current as it was last noted in the rows where it was not",
    "rows-blank": "{count} {count:?row|rows} without a complete reading left out.",
    "rows-reversed": "The log runs from the newest row to the oldest; it is read in reverse.",
    "clock-back-joined": "The clock goes back by {seconds:.0f} s at row {row}; joined one usual interval ({usual:.3g} s) after "
    "the row before.",
    "clock-back-left": "The clock goes back by {seconds:.0f} s at row {row}; rows up to the old time are left out.",
    "clock-hour-joined": "The clock goes back by {seconds:.0f} s at row {row}; about an hour: likely the end of daylight "
    "saving; joined one usual interval ({usual:.3g} s) after the row before.",
    "clock-hour-left": "The clock goes back by {seconds:.0f} s at row {row}; about an hour: likely the end of daylight saving; "
    "rows up to the old time are left out.",
    "times-stray": "{count} {count:?row|rows} whose time cannot be, from row {row}, left out: the clock goes on behind as before.",
    "clock-set-joined": "The clock leaps by {years:.0f} years at row {row}: it was set there; joined one usual interval "
    "({usual:.3g} s) after the row before.",
    "times-repeat": "{count} {count:?row repeats|rows repeat} the time of the row before; the first of each is kept.",
    "rows-again": "Rows {first} to {last} say again what was written before them; left out.",
    "readings-out": "Readings that cannot be, left out: {shown:, }.",
    "readings-out-more": "Readings that cannot be, left out: {shown:, } and {more} more.",
    "reading-out": "row {row}: {volts:.4g} V, {amps:.4g} A",
    "unit-slip": "{count} {column} readings around {level:.4g} look like {unit}.",
    "unit-slip-mended": "{count} {column} readings around {level:.4g} look like {unit}; divided by {factor:g} as offered.",
    "offer-divide-rows": "divide rows {first} to {last} of the {column} by {factor:g}",
    "gap-bridged": "No readings for {seconds:.0f} s after row {row} (usual interval {usual:.3g} s); bridged with a straight line "
    "and its uncertainty added.",
    "gap-of-an-hour": "No readings for {seconds:.0f} s after row {row} (usual interval {usual:.3g} s); bridged with a straight "
    "line and its uncertainty added. About an hour: perhaps the start of daylight saving.",
    "more-gaps": "{count} more gaps, of {seconds:.0f} s at most; all bridged alike.",
    "gap-at-end": "No readings for {seconds:.0f} s after row {row}, where the discharge ended: counted up to the last reading; "
    "up to {charge_Ah:.3g} Ah may have flowed unseen.",
    "stood-still": "{count} rows after row {row} ({seconds:.0f} s) repeat {volts:.4g} V and {amps:.4g} A to the last digit, as "
    "their neighbours never do: the meter stood still.",
    "stood-still-out": "{count} rows after row {row} ({seconds:.0f} s) repeat {volts:.4g} V and {amps:.4g} A to the last digit, "
    "as their neighbours never do: the meter stood still; left out.",
    # units, signs, zeros
    "times-unnamed": "Nothing says what unit the times are in: {why}.",
    "times-too-long": "{moved}: the times look {times:.0f} times too long.",
    "moved-beyond-rating": "{charge_Ah:.4g} Ah in one go is {times:.3g} times the rating",
    "rating-or-unit": "{moved}: the rating, or a unit in the log, is wrong.",
    "far-from-rating": "{charge_Ah:.3g} Ah is far from the rating, and in {unit} it would be an ordinary test",
    "perhaps-minutes": "they are read as hours and minutes, and may be minutes and seconds",
    "interval-in-unit": "readings {interval:.4g} apart are {seconds:.0f} s apart if it is {unit}",
    "odd-parts": "they are odd parts of a second, and even seconds if they are {unit}",
    "offer-times": "make every time {times:g} times what it is, or name the unit of the times",
    "offer-times-part": "make every time 1/{part:g} of what it is, or name the unit of the times",
    "times-made": "{told} Made so, as offered.",
    "sign-flips": "{why}: its sign is flipped in these rows.",
    "stands-lower": "The voltage stands lower with this current than without it and falls, as in a discharge",
    "stands-higher": "The voltage stands higher with this current than without it, as in a charge",
    "turns-falling": "The current turns to {amps:+.3g} A without the voltage moving, and the voltage goes on falling",
    "turns-rising": "The current turns to {amps:+.3g} A without the voltage moving, and the voltage goes on rising",
    "sign-turned": "{told} Turned, as offered.",
    "offer-turn": "turn the sign of the current in these rows",
    "zero-off": "The current reads {amps:+.3g} A with nothing flowing: a meter's zero error.",
    "zero-off-within": "The current reads {amps:+.3g} A with nothing flowing, within the {limit:.3g} A it may be off: a meter's "
    "zero error.",
    "zero-subtracted": "{told} Subtracted, as offered; the uncertainty of its zero stays.",
    "offer-zero": "subtract {amps:.3g} A from every current; the uncertainty of its zero stays",
    # the battery's family and its pack
    "outside-volts": "{count} {count:?reading|readings} outside {low:g} to {high:g} V, where a {family} battery can be (the "
    "farthest {worst:.4g} V).",
    "offer-tenth": "divide the voltages by 10",
    "offer-millivolts": "divide the voltages by 1000 (mV)",
    "mean-outside": "{energy_Wh:.5g} Wh / {charge_Ah:.5g} Ah = {mean:.2f} V on average, outside {low:g} to {high:g} V for a "
    "{family} battery: check the digits, and both meters' accuracy.",
    "digit-charge": "charge {typed:g} Ah would give {volts:.2f} V",
    "digit-energy": "energy {typed:g} Wh would give {volts:.2f} V",
    "looks-lead": "{volts:.2f} V on average looks like a lead-acid battery, and {family} is declared: check the family.",
    "looks-lithium": "{volts:.2f} V on average looks like a lithium iron phosphate battery, and {family} is declared: check the "
    "family.",
    "pack-fits": "{low:.2f} to {high:.2f} V are those of a {family} pack of {cells} cells in series ({volts:g} V), and it is "
    "read as one; its nominal voltage would say so.",
    "packs-fit": "{low:.2f} to {high:.2f} V are those of a {family} pack of {packs: or of }; read as {cells}: its "
    "nominal voltage says which.",
    "a-pack": "{cells} cells ({volts:g} V)",
    # how a test was run
    "charge-between": "{share:.1f} % of the charge lies between two readings; read more often, above all near the end.",
    "left-in-cells": "Ended by something other than its protection at {volts:.2f} V: about {share:.0f} % of the charge was "
    "likely left in the cells.",
    "left-by-cutoff": "Ended by the set cut-off at {volts:.2f} V: about {share:.0f} % of the charge was likely left in the "
    "cells.",
    "rested-short": "The discharge begins {minutes:.0f} min after the charge; {wanted:.0f} min of rest are wanted. A later "
    "start gives a little less.",
    "over-limit": "Charged at {volts:.2f} V; the upper limit for a {family} battery is {limit:g} V. Check the charger's family "
    "setting: the wrong one is dangerous.",
    "floated": "Held at {volts:.2f} V for {minutes:.0f} min: a float stage, which a {family} battery does not want; take the "
    "charger off when it is full.",
    "load-changed": "The load was changed in mid-run ({rates: → } A): reported stage by stage.",
    "load-changed-lead": "The load was changed in mid-run ({rates: → } A): reported stage by stage; not a capacity at the rated "
    "rate.",
    "cutoff-below-floor": "A cut-off of {volts:g} V lies below {floor:g} V, the least for this family.",
    "driven-below-floor": "Driven down to {volts:.2f} V under load, below {floor:g} V, the least for a {family} battery.",
    "broken-off": "Ended at {volts:.2f} V, above the {cutoff:g} V of a capacity test: what is counted is what was drawn; twice "
    "a half is no capacity.",
    "by-cutoff-or-protection": "The current stopped at {volts:.2f} V and the terminals rebounded: the protection or an unseen "
    "cut-off of the load; the protection is the likelier at so low a voltage.",
    "by-cutoff-or-hand": "The current stopped at {volts:.2f} V on the falling end of the curve, and the terminals rebounded: a "
    "load's cut-off, a device's drop-out or a hand; the voltage of one of them would settle it.",
    "went-on-past-cutoff": "The load stayed on for {minutes:.3g} min below the {cutoff:g} V that was given as its cut-off, down to "
    "{volts:.2f} V: that did not end it, and the charge is counted down to there. Give the cut-off it is set to, or none.",
    "gone-no-protection": "At {volts:.2f} V the voltage went with the current. A battery of this kind has no protection that opens: "
    "a clamp, a lead or a fuse let go, or a link inside it. What was drawn until then is counted; it is no end of the battery's.",
    "gone-unheralded": "At {volts:.2f} V, where such a pack has much left, the voltage went with the current and nothing had foretold "
    "it. Its protection may have opened, or a clamp, a lead or a fuse let go: no reading here tells them apart. The voltage at the "
    "pack's own terminals would: next to nothing where its protection is open.",
    "switched-outside": "{amps:.4g} A stopped after {seconds:.4g} s and the terminals stayed at the pack's own voltage: it was "
    "switched off outside. A protection that opens leaves next to nothing at the terminals; a reading there with the load "
    "still on would settle it.",
    "full-untold": "Whether it got full cannot be told: {why}. A meter with a finer zero shows it.",
    "full-below-zero": "full is {mark:.3g} A, and the meter may be off by {zero:.3g} A at zero",
    "more-came-back": "{share} of the charge came back: more than went in, beyond the meters' uncertainty. It held some before, "
    "the two currents were measured differently, or a part of the charge is not in the log.",
    "drawn-before": "The log {why}: what was drawn before its first row is in no figure. Begin the log at rest, before it is "
    "switched on.",
    "charged-before": "The log {why}: what was put in before its first row is in no figure. Begin the log at rest, before it is "
    "switched on.",
    "begins-flowing": "begins while {amps:.3g} A already flow",
    "begins-flowing-at": "begins while {amps:.3g} A already flow, at {volts:.2f} V",
    "begins-not-full": "{begins}, where no full battery would be",
    "begins-low": "{begins}, lower than a full one's usually is",
    "begins-no-fall": "{begins}, and does not fall as a full battery does at first ({fall:.0f} mV in a tenth)",
    "begins-late": "begins while {amps:.3g} A already flow, its clock at {seconds:~}: what came before is not in it",
    "begins-not-empty": "begins while current already flows, at {volts:.2f} V: it was not empty then",
    # gauges, counters, second meters, cells
    "gauge-jumps": "The charge gauge jumps by {points:.0f} points as the load changes: it is read from the voltage, not counted.",
    "gauge-jumps-flat": "The charge gauge jumps by {points:.0f} points as the load changes: it is read from the voltage, not "
    "counted. On so flat a curve it means little.",
    "power-apart": "The power column adds up to {power_Wh:.5g} Wh, voltage times current to {energy_Wh:.5g} Wh: {share:+.1f} %, "
    "beyond the uncertainty of ± {limit:.2g} Wh.",
    "energy-apart": "The energy counter moved {counter_Wh:.5g} Wh, voltage times current gives {energy_Wh:.5g} Wh: "
    "{share:+.1f} %, beyond the uncertainty of ± {limit:.2g} Wh.",
    "counter-begins": "The counter reads {start:g} Ah at the start of the discharge, not zero; what it moved is used: "
    "{moved:.4g} Ah.",
    "offer-counter": "subtract {start:g} Ah from the counter",
    "counter-jumps": "The counter jumps from {before:g} to {after:g} Ah at row {row}; joined.",
    "counter-apart": "The counter moved {moved:.4g} Ah, the integrated current gives {within:.4g} Ah: {share:+.1f} %, beyond both "
    "doubts (± {limit:.2g} Ah).",
    "second-volts-apart": "The second meter's voltage lies {apart:+.4f} V from the first's on average, and both specifications "
    "together allow {limit:.4f} V: one of the two is off; check both against a third.",
    "second-amps-apart": "The second meter's current lies {apart:+.4f} A from the first's on average, and both specifications "
    "together allow {limit:.4f} A: one of the two is off; check both against a third.",
    "cells-lie-apart": "Under load cell {lowest} reads {lowest_V:.3f} V and cell {highest} {highest_V:.3f} V: {apart:.0f} mV "
    "apart. The lowest ends the discharge before the others are empty; a full charge held at its limit gives the pack time to "
    "balance.",
    "cells-sum-apart": "The {count} cells add up to {share:.1f} % of the terminals' voltage: a cell is not told, or a meter is "
    "off.",
}
