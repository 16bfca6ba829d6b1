"""From the pieces of a printed line to its claims: names to quantities, conditions to claims, the rest to the reader."""

from __future__ import annotations

import re
from dataclasses import replace
from functools import cache

from wintry_tally.core.battery.claims import Claim, Direction
from wintry_tally.core.battery.printed.again import restated
from wintry_tally.core.battery.printed.beside import (
    current_beside,
    degrees_for_rates,
    goes_on,
    minutes_of_reserve,
    months_beside,
    of_the_test,
    second_in_row,
    units_of_two,
    volts_of_a_cell,
)
from wintry_tally.core.battery.printed.commas import parted
from wintry_tally.core.battery.printed.conditions import ALONE, give_conditions
from wintry_tally.core.battery.printed.found import BESIDE, Left, Pack, Printed, Read
from wintry_tally.core.battery.printed.line import TAKES_RATE, Line, clause_of, names_in, own_names, phrase_of, words_of
from wintry_tally.core.battery.printed.meaning import HOT, PAIRS, RELEASES, kind_for
from wintry_tally.core.battery.printed.pack import capacity_in, cells_of, is_nominal, pack_in
from wintry_tally.core.battery.printed.quantities import Item, items
from wintry_tally.core.battery.printed.sense import UNKNOWN, Sense, claim_from
from wintry_tally.core.battery.printed.sides import sides
from wintry_tally.core.battery.printed.vocabulary import Vocabulary, shipped

MOST_LINES, MOST_SIGNS = 2_000, 600
"""Of a text, and of a line of it."""
SURGE_S = 120.0
JOINED = re.compile(r"\b(?:up to|max|maximum|supports?|expandable|expands?)\b", re.IGNORECASE)
"""Words by which “4S4P” speaks of packs joined, and not of the cells within one."""
SECOND = (
    "a second value in its row: another pack's, or the other end of a range; write it by itself if it is this one's"
)


