"""How a delimited log is laid out: encoding, delimiter, decimal mark, header, columns; found, or chosen by the user."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass, field

from wintry_tally.core.errors import LogError
from wintry_tally.core.trace.beside import cell_number, in_order, named_by
from wintry_tally.exchange.columns import SCALES, Header, assign, parse_header
from wintry_tally.exchange.ways import opposite
from wintry_tally.files import MOST_COLUMNS

DELIMITERS = (",", ";", "\t", "|")
DELIMITER_WORDS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "bar", " ": "spaces"}

_NUMBER_POINT = re.compile(r"^[+\-−]?(\d+\.?\d*|\.\d+)([eE][+\-]?\d+)?$")
_GROUPED = re.compile(r"^[+\-−]?\d{1,3}([,' ]\d{3})+(\.\d+)?$|^[+\-−]?\d{1,3}([.' ]\d{3})+(,\d+)?$")
_THOUSANDS = re.compile(r"^[+\-−]?[1-9]\d{0,2}(,\d{3})+(\.\d*)?$")
BARE_LEAST = 3
"""So many different whole numbers below a thousand, beside others with a comma, show what the comma is for."""
_NUMBER_COMMA = re.compile(r"^[+\-−]?(\d+,?\d*|,\d+)([eE][+\-]?\d+)?$")
_TIME_LIKE = re.compile(
    r"^(\d{1,4}[-./]\d{1,2}[-./]\d{1,4})?[ T]*(\d+:\d{1,2}(:\d{1,2}([.,]\d+)?)?)?\s*([AaPp][Mm])?(Z|[+\-]\d{2}:?\d{2})?$"
)


@dataclass(frozen=True)
class Choices:
    """What the user decided against the detection; None or empty leaves it to the detection."""

    delimiter: str | None = None
    decimal: str | None = None
    header_line: int | None = None
    columns: dict[str, str] = field(default_factory=dict)
    time_unit: str | None = None
    discharge_sign: str = "auto"
    timezone: str = ""
    interval_s: float | None = None
    channel: str = ""


@dataclass(frozen=True)
class Layout:
    """How a log is laid out.

    Parts:
        header_line: 0-based line of the header; first_line: of the first data row.
        headers: every column, taken apart; columns: field to column index.
        decimals: decimals printed in each column of the sample.
        sample: the first data rows as text, for a preview; sample_all: all that were looked at.
    """

    encoding: str
    delimiter: str
    decimal: str
    header_line: int
    first_line: int
    headers: tuple[Header, ...]
    columns: dict[str, int]
    decimals: tuple[int, ...]
    sample: tuple[tuple[str, ...], ...]
    preamble: tuple[str, ...] = ()
    sample_all: tuple[tuple[str, ...], ...] = ()

    @property
    def beside(self) -> dict[str, tuple[int, float]]:
        """Columns that are logged beside (a second meter, cells): index and factor by name."""
        taken = set(self.columns.values())
        found: dict[str, tuple[int, float]] = {}
        for index, header in enumerate(self.headers):
            known = named_by(header.text) if index not in taken else None
            if known is not None and known[0] not in found:
                found[known[0]] = (index, 1e-3 if header.unit.lower() == "mv" else known[1])
        return found

    @property
    def cells(self) -> list[str]:
        """The cells of the pack, by name in their order, where several are logged."""
        cells = in_order(name for name in self.beside if cell_number(name) is not None)
        return cells if len(cells) > 1 else []

    @property
    def opposite(self) -> int | None:
        """The column of the current the other way, where charge and discharge have one each."""
        own = self.columns.get("current")
        return None if own is None else opposite(self.headers, own, set(self.columns.values()))

    @property
    def used(self) -> list[int]:
        """Every column that is read, in the file's order."""
        other = [] if self.opposite is None else [self.opposite]
        return sorted({*self.columns.values(), *(index for index, _ in self.beside.values()), *other})

    def label(self, name: str) -> str | None:
        """The header text of a field's column."""
        return self.headers[self.columns[name]].text if name in self.columns else None


def split(line: str, delimiter: str) -> list[str]:
    """Fields of one line, quotes taken off."""
    if delimiter == " ":
        return line.split()
    if '"' not in line:
        return [part.strip() for part in line.split(delimiter)]
    parts, quoted, begin = [], False, 0
    for index, sign in enumerate(line):
        if sign == '"':
            quoted = not quoted
        elif sign == delimiter and not quoted:
            parts.append(line[begin:index])
            begin = index + 1
    parts.append(line[begin:])
    return [part.strip().strip('"').strip() for part in parts]


