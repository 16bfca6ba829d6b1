"""Photographs and printed pages as files: what they are, a small one for the screen, one for a page of readers."""

from __future__ import annotations

import io
import warnings
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from wintry_tally.core.errors import InputError
from wintry_tally.files import ordinary_file

if TYPE_CHECKING:
    from PIL import Image

MOST_BYTES = 32 << 20
MOST_PIXELS = 120_000_000
"""No camera of today's telephones takes more; a file that unpacks to more is not looked at."""
SMALL_PX, PAGE_PX = 260, 1400
QUALITY = 82
MEDIA = {"JPEG": "image/jpeg", "MPO": "image/jpeg", "PNG": "image/png", "WEBP": "image/webp"}
FORMATS = ("JPEG", "PNG", "WEBP")
PDF = "application/pdf"
ENDINGS = {"image/jpeg": ".jpg", "image/png": ".png", "image/webp": ".webp", PDF: ".pdf"}
WHAT = "a photograph (JPEG, PNG, WebP) or a page as PDF"


@dataclass(frozen=True)
class Picture:
    """A file as it is kept: its own bytes, its media type, and a small JPEG (empty for a PDF)."""

    name: str
    media: str
    content: bytes
    small: bytes


def read_picture(path: Path) -> Picture:
    """Read a file that is to be kept.

    Raises:
        InputError: not there, too large, or nothing that can be shown.
    """
    size = ordinary_file(path, WHAT, InputError)
    try:
        with path.open("rb") as file:
            content = file.read(MOST_BYTES + 1)
    except OSError as error:
        raise InputError(f"cannot be read ({error.strerror or error})", str(path), "check its permissions") from None
    if max(size, len(content)) > MOST_BYTES:
        raise InputError(f"it is larger than {MOST_BYTES >> 20} MiB", str(path), "save it smaller")
    return picture_of(path.name, content)


def picture_of(name: str, content: bytes) -> Picture:
    """The same from bytes.

    Raises:
        InputError: nothing that can be shown.
    """
    if content.startswith(b"%PDF-"):
        return Picture(name, PDF, content, b"")
    image = _opened(name, content)
    media = MEDIA[str(image.format)]
    return Picture(name, media, content, _jpeg(name, image, SMALL_PX))


def for_page(name: str, content: bytes) -> bytes:
    """A photograph as readers get it: a JPEG of at most `PAGE_PX`, upright, without what a camera wrote into it (its place).

    Raises:
        InputError: it cannot be shown.
    """
    return _jpeg(name, _opened(name, content), PAGE_PX)


def _opened(name: str, content: bytes) -> Image.Image:
    from PIL import Image, UnidentifiedImageError

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", Image.DecompressionBombWarning)
            image = Image.open(io.BytesIO(content), formats=FORMATS)
    except UnidentifiedImageError:
        raise InputError("this is no picture that can be shown", name, f"give {WHAT}") from None
    except (OSError, ValueError, SyntaxError, Warning, Image.DecompressionBombError) as error:
        raise _unreadable(name, error) from None
    if image.width * image.height > MOST_PIXELS:
        raise InputError(f"it has {image.width} × {image.height} points", name, "save it smaller")
    return image


def _jpeg(name: str, image: Image.Image, most_px: int) -> bytes:
    from PIL import Image, ImageOps

    try:
        image.draft("RGB", (2 * most_px, 2 * most_px))  # a JPEG is unpacked no larger than it is wanted
        upright = ImageOps.exif_transpose(image)
        upright.thumbnail((most_px, most_px))
        flat = Image.new("RGB", upright.size, "white")
        clear = upright.convert("RGBA") if upright.mode in {"P", "LA", "PA", "RGBA"} else None
        flat.paste(clear or upright.convert("RGB"), mask=clear)
        made = io.BytesIO()
        flat.save(made, "JPEG", quality=QUALITY, optimize=True)
        return made.getvalue()
    except (OSError, ValueError, SyntaxError, MemoryError, Image.DecompressionBombError) as error:
        raise _unreadable(name, error) from None


def _unreadable(name: str, error: BaseException) -> InputError:
    return InputError(f"the picture cannot be read ({str(error)[:120]})", name, "open it elsewhere and save it again")