def read_printed(
    text: str, source: str = "label", family: str = "", vocabulary: Vocabulary | None = None, known_of: Sense = UNKNOWN
) -> Printed:
    """Every claim printed in a text: one or many on a line, a table's names and values, a sentence.

    Args:
        text: as printed; family: its key where it is known, else it is looked for in the text; known_of: what is known of
            the battery besides, for what the text does not say itself.

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
            lines.append(_line(number, words, known))
    if len(printed) > MOST_LINES:
        long.append(Left(MOST_LINES + 1, printed[MOST_LINES][:80], f"not more than {MOST_LINES} lines are read"))
    pack = pack_in(lines, family, known)
    nominal_V = pack.nominal_V or known_of.nominal_V
    cells = cells_of(replace(pack, nominal_V=nominal_V)) or known_of.cells
    sense = Sense(nominal_V, capacity_in(lines) or known_of.capacity_Ah, cells, known_of.currency, known_of.chosen)
    reading = _Reading(known, pack, sense, source)
    for line in lines:
        reading.line(_parted(line, known, pack, sense))
    return Printed(tuple(restated(reading.claims, lines)), pack, (*reading.left, *long))


# --- a line ---


def _line(number: int, words: str, known: Vocabulary) -> Line:
    line = Line(number, words, items(words), known)
    line.names = names_in(line)
    of_the_test(line)
    minutes_of_reserve(line)
    volts_of_a_cell(line)
    degrees_for_rates(line)
    units_of_two(line)
    own_names(line)
    return line


def _parted(line: Line, known: Vocabulary, pack: Pack, sense: Sense) -> Line:
    """With a stop for each comma between two parts that are whole by themselves."""
    said = sum(piece.kind in {"quantity", "rate", "ip"} for piece in line.pieces)
    if said + sum(name.kind == "feature" for name in line.names) < 2 or _of_several(line):
        return line

    @cache
    def whole(words: str) -> bool:
        reading = _Reading(known, pack, sense, "")
        reading.line(_line(line.number, words, known))
        # "discharge at 20 A" says how what stands before it was tested, but for "discharge at 20 A gives 98 Ah"
        tested = known.words["tested"].match(words.lstrip())
        first = min(reading.claims, key=lambda read: read.begin, default=None)
        gives = first is not None and first.claim.kind in {"capacity", "energy"}
        return bool(reading.claims) and not reading.left and (not tested or gives)

    text = parted(line.text, whole)
    return line if text == line.text else _line(line.number, text, known)


def _read(line: Line, piece: Item, claim: Claim) -> Read:
    begin, end = clause_of(line, piece)
    text = line.text[begin:end]
    begin += len(text) - len(text.lstrip(" ,;:|\t"))
    return Read(claim, line.number, begin, begin + len(text.strip(" ,;:|\t")))


class _Reading:
    """What has been read of a text so far, line by line."""

    def __init__(self, known: Vocabulary, pack: Pack, sense: Sense, source: str) -> None:
        self.known, self.pack, self.sense, self.source = known, pack, sense, source
        self.claims: list[Read] = []
        self.left: list[Left] = []
        self.context = ""
        """The kind of protection spoken of last: what is released is released of that."""

    def line(self, line: Line) -> None:
        """Read a line; whatever of it is not read is told."""
        if any(name.kind != "release" for name in line.names):
            self.context = ""
        before = len(self.left)
        if _of_several(line):
            self._leave(line, line.text, BESIDE)
            return
        of_sides = sides(line)
        here: list[tuple[Item, Read]] = []
        waiting: list[Item] = []
        for piece in [item for item in line.pieces if item.kind in {"quantity", "rate", "ip"}]:
            if id(piece) not in line.used:
                self._piece(line, piece, of_sides.get(piece, ""), here, waiting)
        for piece, text, reason in give_conditions(line, waiting, here, self.sense):
            self._leave(line, text, reason, piece)
        _yes_noes(line, here, self.source, self.known)
        self.claims += [replace(read, claim=_short_is_surge(read.claim)) for _, read in here]
        if not here and not line.used and len(self.left) == before:
            self._nothing(line)

    def _piece(self, line: Line, piece: Item, kind: str, here: list[tuple[Item, Read]], waiting: list[Item]) -> None:
        if piece.kind == "ip":
            here.append((piece, _read(line, piece, _yes_no("ingress", line.words(piece), self.source, True))))
            return
        kind = kind or goes_on(line, piece, here) or kind_for(line, piece, self.context)
        if kind in PAIRS:
            begins = clause_of(line, piece)[0]
            own = [one for one in line.pieces if one.dimension == "current" and clause_of(line, one)[0] == begins]
            nth = sum(any(done is one for done, _ in here) for one in own)
            if len(own) == 1 and not nth and kind == "both-currents":  # one figure for both
                self._piece(line, piece, PAIRS[kind][1], here, waiting)
            kind = PAIRS[kind][min(nth, 1)]
        if kind in {"", "condition"} or (kind in TAKES_RATE and _of_charger(line, piece)):
            waiting.append(piece)
            return
        line.used.add(id(piece))
        if second_in_row(line, piece, [item for item, read in here if read.claim.kind == kind]):
            self._leave(line, line.words(piece), SECOND, piece)
            return
        if kind == "nominal-voltage":
            nominal = self.pack.nominal_V
            if nominal is None:
                self._leave(
                    line, phrase_of(line, piece), "no pack has that nominal voltage, and nothing says what it is", piece
                )
            elif piece.low is not None and not any(is_nominal(value) for value in piece.low.values):
                self._leave(line, phrase_of(line, piece), ALONE, piece)
            elif piece.low is not None and nominal not in piece.low.values:
                self._leave(line, phrase_of(line, piece), f"the pack's voltage is read as {nominal:g} V already", piece)
            return
        if kind == "dimensions":
            self._leave(line, phrase_of(line, piece), "one length alone is neither length, width nor height", piece)
            return
        if kind in {"beside", "code", "heater-start"}:
            self._leave(line, _own_words(line, piece, here), BESIDE, piece)
            return
        if kind == "price" and _was(line, piece):
            self._leave(line, phrase_of(line, piece), "an earlier price", piece)
            return
        again = current_beside(line, piece) if piece.kind == "rate" and kind in TAKES_RATE else None
        if again is not None and any(item is again for item, _ in here):
            return  # "20 A (0.2C)"
        if again is not None:  # "1C (100 A)"
            self._piece(line, again, kind, here, waiting)
            return
        made = _made(line, piece, kind, self.known, self.sense, self.source)
        if isinstance(made, str):
            self._leave(line, _own_words(line, piece, here), made, piece)
            return
        here.append((piece, _read(line, piece, made)))
        if kind == "charging-range" and piece.high is not None:
            self._leave(
                line, phrase_of(line, piece), "the upper end of a charging range is no claim this bench tests", piece
            )
        if made.kind in RELEASES or made.kind == HOT:
            self.context = made.kind

    def _leave(self, line: Line, text: str, reason: str, piece: Item | None = None) -> None:
        begin = max(0, line.text.find(text.strip()))
        begin, end = (begin, begin + len(text.strip())) if piece is None else (piece.begin, piece.end)
        told = Left(line.number, text.strip(), reason, begin, end, reason is BESIDE)
        if not any((one.line, one.text, one.reason) == (told.line, told.text, told.reason) for one in self.left):
            self.left.append(told)

    def _nothing(self, line: Line) -> None:
        """A line of which nothing was read is told where a number or a claim's word stands in it."""
        quantities = any(piece.kind in {"quantity", "rate"} for piece in line.pieces)
        named = [name for name in line.names if name.kind not in {"nominal-voltage", "release"}]
        if (
            (named and all(name.kind == "beside" for name in named))
            or (any(piece.kind == "grid" for piece in line.pieces) and JOINED.search(line.text))
            or any(piece.dimension == "power" for piece in line.pieces)
        ):
            self._leave(line, line.text, BESIDE)
        elif quantities:
            self._leave(line, line.text, ALONE)
        elif named:
            self._leave(line, line.text, "no value was found for it")