_WITH_UNIT = re.compile(r"^([+\-−]?[\d.,' ]*\d)\s*([A-Za-zµ°Ω%]{1,4})$")


def unit_in_cell(text: str) -> str:
    """The unit written behind a number in a cell ("13.2 V"), or nothing."""
    match = _WITH_UNIT.match(text)
    if match is None or not any(match[2].lower() in scales for scales in SCALES.values()):
        return ""
    return match[2]


def is_value(text: str, decimal: str | None = None) -> bool:
    """Whether a field is a number (with this decimal mark, or either) or a time."""
    if decimal in {None, "."} and _NUMBER_POINT.match(text):
        return True
    if decimal in {None, ","} and _NUMBER_COMMA.match(text):
        return True
    if not any(sign.isdigit() for sign in text):
        return False
    return _TIME_LIKE.match(text) is not None or _GROUPED.match(text) is not None or bool(unit_in_cell(text))


def find_layout(text: str, encoding: str, choices: Choices, name: str) -> Layout:
    """Lay out a log from the beginning of its text.

    Raises:
        LogError: no rows of numbers, too many columns, or a chosen column that is not there.
    """
    lines = text.splitlines()
    if len(lines) > 600:
        lines = lines[:600]
    delimiter = choices.delimiter or _delimiter(lines)
    if delimiter is None:
        raise LogError("no table of numbers found", name, "export the log as CSV with a header row")
    first, width = _first_data(lines, delimiter, choices)
    if first is None:
        raise LogError("no rows of numbers found", name, "a log needs a header and rows with times and voltages")
    if width > MOST_COLUMNS:
        raise LogError(f"{width} columns; at most {MOST_COLUMNS} are read", name, "export only the columns needed")
    header_line, units_line = _header(lines, delimiter, first, width, choices)
    if header_line is None:
        titles = [f"column {index + 1}" for index in range(width)]
    else:
        titles = split(lines[header_line], delimiter)
    if len(titles) == width - 1 and header_line is not None:
        titles.append("")
    units = split(lines[units_line], delimiter) if units_line is not None else []
    headers = tuple(
        parse_header(title, units[index] if index < len(units) else "") for index, title in enumerate(titles)
    )
    data = [split(line, delimiter) for line in lines[first : first + 300] if line.strip()]
    headers = tuple(_with_unit_of_cells(header, index, data) for index, header in enumerate(headers))
    decimal = choices.decimal or _decimal(data, headers)
    columns = assign(list(headers))
    _chosen(columns, headers, choices, name)
    decimals = tuple(
        max((_decimals(row[index], decimal) for row in data if index < len(row)), default=0)
        for index in range(len(headers))
    )
    return Layout(
        encoding=encoding,
        delimiter=delimiter,
        decimal=decimal,
        header_line=-1 if header_line is None else header_line,
        first_line=first,
        headers=headers,
        columns=columns,
        decimals=decimals,
        sample=tuple(tuple(row) for row in data[:60]),
        preamble=tuple(lines[: max(0, header_line or 0)][:20]),
        sample_all=tuple(tuple(row) for row in data),
    )


def _with_unit_of_cells(header: Header, index: int, data: list[list[str]]) -> Header:
    """A header without a unit whose cells all carry the same one."""
    if header.unit:
        return header
    units = {unit_in_cell(row[index]) for row in data if index < len(row) and row[index]}
    return Header(header.text, header.name, units.pop()) if len(units) == 1 else header


def _delimiter(lines: list[str]) -> str | None:
    best: tuple[float, str] | None = None
    tail = [line for line in lines if line.strip()][-80:]
    if not tail:
        return None
    for delimiter in (*DELIMITERS, " "):
        if delimiter == " " and best is not None:
            break  # spaces stand in texts and times too: only where nothing else divides
        rows = [split(line, delimiter) for line in tail]
        widths = Counter(len(row) for row in rows if len(row) > 1)
        if not widths:
            continue
        width, often = widths.most_common(1)[0]
        fields = [part for row in rows if len(row) == width for part in row if part]
        numeric = sum(is_value(part) for part in fields) / max(1, len(fields))
        score = numeric * (often / len(rows)) + 0.002 * min(width, 20)
        if numeric > 0.3 and (best is None or score > best[0]):
            best = (score, delimiter)
    return None if best is None else best[1]


