"""From the pieces of a printed line to its claims: names to quantities, conditions to claims, the rest to the reader."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from wintry_tally.core.battery.claims import CLAIM_KINDS, Claim, Direction
from wintry_tally.core.battery.families import FAMILIES, PACKS, pack_of
from wintry_tally.core.battery.printed.quantities import Item, dimension_of, items
from wintry_tally.core.battery.printed.sense import Sense, claim_from
from wintry_tally.core.battery.printed.vocabulary import Vocabulary, shipped, squeezed
from wintry_tally.core.errors import InputError

STOPS = frozenset({";", "|", "\t", "•", "·"})
BY_UNIT = {"charge": "capacity", "energy": "energy", "mass": "mass", "money": "price", "count": "cycles", "monthly share": "self-discharge"}  # fmt: skip
RELEASES = {"over-voltage-cut": "over-voltage-release", "low-voltage-cut": "low-voltage-release", "cold-charge-block": "cold-charge-release"}  # fmt: skip
DIMENSIONS = {
    **{key: kind.dimension for key, kind in CLAIM_KINDS.items()},
    "nominal-voltage": "voltage", "both-currents": "current", "dimensions": "length", "charging-range": "temperature",
    "heater-start": "temperature",
}  # fmt: skip
TAKES_RATE = frozenset({"charge-current", "continuous-discharge", "surge", "both-currents"})
BY_CELL = frozenset(
    {"low-voltage-cut", "low-voltage-release", "over-voltage-cut", "over-voltage-release", "charge-voltage"}
)
ALONE = "nothing here says what it is: give it its kind"
MANY = frozenset({"cycles", "surge", "both-currents", "beside", "capacity"})
"""Names that may stand before several values."""
MOST_LINES, MOST_SIGNS = 2_000, 600
"""Of a text, and of a line of it."""
SURGE_S = 120.0
BESIDE = "kept as printed; no test of this bench speaks to it"


@dataclass(frozen=True)
class Read:
    """A claim with the line (from 1) it was read from."""

    claim: Claim
    line: int


@dataclass(frozen=True)
class Left:
    """What was not understood, or no test speaks to: its line, its words, and why."""

    line: int
    text: str
    reason: str


@dataclass(frozen=True)
class Pack:
    """What the text says of the pack itself."""

    nominal_V: float | None = None
    family: str = ""
    cells: int | None = None


@dataclass(frozen=True)
class Printed:
    """Everything read out of a text."""

    claims: tuple[Read, ...]
    pack: Pack
    left: tuple[Left, ...]


@dataclass
class _Name:
    kind: str
    begin: int
    end: int
    owner: Item | None = None
    """The quantity it stands right behind, and belongs to."""


@dataclass
class _Line:
    number: int
    text: str
    pieces: list[Item]
    names: list[_Name] = field(default_factory=list)
    used: set[int] = field(default_factory=set)
    parted: list[tuple[int, int]] | None = None
    """The signs that part its claims, once they were looked for."""

    def words(self, piece: Item) -> str:
        """As it stands in the line."""
        return self.text[piece.begin : piece.end].strip()


def read_printed(text: str, source: str = "label", family: str = "", vocabulary: Vocabulary | None = None) -> Printed:
    """Every claim printed in a text: one or many on a line, a table's names and values, a sentence.

    Args:
        text: as printed; family: its key where it is known, else it is looked for in the text.

    Returns:
        claims with their line, the pack, and what is left with why. Nothing is dropped in silence.
    """
    known = vocabulary or shipped()
    printed = text.splitlines()
    lines, long = [], []
    for number, words in enumerate(printed[:MOST_LINES], 1):
        if len(words) > MOST_SIGNS:
            long.append(Left(number, words[:80] + "…", f"a line of more than {MOST_SIGNS} signs is no claim"))
        elif words.strip():
            lines.append(_Line(number, words, items(words)))
    if len(printed) > MOST_LINES:
        long.append(Left(MOST_LINES + 1, printed[MOST_LINES][:80], f"not more than {MOST_LINES} lines are read"))
    for line in lines:
        line.names = _names(line, known)
        _own_names(line)
    pack = _pack(lines, family, known)
    sense = Sense(pack.nominal_V, _capacity(lines), _cells_of(pack))
    reading = _Reading(known, pack, sense, source)
    for line in lines:
        reading.line(line)
    return Printed(tuple(_restated(reading.claims)), pack, (*reading.left, *long))


def _cells_of(pack: Pack) -> int | None:
    if pack.cells:
        return pack.cells
    if not pack.family:
        return None
    try:
        return pack_of(FAMILIES[pack.family], pack.nominal_V).cells
    except InputError:
        return None


# --- names ---


def _names(line: _Line, known: Vocabulary) -> list[_Name]:
    """Phrases of the vocabulary among its words, the longest first where they overlap."""
    found: list[_Name] = []
    place = 0
    pieces = line.pieces
    while place < len(pieces):
        if pieces[place].kind != "word":
            place += 1
            continue
        for last in range(min(len(pieces), place + known.longest), place, -1):
            run = pieces[place:last]
            if (
                any(piece.kind != "word" and piece.text not in {"/", "-", "&"} for piece in run)
                or run[-1].kind != "word"
            ):
                continue
            kind = known.named([piece.text for piece in run if piece.kind == "word"])
            if kind:
                found.append(_Name(kind, run[0].begin, run[-1].end))
                place = last - 1
                break
        place += 1
    return found


# --- the pack ---


def _pack(lines: list[_Line], family: str, known: Vocabulary) -> Pack:
    cells = next((int(piece.value) for line in lines for piece in line.pieces if piece.kind == "cells"), None)
    for line in lines:
        words = [piece for piece in line.pieces if piece.kind == "word"]
        for length in (4, 3, 2, 1):
            for start in range(len(words) - length + 1):
                key = known.families.get(squeezed("".join(piece.text for piece in words[start : start + length])))
                if key and not family:
                    family = key
        if not family and any(squeezed(line.text).find(phrase) >= 0 for phrase in ("lifepo4",)):
            family = "lfp"
    nominal = None
    for line in lines:
        volts = [
            piece for piece in line.pieces if piece.kind == "quantity" and piece.dimension == "voltage" and piece.low
        ]
        for piece in volts:
            name = _before(line, piece)
            named = name is not None and name.kind == "nominal-voltage"
            alone = (
                name is None and not _after_name(line, piece) and piece.high is None and not _is_condition(line, piece)
            )
            if (named or alone) and piece.low is not None and piece.low.values and nominal is None:
                value = piece.low.values[-1]
                if named or any(
                    abs(value - count * FAMILIES[key].cell_nominal_V) < 0.08 * value
                    for key in PACKS
                    for count in PACKS[key]
                ):
                    nominal = value
                    line.used.add(id(piece))
    return Pack(nominal, family, cells)


def _capacity(lines: list[_Line]) -> float | None:
    """The first charge printed, Ah, where it can mean one thing only."""
    for line in lines:
        for piece in line.pieces:
            if (
                piece.kind == "quantity"
                and piece.dimension == "charge"
                and piece.low is not None
                and len(piece.low.values) == 1
            ):
                return piece.low.values[0] * (1e-3 if piece.unit == "mah" else 1.0)
    return None


# --- a line ---


def _clause(line: _Line, piece: Item) -> tuple[int, int]:
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


def _parts(line: _Line, sign: Item, begin: int) -> bool:
    """Whether a sign parts two claims.

    A stop does once a quantity stands before it: in a table the name's cell belongs to the value's. A comma or a stroke
    does where a quantity stands before it, and behind it a name, or another quantity of the same dimension.
    """
    if sign.text not in STOPS and sign.text not in {",", "/"}:
        return False
    before = [
        piece
        for piece in line.pieces
        if begin <= piece.begin and piece.end <= sign.begin and piece.kind in {"quantity", "rate"}
    ]
    named = [name for name in line.names if begin <= name.begin and name.end <= sign.begin]
    if not before or (named and not any(_fits(name, piece) for name in named for piece in before)):
        return False  # only a name, or a name with its conditions: its value is still to come
    if sign.text in STOPS:
        return True
    behind = [piece for piece in line.pieces if piece.begin >= sign.end]
    first = next((piece for piece in behind if piece.kind == "quantity"), None)
    name = next((name for name in line.names if name.begin >= sign.end), None)
    if name is not None and (first is None or name.begin < first.begin):
        return True
    alike = first is not None and any(
        first.dimension == piece.dimension for piece in before if piece.kind == "quantity"
    )
    return alike and not (
        name is None and sign.text == "/" and any(item.kind == "both-currents" for item in line.names)
    )


def _before(line: _Line, piece: Item) -> _Name | None:
    """The nearest name before a piece in its clause whose dimension fits, or none."""
    begin, _ = _clause(line, piece)
    fits = [
        name
        for name in line.names
        if begin <= name.begin and name.end <= piece.begin and name.owner is None and _fits(name, piece)
    ]
    closer = [name for name in fits if name.kind != "nominal-voltage"] or fits  # "protection voltage" is no pack's
    return closer[-1] if closer else None


def _own_names(line: _Line) -> None:
    """Names that stand right behind a quantity which has none before it are that quantity's: "100 A continuous"."""
    for name in line.names:
        before = [piece for piece in line.pieces if piece.kind in {"quantity", "rate"} and piece.end <= name.begin]
        if (
            before
            and name.begin - before[-1].end <= 1
            and _fits(name, before[-1])
            and _before(line, before[-1]) is None
        ):
            name.owner = before[-1]


