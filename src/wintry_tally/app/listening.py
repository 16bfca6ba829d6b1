"""Whoever follows live runs: what it is told, and how it does work elsewhere."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol


class Listener(Protocol):
    """Whoever shows what goes on: a window, or a terminal. Called on the thread that follows."""

    def failed(self, words: str) -> None:
        """Something that stays shown until it is dismissed."""

    def said(self, words: str) -> None:
        """Something worth a line."""

    def rang(self, title: str, words: str, grave: bool = False) -> None:
        """Somebody is called; `grave`: something is wrong, and it is heard even where no sound is wanted."""

    def runs_changed(self, sample_id: int) -> None:
        """Runs of a sample changed."""


Background = Callable[[Callable[[], str], Callable[[str], None], Callable[[str], None]], None]
"""Does a job elsewhere, then calls one of two functions on the thread that follows."""
