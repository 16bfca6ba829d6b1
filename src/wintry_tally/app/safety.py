"""The worst minute: everything off and seen to be, then what could not be, then quarantine."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from wintry_tally.core.errors import InputError, WintryError
from wintry_tally.core.message import message_data, message_from

if TYPE_CHECKING:
    from wintry_tally.app.live_run import LiveRun
    from wintry_tally.bench.bounded import Hand
    from wintry_tally.bench.equipment import Equipment, Instrument
    from wintry_tally.book import Book

OFF_LIMIT_S = 1.8
AGAIN_S, TRIED_S = 2.0, 600.0
"""What is not seen to be off is asked again so often, and for so long."""


@dataclass(frozen=True)
class MadeSafe:
    """One instrument, or one run by hand: whether it is seen to be off, words, and what to pull."""

    name: str
    off: bool | None
    words: str
    plug: str = ""

    def __str__(self) -> str:
        return f"{self.name}: {self.words}" + (f". {self.plug}" if self.off is False and self.plug else "")


class AllOff:
    """Everything of a bench being switched off at once; `results` fills as answers come.

    What could not be seen to be off is told again and looked at again every AGAIN_S, until it is off or `let_be`.
    """

    def __init__(self, live: Iterable[LiveRun], equipment: Equipment, samples: Iterable[int] = ()) -> None:
        self.samples = frozenset(samples)
        self.begun = time.monotonic()
        self.results: dict[str, MadeSafe] = {}
        self._lock = threading.Lock()
        self._let_be = threading.Event()
        runs = list(live)
        held = {name: item.worker.channel for item in runs for name in getattr(item.worker.channel, "driven", {})}
        threads = [threading.Thread(target=item.worker.make_safe, daemon=True, name="make safe") for item in runs]
        for instrument in equipment.instruments:
            if instrument.kind in {"load", "charger"}:
                self._set(MadeSafe(instrument.name, None, "told to go off", _plug(instrument)))
                channel = held.get(instrument.name)
                line = channel.hands[instrument.name] if channel else None
                threads.append(
                    threading.Thread(target=self._until_off, args=(instrument, line), daemon=True, name="make safe")
                )
        for item in runs:
            if item.guide is not None:
                by_hand = "its switches are turned by hand"
                self._set(MadeSafe(item.run.title, False, by_hand, "Switch load and charger off"))
        for thread in threads:
            thread.start()

    def _set(self, made: MadeSafe) -> None:
        with self._lock:
            self.results[made.name] = made

    def _until_off(self, instrument: Instrument, line: Hand | None) -> None:
        """Over the line a live run has to it while that is open (it may serve one only), else over one of its own."""
        while True:
            made, final = self._tried(instrument, line)
            if made.off is not True and line is not None and line.closed:
                made, final = self._tried(instrument, None)  # the run ended and let go of it in the middle of this
            self._set(made)
            if final or self._let_be.wait(AGAIN_S) or time.monotonic() - self.begun > TRIED_S:
                return

    def _tried(self, instrument: Instrument, line: Hand | None) -> tuple[MadeSafe, bool]:
        """Told once and looked at once; and whether asking again could say no more."""
        from wintry_tally.bench.bounded import Hand
        from wintry_tally.bench.connect import driver_for

        name, plug = instrument.name, _plug(instrument)
        own: Hand | None = None
        try:
            if line is None or line.closed:
                line = own = Hand(name, driver_for(instrument))
            line.call(line.driver.off, OFF_LIMIT_S)
            on = line.call(line.driver.is_on, OFF_LIMIT_S)
            if on is None:
                return MadeSafe(name, False, "told to go off; it cannot be asked: look at it", plug), True
            return MadeSafe(name, not on, "it was told to go off, and is on" if on else "off", plug), not on
        except WintryError as error:
            return MadeSafe(name, False, _why(error, name), plug), False
        finally:
            if own is not None:
                own.close()

    def let_be(self) -> None:
        """Somebody takes the bench over again: nothing more is switched off by this."""
        self._let_be.set()

    @property
    def left(self) -> list[MadeSafe]:
        """What is not seen to be off."""
        with self._lock:
            return [item for item in self.results.values() if item.off is not True]

    @property
    def answered(self) -> bool:
        """Whether everything has been asked at least once."""
        return all(item.off is not None for item in self.left)

    def wait(self, limit_s: float) -> bool:
        """Wait until everything has been asked once."""
        until = time.monotonic() + limit_s
        while time.monotonic() < until and not self.answered:
            time.sleep(0.05)
        return self.answered


def _plug(instrument: Instrument) -> str:
    """What to pull: away from the battery first, for a spark there may find gas."""
    if instrument.kind == "charger":
        return f"Pull the mains plug of {instrument.name}"
    return f"Pull the lead of {instrument.name} at its own end, or the fuse"


def _why(error: WintryError, name: str) -> str:
    """Without its name, which stands before it, and without its mend, which stands behind."""
    return error.what.removeprefix(f"{name}: ").removeprefix(f"{name} ")


# --- quarantine ---

SIGNS = {
    "cool": "the case is cool, or cooling",
    "shape": "no swelling, no crack, no lifted vent",
    "dry": "no liquid, no smell",
    "leads": "leads and clamps are cool and whole",
}
"""What is looked at before a battery is used again."""


@dataclass(frozen=True)
class Quarantine:
    """Since when and why a battery may not be used."""

    since: datetime
    why: str


def quarantine_of(book: Book, sample_id: int, fresh: bool = False) -> Quarantine | None:
    """The quarantine of a battery; None where there is none. `fresh`: looked up, whatever is remembered."""
    kept = book.meta(f"quarantine:{sample_id}", fresh=fresh)
    return _quarantine(kept) if kept else None


def quarantines_of(book: Book) -> dict[int, Quarantine]:
    """Every battery in quarantine, by the sample's number; read at once."""
    return {number: _quarantine(kept) for number, kept in book.metas("quarantine").items()}