def _after_name(line: _Line, piece: Item) -> _Name | None:
    _, end = _clause(line, piece)
    fits = [name for name in line.names if piece.end <= name.begin < end and _fits(name, piece)]
    return fits[0] if fits else None


def _fits(name: _Name, piece: Item) -> bool:
    dimension = DIMENSIONS.get(name.kind, "")
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
        or (name.kind == "cold-loss" and piece.dimension == "share")
    )


_MARKS = frozenset({"@", "at", "for", "to", "within", "delay", "after", "down", "bei", "until"})


def _is_condition(line: _Line, piece: Item) -> bool:
    """Whether a quantity stands where conditions stand: behind @, at, to, for, in brackets, with a stroke before it."""
    place = line.pieces.index(piece)
    before = line.pieces[place - 1] if place else None
    if before is None:
        return False
    if before.kind == "sign" and before.text in {"<", "≤", "<=", "~", "≈"} and place > 1:
        before = line.pieces[place - 2]
    if before.text == "to" and place > 1 and line.pieces[place - 2].text == "up":
        return False
    return (before.kind == "word" and before.text in _MARKS) or before.text in {"@", "("}


class _Reading:
    """What has been read of a text so far, line by line."""

    def __init__(self, known: Vocabulary, pack: Pack, sense: Sense, source: str) -> None:
        self.known, self.pack, self.sense, self.source = known, pack, sense, source
        self.claims: list[Read] = []
        self.left: list[Left] = []
        self.context = ""
        """The kind of protection spoken of last: what is released is released of that."""

    def line(self, line: _Line) -> None:
        """Read a line; whatever of it is not read is told."""
        if any(name.kind != "release" for name in line.names):
            self.context = ""
        before = len(self.left)
        if _of_several(line):
            self._leave(line, line.text, BESIDE)
            return
        sides = _sides(line)
        here: list[tuple[Item, Read]] = []
        waiting: list[Item] = []
        for piece in [item for item in line.pieces if item.kind in {"quantity", "rate", "ip"}]:
            if id(piece) not in line.used:
                self._piece(line, piece, sides.get(piece, ""), here, waiting)
        for text, reason in _conditions(line, waiting, here):
            self._leave(line, text, reason)
        _yes_noes(line, here, self.source, self.known)
        self.claims += [Read(_short_is_surge(read.claim), read.line) for _, read in here]
        if not here and not line.used and len(self.left) == before:
            self._nothing(line)

    def _piece(self, line: _Line, piece: Item, kind: str, here: list[tuple[Item, Read]], waiting: list[Item]) -> None:
        if piece.kind == "ip":
            here.append((piece, Read(_yes_no("ingress", line.words(piece), self.source, True), line.number)))
            return
        kind = kind or _kind_for(line, piece, self.context)
        if kind == "both-currents":
            begins = _clause(line, piece)[0]
            nth = sum(1 for done, _ in here if done.dimension == "current" and _clause(line, done)[0] == begins)
            kind = ("charge-current", "continuous-discharge")[min(nth, 1)]
        if kind in {"", "condition"} or (kind in TAKES_RATE and _of_charger(line, piece)):
            waiting.append(piece)
            return
        line.used.add(id(piece))
        if kind == "nominal-voltage":
            nominal = self.pack.nominal_V
            if nominal is None:
                self._leave(line, _phrase(line, piece), "no pack has that nominal voltage, and nothing says what it is")
            elif piece.low is not None and nominal not in piece.low.values:
                self._leave(line, _phrase(line, piece), f"the pack's voltage is read as {nominal:g} V already")
            return
        if kind in {"beside", "heater-start"}:
            self._leave(line, _phrase(line, piece), BESIDE)
            return
        if kind == "price" and _was(line, piece):
            self._leave(line, _phrase(line, piece), "an earlier price")
            return
        made = _made(line, piece, kind, self.known, self.sense, self.source)
        if isinstance(made, str):
            self._leave(line, _phrase(line, piece), made)
            return
        here.append((piece, Read(made, line.number)))
        if kind == "charging-range" and piece.high is not None:
            self._leave(line, _phrase(line, piece), "the upper end of a charging range is no claim this bench tests")
        if made.kind in RELEASES:
            self.context = made.kind

    def _leave(self, line: _Line, text: str, reason: str) -> None:
        told = Left(line.number, text.strip(), reason)
        if told not in self.left:
            self.left.append(told)

    def _nothing(self, line: _Line) -> None:
        """A line of which nothing was read is told where a number or a claim's word stands in it."""
        quantities = any(piece.kind in {"quantity", "rate"} for piece in line.pieces)
        named = [name for name in line.names if name.kind not in {"nominal-voltage", "release"}]
        if named and all(name.kind == "beside" for name in named):
            self._leave(line, line.text, BESIDE)
        elif quantities:
            self._leave(line, line.text, ALONE)
        elif named:
            self._leave(line, line.text, "no value was found for it")


