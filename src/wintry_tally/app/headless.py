"""A run without a window, for a bench computer without a monitor: what happens as lines, hands by standard input."""

from __future__ import annotations

import json
import os
import queue
import signal
import sys
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, TextIO

from wintry_tally.app.live import LiveRuns
from wintry_tally.core.engine import Phase, Request
from wintry_tally.core.protocol import EndCause
from wintry_tally.core.protocol.cautions import worst_minute
from wintry_tally.core.protocol.recipe import CAUSE_WORDS, OWN_ENDS
from wintry_tally.core.quantity import format_duration
from wintry_tally.core.quantity.preferred import METRIC, Units, words_in

if TYPE_CHECKING:
    from wintry_tally.app.live_run import LiveRun
    from wintry_tally.app.safety import AllOff
    from wintry_tally.bench.snapshot import Snapshot
    from wintry_tally.book import Run

DONE, OTHERWISE, NOT_OFF, INTERRUPTED, TERMINATED = 0, 3, 4, 130, 143
LOOK_S, SHOUT_S, PROGRESS_S = 0.05, 2.0, 1.0
SAFE_S = 2.0
ALL_OFF = frozenset({"off", "!"})
"""What to type when something smells."""


class Terminal:
    """What goes to whom: events to standard output, what a window would shout to standard error.

    Also the Listener of the live runs. `closed` once standard output is.
    """

    def __init__(
        self, as_json: bool, out: TextIO | None = None, err: TextIO | None = None, units: Units = METRIC
    ) -> None:
        self.as_json, self._units = as_json, units
        self._out, self._err = out or sys.stdout, err or sys.stderr
        self.closed = False

    def event(self, run: int, kind: str, at_s: float, **more: Any) -> None:
        """One object a line."""
        if self.as_json:
            self._put(
                json.dumps(
                    {"event": kind, "run": run, "at_s": round(at_s, 3), **more}, ensure_ascii=False, allow_nan=False
                )
            )

    def progress(self, line: str) -> None:
        """A line for people."""
        if not self.as_json:
            self._put(words_in(line, self._units))

    def _put(self, line: str) -> None:
        try:
            self._out.write(line + "\n")
            self._out.flush()
        except (OSError, ValueError):
            self.closed = True

    def shout(self, words: str) -> None:
        """To standard error; that may be gone, too."""
        try:
            self._err.write(words_in(words, self._units) + "\n")
            self._err.flush()
        except (OSError, ValueError):
            return

    def failed(self, words: str) -> None:
        """See Listener."""
        self.shout(words)

    def said(self, words: str) -> None:
        """See Listener."""
        self.progress(words)

    def rang(self, title: str, words: str, grave: bool = False) -> None:
        """See Listener; what it would ring for is an event of its own here."""

    def runs_changed(self, sample_id: int) -> None:
        """See Listener."""


@dataclass
class _Ends:
    code: int
    cause: str = ""


