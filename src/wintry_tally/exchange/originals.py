"""The bytes of files that were imported, as they came."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Sequence
from pathlib import Path

from wintry_tally.exchange.content import file_bytes


def original_bytes(paths: Sequence[Path]) -> tuple[str, bytes]:
    """The file's own name and bytes; several together as a zip."""
    if len(paths) == 1:
        return paths[0].name, file_bytes(paths[0])
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        for number, path in enumerate(paths, 1):
            archive.writestr(f"{number:02d}-{path.name}", path.read_bytes())
    return f"{paths[0].stem}-and-{len(paths) - 1}-more.zip", packed.getvalue()