def _of_several(line: _Line) -> bool:
    """Whether a line speaks of several packs joined: its figures are none of this one's."""
    joined = any(
        (name.kind == "beside" and "series" in line.text[name.begin : name.end].lower())
        or (name.kind == "beside" and "parallel" in line.text[name.begin : name.end].lower())
        for name in line.names
    )
    return joined or (
        any(piece.kind == "grid" for piece in line.pieces) and any(piece.kind == "quantity" for piece in line.pieces)
    )


def _of_charger(line: _Line, piece: Item) -> bool:
    """Whether a current is a charger's, not the battery's: "with a 20 A charger"."""
    behind = line.text[piece.end :].lstrip().lower()
    return behind.startswith(("charger", "ladeger"))


def _was(line: _Line, piece: Item) -> bool:
    words = line.text[: piece.begin].lower().split()[-2:]
    return any(word.strip(":") in {"was", "statt", "instead", "before"} for word in words)


def _short_is_surge(claim: Claim) -> Claim:
    """A discharge current for seconds is a surge, whatever it is called."""
    seconds = claim.conditions.get("duration_s")
    return (
        replace(claim, kind="surge")
        if claim.kind == "continuous-discharge" and seconds and seconds <= SURGE_S
        else claim
    )


def _phrase(line: _Line, piece: Item) -> str:
    """The words of a clause, for whoever reads what was left."""
    begin, end = _clause(line, piece)
    return line.text[begin:end].strip(" ,;:|\t")


