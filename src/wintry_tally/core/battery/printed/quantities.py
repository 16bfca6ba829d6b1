"""Printed text as quantities and words: numbers with what they could mean, ranges, tolerances, units, where they stand."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from functools import lru_cache

from wintry_tally.core.quantity.units import CURRENCIES, find_unit

_FRACTIONS = {"½": " 1/2", "¼": " 1/4", "¾": " 3/4", "⅛": " 1/8", "⅜": " 3/8", "⅝": " 5/8", "⅞": " 7/8"}
_SAME = str.maketrans({"“": '"', "”": '"', "″": '"', "’": "'", "‘": "'", "–": "-", "—": "-", "−": "-", "×": "x", "✕": "x", "\u00a0": " ", "\u202f": " ", "℃": "°C", "º": "°", "（": "(", "）": ")", "：": ":", "，": ","})  # fmt: skip
_UNITS = (
    r"v/cell|v per cell|vpc|volts? per cell|(?:%|percent|per cent|prozent)\s?(?:/|per|a|each|pro|par|al)\s?(?:month|monat|mois|mes)|percent|per cent|prozent|% monthly|%\s?(?:/|per|a)\s?year|%\s?/\s?mo\b|%\s?dod|%"
    r"|amp[ -]?hours?|amperes?[ -]?hours?|watt[ -]?hours?|kwh|mwh|wh|mah|ah|vdc|v dc|volts?|mv|kv|v|amperes?|amps?|ma|ka|a"
    r"|kilowatts?|watts?|kw|mw|w|milliohms?|mohms?|mω|ohms?|ω|°\s?[cf]|deg\s?[cf]|degrees? (?:celsius|fahrenheit|[cf])"
    r"|kilograms?|kilos?|kgs?|grams?|g|lbs?\.?|pounds?|oz|ounces?|mm|cm|inches|inch|in\.?|\"|'|m"
    r"|hours?|hrs?\.?|h|minutes?|mins?|min\.|months?|mos?\.|monate|years?|yrs?\.?|jahre?n?|ans|days?|weeks?|seconds?|secs?|ms|s"
    r"|cycles|zyklen|cycle|times|€|\$|£|eur|usd|gbp|chf|nok|sek|dkk|pln|czk|cad|aud|nzd|jpy|inr|cny|c(?![/\d])|f"
)
_NUMBER = r"\d{1,3}(?:[ ']\d{3})+[.,]\d{2}(?!\d)|\d{1,3}(?:[ ']\d{3})+(?![\d,.])|\d+(?:[.,]\d+)*"
SPELLED = {
    "an": 1, "one": 1, "two": 2, "three": 3, "four": 4, "five": 5, "six": 6, "seven": 7, "eight": 8, "nine": 9, "ten": 10, "twelve": 12,
    "fifteen": 15, "twenty": 20, "thirty": 30, "forty": 40, "sixty": 60, "ninety": 90,
}  # fmt: skip
"""Numbers as words, where a time's unit stands behind them."""
_TOKEN = re.compile(
    rf"(?P<mixed>\d+[ -]\d+/\d+|\d+/(?:2|4|8|16|32)(?!\d))|(?P<c_over>\bc\s*/\s*(?P<over>\d+(?:\.\d+)?))"
    rf"|(?P<c_hours>\bc(?P<hours>\d{{1,3}})\b)|(?P<hour_rate>(?P<rate>\d{{1,3}})\s*-?\s*(?:hr|hour|h)s?[ -]?rate\b|(?P<rate2>\d{{1,3}})\s?hr\b(?=\s*[)\]]))"
    rf"|(?P<chemistry>\bli\s?fe\s?po\s?4\b)"
    rf"|(?P<ip>\bip\s?\d[\dx]k?\b)|(?P<grid>\b\d+(?-i:P)\d+(?-i:S)\b|\b\d+(?-i:S)\s?\d+(?-i:P)\b)|(?P<code>\b[^\W\d_]{{2,}}-?\d+(?:-?\w+)*\b|\b[^\W\d_]\w*-\d{{3,}}\w*\b)"
    rf"|(?P<series>\b(?P<cells>\d{{1,2}})(?-i:S)(?:\d+p)?\b)"
    rf"|(?P<money>[€$£])(?=\s*\d)|(?P<number>{_NUMBER})"
    rf"|(?P<spelled>\b(?:{'|'.join(SPELLED)})\b(?=[ -](?:hours?|hrs?|minutes?|mins?|seconds?|days?|weeks?|months?|years?)\b))|(?P<arrow>->|→)|(?P<pm>±|\+\s?/\s?-|\+-)|(?P<word>[^\W\d_]+(?:[-'][^\W\d_]+)*)|(?P<sign>≥|≤|>=|<=|[<>~≈=@:;,|/()\[\]x*•·\t+-]|\.\.+|…)",
    re.IGNORECASE,
)
_UNIT = re.compile(rf"\+?\s?-?(?P<unit>{_UNITS})(?![a-z°])", re.IGNORECASE)


