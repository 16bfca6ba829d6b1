"""Formulas as they are printed: from the plain signs of a Working to MathML, and from that to a picture (SVG).

    expression = relation of sums            y = a + b ≥ c
    sum        = products by + − ±
    product    = factors by × · / or side by side; what is divided stands over a line
    factor     = Σ, ∫, √ or a sign before a factor; else an atom with its index and power
    atom       = number with its unit | name | words | (expression) | [expression]

What cannot be read so stays words. The text itself is the alternative text of its picture.
"""

from __future__ import annotations

import re
import threading
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise
from xml.sax.saxutils import escape

SIZE = 14.0
"""The size of a picture's letters, px; whoever shows it elsewhere scales it."""

_RELATIONS, _SUMS, _PRODUCTS, _PREFIXES = "=≥≤<>≈", "+−±", "×·/", "Σ∫√−+"
_MATHS = re.compile(r"[=≥≤≈×√Σ∫]| / ")
"""Signs that no plain sentence has."""
_INDICES, _POWERS = str.maketrans("₀₁₂₃₄₅₆₇₈₉", "0123456789"), str.maketrans("⁰¹²³⁴⁵⁶⁷⁸⁹", "0123456789")
_TOKEN = re.compile(
    r"""(?P<gap>\s*)(?:
        (?P<number>\d+(?:\.\d+)?(?:\s(?:%|(?:°C|m?Ω|kg|k?Wh?|m?Ah?|m?V|min|h|s)(?![\w'’])))?|½)
      | (?P<name>[A-Za-zα-ωΔΦπη°]+(?:-[A-Za-z]+)*\d*['’]?(?:_[A-Za-z0-9]+|[₀-₉]+)?)
      | (?P<sign>[=≥≤<>≈+−±×·/√Σ∫()\[\]])
      | (?P<power>[⁰¹²³⁴-⁹]+)
    )""",
    re.VERBOSE,
)


_MARGIN = 1.0
_DRAWING = threading.Lock()
"""The library reads its face from one open file, wherever that stands: one thread at a time."""
_GAP = '<mspace width="0.2em"/>'


class _NotFormula(Exception):
    """It is a sentence, or has a sign that is not known here."""


@dataclass(frozen=True)
class Piece:
    """One part of a formula's text: its words, and how they are set where they are a relation.

    Parts:
        words: the part as it stands in the text, its alternative text.
        mathml: a `math` element; empty where the words are only words.
    """

    words: str
    mathml: str = ""


@dataclass(frozen=True)
class Picture:
    """A relation as drawn: an `svg` element in the colour of what is around it, its size in px, and how far it lies below the line."""

    svg: str
    width: float
    height: float
    below: float


def pieces(text: str) -> tuple[Piece, ...]:
    """The parts of a formula, in order: at each ; and , outside parentheses a new one, and after each "words: ".

    Words that follow each other stay one piece, as they were written.
    """
    found: list[Piece] = []
    words_from: int | None = None
    for begin, end in _parts(text):
        lead, colon, _ = text[begin:end].partition(": ")
        said = mathml(text[begin:end])
        if not said and colon and (said := mathml(text[begin + len(lead) + 2 : end])):
            words_from = begin if words_from is None else words_from
            begin += len(lead) + 2
        if not said:
            words_from = begin if words_from is None else words_from
            continue
        if words_from is not None:
            found.append(Piece(text[words_from:begin].rstrip("; ,")))
        found.append(Piece(text[begin:end], said))
        words_from = None
    if words_from is not None:
        found.append(Piece(text[words_from:].strip()))
    return tuple(found)


def _parts(text: str) -> list[tuple[int, int]]:
    """From where to where each part goes, without the space around it."""
    cuts, depth = [-1], 0
    for place, sign in enumerate(text):
        depth += (sign in "([") - (sign in ")]")
        if depth == 0 and sign in ";," and text[place + 1 : place + 2] == " ":
            cuts.append(place)
    found = []
    for before, after in pairwise((*cuts, len(text))):
        part = text[before + 1 : after]
        if part.strip():
            begin = before + 1 + len(part) - len(part.lstrip())
            found.append((begin, begin + len(part.strip())))
    return found