def _kind_for(line: _Line, piece: Item, context: str) -> str:
    """What a quantity is a claim of; "condition" where it stands as one, empty where nothing says."""
    condition = _is_condition(line, piece)
    before, after = _before(line, piece), _after_name(line, piece)
    if before is not None and before.kind not in MANY and _value_between(line, before, piece):
        if condition or after is None:
            return "condition"
        before = None
    if condition and before is None and (after is None or DIMENSIONS.get(after.kind) != piece.dimension):
        return "condition"
    name = before or after
    if name is None:
        return "condition" if piece.kind == "rate" else _by_unit(line, piece)
    if name.kind == "release":
        return (
            "cold-charge-release" if piece.dimension == "temperature" else RELEASES.get(context, "low-voltage-release")
        )
    if name.kind in {"cycles", "price"} and piece.dimension == "" and not _next_to(line, name, piece):
        return ""
    return name.kind


def _value_between(line: _Line, name: _Name, piece: Item) -> bool:
    """Whether the name has its value already, before this piece."""
    return any(
        other.kind in {"quantity", "rate"} and name.end <= other.begin < piece.begin and _fits(name, other)
        for other in line.pieces
    )


def _next_to(line: _Line, name: _Name, piece: Item) -> bool:
    """Whether only small words stand between a bare number and its name."""
    gap = line.text[min(name.end, piece.end) : max(name.begin, piece.begin)]
    return len(gap) <= 24 and not any(
        other.kind == "quantity"
        and min(name.end, piece.end) <= other.begin < max(name.begin, piece.begin)
        and other is not piece
        for other in line.pieces
    )


