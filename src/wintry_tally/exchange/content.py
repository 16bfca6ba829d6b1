"""The bytes of a log: an ordinary file's, unpacked where it is packed, never more than is read, and how they are encoded."""

from __future__ import annotations

import gzip
import io
import mmap
import re
import unicodedata
import zlib
from itertools import pairwise
from pathlib import Path

from wintry_tally.core.errors import LogError
from wintry_tally.files import MOST_LOG_BYTES, MOST_UNPACKED_BYTES, check_unpacked, ordinary_file

HEAD = 1 << 18
MAPPED = 8 << 20
"""Files larger than this are mapped instead of read."""
_ARCHIVES = {b"PK\x03\x04": "a zip archive", b"Rar!": "a RAR archive", b"7z\xbc\xaf": "a 7z archive", b"%PDF": "a PDF"}


def file_bytes(path: Path) -> bytes:
    """The file's bytes, unpacked if gzipped, bounded.

    Raises:
        LogError: missing, a directory, unreadable, empty, an archive, or a decompression bomb.
    """
    content = content_of(path)
    return content if isinstance(content, bytes) else content[:]


def content_of(path: Path) -> bytes | mmap.mmap:
    """What `file_bytes` gives, a large plain file mapped and not yet read."""
    name = str(path)
    try:
        size = ordinary_file(path, "a log file", LogError)
        if size > MOST_LOG_BYTES:
            raise LogError(
                f"it has {size / (1 << 30):.1f} GiB; at most {MOST_LOG_BYTES >> 30} GiB are read", name,
                "split it; its parts are joined again",
            )  # fmt: skip
        content: bytes | mmap.mmap
        if size > MAPPED:
            with path.open("rb") as file:
                content = mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)
        else:
            content = path.read_bytes()
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or error
        raise LogError(f"cannot be read ({reason})", name, "check its permissions") from None
    if not len(content):
        raise LogError("the file is empty", name, "export the log again")
    if content[:2] == b"\x1f\x8b":
        content = _unpacked(content, name)
    for mark, words in _ARCHIVES.items():
        if content[: len(mark)] == mark:
            raise LogError(f"this is {words}, not a log", name, "unpack it and give the CSV inside")
    return _without_holes(content, name)


HOLE = re.compile(rb"\0{8,}")
"""No text in any encoding that is read has so many zero bytes in a row: nothing was written there."""


def _without_holes(content: bytes | mmap.mmap, name: str) -> bytes | mmap.mmap:
    """Text without the zero bytes that a logger left where it lost its power while it wrote: a line end stands for them."""
    if content[:4] == b"PAR1" or content.find(b"\0") < 0:
        return content
    _check_head(content, name)
    hole = HOLE.search(content)
    if hole is None or 0 in content[: min(hole.start(), HEAD)]:  # two bytes to a sign
        return content
    return HOLE.sub(b"\n", content)


def _check_head(content: bytes | mmap.mmap, name: str) -> None:
    """A binary file is refused by its beginning, before more of it is looked at or unpacked."""
    head = HOLE.sub(b"\n", content[:HEAD])
    if not head.strip(b"\n"):
        raise LogError("this is a binary file, not a log", name, "export the log as CSV")
    encoding_of(head, name)


def _unpacked(content: bytes | mmap.mmap, name: str) -> bytes:
    """What a gzip file holds; what it says of itself is looked at first, and what comes out while it comes."""
    said = int.from_bytes(content[-4:], "little")  # RFC 1952: the size modulo 2^32 stands at the end
    unpacked = bytearray()
    try:
        with gzip.GzipFile(fileobj=io.BytesIO(content[:])) as file:
            while chunk := file.read(1 << 20):
                if not unpacked and chunk[:4] != b"PAR1":
                    _check_head(chunk, name)
                if not unpacked and said > MOST_UNPACKED_BYTES:
                    raise _too_much(said, name)
                unpacked += chunk
                check_unpacked(len(unpacked), len(content), name, LogError)
                if len(unpacked) > MOST_UNPACKED_BYTES:
                    raise _too_much(len(unpacked), name)
    except (OSError, EOFError, zlib.error) as error:
        raise LogError(f"the gzip file is damaged ({error})", name, "copy or export it again") from None
    if not unpacked:
        raise LogError("the file is empty once unpacked", name, "export the log again")
    return bytes(unpacked)


def _too_much(size: int, name: str) -> LogError:
    return LogError(
        f"unpacks to {size >> 20} MiB or more; at most {MOST_UNPACKED_BYTES >> 20} MiB are unpacked here", name,
        "unpack it, and give the log itself",
    )  # fmt: skip


def encoding_of(head: bytes, name: str) -> str:
    if head[:2] in {b"\xff\xfe", b"\xfe\xff"}:
        return "utf-16"
    if head[:3] == b"\xef\xbb\xbf":
        return "utf-8-sig"
    zeros = head.count(0)
    if zeros > 0.3 * len(head):
        odd = head[1::2].count(0)
        encoding = "utf-16-le" if odd > zeros / 2 else "utf-16-be"
        if head.decode(encoding, errors="replace").isprintable() or b"\n" in head:
            return encoding
    control = sum(head.count(bytes([code])) for code in (*range(9), *range(14, 32)))
    if control > 0.01 * len(head):
        raise LogError("this is a binary file, not a log", name, "export the log as CSV")
    try:
        head.decode("utf-8")
        return "utf-8"
    except UnicodeDecodeError as error:
        if error.start >= len(head) - 4:
            return "utf-8"
    from charset_normalizer import from_bytes

    best = from_bytes(head[:20_000], cp_isolation=["cp1252", "latin_1", "iso8859_15", "mac_roman", "cp1250"]).best()
    likely = [best.encoding if best is not None else "latin-1", *ENCODINGS]
    return min(likely, key=lambda encoding: _odd(head[:20_000], encoding))


ENCODINGS = ("cp1252", "cp1250", "mac_roman")
SIGNS = frozenset("°ºª²³±×·–—’‘“”«»€½¼¾…\u00a0\u202f")
"""What stands in logs beside letters and the signs of ASCII."""


def _odd(head: bytes, encoding: str) -> int:
    """How much a log would hold that none holds: a degree sign read as "∞", a capital within a word ("GerŠt")."""
    text = head.decode(encoding, errors="replace")
    strange = sum(not (sign.isascii() or sign in SIGNS or unicodedata.category(sign) in {"Ll", "Lu"}) for sign in text)
    return strange + sum(not b.isascii() and a.islower() and b.isupper() for a, b in pairwise(text))
