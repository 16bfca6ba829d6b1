"""The file a book is in: made whole or not at all, and missed at once when somebody deletes, moves or replaces it."""

from __future__ import annotations

import contextlib
import os
import re
import secrets
import sqlite3
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from urllib.parse import unquote, urlsplit

from wintry_tally.core.errors import BookError

APPLICATION_ID = 0x57544C59


SERVERS = ("postgresql", "postgres", "mysql", "mariadb", "mssql", "oracle")


def file_named(where: Path | str) -> Path:
    """The file that a book is in: a path, or the URL of one (file:///…, sqlite:///…).

    Raises:
        BookError: a server's URL, or one of something else.
    """
    text = str(where)
    scheme = re.match(r"([a-z][a-z0-9]*)(?:\+\w+)?:/+(.*)", text, re.IGNORECASE | re.DOTALL)
    known = scheme[1].lower() if scheme else ""
    if known in SERVERS:
        raise BookError("a book on a server cannot be opened by this version", "", "give a book's file")
    if scheme is None or isinstance(where, Path):
        return Path(where)
    if known == "file":
        parts = urlsplit(text)
        if parts.netloc not in {"", "localhost"}:
            raise BookError("a file of another computer cannot be opened", text[:200], "give the path it is mounted at")
        return Path(unquote(parts.path))
    if known == "sqlite" and text.startswith("sqlite:///"):
        return Path(unquote(text.removeprefix("sqlite:///").partition("?")[0]))
    raise BookError(f"there are no books at {scheme[1]} addresses", text[:200], "give a book's file")


def make_file(path: Path, fill: Callable[[Path], None]) -> None:
    """Make a book's file: filled under another name, then put in place in one step, which only one can win.

    Raises:
        BookError: a file of that name exists, its folder does not, or cannot be written.
    """
    try:
        if path.exists() or path.is_symlink():
            raise _exists(path)
        if not path.parent.is_dir():
            raise BookError("its folder does not exist", str(path), "choose an existing folder")
        # what SQLite keeps beside a book needs a longer name still
        Path(f"{path}-journal").exists()
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or error
        raise BookError(f"cannot be made ({reason})", str(path)[:200], "choose a shorter name") from None
    being_made = path.with_name(f".{secrets.token_hex(8)}.being-made")
    try:
        connection = sqlite3.connect(being_made)
        connection.execute(f"PRAGMA application_id={APPLICATION_ID}")
        connection.commit()
        connection.close()
        fill(being_made)
        _set_aside(path)
        _into_place(being_made, path)
    except (sqlite3.Error, OSError) as error:
        reason = getattr(error, "strerror", None) or error
        mend = "choose a shorter name, or a folder you may write to"
        raise BookError(f"cannot be made ({reason})", str(path), mend) from None
    finally:
        for end in ("", "-wal", "-shm"):
            with contextlib.suppress(OSError):
                Path(f"{being_made}{end}").unlink()


def _into_place(made: Path, path: Path) -> None:
    try:
        os.link(made, path)
    except FileExistsError:
        raise _exists(path) from None
    except OSError as error:
        if path.exists():
            raise _exists(path) from None
        if isinstance(error, FileNotFoundError) or len(os.fsencode(path.name)) > 255:
            raise
        made.replace(path)  # a disk without hard links


def _set_aside(path: Path) -> None:
    """What a book of this name left behind when it was deleted; SQLite would take it for the new book's."""
    for end in ("-wal", "-shm", "-journal"):
        left = Path(f"{path}{end}")
        if left.exists() and not path.exists():
            left.rename(f"{left}.left")


def _exists(path: Path) -> BookError:
    return BookError("a file of this name exists already", str(path), "choose another name")


class Place:
    """Where an open book is, and a line to its file that outlives the file's name.

    Whatever was written is still behind that line after somebody deleted, moved or replaced the file: `rescue` puts
    all of it into a new file.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._which = _which(path)
        self._line = sqlite3.connect(path, check_same_thread=False, timeout=5.0)
        # a file is only truly open once something was read of it
        self._line.execute("SELECT count(*) FROM sqlite_master").fetchone()
        self._beside = {end: _which(Path(f"{path}{end}")) for end in ("-wal", "-shm")}

    @property
    def holds(self) -> bool:
        """Whether the file of that name is still the one that was opened."""
        return _which(self.path) == self._which

    def rescue(self) -> Path:
        """Everything into a new file beside the old one, or where this user's data are; returns it.

        Raises:
            BookError: neither place can be written.
        """
        refused = ""
        data = os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share"
        elsewhere = Path(data) / "wintry-tally" / "rescued"
        for folder in (self.path.parent, elsewhere):
            kept = folder / f"{self.path.stem[:60]} rescued {datetime.now():%Y-%m-%d %H%M%S}{self.path.suffix[:20]}"
            try:
                if folder is elsewhere:
                    folder.mkdir(parents=True, exist_ok=True)
                if not folder.is_dir() or kept.exists():
                    continue
                with contextlib.closing(sqlite3.connect(kept)) as target:
                    self._line.backup(target)
                return kept
            except (sqlite3.Error, OSError) as error:
                refused = f" ({error})"
                with contextlib.suppress(OSError):
                    kept.unlink()
        raise BookError(
            f"the book's file was moved, deleted or replaced, and no copy can be written{refused}", str(self.path),
            "put the file back, or free some space; what is read is held until then",
        )  # fmt: skip

    def close(self) -> None:
        """Let go of it.

        Where the book itself is gone, what SQLite kept beside it goes too: it would be written into whatever file takes
        that name (SQLite, "How to corrupt an SQLite database file", on renaming).
        """
        if not self.holds:
            for end, which in self._beside.items():
                left = Path(f"{self.path}{end}")
                if which is not None and _which(left) == which:
                    with contextlib.suppress(OSError):
                        left.unlink()
        self._line.close()


def _which(path: Path) -> tuple[int, int] | None:
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_dev, found.st_ino
