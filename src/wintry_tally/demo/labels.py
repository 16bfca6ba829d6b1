"""Labels of the invented batteries, drawn: the demo's photographs."""

from __future__ import annotations

import io
from importlib import resources
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from PIL.ImageFont import FreeTypeFont

    from wintry_tally.demo.build import Battery

SIZE = (1000, 640)
PAPER, INK, QUIET, RULE = "#E9EEF2", "#16222E", "#4A5B6A", "#9FB0BD"


def _face(name: str, size: int) -> FreeTypeFont:
    from PIL import ImageFont

    font = resources.files("wintry_tally.desk.theme").joinpath("fonts", f"B612-{name}.otf")
    return ImageFont.truetype(io.BytesIO(font.read_bytes()), size)


def drawn_label(battery: Battery) -> bytes:
    """A battery's label as a JPEG: maker, model, what is printed on it, and that it is invented."""
    from PIL import Image, ImageDraw

    image = Image.new("RGB", SIZE, "#5B6670")
    pen = ImageDraw.Draw(image)
    pen.rounded_rectangle((60, 50, SIZE[0] - 60, SIZE[1] - 50), 18, fill=PAPER, outline=RULE, width=3)
    pen.text((110, 90), battery.maker, QUIET, _face("Regular", 40))
    pen.text((110, 140), battery.model, INK, _face("Bold", 78))
    pen.line((110, 250, SIZE[0] - 110, 250), RULE, 3)
    printed = [text for text, source in battery.claims if source == "label"]
    for number, text in enumerate(printed[:4]):
        pen.text((110, 280 + 58 * number), text, INK, _face("Regular", 44))
    pen.text((110, SIZE[1] - 110), "invented: no such battery exists", QUIET, _face("Italic", 26))
    made = io.BytesIO()
    image.save(made, "JPEG", quality=80)
    return made.getvalue()