@dataclass(frozen=True)
class Number:
    """What a printed number could be: one value, or two where a mark of three digits may group or part."""

    values: tuple[float, ...]
    text: str


@dataclass(frozen=True)
class Item:
    """A piece of a line: a word, a sign, or a quantity.

    Parts:
        kind: "word", "sign", "quantity", "rate" (a rate of hours or C), "ip", "cells".
        low, high: of a quantity; `high` is None but for a range. unit: as written, "" for none.
        within: a printed tolerance and its own unit.
        begin, end: where it stands in the line.
    """

    kind: str
    text: str
    begin: int
    end: int
    low: Number | None = None
    high: Number | None = None
    unit: str = ""
    within: tuple[Number, str] | None = None
    value: float = 0.0

    @property
    def dimension(self) -> str:
        """What its unit measures; empty for none."""
        return dimension_of(self.unit)


def plain(line: str) -> str:
    """The line with signs that mean the same written alike; as long as before but for fractions."""
    return "".join(_written(line)).translate(_SAME)


def _written(line: str) -> list[str]:
    """Each of its signs, a fraction's written out: apart from a number right before it."""
    before = "", *line
    return [
        _FRACTIONS[sign].lstrip() if sign in _FRACTIONS and was.isspace() else _FRACTIONS.get(sign, sign)
        for was, sign in zip(before, line, strict=False)
    ]


def unit_name(unit: str) -> str:
    """A printed unit in one spelling."""
    name = re.sub(r"[\s-]+", " ", unit.strip().lower()).rstrip(".")
    if re.fullmatch(r"v/cell|v per cell|vpc|volts? per cell", name):
        return "V/cell"
    if re.fullmatch(
        r"(?:%|percent|per cent|prozent)\s?(?:/|per|a|each|pro|par|al)\s?(?:month|mo|monat|mois|mes)|% monthly", name
    ):
        return "%/month"
    if re.fullmatch(r"%\s?(?:/|per|a)\s?year", name):
        return "%/year"
    if re.fullmatch(r"%\s?dod", name):
        return "%"
    same = {
        "percent": "%", "per cent": "%", "prozent": "%",
        "amp hour": "Ah", "amp hours": "Ah", "amphour": "Ah", "amphours": "Ah", "ampere hour": "Ah", "ampere hours": "Ah",
        "watt hour": "Wh", "watt hours": "Wh", "watthour": "Wh", "watthours": "Wh", "v dc": "V", "vdc": "V", "kilowatt": "kW",
        "milliohm": "mohm", "milliohms": "mohm", "mohms": "mohm", "kilogram": "kg", "kilograms": "kg", "kilo": "kg", "kilos": "kg", "kgs": "kg", "gram": "g",
        "grams": "g", "pound": "lb", "ounce": "oz", "ounces": "oz", "hr": "h", "hrs": "h", "mos": "months", "mo": "months",
        "monate": "months", "yr": "years", "yrs": "years", "jahr": "years", "jahre": "years", "jahren": "years", "ans": "years",
        "secs": "s", "zyklen": "cycles", "times": "cycles", "°c": "°C", "° c": "°C", "deg c": "°C", "degc": "°C", "°f": "°F",
        "° f": "°F", "deg f": "°F", "degf": "°F", "degree celsius": "°C", "degrees celsius": "°C", "degrees c": "°C",
        "degree c": "°C", "degrees fahrenheit": "°F", "degrees f": "°F", "ms": "ms",
    }  # fmt: skip
    return same.get(name, name)


