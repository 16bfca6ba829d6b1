"""A live run handed over in its middle, to another channel or to hands: everything off and seen to be, then taken up."""

from __future__ import annotations

import time
from dataclasses import replace
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Protocol

from wintry_tally.book import RunStatus
from wintry_tally.core.engine import LIVE, Event, Request
from wintry_tally.core.errors import InputError, WintryError
from wintry_tally.core.message import said
from wintry_tally.core.protocol.method import Method
from wintry_tally.core.quantity import parse_accuracy

if TYPE_CHECKING:
    from wintry_tally.app.listening import Background, Listener
    from wintry_tally.app.live_run import LiveRun
    from wintry_tally.bench.equipment import Equipment
    from wintry_tally.book import Book, Run


class Runs(Protocol):
    """The live runs of a book, as far as a hand-over has to do with them."""

    book: Book
    live: dict[int, LiveRun]

    def on_channel(self, name: str) -> LiveRun | None:
        """The live run on a channel of the bench."""

    def let_go(self, run_id: int) -> None:
        """What a run had taken is free again."""

    def take_up(self, run: Run, elapsed_s: float = 0.0) -> None:
        """Go on with a run."""


SWITCHED_OFF_WITHIN_S = 8.0
"""So long a bench may take to be switched off before a run is handed over."""


def hand_over(
    runs: Runs, item: LiveRun, channel: str, equipment: Equipment, listener: Listener, background: Background
) -> None:
    """Go on with a live run on another channel, or (channel empty) by hand; it is paused, everything off, until then.

    Raises:
        InputError: the channel is busy, or cannot do what is still to come.
    """
    from wintry_tally.core.protocol.preflight import ceilings

    where = f"channel {channel}" if channel else "hands"
    if item.handing:
        raise InputError("it is being handed over already", mend="wait a moment")
    if channel:
        busy = runs.on_channel(channel)
        if busy is not None:
            raise InputError(f"{where} is busy with {busy.run.title}", mend="choose another, or stop that run")
        limits = equipment.limits(equipment.channel(channel))
        family = item.run.settings.pack
        barred = ceilings(item.recipe, family, limits, item.latest.state.index)
        if barred:
            raise InputError(f"{where} cannot take it over: {barred[0].name}, {barred[0].message}")
    item.handing = True
    own = item.run.settings.channel

    def change_hands() -> str:
        """Off this thread: instruments may take their time. Why it cannot be, or nothing."""
        silent = _silent_on(equipment, channel, own) if channel else ""
        if silent:
            return f"{where} cannot take it over: {silent}"
        item.worker.ask(Request("hand-over", words=where))
        until = time.monotonic() + SWITCHED_OFF_WITHIN_S
        while time.monotonic() < until and not _off_for_good(item):
            time.sleep(0.02)
        if not _off_for_good(item):
            # whoever cannot be switched off is not let go of: it goes on being tried there
            return f"not handed over: {item.latest.trouble or 'it is not seen to be switched off'}"
        item.worker.stop_thread()
        return ""

    def changed(problem: str) -> None:
        item.handing = False
        if problem:
            listener.failed(problem)
        else:
            with runs.book.in_place():
                _handed_over(runs, item, channel, equipment, listener)

    def failed(words: str) -> None:
        item.handing = False
        listener.failed(words)

    background(change_hands, changed, failed)


def _handed_over(runs: Runs, item: LiveRun, channel: str, equipment: Equipment, listener: Listener) -> None:
    if runs.live.pop(item.run.id, None) is None:
        return  # the book was closed meanwhile
    runs.let_go(item.run.id)
    book = runs.book
    kept = book.runs.get(item.run.id)
    if kept.status is not RunStatus.RUNNING:
        return
    # of what a second meter there is good to, nothing is known any more
    settings = replace(kept.settings, channel=channel, second_voltage_accuracy="", second_current_accuracy="")
    if channel:
        volts, amps = equipment.meter_of(equipment.channel(channel))
        settings = replace(
            settings,
            voltage_accuracy=worse(settings.voltage_accuracy, volts.voltage_accuracy, 13.0),
            current_accuracy=worse(settings.current_accuracy, amps.current_accuracy, 10.0),
        )
    else:
        book.runs.add_event(kept.id, Event(item.latest.elapsed_s, "note", said("accuracies-stay")))
    book.runs.change(kept.id, method=Method.BENCH if channel else Method.GUIDED, settings=settings, owner="")
    elapsed = (datetime.now(UTC) - kept.started).total_seconds()
    try:
        runs.take_up(book.runs.get(kept.id), elapsed)
    except WintryError as error:
        listener.failed(str(error))
    listener.runs_changed(kept.sample_id)
    listener.said(f"{kept.title} is paused; resume it when everything is connected.")


def _off_for_good(item: LiveRun) -> bool:
    """Whether a run that is to be handed over is paused or beyond, asked for nothing, and seen to be off."""
    seen = item.latest
    return seen.state.phase not in LIVE and not item.worker.busy and not seen.trouble and seen.outputs == "off"


def _silent_on(equipment: Equipment, channel: str, own: str) -> str:
    """The first of a channel's instruments that does not answer, with its reason; empty when all do.

    Those that the run's own channel holds are known to be alive, and are not asked by two at once.
    """
    from wintry_tally.bench.connect import tried

    held = set(equipment.channel(own).used) if own else set()
    asked = (name for name in equipment.channel(channel).used if name not in held)
    answers = (tried(equipment.instrument(name)) for name in asked)
    return next((answer.problem for answer in answers if answer.problem), "")


def worse(one: str, other: str, at: float) -> str:
    """Of two accuracies the wider at a reading of about `at`; unknown where either is."""
    if not one or not other:
        return ""
    limits = [part.percent / 100.0 * at + part.offset_limit(0.001) for part in map(parse_accuracy, (one, other))]
    return one if limits[0] >= limits[1] else other
