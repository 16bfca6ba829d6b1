"""What guards wrote down, where the next start of the program finds it."""

from __future__ import annotations

import contextlib
import json
import os
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from wintry_tally.core.message import Message, said
from wintry_tally.files import state_folder


@dataclass(frozen=True)
class GuardRecord:
    """What a guard did for a run of a book: when, why, and whether each instrument was seen off."""

    run: int
    book: str
    title: str
    why: str
    at: datetime
    done: bool
    results: dict[str, tuple[bool, str]]
    guard: int = 0

    @property
    def words(self) -> Message:
        """In a sentence."""
        told = tuple(f"{name} {words}" for name, (_, words) in self.results.items())
        return said("guard-switched", at=self.at.isoformat(), why=self.why, results=told)


def new_record_path() -> Path:
    """A name for a new record; its folder is made."""
    folder = state_folder() / "guard"
    folder.mkdir(parents=True, exist_ok=True)
    return folder / f"{os.getpid()}-{datetime.now(UTC):%Y%m%dT%H%M%S%f}.json"


def take_records(book: Path) -> list[GuardRecord]:
    """What guards did for runs of a book, oldest first; records that are finished are taken away."""
    found = []
    for path in sorted((state_folder() / "guard").glob("*.json")):
        try:
            data = json.loads(path.read_text(encoding="utf-8"))
            if data["book"] != str(book.resolve()):
                continue
            results = {str(name): (bool(item["off"]), str(item["words"])) for name, item in data["results"].items()}
            at = datetime.fromtimestamp(float(data["at"]), UTC)
            found.append(
                GuardRecord(int(data["run"]), data["book"], str(data["title"]), str(data["why"]), at, bool(data["done"]), results, int(data.get("guard", 0)))
            )  # fmt: skip
            if data["done"]:
                path.unlink()
        except (OSError, ValueError, KeyError, TypeError):
            with contextlib.suppress(OSError):
                path.unlink()
    return found