@lru_cache(maxsize=1_000)
def dimension_of(unit: str) -> str:
    """The dimension of a spelling that `unit_name` gives."""
    if unit == "V/cell":
        return "voltage per cell"
    if unit == "%/year":
        return "yearly share"
    if unit in {"'", "f", "m"}:
        return ""
    found = find_unit(unit)
    return "" if found is None else found.dimension


def number_of(text: str) -> Number:
    """What a number's digits and marks can mean."""
    body = re.sub(r"(?<=\d)[ '](?=\d)", "", text)
    marks = re.findall(r"[.,]", body)
    if not marks:
        return Number((float(body),), text)
    last = marks[-1]
    if len(set(marks)) == 2:  # the last one parts, the other groups
        other = "," if last == "." else "."
        if marks.count(last) > 1 or not _grouped(body.partition(last)[0].split(other)):
            return Number((), text)
        return Number((float(body.replace(other, "").replace(last, ".")),), text)
    parts = body.split(last)
    groups = _grouped(parts)
    whole = float("".join(parts))
    if len(marks) > 1:
        return Number((whole,) if groups else (), text)
    decimal = float(body.replace(",", "."))
    return Number((whole, decimal) if groups else (decimal,), text)


def _grouped(parts: list[str]) -> bool:
    """Whether digits stand in threes, as a mark of thousands groups them."""
    return all(len(part) == 3 for part in parts[1:]) and 1 <= len(parts[0]) <= 3 and parts[0].strip("0") != ""


def _number(text: str) -> Number:
    spelled = SPELLED.get(text.lower())
    return number_of(text) if spelled is None else Number((float(spelled),), text)


def _fraction(text: str) -> Number:
    whole, _, part = text.rpartition(" ") if " " in text else text.rpartition("-")
    above, below = part.split("/")
    if not float(below):
        return Number((), text)
    return Number(((float(whole) if whole else 0.0) + float(above) / float(below),), text)


def items(line: str) -> list[Item]:
    """The pieces of a line, quantities put together: numbers with unit, range and tolerance."""
    text = plain(line)
    found = _joined(_ranged(_headed(text, _unit_first(_lexed(text)))))
    if len(text) == len(line):
        return found
    # back to where they stand as printed: a sign for a fraction was written out
    places = [place for place, signs in enumerate(_written(line)) for _ in signs] + [len(line)]
    return [replace(item, begin=places[item.begin], end=places[item.end - 1] + 1 if item.end else 0) for item in found]


_HEADING = re.compile(
    rf"[(\[]\s*(?P<unit>{_UNITS})\s*(?:[,;][^)\]]*)?[)\]]|/\s*(?P<slash>{_UNITS})\s*(?=[|:\t])|(?:^|[;|,]|\.\s)\s*(?P<alone>ah|wh|kwh|v|a|w|kg|mm)\s*(?=[:|=\t])",
    re.IGNORECASE,
)
_BETWEEN = frozenset({":", "|", "=", "/", "x", "*", "-", "~", "≈", "≤", "≥", "<", ">", "±", "+/-", "", ")", "]", "to", "max", "min", "typ", "nom", "..", ",", "l", "w", "h", "b", "d"})  # fmt: skip


