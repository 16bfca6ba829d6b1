"""What a person has to do in a run that is walked through by hand, and the line its readings are typed into."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QWidget

from wintry_tally.bench.hand import HandReading, Slip, check_reading
from wintry_tally.core.engine import LIVE, Observation, Phase, Request
from wintry_tally.core.quantity import format_duration
from wintry_tally.desk.session import Session
from wintry_tally.desk.widgets.parts import button, card, column, label, row
from wintry_tally.desk.widgets.reading_line import ReadingLine

if TYPE_CHECKING:
    from wintry_tally.app.live_run import LiveRun


OFF_A = 0.3
"""A current above it is one that was left on; below, what a display or a meter takes."""


class GuidedCard(QWidget):
    """Follows a live run that has a guide; `show_run` at every tick."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.asks = label("", wrap=True)
        self.due = label("", "small")
        self.entry = ReadingLine(self._slips, self._last_moment)
        self.entry.kept.connect(self._kept)
        self.back = button("Take back the last reading", self._take_back, "link")
        asking = row(self.asks, self.due, self.back, gap=4)
        asking.setStretch(0, 1)
        self.setLayout(column(card(asking, role="banner"), card(self.entry), gap=3))
        self._live: LiveRun | None = None

    def show_run(self, live: LiveRun | None) -> None:
        """What is asked now, and when the next reading is due."""
        other = live is not self._live
        self._live = live if live is not None and live.guide is not None else None
        self.setVisible(self._live is not None)
        if self._live is None or self._live.guide is None:
            return
        if other:
            self.entry.empty()
        phase = self._live.latest.state.phase
        self.asks.setText("" if phase is Phase.PROMPTING else self._live.latest.asks)
        due = self._live.guide.due_in_s
        self.due.setText(f"next reading in {format_duration(max(0.0, due))}" if due is not None and due > 0 else "")
        self.back.setEnabled(self._live.guide.can_take_back)

    def _readings(self) -> list[HandReading]:
        """Those kept so far, as a person typed them: a charge's current as the charger shows it."""
        assert self._live is not None and self._live.guide is not None
        began, kept = self._live.run.started, self._live.guide.kept
        return [
            HandReading(began + timedelta(seconds=one.elapsed_s), one.seen.voltage_V, abs(one.seen.current_A), None)
            for one in kept
        ]

    def _last_moment(self) -> datetime | None:
        earlier = self._readings() if self._live is not None else []
        return earlier[-1].at.astimezone() if earlier else None

    def _slips(self, reading: HandReading) -> list[Slip]:
        if self._live is None:
            return []
        run, state = self._live.run, self._live.latest.state
        live = state.phase in LIVE
        if reading.voltage_V is None:
            return [Slip("voltage", "Type a voltage: without one nothing can be watched.", may_be=False)]
        if live and reading.current_A is None:
            return [Slip("current", "Type the current too: it is what is counted.", may_be=False)]
        if (reading.at - run.started.astimezone()).total_seconds() < -1.0:
            words = f"this is before the run began, at {run.started.astimezone():%H:%M:%S}"
            return [Slip("time", words, may_be=False)]
        part = self._live.recipe.steps[state.index]
        if not live and (reading.current_A or 0.0) > OFF_A:
            words = f"{reading.current_A:g} A still flow, where everything should be off: switch it off first"
            return [Slip("current", words)]
        expected = state.setting if live and part.mode in {"current", "charge"} else None
        # at another phase the current before is no measure of this one
        earlier = [item for item in self._readings() if live or not item.current_A]
        family = self.session.sample(run.sample_id).family
        found = check_reading(reading, earlier, family, expected, datetime.now().astimezone())
        falls = part.kind == "charge"  # a charge's current tapers, and is no slip for it
        return [slip for slip in found if not (slip.unlike and falls)]

    def _kept(self, reading: HandReading) -> None:
        from wintry_tally.bench.guided import Typed

        live = self._live
        if live is None or live.guide is None or reading.voltage_V is None:
            return
        amps = reading.current_A or 0.0
        charging = live.latest.state.phase is Phase.CHARGING
        beside = {} if reading.counter_Ah is None else {"counter_Ah": reading.counter_Ah}
        seen = Observation(reading.voltage_V, -amps if charging else amps, reading.temperature_C, beside=beside)
        elapsed = max(0.0, (reading.at - live.run.started.astimezone()).total_seconds())
        live.guide.put(Typed(elapsed, seen, reading.note))
        self.entry.empty()
        self.entry.volts.line.setFocus()
        self.session.said.emit(f"Kept the reading of {reading.at:%H:%M:%S}.")

    def _take_back(self) -> None:
        if self._live is not None:
            self._live.worker.ask(Request("take-back"))
