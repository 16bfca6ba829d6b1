"""Draw the parentheses of the shipped typeface round: its own are square, and (5 s) reads as [5 s] at an interface's size.

    python scripts/round_parentheses.py FOLDER-OF-B612 OUT

Needs fontTools, which nothing else here does. The faces get a family name of their own, as their licence asks of what
was changed; everything but the two glyphs is as it was.
"""

from __future__ import annotations

import math
import sys
from pathlib import Path

from fontTools.misc.transform import Transform
from fontTools.pens.boundsPen import BoundsPen
from fontTools.pens.t2CharStringPen import T2CharStringPen
from fontTools.pens.transformPen import TransformPen
from fontTools.ttLib import TTFont

STEM = {"B612-Bold": 290.0}
USUAL_STEM = 190.0


def draw(pen: object, left: float, right: float, low: float, high: float, stem: float) -> None:
    """A crescent open to the right: two curves, apart by a stem at the middle and a little less at its ends."""
    middle, reach, tip = (low + high) / 2.0, (high - low) / 2.0, 0.62 * stem
    inner = left + stem
    begin, end = right - tip, right
    pen.moveTo((begin, high))
    pen.curveTo((begin - 0.62 * (begin - left), high - 0.29 * reach), (left, middle + 0.37 * reach), (left, middle))
    pen.curveTo((left, middle - 0.37 * reach), (begin - 0.62 * (begin - left), low + 0.29 * reach), (begin, low))
    pen.lineTo((end, low + 0.42 * tip))
    pen.curveTo((end - 0.6 * (end - inner), low + 0.33 * reach), (inner, middle - 0.34 * reach), (inner, middle))
    pen.curveTo(
        (inner, middle + 0.34 * reach), (end - 0.6 * (end - inner), high - 0.33 * reach), (end, high - 0.42 * tip)
    )
    pen.closePath()


def change(path: Path, out: Path) -> None:
    """One face."""
    face = TTFont(path)
    glyphs, table = face.getGlyphSet(), face["CFF "].cff.topDictIndex[0]
    stem = STEM.get(path.stem, USUAL_STEM)
    slant = math.tan(math.radians(-face["post"].italicAngle))
    for name, turned in (("parenleft", False), ("parenright", True)):
        width = glyphs[name].width
        bounds = BoundsPen(glyphs)
        glyphs[name].draw(bounds)
        x0, low, x1, high = bounds.bounds
        x0, x1 = (x0 - slant * low, x1 - slant * high) if slant else (x0, x1)
        span = min(0.46 * width, max(x1 - x0, 2.2 * stem))
        left = (width - span) / 2.0
        made = T2CharStringPen(width, glyphs)
        mirror = Transform(-1, 0, 0, 1, width, 0) if turned else Transform()
        skew = Transform(1, 0, slant, 1, -slant * (low + high) / 2.0 * 0.0, 0)
        draw(TransformPen(TransformPen(made, skew), mirror), left, left + span, low, high, stem)
        own = table.CharStrings[name]
        table.CharStrings[name] = made.getCharString(own.private, own.globalSubrs)
    for record in face["name"].names:
        if record.nameID in {1, 3, 4, 6, 16}:
            text = str(record)
            record.string = text.replace("B612", "WintryB612" if record.nameID == 6 else "Wintry B612")
    cff = face["CFF "].cff
    cff.fontNames[0] = cff.fontNames[0].replace("B612", "WintryB612")
    face.save(out / path.name)


if __name__ == "__main__":
    for face_path in sorted(Path(sys.argv[1]).glob("*.otf")):
        change(face_path, Path(sys.argv[2]))