def mathml(text: str) -> str:
    """A relation as a MathML element; empty where the text is words."""
    if not _MATHS.search(text):
        return ""
    try:
        return f'<math display="block">{_Reader(text).whole()}</math>'
    except _NotFormula:
        return ""


@lru_cache(maxsize=512)
def picture(element: str, size: float = SIZE) -> Picture:
    """A MathML element drawn with the letters of a face for formulas, which comes with the library."""
    with _DRAWING:
        from ziamath.config import config  # takes 0.2 s: only when a formula is first seen
        from ziamath.zmath import Math

        config.math.color = "currentColor"
        config.svg2 = False
        drawn = Math(element, size=size, margin=_MARGIN)
        width, height = drawn.getsize()
        below = _MARGIN - float(drawn.getyofst())
        return Picture(drawn.svg(), float(width) + 2 * _MARGIN, float(height) + 2 * _MARGIN, below)


def formula_html(text: str) -> str:
    """A formula for a web page: words as words, relations as pictures which say their words."""
    made = []
    for piece in pieces(text):
        if not piece.mathml:
            made.append(f"<span>{escape(piece.words)}</span>")
            continue
        drawn = picture(piece.mathml)
        place = f"width:{drawn.width / SIZE:.3f}em;height:{drawn.height / SIZE:.3f}em;vertical-align:{-drawn.below / SIZE:.3f}em"
        svg = (
            re.sub(r' (?:width|height)="[^"]*"', "", drawn.svg[: drawn.svg.index(">")])
            + drawn.svg[drawn.svg.index(">") :]
        )
        said = escape(piece.words, {'"': "&quot;"})
        made.append(svg.replace("<svg ", f'<svg role="img" aria-label="{said}" style="{place}" ', 1))
    return "\n".join(made)


class _Reader:
    """Reads one relation by descent; every method gives the MathML of what it took."""

    def __init__(self, text: str) -> None:
        self.tokens: list[tuple[str, str]] = []
        self.apart: list[bool] = []
        place = 0
        while place < len(text):
            found = _TOKEN.match(text, place)
            if found is None:
                if text[place:].strip():
                    raise _NotFormula
                break
            kind = str(found.lastgroup)
            self.tokens.append((kind, found[kind]))
            self.apart.append(bool(found["gap"]))
            place = found.end()
        self.at = 0

    def whole(self) -> str:
        made = self.relation()
        if self.at < len(self.tokens):
            raise _NotFormula
        return made

    def _next(self) -> tuple[str, str]:
        return self.tokens[self.at] if self.at < len(self.tokens) else ("end", "")

    def _sign(self, signs: str) -> str:
        """The next sign, taken, where it is one of these; else nothing."""
        kind, value = self._next()
        if kind == "sign" and value in signs:
            self.at += 1
            return value
        return ""

    def relation(self) -> str:
        made = self.sum()
        while sign := self._sign(_RELATIONS):
            made += f"<mo>{escape(sign)}</mo>" + self.sum()
        return f"<mrow>{made}</mrow>"

    def sum(self) -> str:
        made = self.product()
        while sign := self._sign(_SUMS):
            made += f"<mo>{sign}</mo>" + self.product()
        return made

    def product(self) -> str:
        made, under = [self.factor()], list[str]()
        while True:
            if sign := self._sign(_PRODUCTS):
                if sign == "/":  # divided twice is divided by both
                    under.append(self.factor())
                    continue
                made, under = [_over(made, under), f"{_GAP}<mo>{sign}</mo>{_GAP}", self.factor()], []
            elif self._begins():
                gap = _GAP if self.apart[self.at] else ""
                made, under = [_over(made, under), gap, self.factor()], []
            else:
                return _over(made, under)

    def _begins(self) -> bool:
        kind, value = self._next()
        return kind in {"number", "name"} or (kind == "sign" and value in "([√Σ∫")

    def factor(self) -> str:
        sign = self._sign(_PREFIXES)
        if sign == "√":
            return f"<msqrt>{_bare(self.factor())}</msqrt>"
        if sign in {"Σ", "∫"}:
            return f'<mo largeop="false">{sign}</mo>{_GAP}{self.product()}'
        if sign:
            return f"<mo>{sign}</mo>" + self.factor()
        return self._raised(self.atom())

    def _raised(self, base: str) -> str:
        kind, value = self._next()
        if kind != "power":
            return base
        self.at += 1
        power = f"<mn>{value.translate(_POWERS)}</mn>"
        if base.startswith("<msub>"):
            return f"<msubsup>{base[len('<msub>') : -len('</msub>')]}{power}</msubsup>"
        return f"<msup>{base}{power}</msup>"

    def atom(self) -> str:
        for opens, closes in ("()", "[]"):
            if self._sign(opens):
                inside = self.relation()
                if not self._sign(closes):
                    raise _NotFormula
                return f"<mrow><mo>{opens}</mo>{inside}<mo>{closes}</mo></mrow>"
        kind, value = self._next()
        if kind not in {"number", "name"}:
            raise _NotFormula
        self.at += 1
        if kind == "name":
            return _named(value) if _symbol(value) else f"<mtext>{escape(self._words(value))}</mtext>"
        number, _, unit = value.partition(" ")
        if unit:
            return f"<mrow><mn>{number}</mn>{_GAP}<mtext>{escape(unit)}</mtext></mrow>"
        return f"<mn>{number}</mn>"

    def _words(self, first: str) -> str:
        """Words that follow each other are one: they are set with the gaps of a sentence."""
        words = [first]
        while self._next()[0] == "name" and not _symbol(self._next()[1]):
            words.append(self._next()[1])
            self.at += 1
        return " ".join(words)