def _own_words(line: Line, piece: Item, here: list[tuple[Item, Read]]) -> str:
    """What is told of a piece that is left: its clause, or its own words where something else of the clause was read."""
    begins, ends = clause_of(line, piece)
    alone = not any(begins <= item.begin < ends for item, _ in here)
    return phrase_of(line, piece) if alone else words_of(line, piece)


def _of_several(line: Line) -> bool:
    """Whether a line speaks of several packs joined: its figures are none of this one's."""
    joined = any(
        (name.kind == "beside" and "series" in line.text[name.begin : name.end].lower())
        or (name.kind == "beside" and "parallel" in line.text[name.begin : name.end].lower())
        for name in line.names
    )
    return joined or (
        any(piece.kind == "grid" for piece in line.pieces) and any(piece.kind == "quantity" for piece in line.pieces)
    )


def _of_charger(line: Line, piece: Item) -> bool:
    """Whether a current is a charger's, not the battery's: "with a 20 A charger"."""
    return line.known.words["charger"].match(line.text[piece.end :].lstrip()) is not None


def _was(line: Line, piece: Item) -> bool:
    return line.known.words["was"].search(" ".join(line.text[: piece.begin].split()[-2:])) is not None


def _short_is_surge(claim: Claim) -> Claim:
    """A discharge current for seconds is a surge, whatever it is called."""
    seconds = claim.conditions.get("duration_s")
    return (
        replace(claim, kind="surge")
        if claim.kind == "continuous-discharge" and seconds and seconds <= SURGE_S
        else claim
    )


def _hint(line: Line, piece: Item, known: Vocabulary) -> str:
    """What stands just before a number, or a plus just behind it: at least, at most, up to, about."""
    place = line.pieces.index(piece)
    after = line.pieces[place + 1] if place + 1 < len(line.pieces) else None
    if "+" in piece.text[1:] or (after is not None and after.text == "+" and after.begin <= piece.end + 1):
        return "at-least"
    before = [item.text for item in line.pieces[max(0, place - 3) : place] if item.kind in {"word", "sign"}]
    for length in (3, 2, 1):
        hint = known.hints.get(" ".join(before[-length:])) if len(before) >= length else None
        if hint:
            return hint
    return ""


def _made(line: Line, piece: Item, kind: str, known: Vocabulary, sense: Sense, source: str) -> Claim | str:
    """The claim, or why it cannot be made."""
    text = phrase_of(line, piece)
    if kind == "cold-kept":  # what is left is said, and what is lost is claimed
        if piece.low is None or piece.high is not None or not piece.low.values:
            return ALONE
        shares = piece.low.values  # "-20 % at -20 °C" says what is lost
        lost = replace(piece.low, values=tuple(-share if share < 0.0 else 100.0 - share for share in shares))
        return claim_from(replace(piece, low=lost), "cold-loss", "", sense, source, text)
    if kind in {"months-kept", "months-lost"}:
        months = months_beside(line, piece)
        if piece.low is None or piece.high is not None or not piece.low.values or not months:
            return ALONE
        shares = tuple(100.0 - value if kind == "months-kept" else value for value in piece.low.values)
        a_month = replace(piece.low, values=tuple(share / months for share in shares))
        return claim_from(replace(piece, low=a_month, unit="%/month"), "self-discharge", "", sense, source, text)
    if kind == "charging-range":
        if piece.low is None:
            return ALONE
        return claim_from(replace(piece, high=None, within=None), "cold-charge-block", "", sense, source, text)
    return claim_from(piece, kind, _hint(line, piece, known), sense, source, text)


def _yes_no(kind: str, text: str, source: str, wanted: bool) -> Claim:
    return Claim(kind, None, "", Direction.IS, 0.0, {}, source, text=text, wanted=wanted)


def _yes_noes(line: Line, here: list[tuple[Item, Read]], source: str, known: Vocabulary) -> None:
    """Features and codes that are there or not."""
    for name in line.names:
        if name.kind not in {"feature", "ingress"} or any(
            read.claim.kind == name.kind == "ingress" for _, read in here
        ):
            continue
        words = line.text[name.begin : name.end]
        stands = Item("word", words, name.begin, name.end)
        begin = clause_of(line, stands)[0]
        own = [piece for piece in line.pieces if begin <= piece.begin and piece.end <= name.begin]
        before = [piece.text for piece in own if piece.kind == "word"][-2:]
        wanted = not any(known.hints.get(word) == "no" for word in before)
        if words.lower() == "handles" and any(name.end <= item.begin < clause_of(line, stands)[1] for item, _ in here):
            continue  # it handles a current
        text = line.text.strip() if len(line.names) == 1 else ("" if wanted else "no ") + words
        here.append((stands, Read(_yes_no(name.kind, text, source, wanted), line.number, name.begin, name.end)))