def _first_data(lines: list[str], delimiter: str, choices: Choices) -> tuple[int | None, int]:
    widths = Counter(len(split(line, delimiter)) for line in lines if line.strip())
    common = [width for width, _ in widths.most_common() if width >= 2]
    if not common:
        return None, 0
    start = 0 if choices.header_line is None else choices.header_line + 1
    for width in common[:2]:
        for index in range(start, len(lines)):
            row = split(lines[index], delimiter)
            filled = [part for part in row if part]
            if len(row) >= width and len(filled) >= 2:
                values = sum(is_value(part) for part in filled)
                if values >= 2 and values >= 0.5 * len(filled):
                    return index, max(width, len(row))
    return None, 0


def _header(
    lines: list[str], delimiter: str, first: int, width: int, choices: Choices
) -> tuple[int | None, int | None]:
    if choices.header_line is not None:
        line = choices.header_line
        return line, (line + 1 if first - line == 2 else None)
    found: list[int] = []
    for index in range(first - 1, -1, -1):
        row = split(lines[index], delimiter)
        if len(row) >= max(2, width - 1) and sum(any(sign.isalnum() for sign in part) for part in row) >= 2:
            found.append(index)
            if len(found) == 2:
                break
        elif found or (any(sign.isalnum() for sign in lines[index]) and not lines[index].lstrip().startswith("#")):
            break
    if not found:
        return None, None
    if len(found) == 2 and _looks_like_units(split(lines[found[0]], delimiter)):
        return found[1], found[0]
    return found[0], None


def _looks_like_units(row: list[str]) -> bool:
    filled = [part for part in row if part]
    short = [part for part in filled if len(part.strip("[]()")) <= 5 or part.lower() in {"hh:mm:ss", "h:mm:ss"}]
    known = {
        "s",
        "v",
        "a",
        "w",
        "ah",
        "wh",
        "mv",
        "ma",
        "mah",
        "min",
        "h",
        "°c",
        "degc",
        "c",
        "ms",
        "hh:mm:ss",
        "h:mm:ss",
    }
    return bool(filled) and len(short) == len(filled) and any(part.strip("[]()").lower() in known for part in filled)


def _decimal(rows: list[list[str]], headers: tuple[Header, ...]) -> str:
    """The decimal mark that most cells have; a comma before three digits may group thousands, which its column shows."""
    commas = points = 0
    grouped = 0
    for index, header in enumerate(headers):
        cells = [row[index] for row in rows if index < len(row) and row[index]]
        points += sum("." in cell and bool(_NUMBER_POINT.match(cell)) for cell in cells)
        with_comma = [cell for cell in cells if "," in cell and (_NUMBER_COMMA.match(cell) or _GROUPED.match(cell))]
        if with_comma and all(_THOUSANDS.match(cell) for cell in with_comma):
            if _groups(cells, with_comma, header):
                return "."
            grouped += len(with_comma)
        else:
            commas += sum(bool(_NUMBER_COMMA.match(cell)) for cell in with_comma)
    return "," if commas + grouped > points else "."


def _groups(cells: list[str], with_comma: list[str], header: Header) -> bool:
    """Whether a column's commas group thousands: two in a number, a point behind, below a thousand none, or mV beyond one."""
    bare = {cell for cell in cells if cell.isdigit() and cell != "0"}
    return (
        any(cell.count(",") > 1 or "." in cell for cell in with_comma)
        or (len(bare) >= BARE_LEAST and all(len(cell) <= 3 for cell in bare))
        or header.unit.lower() == "mv"
    )


def _decimals(text: str, decimal: str) -> int:
    """Decimals printed in a cell; none in a time."""
    if ":" in text:
        return 0
    match = re.match(rf"^[+\-−]?[\d,.' ]*?{re.escape(decimal)}(\d+)(?![\d{re.escape(decimal)}])", text)
    return len(match[1]) if match and is_value(text) else 0


def _chosen(columns: dict[str, int], headers: tuple[Header, ...], choices: Choices, name: str) -> None:
    titles = [header.text for header in headers]
    for wanted, title in choices.columns.items():
        if not title:
            columns.pop(wanted, None)
            continue
        if title in titles:
            index = titles.index(title)
        elif title.isdigit() and 1 <= int(title) <= len(titles):
            index = int(title) - 1
        else:
            lowered = [text.lower() for text in titles]
            if title.lower() not in lowered:
                raise LogError(f'no column "{title}"', name, f"the columns are: {', '.join(titles[:12])}")
            index = lowered.index(title.lower())
        for other in [key for key, value in columns.items() if value == index and key != wanted]:
            del columns[other]
        columns[wanted] = index
