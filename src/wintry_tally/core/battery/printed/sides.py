"""Three lengths of a battery: "330 x 173 x 214 mm (13.0 x 6.8 x 8.4 in)"."""

from __future__ import annotations

from dataclasses import replace

from wintry_tally.core.battery.printed.line import Line
from wintry_tally.core.battery.printed.quantities import Item

LETTERS = {"l": "length", "w": "width", "b": "width", "h": "height", "d": "width"}


def sides(line: Line) -> dict[Item, str]:
    """Three lengths with x between them: length, width, height, by their letters where they carry them."""
    found: dict[Item, str] = {}
    pieces = line.pieces
    crosses = {"x", "*", *("/" for name in line.names if name.kind == "dimensions")}
    taken = 0
    for place, piece in enumerate(pieces):
        if place < taken:
            continue
        run = [piece]
        at = place + 1
        letters = [_letter(pieces, place)]
        while piece.kind == "quantity" and len(run) < 3 and at < len(pieces):
            step = at
            while (
                step < len(pieces)
                and pieces[step].kind in {"word", "sign"}
                and pieces[step].text in {"x", "*", "l", "w", "h", "d", "b", "/", ")", "("}
                and step - at < 4
            ):
                step += 1
            crossed = any(sign.text in crosses for sign in pieces[at:step])
            if step < len(pieces) and crossed and pieces[step].kind == "quantity":
                run.append(pieces[step])
                letters.append(_letter(pieces, step))
                at = step + 1
            else:
                break
        if len(run) == 3 and (run[-1].dimension == "length" or any(part.dimension == "length" for part in run)):
            unit = run[-1].unit or next(part.unit for part in run if part.unit)
            usual = ("length", "width", "height")
            taken = at
            again = bool(found)  # the same in another unit: told by its units, and left out as that
            for part, letter, default in zip(run, letters, usual, strict=True):
                kind = LETTERS.get(letter, default)
                if not part.unit:
                    place_of = pieces.index(part)
                    part = pieces[place_of] = replace(part, unit=unit)
                if not again:
                    found[part] = kind
            if again:
                break
    return found or _lettered(pieces)


def _lettered(pieces: list[Item]) -> dict[Item, str]:
    """Lengths of which each has its letter before it: "W 173 mm, H 215 mm, L 330 mm"."""
    found: dict[Item, str] = {}
    for place in range(1, len(pieces)):
        before = pieces[place - 2] if place > 1 and pieces[place - 1].text in {":", "="} else pieces[place - 1]
        if pieces[place].dimension == "length" and before.kind == "word" and before.text in LETTERS:
            found[pieces[place]] = LETTERS[before.text]
    return found if len(set(found.values())) > 1 and len(set(found.values())) == len(found) else {}


def _letter(pieces: list[Item], place: int) -> str:
    for near in (place - 1, place + 1):
        if 0 <= near < len(pieces) and pieces[near].kind == "word" and pieces[near].text in {"l", "w", "h", "d", "b"}:
            return pieces[near].text
    return ""