def _ends_in_another(run: list[Item], unit: str) -> bool:
    """Whether a bare number begins a range, or has a width, in another unit than a heading's."""
    if len(run) < 3 or run[0].unit or run[0].kind != "quantity" or run[2].kind != "quantity":
        return False
    joined = run[1].kind == "pm" or run[1].text in {"-", "->", "to", "~"}
    same = {unit, "", *(["%"] if run[1].kind == "pm" else [])}
    return joined and run[2].unit not in same


def _headed(text: str, found: list[Item]) -> list[Item]:
    """Bare numbers behind a heading that says their unit: "Capacity (Ah) | 100", "Size (mm): 330/172/214", "Wh: 1280"."""
    for heading in _HEADING.finditer(text):
        unit = unit_name(heading["unit"] or heading["slash"] or heading["alone"])
        if unit in {"c", "f", "m", "d", "cycle", "cycles"}:
            continue
        for place, item in enumerate(found):
            if item.begin < heading.end():
                continue
            if _ends_in_another(found[place : place + 3], unit):
                break  # "Weight (kg): 11.2 | 14.4-14.6 V"
            listed = place > 0 and found[place - 1].text == "," and found[place - 1].begin >= heading.end()
            if item.kind == "quantity" and not item.unit and (not listed or dimension_of(unit) == "length"):
                found[place] = replace(item, unit=unit)
            elif (listed and item.kind == "quantity") or (item.text.strip() not in _BETWEEN and item.unit != unit):
                break
    return found


_FIRST = {
    "ah": "ah",
    "wh": "wh",
    "amphours": "Ah",
    "kg": "kg",
    "v": "v",
    "volts": "v",
    "amps": "a",
    "amp": "a",
    "amperes": "a",
    "watts": "w",
    "minutes": "min",
    **{code.lower(): code.lower() for code in CURRENCIES},
}


def _unit_first(found: list[Item]) -> list[Item]:
    """Units that stand before their number: "Ah 40"."""
    made: list[Item] = []
    for item in found:
        colon = len(made) > 1 and made[-1].text in {":", "="} and len(made[-2].text) > 2
        last = made[-2] if colon else made[-1] if made else None
        if (
            item.kind == "quantity"
            and not item.unit
            and last is not None
            and last.kind == "word"
            and last.text in _FIRST
        ):
            # a word of a name ("continuous amps") stays in it
            made[-1 if not colon and len(last.text) < 3 else len(made) :] = [replace(item, unit=_FIRST[last.text])]
        else:
            made.append(item)
    return made


def _unit_led(code: str) -> bool:
    """Whether what looks like a model's code is a unit or a rate with its number."""
    letters = re.match(r"[^\W\d_]+", code)
    return letters is not None and (letters[0].lower() in _FIRST or len(letters[0]) == 1)


_TIMED = re.compile(r"\d\s?(?:a|amps?)\b[\s(,/@]*(?:for|delay:?)?\s*$|±\s*$", re.IGNORECASE)


def _of_seconds(text: str, begin: int, end: int) -> bool:
    """Whether a number with a capital S is a time, not a pack's cells: behind a current, or with a tolerance."""
    behind = text[end:].lstrip()
    alone = not behind or not behind[0].isalpha()
    return (alone and _TIMED.search(text[:begin]) is not None) or behind.startswith(("±", "+/-", "+-"))


SHORTENED = frozenset(
    {"max", "min", "approx", "temp", "typ", "nom", "incl", "excl", "ca", "no", "nr", "art", "ser", "cap", "dim", "dims", "wt", "ref", "fig", "std", "rec", "vol", "cont", "disch", "bzw", "zb", "inkl", "ggf"}
)  # fmt: skip
"""Words that are written with a point and end no sentence."""