def _quarantine(kept: str) -> Quarantine:
    from wintry_tally.book.records import plain_of, read_as

    with read_as("the quarantine kept of this battery"):
        data = plain_of(kept)
        return Quarantine(datetime.fromisoformat(data["since"]), message_from(data["why"]))


def put_into_quarantine(book: Book, sample_id: int, why: str) -> None:
    """No run of this battery starts until somebody has looked."""
    if quarantine_of(book, sample_id, fresh=True) is None:
        book.set_meta(
            f"quarantine:{sample_id}",
            json.dumps({"since": datetime.now(UTC).isoformat(timespec="seconds"), "why": message_data(why)}),
        )


@dataclass(frozen=True)
class Inspection:
    """What somebody saw who inspected a battery in quarantine.

    Raises:
        InputError: nothing is noted, or neither everything ticked (keys of SIGNS) nor a photograph named.
    """

    note: str
    seen: tuple[str, ...]
    photograph: str = ""

    def __post_init__(self) -> None:
        if not self.note.strip():
            raise InputError("nothing is noted", mend="write what you saw, in a word or two")
        if not set(SIGNS) <= set(self.seen) and not self.photograph:
            raise InputError(
                "not everything is looked at", mend="tick each once you have seen it, or name a photograph"
            )


def lift_quarantine(book: Book, sample_id: int, inspection: Inspection) -> None:
    """Somebody has looked, and says what they saw; kept with the battery for good, in one step with the lifting."""
    from wintry_tally.book.records import plain_of, read_as

    with book.transaction():
        held = quarantine_of(book, sample_id, fresh=True)
        if held is None:
            return
        with read_as("the log of quarantines"):
            log = plain_of(book.meta(f"quarantine-log:{sample_id}", fresh=True) or "[]", list)
        log.append(
            {"since": held.since.isoformat(), "lifted": datetime.now(UTC).isoformat(timespec="seconds"),
             "why": message_data(held.why), "note": inspection.note.strip(),
             "seen": [key for key in inspection.seen if key in SIGNS], "photograph": inspection.photograph}
        )  # fmt: skip
        book.set_meta(f"quarantine-log:{sample_id}", json.dumps(log))
        book.set_meta(f"quarantine:{sample_id}", "")


def barred_by_quarantine(book: Book, sample_id: int, unsafe: bool = False) -> None:
    """Raises InputError while a battery is in quarantine, or (`unsafe`) is just being put into it."""
    held = quarantine_of(book, sample_id, fresh=True)
    if held is not None or unsafe:
        since = f" since {held.since.astimezone():%a %H:%M} ({held.why})" if held is not None else ""
        raise InputError(
            f"this battery is in quarantine{since}", mend="look at it, note what you saw, and lift the quarantine"
        )
