"""Quotation marks that open nothing: `12" cable` in a note must not swallow the rows behind it."""

from __future__ import annotations

import mmap
import re

import numpy as np

BLOCK = 1 << 18
"""Bytes that are looked through at a time."""
QUOTE, END = ord('"'), ord("\n")


def without_stray_quotes(content: bytes | mmap.mmap, delimiter: str, fields: int, first_line: int) -> bytes | mmap.mmap:
    """The same content, or a copy in which no quotation mark joins a row to the next.

    A field between quotation marks may hold line ends, as RFC 4180 has it. Where the line behind an odd number of marks is a
    row by itself, or none closes what was opened, the mark was text: it is left out of its line. Before `first_line`, where
    the rows begin, every line stands for itself.

    Args:
        content: UTF-8 lines; fields: how many delimiters a row has at the least.
    """
    if content.find(b'"') < 0:
        return content
    odd = _odd_lines(content)
    if not odd:
        return content
    sign = delimiter.encode()
    row = re.compile(rb"\s*\"?[-+.\d]")
    changed: list[tuple[int, int, bytes]] = []
    place = 0
    while place < len(odd):
        number, begin, end = odd[place]
        following = content[end + 1 : _end_of(content, end + 1)] if end + 1 < len(content) else b""
        stands = row.match(following) is not None and (following.count(sign) >= fields)
        if number < first_line or stands or place + 1 == len(odd):
            alike = content[begin:end].count(sign) == following.count(sign)
            changed.append((begin, end, _plain(content[begin:end], sign, alike)))
            place += 1
        else:
            place += 2  # opened here, closed there
    made, at = [], 0
    for begin, end, line in changed:
        made += [content[at:begin], line]
        at = end
    return b"".join([*made, content[at:]])


def _end_of(content: bytes | mmap.mmap, begin: int) -> int:
    end = content.find(b"\n", begin)
    return len(content) if end < 0 else end


def _odd_lines(content: bytes | mmap.mmap) -> list[tuple[int, int, int]]:
    """Lines with an odd number of marks: their number from 0, where they begin, and where they end."""
    codes = np.frombuffer(content, np.uint8)
    found: list[tuple[int, int, int]] = []
    lines = begin = odd = 0
    for start in range(0, len(codes), BLOCK):
        block = codes[start : start + BLOCK]
        ends = np.flatnonzero(block == END)
        begins = np.concatenate([[0], ends[ends < len(block) - 1] + 1])
        marks = np.bitwise_xor.reduceat((block == QUOTE).view(np.uint8), begins)
        marks[0] ^= odd
        for n in np.flatnonzero(marks[: len(ends)]):
            found.append((lines + int(n), begin if n == 0 else start + int(begins[n]), start + int(ends[n])))
        odd = int(marks[-1]) if len(marks) > len(ends) else 0
        if len(ends):
            lines, begin = lines + len(ends), start + int(ends[-1]) + 1
    if odd:
        found.append((lines, begin, len(codes)))
    return found


def _plain(line: bytes, sign: bytes, alike: bool) -> bytes:
    """Without the marks within a field; where one is still too many, without all of a line that has as many delimiters as the
    next (`alike`: none stands within a field), else without the last."""
    kept = bytearray()
    edges = {sign, b"", b"\r", b'"'}
    for at in range(len(line)):
        one = line[at : at + 1]
        if one == b'"' and not {line[at - 1 : at] if at else b"", line[at + 1 : at + 2]} & edges:
            continue
        kept += one
    if kept.count(b'"') % 2 and alike:
        return bytes(kept.replace(b'"', b""))
    if kept.count(b'"') % 2:
        last = kept.rfind(b'"')
        del kept[last : last + 1]
    return bytes(kept)
