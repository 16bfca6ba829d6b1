"""`attach`: photographs and printed pages of a sample, kept in the book."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from wintry_tally.cli.saying import answer, say

SCHEMA = "wintry-tally.pictures/1"


@click.command("attach")
@click.argument("book", type=click.Path(path_type=Path))
@click.argument("code")
@click.argument("files", nargs=-1, type=click.Path(path_type=Path))
@click.option("--kind", default="other", show_default=True, help="label manual web meter inside case other")
@click.option("--caption", default="", help="Words beneath it.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def attach_command(book: Path, code: str, files: tuple[Path, ...], kind: str, caption: str, as_json: bool) -> None:
    """Keep photographs (JPEG, PNG, WebP) or pages (PDF) with a sample; without FILES, list what is kept."""
    found = attached(book, code, files, kind, caption)
    if as_json:
        answer(found)
        return
    for one in found["pictures"]:
        say(f"{one['kind']:<8} {one['name']} ({one['size'] / 1e6:.1f} MB) {one['caption']}".rstrip())


def attached(path: Path, code: str, files: tuple[Path, ...], kind: str, caption: str) -> dict[str, Any]:
    """See `wintry-tally attach`; the object it prints.

    Raises:
        WintryError: no book, no sample, no such kind, or a file that cannot be kept; those before it are.
    """
    from wintry_tally.app.opening import opened
    from wintry_tally.app.pictures import put_in
    from wintry_tally.cli.books import sample_of

    with opened(path, lambda words: say(words, err=True)) as book:
        sample = sample_of(book, code, path)
        for file in files:
            put_in(book, sample.id, file, kind, caption, shown=True)
        kept = book.attachments.of(sample.id)
    return {
        "schema": SCHEMA, "sample": code,
        "pictures": [
            {"name": one.name, "kind": one.kind, "caption": one.caption, "media": one.media, "size": one.size,
             "added": one.added.isoformat(timespec="seconds")}
            for one in kept
        ],
    }  # fmt: skip
