"""A printed line: its pieces, the names among them, the clauses it falls into, and which name a piece stands by."""

from __future__ import annotations

from dataclasses import dataclass, field

from wintry_tally.core.battery.claims import CLAIM_KINDS
from wintry_tally.core.battery.printed.quantities import Item
from wintry_tally.core.battery.printed.vocabulary import Vocabulary

STOPS = frozenset({";", "|", "\t", "•", "·"})
DIMENSIONS = {
    **{key: kind.dimension for key, kind in CLAIM_KINDS.items()},
    "nominal-voltage": "voltage", "both-currents": "current", "continuous-and-surge": "current", "dimensions": "length", "charging-range": "temperature",
    "heater-start": "temperature", "charging": "", "code": "", "kept": "share", "lost": "share", "charging-stops": "", "discharge-stops": "",
}  # fmt: skip
"""What each name's value measures."""
TAKES_RATE = frozenset({"charge-current", "continuous-discharge", "surge", "both-currents", "continuous-and-surge"})
BY_CELL = frozenset(
    {"low-voltage-cut", "low-voltage-release", "over-voltage-cut", "over-voltage-release", "charge-voltage"}
)


NEAR = 12
"""A value so many signs behind a name is the name's own."""


@dataclass
class Name:
    kind: str
    begin: int
    end: int
    owner: Item | None = None
    """The quantity it stands right behind, and belongs to."""


@dataclass
class Line:
    number: int
    text: str
    pieces: list[Item]
    known: Vocabulary
    names: list[Name] = field(default_factory=list)
    used: set[int] = field(default_factory=set)
    parted: list[tuple[int, int]] | None = None
    """The signs that part its claims, once they were looked for."""

    def says(self, what: str, begin: int = 0, end: int | None = None) -> bool:
        """Whether its words, from one place to another, say something that the vocabulary has words for."""
        return self.known.words[what].search(self.text[begin:end]) is not None

    def words(self, piece: Item) -> str:
        """As it stands in the line."""
        return self.text[piece.begin : piece.end].strip()


def names_in(line: Line) -> list[Name]:
    """Phrases of the vocabulary among its words, the longest first where they overlap."""
    found: list[Name] = []
    place = 0
    pieces = line.pieces
    while place < len(pieces):
        if pieces[place].kind != "word":
            place += 1
            continue
        for last in range(min(len(pieces), place + line.known.longest), place, -1):
            run = pieces[place:last]
            if (
                any(piece.kind != "word" and piece.text not in {"/", "-", "&"} for piece in run)
                or run[-1].kind != "word"
            ):
                continue
            kind = line.known.named([piece.text for piece in run if piece.kind == "word"])
            if kind:
                found.append(Name(kind, run[0].begin, run[-1].end))
                place = last - 1
                break
        place += 1
    for name in found:
        plain = line.text[name.begin : name.end].lower() in {"discharge", "discharging"}
        if name.kind == "continuous-discharge" and plain and _of_degrees(line, name):
            name.kind = "beside"  # "discharge −20 … +60 °C, charge 0 … 50 °C": where it may be used
    # "BMS: 100 A" is what it carries; beside another name it is only whose that is
    return [name for name in found if len(found) == 1 or line.text[name.begin : name.end].lower() != "bms"]


def _of_degrees(line: Line, name: Name) -> bool:
    """Whether the first figure behind a name is a range of degrees."""
    first = next(
        (piece for piece in line.pieces if piece.begin >= name.end and piece.kind in {"quantity", "rate"}), None
    )
    return first is not None and first.dimension == "temperature" and first.high is not None


def clause_of(line: Line, piece: Item) -> tuple[int, int]:
    """Where the clause of a piece begins and ends: between signs that part two claims."""
    if line.parted is None:
        line.parted, begin = [], 0
        for sign in line.pieces:
            if sign.kind == "sign" and _parts(line, sign, begin):
                line.parted.append((sign.begin, sign.end))
                begin = sign.end
    begin = max((end for _, end in line.parted if end <= piece.begin), default=0)
    end = min((start for start, _ in line.parted if start >= piece.end), default=len(line.text) + 1)
    return begin, end