def _ends_sentence(text: str, at: int, found: list[Item]) -> bool:
    """Whether a point ends a sentence: behind a figure or a bracket, or behind a word that is not shortened, before a capital."""
    if text[at] != "." or not found or found[-1].end != at or not re.match(r"\s+\S", text[at + 1 :]):
        return False
    if found[-1].kind != "word":
        return True
    word = found[-1].text.lower()
    capital = re.match(r"\s+[A-ZÄÖÜÉ\d≥≤<>~±(-]", text[at + 1 :]) is not None
    return capital and len(word) > 2 and word not in SHORTENED


def _lexed(text: str) -> list[Item]:
    found: list[Item] = []
    at = 0
    while at < len(text):
        match = _TOKEN.match(text, at)
        if match is None:
            if _ends_sentence(text, at, found):
                found.append(Item("sign", ";", at, at + 1))
            at += 1
            continue
        begin, end = match.span()
        at = end
        if match["c_over"]:
            found.append(Item("rate", match[0], begin, end, value=_rate(float(match["over"]))))
        elif match["c_hours"]:
            found.append(Item("rate", match[0], begin, end, value=_rate(float(match["hours"]))))
        elif match["hour_rate"]:
            hours = float(match["rate"] or match["rate2"])
            found.append(Item("rate", match[0], begin, end, value=_rate(hours)))
        elif match["chemistry"]:
            found.append(Item("word", "lifepo4", begin, end))
        elif match["code"] and not _unit_led(match["code"]):
            found.append(Item("code", match[0], begin, end))
        elif match["code"]:  # "Ah40": the unit stands before its number
            at = begin + len(re.match(r"[^\W\d_]+", match[0])[0])  # type: ignore[index]
            found.append(Item("word", text[begin:at].lower(), begin, at))
        elif match["grid"]:
            cells = re.search(r"(\d+)S", match[0])
            found.append(Item("grid", match[0], begin, end, value=float(cells[1]) if cells else 0.0))
        elif match["ip"]:
            found.append(Item("ip", match[0].upper().replace(" ", ""), begin, end))
        elif match["series"] and _of_seconds(text, begin, end):  # "200A (5S)", "5S±2S"
            found.append(Item("quantity", match[0], begin, end, number_of(match["cells"]), unit="s"))
        elif match["series"]:
            found.append(Item("cells", match[0], begin, end, value=float(match["cells"])))
        elif match["money"]:
            number = re.compile(_NUMBER).match(text, end + (len(text[end:]) - len(text[end:].lstrip())))
            assert number is not None
            found.append(
                Item("quantity", text[begin : number.end()], begin, number.end(), number_of(number[0]), unit=match[0])
            )
            at = number.end()
        elif match["arrow"]:
            found.append(Item("sign", "->", begin, end))
        elif match["number"] or match["mixed"] or match["spelled"]:
            made = _quantity(text, match)
            if found and found[-1].kind == "sign" and found[-1].end == made.begin + 1:
                found.pop()  # its own sign
            found.append(made)
            at = max(end, made.end)
            if text[at - 1] == "." and re.match(r"\s+[A-ZÄÖÜÉ]", text[at:]):
                found.append(Item("sign", ";", at, at))  # "24.9 lbs. No charging"
        elif match["word"]:
            found.append(Item("word", match[0].lower(), begin, end))
        else:
            found.append(Item("pm" if match["pm"] else "sign", match[0], begin, end))
    return found


def _rate(hours: float) -> float:
    """The rate that empties in so many hours, C; 0, which is none, for no hours."""
    return 1.0 / hours if hours > 0.0 else 0.0