def _symbol(name: str) -> bool:
    """Whether a name is a letter of a formula, and not a word."""
    stem = re.sub(r"_.*|(?<=^.)\d+$|[₀-₉]+$|['’]$", "", name)
    return "_" in name or len(stem) == 1 or (stem[0] in "Δd" and len(stem) == 2 and stem not in {"do", "da"})


def _named(name: str) -> str:
    stem, _, index = name.partition("_")
    if not index and (small := re.search(r"[₀-₉]+$|(?<=^.)\d+$", stem)):
        stem, index = stem[: small.start()], small[0].translate(_INDICES)
    prime = "<mo>′</mo>" if stem[-1] in "'’" else ""
    stem = stem.rstrip("'’")
    if len(stem) == 2 and stem[0] in "Δd":
        base = f'<mrow><mi mathvariant="normal">{stem[0]}</mi><mi>{stem[1]}</mi></mrow>'
    elif len(stem) == 1:
        base = f'<mi mathvariant="normal">{stem}</mi>' if stem in "ΦΔ" else f"<mi>{stem}</mi>"
    else:
        base = f'<mi mathvariant="normal">{stem}</mi>'
    if prime:
        base = f"<msup>{base}{prime}</msup>"
    if not index:
        return base
    short = f"<mi>{index}</mi>" if len(index) == 1 and index.isalpha() else f"<mtext>{escape(index)}</mtext>"
    return f"<msub>{base}{short}</msub>"


def _over(made: list[str], under: list[str]) -> str:
    """A product, over a line where it is divided."""
    above = "".join(made)
    if not under:
        return above
    times = f"{_GAP}<mo>×</mo>{_GAP}"
    below = _bare(under[0]) if len(under) == 1 else f"<mrow>{times.join(under)}</mrow>"
    return f"<mfrac>{_bare(above)}{below}</mfrac>"


_PARENTHESES = re.compile(r"<mrow><mo>\(</mo>(?P<inside>.*)<mo>\)</mo></mrow>")


def _bare(element: str) -> str:
    """Without its parentheses, where they enclose all of it: a line or a root holds it together."""
    whole = _PARENTHESES.fullmatch(element)
    if whole is None:
        return f"<mrow>{element}</mrow>"
    depth = 1
    for sign in re.finditer(r"<mo>([()])</mo>", whole["inside"]):
        depth += 1 if sign[1] == "(" else -1
        if depth == 0:
            return f"<mrow>{element}</mrow>"
    return f"<mrow>{whole['inside']}</mrow>"
