"""One person's own words for claims: a text file of lines "their words = kind" beside their other settings."""

from __future__ import annotations

import os
from functools import lru_cache
from pathlib import Path

from wintry_tally.core.battery.printed.vocabulary import Vocabulary, shipped, with_own
from wintry_tally.core.errors import InputError
from wintry_tally.files import write_whole

NAME = "words.txt"
MOST_BYTES = 1 << 20


def place() -> Path:
    """Where they are kept (XDG base directories)."""
    base = os.environ.get("XDG_CONFIG_HOME") or str(Path.home() / ".config")
    return Path(base) / "wintry-tally" / NAME


def lines() -> tuple[str, ...]:
    """Those kept, in order; none where there is no such file or it cannot be read."""
    try:
        with place().open("rb") as file:
            text = file.read(MOST_BYTES).decode("utf-8", errors="replace")
    except OSError:
        return ()
    return tuple(line.strip() for line in text.splitlines() if "=" in line and not line.lstrip().startswith("#"))


def vocabulary() -> Vocabulary:
    """The shipped words and one's own."""
    kept = lines()
    return _known(kept) if kept else shipped()


@lru_cache(maxsize=4)
def _known(kept: tuple[str, ...]) -> Vocabulary:
    return with_own(kept)


def learn(line: str) -> None:
    """Keep one more; the same words again replace what they were.

    Raises:
        InputError: it cannot be written.
    """
    phrase = line.partition("=")[0].strip().lower()
    _keep([*(one for one in lines() if one.partition("=")[0].strip().lower() != phrase), line])


def forget(line: str) -> None:
    """Keep one less.

    Raises:
        InputError: it cannot be written.
    """
    _keep([one for one in lines() if one != line])


def _keep(kept: list[str]) -> None:
    head = "# Words for claims, one a line: words as they are printed = kind\n"
    try:
        place().parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(
            f"cannot be made ({error.strerror or error})", str(place().parent), "check its permissions"
        ) from None
    write_whole(head + "".join(f"{line}\n" for line in kept), place())