def _by_unit(line: _Line, piece: Item) -> str:
    """The kind that a unit alone settles."""
    if piece.dimension == "current" and "bms" in line.text.lower():
        return "continuous-discharge"
    if piece.dimension == "power" and "heat" in line.text.lower():
        return "heater-power"
    if piece.dimension == "voltage" and piece.high is None:
        return "nominal-voltage"
    return BY_UNIT.get(piece.dimension, "")


def _sides(line: _Line) -> dict[Item, str]:
    """Three lengths with x between them: length, width, height, by their letters where they carry them."""
    found: dict[Item, str] = {}
    pieces = line.pieces
    for place, piece in enumerate(pieces):
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
            crossed = any(sign.text in {"x", "*"} for sign in pieces[at:step])
            if step < len(pieces) and crossed and pieces[step].kind == "quantity":
                run.append(pieces[step])
                letters.append(_letter(pieces, step))
                at = step + 1
            else:
                break
        if len(run) == 3 and (run[-1].dimension == "length" or any(part.dimension == "length" for part in run)):
            unit = run[-1].unit or next(part.unit for part in run if part.unit)
            usual = ("length", "width", "height")
            for part, letter, default in zip(run, letters, usual, strict=True):
                kind = {"l": "length", "w": "width", "b": "width", "h": "height", "d": "width"}.get(letter, default)
                found[part] = kind
                if not part.unit:
                    place_of = pieces.index(part)
                    pieces[place_of] = replace(part, unit=unit)
                    found[pieces[place_of]] = found.pop(part)
            break
    return found


def _letter(pieces: list[Item], place: int) -> str:
    for near in (place - 1, place + 1):
        if 0 <= near < len(pieces) and pieces[near].kind == "word" and pieces[near].text in {"l", "w", "h", "d", "b"}:
            return pieces[near].text
    return ""


# --- claims and conditions ---


def _hint(line: _Line, piece: Item, known: Vocabulary) -> str:
    """What stands just before a number, or a plus just behind it: at least, at most, up to, about."""
    place = line.pieces.index(piece)
    after = line.pieces[place + 1] if place + 1 < len(line.pieces) else None
    if after is not None and after.text == "+" and after.begin <= piece.end + 1:
        return "at-least"
    before = [item.text for item in line.pieces[max(0, place - 3) : place] if item.kind in {"word", "sign"}]
    for length in (3, 2, 1):
        hint = known.hints.get(" ".join(before[-length:])) if len(before) >= length else None
        if hint:
            return hint
    return ""


def _made(line: _Line, piece: Item, kind: str, known: Vocabulary, sense: Sense, source: str) -> Claim | str:
    """The claim, or why it cannot be made."""
    text = _phrase(line, piece)
    if kind == "charging-range":
        if piece.low is None:
            return ALONE
        return claim_from(replace(piece, high=None, within=None), "cold-charge-block", "", sense, source, text)
    return claim_from(piece, kind, _hint(line, piece, known), sense, source, text)


def _yes_no(kind: str, text: str, source: str, wanted: bool) -> Claim:
    return Claim(kind, None, "", Direction.IS, 0.0, {}, source, text=text, wanted=wanted)


def _yes_noes(line: _Line, here: list[tuple[Item, Read]], source: str, known: Vocabulary) -> None:
    """Features and codes that are there or not."""
    for name in line.names:
        if name.kind not in {"feature", "ingress"} or any(
            read.claim.kind == name.kind == "ingress" for _, read in here
        ):
            continue
        before = [piece.text for piece in line.pieces if piece.kind == "word" and piece.end <= name.begin][-2:]
        wanted = not any(known.hints.get(word) == "no" for word in before)
        words = line.text[name.begin : name.end]
        stands = Item("word", words, name.begin, name.end)
        text = line.text.strip() if len(line.names) == 1 else ("" if wanted else "no ") + words
        here.append((stands, Read(_yes_no(name.kind, text, source, wanted), line.number)))


def _conditions(line: _Line, waiting: list[Item], here: list[tuple[Item, Read]]) -> list[tuple[str, str]]:
    """Give each quantity that waits to the claim it belongs to: the nearest before it in its clause, or behind.

    Returns what belongs to none, with why.
    """
    left = []
    for piece in waiting:
        begin, end = _clause(line, piece)
        near = [place for place, (item, _) in enumerate(here) if begin <= item.begin < end]
        before = [place for place in near if here[place][0].end <= piece.begin]
        behind = [place for place in near if place not in before]
        for place in [*reversed(before), *behind]:
            item, read = here[place]
            added = _condition(line, piece, read.claim)
            if added is not None:
                here[place] = (
                    item,
                    replace(read, claim=replace(read.claim, conditions={**read.claim.conditions, **added})),
                )
                break
        else:
            if not any(_same_value(piece, read.claim) for _, read in here):
                words = f"“{line.words(piece)}” belongs to nothing read here" if here else ALONE
                left.append((_phrase(line, piece), words))
        line.used.add(id(piece))
    return left


