"""What a run is doing, in words."""

from __future__ import annotations

from typing import TYPE_CHECKING

from wintry_tally.core.engine import Phase

if TYPE_CHECKING:
    from wintry_tally.bench.snapshot import Snapshot

PHASES = {
    Phase.READY: "proving the connection",
    Phase.RESTING: "resting, everything off",
    Phase.DISCHARGING: "discharging",
    Phase.CHARGING: "charging",
    Phase.PROMPTING: "waits for you",
    Phase.PAUSED: "paused, everything off; the count stands",
    Phase.ENDED: "ended, everything off",
}


def doing_words(seen: Snapshot) -> str:
    """What a run is doing; whether everything is off is said only once it is seen."""
    if seen.ended and not seen.settled:
        return "ended, and still to be switched off" if seen.trouble else "ended; looking whether everything is off"
    return PHASES[seen.state.phase]