def _parts(line: Line, sign: Item, begin: int) -> bool:
    """Whether a sign parts two claims.

    A stop does once a quantity stands before it: in a table the name's cell belongs to the value's. A comma or a stroke
    does where a quantity stands before it, and behind it a name, or another quantity of the same dimension.
    """
    if sign.text not in STOPS and sign.text not in {",", "/"}:
        return False
    before = [
        piece
        for piece in line.pieces
        if begin <= piece.begin and piece.end <= sign.begin and piece.kind in {"quantity", "rate", "ip"}
    ]
    named = [name for name in line.names if begin <= name.begin and name.end <= sign.begin]
    first = next((piece for piece in line.pieces if piece.begin >= sign.end and piece.kind == "quantity"), None)
    if sign.text == ";" and any(name.kind in {"feature", "ingress"} for name in named):
        return True  # there or not: it needs no value
    if sign.text == "," and first is not None and first.dimension == "share":
        return any(piece.dimension == "share" for piece in before)  # each of its own degrees or months
    if sign.text == ";" and before and line.text[: sign.begin].count("(") <= line.text[: sign.begin].count(")"):
        return True  # whatever it was of: a stop in a sentence parts, and one in a table's bracket does not
    name = next((name for name in line.names if name.begin >= sign.end), None)
    led = name is not None and (first is None or name.begin < first.begin)
    if not before:
        return False
    if named and not any(fits(name, piece) for name in named for piece in before):
        counted = any(piece.dimension == "count" for piece in before)
        # only a name with its conditions: its value is still to come, if no other name does first
        return sign.text in STOPS and (led or counted)
    if sign.text in STOPS or led:
        return True
    alike = first is not None and any(
        first.dimension == piece.dimension for piece in before if piece.kind == "quantity"
    )
    of_two = sign.text == "/" and any(item.kind in {"both-currents", "continuous-and-surge"} for item in named)
    return alike and not of_two


def name_before(line: Line, piece: Item) -> Name | None:
    """The nearest name before a piece in its clause whose dimension fits, or none."""
    begin, _ = clause_of(line, piece)
    found = [
        name
        for name in line.names
        if begin <= name.begin and name.end <= piece.begin and name.owner is None and fits(name, piece)
    ]
    closer = [name for name in found if name.kind != "nominal-voltage"] or found  # "protection voltage" is no pack's
    if len(closer) > 1 and closer[-1].kind == "beside" and _terminals(line, closer[-1]):
        return closer[-2]  # "height incl. terminals"
    return closer[-1] if closer else None


def _terminals(line: Line, name: Name) -> bool:
    return line.text[name.begin : name.end].lower().startswith("terminal")


def own_names(line: Line) -> None:
    """Names that stand right behind a quantity which has none before it are that quantity's: "100 A continuous"."""
    for name in line.names:
        before = [piece for piece in line.pieces if piece.kind in {"quantity", "rate"} and piece.end <= name.begin]
        if (
            before
            and line.text[before[-1].end : name.begin].strip() in {"", "("}
            and name.begin - before[-1].end <= 2
            and fits(name, before[-1])
            and name_before(line, before[-1]) is None
        ):
            name.owner = before[-1]


def name_behind(line: Line, piece: Item) -> Name | None:
    """The nearest name behind a piece in its clause whose dimension fits and that is nobody else's, or none."""
    _, end = clause_of(line, piece)
    found = [
        name
        for name in line.names
        if piece.end <= name.begin < end and fits(name, piece) and not _of_another(line, name, piece, end)
    ]
    return found[0] if found else None


def _of_another(line: Line, name: Name, piece: Item, end: int) -> bool:
    """Whether a name belongs to the value right behind it, other figures standing between it and this piece.

    "12.8 V 100 Ah low voltage cut 10 V": the cut is of 10 V, and the pack of 12.8 V.
    """
    if name.owner is not None:
        return name.owner is not piece
    own = next((one for one in line.pieces if name.end <= one.begin < end and one.kind in {"quantity", "rate"}), None)
    if own is None or not fits(name, own):
        return False
    apart = {"quantity", "rate", *(("word",) if piece.dimension in {"voltage", "temperature"} else ())}
    between = (one for one in line.pieces if piece.end <= one.begin and one.end <= name.begin)
    return own.begin - name.end <= NEAR and any(one.kind in apart for one in between)