class Headless:
    """Follows one live run until it is over, parked, or somebody ends this program."""

    def __init__(self, runs: LiveRuns, terminal: Terminal, lines: Callable[[], str] | None = None) -> None:
        self.runs, self.terminal = runs, terminal
        self._seen: queue.SimpleQueue[Snapshot] = queue.SimpleQueue()
        self._typed: queue.SimpleQueue[str | None] = queue.SimpleQueue()
        self._signal = 0
        self._read = lines or sys.stdin.readline
        self._no_more_lines = False
        self._run = 0
        self._index: tuple[int, str] | None = None
        self._warned = 0
        self._prompted = self._shouted = self._progress = 0.0
        self._asked_index = self._answered = -1
        self._codes: tuple[str, ...] = ()
        self._was_trouble = False
        self._last_shout = -SHOUT_S
        self._told_moved = ""
        self._safe: AllOff | None = None

    # --- what the live runs call, on the run's own thread ---

    def begins(self, run: Run) -> None:
        """Before anything is switched on."""
        self._run = run.id
        self.terminal.event(run.id, "step", 0.0, index=-1, title=run.title, phase="ready")

    def saw(self, snapshot: Snapshot) -> None:
        """A new snapshot."""
        self._seen.put(snapshot)

    # --- following ---

    def follow(self, run_id: int) -> int:
        """Until it is over; the exit code."""
        item = self.runs.live[run_id]
        self._run = run_id
        self._install()
        threading.Thread(target=self._listen, name="lines", daemon=True).start()
        if item.latest.state.phase is Phase.PAUSED:
            item.worker.ask(Request("resume"))
        while True:
            self._drain(item)
            ends = self._over(item)
            if ends is not None:
                return self._leave(item, ends)
            time.sleep(LOOK_S)

    def _install(self) -> None:
        def note(number: int, _frame: object) -> None:
            self._signal = self._signal or number

        for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
            signal.signal(number, note)
        signal.signal(signal.SIGUSR1, lambda *_: self._typed.put("off"))

    def _listen(self) -> None:
        while True:
            try:
                line = self._read()
            except (OSError, ValueError):
                line = ""
            if not line:
                self._no_more_lines = True
                return
            self._typed.put(line.strip())

    def _drain(self, item: LiveRun) -> None:
        while True:
            try:
                self._tell(item, self._seen.get_nowait())
            except queue.Empty:
                break
        self._answer(item)
        self._shout(item)
        self.runs.notice()

    def _tell(self, item: LiveRun, seen: Snapshot) -> None:
        state, terminal, at = seen.state, self.terminal, seen.elapsed_s
        place = (state.index, state.phase.value)
        if state.phase not in {Phase.READY, Phase.ENDED} and place != self._index:
            self._index, self._warned = place, 0
            part = item.recipe.steps[state.index]
            terminal.event(self._run, "step", at, index=state.index, title=part.title, phase=state.phase.value)
        if seen.fresh:
            self._reading(seen)
        for key, words in state.warned[self._warned :]:
            terminal.event(self._run, "warning", at, code=key, message=words)
            terminal.shout(f"warning: {words}")
        self._warned = len(state.warned)
        codes = tuple(part.code for part in seen.troubles)
        for trouble in seen.troubles:
            if trouble.code not in self._codes:
                terminal.event(self._run, "trouble", at, code=trouble.code, message=trouble.words)
                self._last_shout = -SHOUT_S
        if self._codes and not codes and seen.outputs == "off":
            terminal.event(self._run, "warning", at, code="settled", message="everything is seen to be off after all")
            terminal.shout("everything is seen to be off after all")
        self._was_trouble = self._was_trouble or any(code != "not-saved" for code in codes)
        self._codes = codes
        self._line(item, seen)

    def _reading(self, seen: Snapshot) -> None:
        usable = not seen.fault
        more: dict[str, Any] = {
            "voltage_V": seen.voltage_V if usable else None,
            "current_A": seen.current_A if usable else None,
            "temperature_C": seen.temperature_C,
            "usable": usable,
        }
        if not usable:
            more["reason"] = seen.fault
        self.terminal.event(self._run, "reading", seen.elapsed_s, **more)

    def _line(self, item: LiveRun, seen: Snapshot) -> None:
        if time.monotonic() - self._progress < PROGRESS_S or seen.ended:
            return
        self._progress = time.monotonic()
        doing = seen.proving or (
            item.recipe.steps[seen.state.index].title if seen.state.phase is not Phase.READY else "looking"
        )
        flows = "no usable reading" if seen.fault else f"{seen.voltage_V:.3f} V  {seen.current_A:+.3f} A"
        moved = f"{seen.state.charge_Ah:.3f} Ah drawn, {seen.state.put_in_Ah:.3f} put in"
        self.terminal.progress(f"{format_duration(seen.elapsed_s):>10}  {doing}  {flows}  {moved}")

    def _answer(self, item: LiveRun) -> None:
        state = item.latest.state
        prompting = state.phase is Phase.PROMPTING
        if prompting and state.index != self._asked_index:
            self._asked_index = state.index
            while not self._typed.empty():  # what was typed before it was asked answers nothing
                self._take(item, self._typed.get(), prompting=False)
            part = item.recipe.steps[state.index]
            words = part.words or part.title
            self.terminal.event(self._run, "prompt", item.latest.elapsed_s, message=words)
            self.terminal.shout(f"{words} (press Enter when it is done)")
        while not self._typed.empty():
            self._take(item, self._typed.get(), prompting=prompting and state.index != self._answered)

    def _take(self, item: LiveRun, line: str | None, *, prompting: bool) -> None:
        text = line or ""
        if text.lower() in ALL_OFF:
            self._make_safe(item)
        elif prompting:
            self._answered = item.latest.state.index
            item.worker.ask(Request("answer", words=text or "done", of_step=self._answered))
        elif text:
            item.worker.ask(Request("mark", words=text))

    def _make_safe(self, item: LiveRun) -> None:
        """Everything off, what could not be, and what to do now."""
        self._safe = self.runs.make_safe(item.run.sample_id)
        self._safe.wait(SAFE_S)
        for made in self._safe.results.values():
            self.terminal.shout(str(made))
        sample = next(one for one in self.runs.book.samples.all() if one.id == item.run.sample_id)
        for words in worst_minute(sample.family):
            self.terminal.shout(words)
        self.terminal.shout(f"{sample.code} is in quarantine until somebody has looked at it.")

    def _shout(self, item: LiveRun) -> None:
        """What a window would shout, again and again while it lasts."""
        if self.runs.book.moved_words != self._told_moved:
            self._told_moved = self.runs.book.moved_words
            self.terminal.shout(self._told_moved)
        seen = item.latest
        if not seen.troubles or time.monotonic() - self._last_shout < SHOUT_S - 0.2:
            return
        self._last_shout = time.monotonic()
        for part in seen.troubles:
            self.terminal.shout(f"\a{item.run.title}: {part.words}")

    # --- ending ---

    def _over(self, item: LiveRun) -> _Ends | None:
        seen = item.latest
        if self._signal:
            return _Ends(INTERRUPTED if self._signal == signal.SIGINT else TERMINATED, "parked")
        if self.terminal.closed:
            return _Ends(TERMINATED, "parked")
        waits = seen.state.phase is Phase.PROMPTING and seen.state.index != self._answered
        if waits and self._no_more_lines and self._typed.empty():
            return _Ends(OTHERWISE, "parked")
        stood = getattr(item.worker, "stood_still", "")
        if stood and seen.state.phase is Phase.PAUSED:
            self.terminal.shout(stood)
            return _Ends(OTHERWISE, "parked")
        if not item.worker.alive:
            return _Ends(DONE)
        return None

    def _leave(self, item: LiveRun, ends: _Ends) -> int:
        """Everything off, written; the last event."""
        if item.worker.alive:
            item.worker.halt()
            until = time.monotonic() + 12.0
            while item.worker.alive and time.monotonic() < until:
                self._drain(item)
                time.sleep(LOOK_S)
        self._drain(item)
        seen = item.latest
        for words in self.runs.park(1.0):
            self.terminal.shout(f"{words} The guard goes on switching it off.")
        if item.worker.refusal:
            self.terminal.shout(item.worker.refusal)
        outputs, code = seen.outputs, ends.code
        ended = seen.ended
        cause = seen.state.over.value if ended and seen.state.over is not None else ends.cause or "parked"
        if not ends.cause:
            good = ended and seen.state.over in OWN_ENDS and not self._was_trouble
            code = DONE if good else OTHERWISE
        if outputs != "off":
            code = NOT_OFF
        detail = seen.state.over_detail if ended else "left to be taken up again"
        self.terminal.event(self._run, "ended", seen.elapsed_s, cause=cause, outputs=outputs, detail=detail, exit=code)
        words = CAUSE_WORDS[EndCause(cause)] if cause in EndCause._value2member_map_ else "parked, to be taken up again"
        off = "everything is seen to be off" if outputs == "off" else "NOT EVERYTHING IS SEEN TO BE OFF"
        self.terminal.progress(f"{item.run.title} (run {self._run}): {words}{f' ({detail})' if detail else ''}; {off}")
        if outputs != "off":
            self.terminal.shout(
                f"\a{item.run.title}: {seen.trouble or 'nothing here can see whether everything is off'}"
            )
        return code


def hang_up_quietly() -> None:
    """Let a closed standard output end nothing by itself at the very end."""
    try:
        sys.stdout.flush()
    except OSError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