def _same_value(piece: Item, claim: Claim) -> bool:
    """Whether a quantity says a claim again in another unit: 20 lb (9.1 kg), 20 A (0.2C)."""
    if piece.kind == "rate":
        return claim.kind in TAKES_RATE
    if dimension_of(piece.unit) != CLAIM_KINDS[claim.kind].dimension or claim.value is None or piece.low is None:
        return False
    again = claim_from(replace(piece, within=None, high=None), claim.kind, "", Sense(), claim.source, claim.text)
    return (
        not isinstance(again, str)
        and again.value is not None
        and abs(again.value - claim.value) <= 0.03 * abs(claim.value) + 0.6
    )


def _restated(claims: list[Read]) -> list[Read]:
    """Without those that say an earlier one of the same line again, in another unit."""
    kept: list[Read] = []
    for read in claims:
        claim = read.claim
        again = any(
            other.line == read.line and other.claim.kind == claim.kind and claim.value is not None
            and other.claim.value is not None and other.claim.conditions == claim.conditions
            and abs(other.claim.value - claim.value) <= 0.03 * abs(claim.value) + (0.6 if claim.unit == "°C" else 0.0)
            for other in kept
        )  # fmt: skip
        if not again:
            kept.append(read)
    return kept


def _condition(line: _Line, piece: Item, claim: Claim) -> Mapping[str, float] | None:
    """A quantity as a condition of a claim; None where it can be none."""
    if piece.kind == "rate":
        return (
            {"c_rate": round(piece.value, 6)}
            if "c_rate" not in claim.conditions and claim.kind not in TAKES_RATE
            else None
        )
    if piece.low is None or not piece.low.values:
        return None
    value = (piece.high or piece.low).values[-1]
    dimension = piece.dimension
    from wintry_tally.core.quantity.units import find_unit

    unit = find_unit(piece.unit, dimension)
    kept = value * unit.factor + unit.shift if unit is not None else value
    before = [item.text for item in line.pieces if item.end <= piece.begin][-3:]
    if dimension == "duration":
        key = (
            "delay_s"
            if any(word in {"delay", "after", "delayed"} for word in before) or "delay" in line.text.lower()
            else "duration_s"
        )
        if claim.kind in {"surge", "continuous-discharge", "over-current-trip", "low-voltage-cut", "over-voltage-cut"}:
            return {
                "delay_s" if claim.kind != "surge" and claim.kind != "continuous-discharge" else key: round(kept, 3)
            }
        if claim.kind in {"capacity", "energy"}:
            return {"c_rate": round(3600.0 / kept, 6)} if kept >= 600 else None
        return (
            {"duration_s": round(kept, 3)} if claim.kind not in {"mass", "length", "width", "height", "price"} else None
        )
    if dimension == "temperature" and piece.high is not None:
        if claim.kind != "heater-time":
            return None
        ends = [
            (end.values[-1] * (unit.factor if unit else 1.0)) + (unit.shift if unit else 0.0)
            for end in (piece.low, piece.high)
        ]
        return {"from_C": round(ends[0], 3), "to_C": round(ends[1], 3)}
    if dimension == "temperature":
        return {"temperature_C": round(kept, 3)} if CLAIM_KINDS[claim.kind].dimension != "temperature" else None
    if dimension == "voltage" and CLAIM_KINDS[claim.kind].dimension != "voltage":
        return (
            {"cutoff_V": kept}
            if claim.kind in {"capacity", "energy", "reserve", "runtime", "continuous-discharge", "surge"}
            else None
        )
    if dimension == "current" and claim.kind in {"reserve", "runtime", "capacity", "energy", "charge-time"}:
        return {"device_A" if claim.kind == "runtime" else "current_A": kept}
    if dimension == "share" and claim.kind == "cycles":
        to = "to" in before or any(
            word in {"retention", "remaining", "capacity", "eol"} for word in line.text.lower()[piece.end :].split()[:3]
        )
        return {"end_share" if to else "depth": round(kept / 100.0, 4)}
    return None