STOPPING = {
    "charging-stops": {
        "voltage": "over-voltage-cut",
        "voltage per cell": "over-voltage-cut",
        "temperature": "cold-charge-block",
    },
    "discharge-stops": {
        "voltage": "low-voltage-cut",
        "voltage per cell": "low-voltage-cut",
        "temperature": "high-temperature-cut",
    },
}
"""What a stop claims, by what its value measures."""
CHARGING = {"voltage": "charge-voltage", "current": "charge-current", "duration": "charge-time"}
"""What "charge" claims, by what its value measures."""


def fits(name: Name, piece: Item) -> bool:
    dimension = DIMENSIONS.get(name.kind, "")
    if name.kind == "charging":
        ranged = piece.dimension == "temperature" and piece.high is not None
        return piece.kind == "rate" or piece.dimension in CHARGING or ranged
    if name.kind in STOPPING:
        return piece.dimension in STOPPING[name.kind]
    if piece.kind == "rate":
        return name.kind in TAKES_RATE
    if name.kind == "release":
        return piece.dimension in {"voltage", "temperature", "voltage per cell"}
    if name.kind in BY_CELL and piece.dimension == "voltage per cell":
        return True
    if name.kind in TAKES_RATE and piece.unit == "°C" and piece.text.lower().endswith("c") and "°" not in piece.text:
        return False
    if name.kind in {"cycles", "price"} and piece.dimension == "" and piece.kind == "quantity":
        return True
    return (
        name.kind == "beside"
        or piece.dimension == dimension
        or (name.kind in {"self-discharge", "lost"} and piece.dimension in {"share", "yearly share"})
        or (name.kind == "cold-loss" and piece.dimension == "share")
    )


_MARKS = frozenset({"@", "at", "for", "to", "within", "with", "delay", "after", "down", "bei", "mit", "until"})


def stands_as_condition(line: Line, piece: Item) -> bool:
    """Whether a quantity stands where conditions stand: behind @, at, to, for, in brackets, with a stroke before it."""
    place = line.pieces.index(piece)
    before = line.pieces[place - 1] if place else None
    if before is None:
        return False
    if before.kind == "sign" and before.text in {"<", "≤", "<=", "~", "≈"} and place > 1:
        before = line.pieces[place - 2]
    if before.text in {"and", "or", "und", "oder", "&"} and place > 1:
        listed = line.pieces[place - 2]
        return listed.dimension == piece.dimension and listed.kind == "quantity" and stands_as_condition(line, listed)
    if before.text == "to" and place > 1 and line.pieces[place - 2].text == "up":
        return False
    return (before.kind == "word" and before.text in _MARKS) or before.text in {"@", "("}


def phrase_of(line: Line, piece: Item) -> str:
    """The words of a clause, for whoever reads what was left."""
    begin, end = clause_of(line, piece)
    return line.text[begin:end].strip(" ,;:|\t")


def words_of(line: Line, piece: Item) -> str:
    """A quantity with the words that are its own, of a clause in which others stand: from the one before it to the next."""
    begin, end = clause_of(line, piece)
    others = [one for one in line.pieces if one.kind in {"quantity", "rate"} and one is not piece]
    begin = max([begin, *(one.end for one in others if one.end <= piece.begin)])
    end = min([end, *(one.begin for one in others if one.begin >= piece.end)])
    # a bracket that was opened before, or is closed behind, is another's
    return line.text[begin:end].lstrip(" ,;:|\t)").rstrip(" ,;:|\t(")


def value_between(line: Line, name: Name, piece: Item) -> bool:
    """Whether the name has its value already, before this piece."""
    return any(
        other.kind in {"quantity", "rate"}
        and name.end <= other.begin < piece.begin
        and fits(name, other)
        and (name.kind != "charging" or other.dimension == piece.dimension)
        for other in line.pieces
    )
