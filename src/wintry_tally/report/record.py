"""What happened in a run, as it was kept: its steps, warnings, gaps, notes and what hands did; line by line."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from wintry_tally.core.message import OWN, message_data
from wintry_tally.core.quantity import format_duration

HEED = frozenset({
    "warning", "gap", "interrupted", "refused", "not-off", "flows-though-off", "guard", "meters-disagree", "fault",
    "override", "stop",
})  # fmt: skip
"""What whoever judges by a run should have seen."""
MARKED = frozenset({"mark", "gap", "interrupted", "warning"})
"""What is shown at its time on a curve too."""
KIND_WORDS = {
    "start-rest": "rest", "start-discharge": "discharge", "start-charge": "charge", "ask": "hands", "pause": "pause",
    "resume-discharge": "discharge", "resume-charge": "charge", "finish": "end", "stop": "stop", "warning": "warning",
    "set": "setting", "mark": "note", "hand-over": "hand-over", "reopened": "program", "taken-back": "taken back",
    "interrupted": "interrupted", "gap": "gap", "meters-disagree": "meters", "proof": "proof", "proof-left-out": "proof",
    "override": "override", "refused": "refused", "not-off": "not off", "flows-though-off": "not off", "reached": "off",
    "unplugged": "off", "fault": "fault", "guard": "guard", "acknowledged": "cautions", "note": "note",
}  # fmt: skip


@dataclass(frozen=True)
class Happened:
    """One line of a run's record.

    Parts:
        at_s: since the run began; message: of the catalogue, or somebody's own words; heed: whoever judges should see it.
    """

    at_s: float
    kind: str
    message: str
    heed: bool

    @property
    def at(self) -> str:
        """When, since it began."""
        return format_duration(self.at_s)

    @property
    def word(self) -> str:
        """What kind of thing it is."""
        return KIND_WORDS.get(self.kind, self.kind)

    @property
    def sentence(self) -> str:
        """What happened, as a line of its own; somebody's note between marks, as it was written."""
        if self.kind == "mark" and message_data(self.message)["code"] == OWN:
            return f"“{self.message}”"
        return self.message[:1].upper() + self.message[1:]

    @property
    def marked(self) -> bool:
        """Whether a curve shows it."""
        return self.kind in MARKED

    def as_dict(self) -> dict[str, Any]:
        """Plain data: the words, and the code with its parts that they were made of."""
        data = message_data(self.message)
        code = data.pop("code")
        return {"at_s": self.at_s, "kind": self.kind, "message": str(self.message), "code": code, "parts": data}