def _quantity(text: str, match: re.Match[str]) -> Item:
    """A number with its sign and its unit: a quantity, or a rate of C."""
    begin, end = match.span()
    number_is = _fraction(match[0]) if match["mixed"] else _number(match[0])
    unit = _UNIT.match(text, end)
    name = "" if unit is None else unit_name(unit["unit"])
    # 0.2C is a rate; 25 C a temperature where degrees are spoken of
    if unit is not None and name == "c" and number_is.values:
        nearby = text[unit.end() :].lstrip().lower()
        small = "." in match[0] or "," in match[0] or number_is.values[0] <= 5.0
        nothing = number_is.values[0] == 0.0  # is charged or drawn at 0 C
        if not nothing and (small or nearby.startswith("rate")):
            return Item("rate", text[begin : unit.end()], begin, unit.end(), value=number_is.values[-1])
        name = "°C"
    if unit is not None and re.match(r"/\s?(?:kg|l|m)\b", text[unit.end() :], re.IGNORECASE):
        unit, name = None, ""  # a density
    end = unit.end() if unit is not None else end
    sign = text[begin - 1 : begin]
    if sign in {"-", "+"} and not re.match(r"[\w%°\"]", text[begin - 2 : begin - 1]):
        begin -= 1
        if sign == "-":
            number_is = Number(tuple(-value for value in number_is.values), f"-{number_is.text}")
    return Item("quantity", text[begin:end], begin, end, number_is, unit=name)


_AND = (["and"], ["und"])


def _with_dash(first: Item, joint: Item, second: Item) -> tuple[Item, Item, Item]:
    """ "between 250 and 350 A" as it is with a dash."""
    return first, replace(joint, kind="sign", text="-"), second


def _ranged(found: list[Item]) -> list[Item]:
    """Ranges and tolerances put together: "14.4-14.6 V", "5 to 6 h", "300 A ± 50 A"."""
    made: list[Item] = []
    place = 0
    while place < len(found):
        both = _pair(*found[place : place + 3]) if place + 2 < len(found) else None
        if (
            both is None
            and found[place].text == "between"
            and [one.text for one in found[place + 2 : place + 3]] in _AND
        ):
            both = _pair(*_with_dash(*found[place + 1 : place + 4])) if place + 3 < len(found) else None
            place += both is not None
        made.append(found[place] if both is None else both)
        place += 1 if both is None else 3
    return made


def _pair(first: Item, sign: Item, second: Item) -> Item | None:
    """A quantity with its width, or a range; None where the three are neither."""
    if first.low is None or second.low is None:
        return None
    text = f"{first.text} {sign.text} {second.text}"
    if sign.kind == "pm":
        unit = first.unit or ("" if second.unit == "%" else second.unit)
        return replace(first, text=text, end=second.end, unit=unit, within=(second.low, second.unit))
    joins = sign.text in {"-", "->", "to", "..", "...", "…", "~", "bis"}
    agree = first.unit == second.unit or not first.unit or (not second.unit and sign.text != "to")
    rises = bool(first.low.values and second.low.values) and second.low.values[-1] > first.low.values[-1]
    if not (joins and agree and rises and (first.unit or second.unit)):
        return None
    return replace(first, text=text, end=second.end, high=second.low, unit=second.unit or first.unit)


_SUMS = {("lb", "oz"), ("lbs", "oz"), ("h", "min"), ("'", '"')}


def _joined(found: list[Item]) -> list[Item]:
    """ "20 lb 8 oz" is one mass, "2 h 30 min" one time."""
    made: list[Item] = []
    for item in found:
        last = made[-1] if made else None
        if (
            last is not None and last.kind == item.kind == "quantity" and (last.unit, item.unit) in _SUMS
            and last.low and last.low.values and item.low and item.low.values and last.high is None and item.high is None
            and item.begin - last.end <= 2
        ):  # fmt: skip
            big, small = find_unit(last.unit), find_unit(item.unit)
            assert big is not None and small is not None
            total = last.low.values[-1] + item.low.values[-1] * small.factor / big.factor
            made[-1] = replace(last, text=f"{last.text} {item.text}", end=item.end, low=Number((total,), last.text))
        else:
            made.append(item)
    return made
