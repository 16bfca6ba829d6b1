"""Dossiers as they were worked out, kept for the next time: what a large book knows is there at once when it is opened.

They lie in this user's own cache, named by everything that they stand on: the sample's facts and claims, its runs and
their readings, the decision rule, and this program's own code. A book that comes from elsewhere brings none of them, and
whatever of it changes makes another name. Traces are left out; they are read from the book when somebody asks for one.
"""

from __future__ import annotations

import contextlib
import hashlib
import io
import logging
import os
import pickle
import stat
import sys
import tempfile
import zlib
from collections.abc import Callable, Mapping
from functools import lru_cache
from importlib.metadata import version
from pathlib import Path
from typing import TYPE_CHECKING, Any

import wintry_tally

# a trace needs NumPy: a book stands on the screen before that is loaded
if TYPE_CHECKING:
    from wintry_tally.core.trace.later import Later
    from wintry_tally.core.trace.trace import Trace

log = logging.getLogger(__name__)
MOST_BYTES = 300_000_000
CLEARED_EVERY = 100
"""After so many are kept, those that were not used for longest go, down to `MOST_BYTES`."""
STANDS_ON = (
    "core",
    "report",
    "exchange",
    "app/dossiers.py",
    "app/following.py",
    "app/stood.py",
    "app/kept.py",
    "app/known.py",
    "app/packed.py",
    "app/last_seen.py",
    "book",
)

LEANS_ON = ("numpy", "scipy", "uncertainties", "polars")
"""Libraries whose figures they are made of."""


def kept_folder() -> Path:
    """Where this user's programs keep what can be worked out again (XDG base directories)."""
    base = os.environ.get("XDG_CACHE_HOME") or str(Path.home() / ".cache")
    return Path(base) / "wintry-tally" / "dossiers"


@lru_cache(maxsize=1)
def code_mark() -> str:
    """Of the code and data that dossiers are made by, as they lie here: another version, another mark."""
    home = Path(wintry_tally.__file__).parent
    files = [
        path for name in STANDS_ON for path in ([home / name] if name.endswith(".py") else (home / name).rglob("*"))
    ]
    lines = [sys.version, *(f"{name} {version(name)}" for name in LEANS_ON)]
    for path in sorted(files):
        if path.is_file() and path.suffix != ".pyc":
            known = path.stat()
            lines.append(f"{path.relative_to(home)} {known.st_size} {known.st_mtime_ns}")
    return hashlib.sha256("\n".join(lines).encode()).hexdigest()


def fingerprint(*stands_on: object) -> str:
    """The name of what stands on these: plain values and frozen records of them, no arrays."""
    return hashlib.sha256(repr((code_mark(), *stands_on)).encode()).hexdigest()


class Kept:
    """The keeping. Whatever goes wrong with it, what was kept is worked out again: nobody is told."""

    def __init__(self) -> None:
        self._since = 0

    def get(self, name: str, readers: Mapping[int, Callable[[], Trace]]) -> Any:
        """What is kept under a name, or None; `readers` fetch the trace of a run by its number."""
        path = kept_folder() / name
        try:
            if not _ours(path.parent):
                return None
            content = path.read_bytes()
        except OSError:
            return None
        with contextlib.suppress(OSError):
            os.utime(path)  # used now
        try:
            return _Reader(io.BytesIO(zlib.decompress(content)), readers).load()
        except Exception:  # a disk that lied, a file half written by a crash: as if it had not been there
            path.unlink(missing_ok=True)
            return None

    def put(self, name: str, made: object, traces: Mapping[int, int], level: int = 1) -> None:
        """Keep it; `traces`: the numbers of the runs whose traces it holds, by the identity of each trace; `level`: as zlib has it."""
        folder = kept_folder()
        try:
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            if not _ours(folder):
                return
            content = io.BytesIO()
            _Writer(content, traces).dump(made)
            with tempfile.NamedTemporaryFile(dir=folder, delete=False) as file:
                partial = Path(file.name)
                try:
                    file.write(zlib.compress(content.getvalue(), level))
                    file.flush()
                    partial.replace(folder / name)
                finally:  # a full disk is not filled further by halves
                    partial.unlink(missing_ok=True)
            self._since += 1
            if self._since >= CLEARED_EVERY:
                self._since = 0
                _clear(folder)
        except OSError:
            return
        except Exception:
            log.warning("what was worked out could not be kept", exc_info=True)


KEPT = Kept()
"""The one of this program."""


class _Writer(pickle.Pickler):
    """Leaves traces out: by the number of their run."""

    def __init__(self, file: io.BytesIO, runs: Mapping[int, int]) -> None:
        from wintry_tally.core.trace.later import Later
        from wintry_tally.core.trace.trace import Trace

        super().__init__(file, protocol=5)
        self._runs, self._left_out = runs, (Trace, Later)

    def persistent_id(self, value: Any) -> int | None:
        if not isinstance(value, self._left_out):
            return None
        return self._runs[id(value)]


class _Reader(pickle.Unpickler):
    """Puts those that read them in their places."""

    def __init__(self, file: io.BytesIO, readers: Mapping[int, Callable[[], Trace]]) -> None:
        super().__init__(file)
        self._readers = dict(readers)
        self._laters: dict[int, Later] = {}

    def persistent_load(self, number: Any) -> Later:
        from wintry_tally.core.trace.later import Later

        if number not in self._laters:
            self._laters[number] = Later(self._readers[number])
        return self._laters[number]


def _ours(folder: Path) -> bool:
    """Whether nobody else could have put anything there: what is read from it is trusted."""
    known = folder.stat()
    return known.st_uid == os.getuid() and not known.st_mode & (stat.S_IWGRP | stat.S_IWOTH)


def _clear(folder: Path) -> None:
    files = sorted(((path.stat().st_mtime, path.stat().st_size, path) for path in folder.iterdir()), reverse=True)
    room = MOST_BYTES
    for _, size, path in files:
        room -= size
        if room < 0:
            path.unlink(missing_ok=True)
