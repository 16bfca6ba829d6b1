"""How much is read of anything from outside; refused in one line before the memory is taken (docs/formats.md).

And how a text is written, whole.
"""

from __future__ import annotations

import errno
import json
import math
import os
import stat
import tomllib
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from typing import Any

from wintry_tally.core.errors import InputError, WintryError

MOST_TEXT_BYTES = 4 << 20
"""Claims, recipes, dialects, benches: files that people write."""
MOST_LOG_BYTES = 2 << 30
MOST_UNPACKED_BYTES = 512 << 20
"""Of a gzip file; a larger one is unpacked by its owner."""
MOST_ROWS = 20_000_000
MOST_COLUMNS = 2_000
MOST_DEPTH = 40
"""Tables in tables of a TOML or JSON file."""
MOST_KEY_PARTS = 100
"""Of a dotted key in TOML; Python's reader takes time by their square."""
SURE_BYTES = 256 << 20
"""What may be unpacked into memory whatever the file's size."""
BOMB_RATIO = 250
"""And beyond that, so many times the file's size."""

Refusal = Callable[..., WintryError]


def check_unpacked(size: float, packed: int, name: str, refuse: Refusal) -> None:
    """Raise what `refuse` makes when so many bytes would come from so few."""
    if size > SURE_BYTES and size > BOMB_RATIO * packed:
        raise refuse(
            f"unpacks to more than {size / (1 << 20):,.0f} MiB from {packed >> 10:,} KiB", name,
            "this is no honest log; unpack it by hand if you trust it",
        )  # fmt: skip


def ordinary_file(path: Path, what: str, refuse: Refusal) -> int:
    """Size of an ordinary file, bytes; anything else (a pipe, a device, a folder) is refused without opening it."""
    name = str(path)
    try:
        found = path.stat()
    except FileNotFoundError:
        raise refuse("there is no such file", name, "check the path") from None
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or error
        raise refuse(f"cannot be read ({reason})", name[:200], "check its permissions") from None
    if stat.S_ISDIR(found.st_mode):
        raise refuse("this is a directory", name, f"give {what}")
    if not stat.S_ISREG(found.st_mode):
        raise refuse("this is no ordinary file", name, f"give {what}")
    return found.st_size


def text_of(path: Path, what: str) -> str:
    """The text of a file that people write, UTF-8.

    Raises:
        InputError: not there, no ordinary file, unreadable, too large, or no UTF-8; with the file's name.
    """
    name = str(path)
    size = ordinary_file(path, what, InputError)
    try:
        with path.open("rb") as file:
            content = file.read(MOST_TEXT_BYTES + 1)
    except OSError as error:
        raise InputError(f"cannot be read ({error.strerror or error})", name, "check its permissions") from None
    if max(size, len(content)) > MOST_TEXT_BYTES:
        raise InputError(f"it is larger than {MOST_TEXT_BYTES >> 20} MiB", name, f"give {what}")
    try:
        return content.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise InputError("this is not UTF-8 text", name, "save it as UTF-8") from None


class Written(float):
    """A number of a file, and how it is written there: 4.30 is no 4.3."""

    text: str

    def __new__(cls, text: str) -> Written:
        made = super().__new__(cls, text)
        made.text = text
        return made


def last_digit(value: object) -> float | None:
    """One of the last digit that a number is written with: 0.01 of 4.30, 1 of 330; None of what is no number."""
    if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
        return None
    exponent = Decimal(getattr(value, "text", repr(value)).replace("_", "")).as_tuple().exponent
    return 10.0**exponent if isinstance(exponent, int) else None


def table_of(path: Path, what: str) -> dict[str, Any]:
    """The table in a TOML or JSON file, whichever it turns out to be.

    Raises:
        InputError: as `text_of`; or it holds no table, or tables in tables beyond all sense.
    """
    name, text = str(path), text_of(path, what)
    as_json = path.suffix.lower() == ".json" or text.lstrip()[:1] == "{"
    if not as_json and _long_key(text):
        raise InputError(f"a key of more than {MOST_KEY_PARTS} parts", name, f"give {what}")
    try:
        data = json.loads(text, parse_float=Written) if as_json else tomllib.loads(text, parse_float=Written)
    except (ValueError, RecursionError) as error:
        reason = " ".join(str(error).split())[:120]
        raise InputError(f"cannot be read as TOML or JSON ({reason})", name, f"give {what}") from None
    if not isinstance(data, dict):
        raise InputError("holds no table", name, f"give {what}")
    if _deeper(data, MOST_DEPTH):
        raise InputError(f"its tables stand more than {MOST_DEPTH} deep in each other", name, f"give {what}")
    return data


def _long_key(text: str) -> bool:
    parts = 0
    for piece in text.split("."):
        parts = 0 if "=" in piece or "\n" in piece else parts + 1
        if parts > MOST_KEY_PARTS:
            return True
    return False


def _deeper(data: Any, left: int) -> bool:
    if not isinstance(data, dict | list):
        return False
    if left == 0:
        return True
    return any(_deeper(item, left - 1) for item in (data.values() if isinstance(data, dict) else data))


def write_whole(text: str, path: Path) -> None:
    """Write a text beside its place first, and put it there whole: a half-written one never replaces a whole one.

    Raises:
        InputError: the file cannot be written.
    """
    try:
        if not path.name or path.is_dir():
            raise IsADirectoryError(errno.EISDIR, os.strerror(errno.EISDIR), str(path))
        partial = path.with_name(path.name + ".part")
        try:
            partial.write_text(text, encoding="utf-8")
            partial.replace(path)
        finally:
            partial.unlink(missing_ok=True)
    except OSError as error:
        raise InputError(f"cannot be written ({error.strerror or error})", str(path), "choose another folder") from None


def state_folder() -> Path:
    """Where this user's programs keep their state (XDG base directories)."""
    base = os.environ.get("XDG_STATE_HOME") or str(Path.home() / ".local" / "state")
    return Path(base) / "wintry-tally"
