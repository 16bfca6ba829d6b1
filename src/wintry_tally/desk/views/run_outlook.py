"""When a live run ends and what is still to come, in the words of its page: by its readings, or by the model."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

from wintry_tally.app.launch import full_of
from wintry_tally.core.engine import LIVE
from wintry_tally.core.quantity import format_duration
from wintry_tally.core.quantity.moments import clock_words, later
from wintry_tally.core.working import Working

if TYPE_CHECKING:
    from wintry_tally.app.live_run import LiveRun


@dataclass(frozen=True)
class OutlookWords:
    """The end on the clock and between which moments it lies, the charge still to come, and the working of both."""

    ends: str = "–"
    between: str = ""
    to_come: str = "–"
    to_come_doubt: str = ""
    working: Working | None = None


def outlook_of(live: LiveRun) -> OutlookWords:
    """What to show; dashes where nothing can be told."""
    ahead, at = live.ahead(), live.ends_at()
    if ahead is None or at is None:
        return _by_the_model(live, at)
    working = Working(
        "Forecast of the end",
        "batteries of the family that fit the readings so far, each followed to its end; the middle one and 95 % of them",
        {
            "expected at its start": f"{live.curve.charge_Ah:.1f} Ah",
            "total now expected": f"{ahead.total_Ah:.1f} Ah ({ahead.low_Ah:.1f} to {ahead.high_Ah:.1f})",
            "drawn so far": f"{live.latest.state.charge_Ah:.2f} Ah",
            **_begun_words(live),
            **_before_words(live),
            "still to come": format_duration(ahead.remaining_s)
            + f" ({format_duration(ahead.early_s)} to {format_duration(ahead.late_s)})",
            "bench runs at": f"{live.worker.speed:g} × real time",
        },
        _clock(at),
        "battery model (core/plan/so_far); adaptive importance sampling (from memory); priors are common practice",
    )
    left = max(0.0, ahead.total_Ah - live.latest.state.charge_Ah)
    half = (ahead.high_Ah - ahead.low_Ah) / 2
    return OutlookWords(
        _clock(at), _between(live, ahead.early_s, ahead.late_s), f"{left:.1f}", f"± {half:.1f}", working
    )


def _by_the_model(live: LiveRun, at: datetime | None) -> OutlookWords:
    """Of runs of several steps, and of charges: the model goes on from where the run stands."""
    to_come, ago = live.onward() if at is not None else (None, 0.0)
    if at is None or to_come is None:
        return OutlookWords()
    working = Working(
        "Forecast of the end",
        "the rest of the recipe on the battery model; this step's charge by batteries of the family that fit its readings",
        {
            "this step": format_duration(max(0.0, to_come.step_s - ago)),
            "until the last current": format_duration(max(0.0, to_come.end_s - ago))
            + f" ({format_duration(max(0.0, to_come.early_s - ago))} to {format_duration(to_come.late_s - ago)})",
            "still to be moved in this step": f"{to_come.step_Ah:.2f} Ah",
            "began at": f"{100 * full_of(live.run.settings):.0f} % of charge, as stated",
            **_begun_words(live),
            **_before_words(live),
            "bench runs at": f"{live.worker.speed:g} × real time",
        },
        _clock(at),
        "battery model (core/cell, core/plan/so_far); what was put in before is known only by its count",
    )
    between = _between(live, to_come.early_s - ago, to_come.late_s - ago)
    if live.latest.state.phase in LIVE:
        return OutlookWords(_clock(at), between, f"{to_come.step_Ah:.1f}", "", working)
    return OutlookWords(_clock(at), between, working=working)


def _clock(at: datetime) -> str:
    """An end on the clock, with its day where that is another."""
    return clock_words(at, datetime.now().astimezone())


def _begun_words(live: LiveRun) -> dict[str, str]:
    """What the readings say of the charge it began with, and that it is not what was stated where it is not."""
    known = live.outlook()
    if known is None:
        return {}
    full, stated = known[0].full, full_of(live.run.settings)
    words = f"{100 * full.value:.0f} % ({100 * full.low:.0f} to {100 * full.high:.0f})"
    odd = not full.low - 0.02 <= stated <= full.high + 0.02
    return {"began at, by the readings": words + ("; the stated charge does not fit them" if odd else "")}


def _before_words(live: LiveRun) -> dict[str, str]:
    """That what this battery gave before counts, where it does, and how much it is taken to hold by it."""
    known = live.outlook()
    count = 0 if known is None else known[0].remembered
    words = {}
    if live.held != 1.0:
        words["holds, by its last whole discharge"] = f"{100.0 * live.held:.0f} % of what is usual for its rating"
    if count:
        words["and they fit"] = (
            "its last whole discharge too" if count == 1 else f"its last {count} whole discharges too"
        )
    return words


def _between(live: LiveRun, early_s: float, late_s: float) -> str:
    """Both ends of the band, on the clock that the bench runs by; nothing where they are one minute."""
    speed, now = max(1.0, live.worker.speed), datetime.now().astimezone()
    early, late = (clock_words(later(now, max(0.0, left) / speed), now) for left in (early_s, late_s))
    return "" if early == late else f"{early} to {late}"
