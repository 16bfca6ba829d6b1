"""Reading a log: bytes to a trace, whatever spoke it."""

from __future__ import annotations

import contextlib
import io
import mmap
import os
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import polars as pl

from wintry_tally.core.errors import LogError
from wintry_tally.core.message import said
from wintry_tally.core.trace import Remark
from wintry_tally.core.trace.repair import set_forward
from wintry_tally.core.trace.trace import Column, Trace, resolution_of
from wintry_tally.exchange.cells import last_digit, numbers_of, written_apart
from wintry_tally.exchange.channels import one_channel
from wintry_tally.exchange.columns import assign, parse_header, scale_of
from wintry_tally.exchange.content import HEAD, content_of, encoding_of
from wintry_tally.exchange.layout import DELIMITERS, Choices, Layout, find_layout, is_value
from wintry_tally.exchange.quotes import without_stray_quotes
from wintry_tally.exchange.sign import discharge_sign
from wintry_tally.exchange.times import is_open_clock, moment_of, seconds_from_numbers, seconds_from_text
from wintry_tally.exchange.ways import by_words, joined
from wintry_tally.files import MOST_COLUMNS, MOST_ROWS, check_unpacked

_VALUES = {
    "voltage": "voltage_V",
    "current": "current_A",
    "temperature": "temperature_C",
    "counter_Ah": "counter_Ah",
    "counter_Wh": "counter_Wh",
    "power": "power_W",
    "charge_state": "charge_state",
}


@dataclass(frozen=True)
class LogFile:
    """A log as read: its trace (discharge positive), how it was laid out, and what was noticed in reading."""

    trace: Trace
    layout: Layout
    rows: int
    columns: dict[str, str | None]
    discharge_sign: str
    started: datetime | None
    remarks: tuple[Remark, ...] = ()
    channels: tuple[str, ...] = ()


def read_log(path: Path, choices: Choices | None = None) -> LogFile:
    """Read a log from CSV and its relatives, Parquet, or `.gz` of either.

    Raises:
        LogError: with file, place and mend, for anything that is no log.
    """
    chosen = choices or Choices()
    name = str(path)
    content = content_of(path)
    if content[:4] == b"PAR1":
        return _from_parquet(content[:], chosen, name)
    layout = layout_of(content, chosen, name)
    _require(layout, chosen, name)
    _check_rows(content, layout, name)
    try:
        frame = _frame(content, layout, path)
    except (pl.exceptions.PolarsError, pl.exceptions.PanicException) as error:
        raise LogError(f"cannot be read as a table ({str(error).splitlines()[0][:120]})", name) from None
    return _assemble(frame, layout, chosen, name)


BLOCK = 1 << 18
"""Bytes that are looked through at a time, few enough to stay near the processor."""


def _check_rows(content: bytes | mmap.mmap, layout: Layout, name: str) -> None:
    """Not more rows than are read, before a column is made of them."""
    if len(content) <= 2 * MOST_ROWS:
        return
    rows = 0
    ends = ord("\n" if content.find(b"\n", 0, HEAD) >= 0 else "\r")
    codes = np.frombuffer(content, np.uint8)
    is_end = np.empty(BLOCK, np.bool_)
    for start in range(0, len(codes), BLOCK):
        block = codes[start : start + BLOCK]
        rows += int(np.count_nonzero(np.equal(block, ends, out=is_end[: len(block)])))
        if rows > MOST_ROWS:
            raise LogError(f"more than {MOST_ROWS:,} rows", name, "split it, or thin it out")
    check_unpacked(8.0 * rows * len(layout.used), len(content), name, LogError)


def peek(path: Path, choices: Choices) -> Layout:
    """How a text log is laid out, whether or not its columns are known: for choosing them.

    Raises:
        LogError: it is no text log at all.
    """
    content = content_of(path)
    if content[:4] == b"PAR1":
        raise LogError("the columns of a Parquet file are not known", str(path), "name them with --map")
    return layout_of(content, choices, str(path))


def layout_of(content: bytes | mmap.mmap, choices: Choices, name: str) -> Layout:
    """Encoding and layout, from the beginning of the bytes."""
    head = content[:HEAD]
    encoding = encoding_of(head, name)
    text = head.decode(encoding, errors="replace")
    if len(content) > HEAD:
        text = text[: text.rfind("\n") + 1] or text
        if "\n" not in text and "\r" not in text:
            fields = max(text.count(sign) for sign in DELIMITERS)
            if fields > MOST_COLUMNS:
                words = f"more than {fields} columns; at most {MOST_COLUMNS} are read"
                raise LogError(words, name, "export only the columns needed")
            raise LogError("no line ends within the first 256 KiB", name, "a log has one reading to a line")
    return find_layout(text.lstrip("\ufeff"), encoding, choices, name)


def _require(layout: Layout, choices: Choices, name: str) -> None:
    columns = layout.columns
    shown = ", ".join(header.text for header in layout.headers[:12] if header.text) or "none named"
    if "voltage" not in columns and not layout.cells:
        raise LogError("no voltage column found", name, f"name it with --map voltage=COLUMN; the columns are: {shown}")
    if "time" not in columns and "date" not in columns and choices.interval_s is None:
        if "frame" in columns:
            raise LogError(
                "frames are numbered but not timed", name, "give the seconds from frame to frame with --interval"
            )
        raise LogError("no time column found", name, f"name it with --map time=COLUMN; the columns are: {shown}")
    if not {"current", "power", "counter_Ah", "counter_Wh"} & set(columns):
        raise LogError(
            "no current, power or counter column found", name,
            f"name it with --map current=COLUMN; the columns are: {shown}",
        )  # fmt: skip


def _frame(content: bytes | mmap.mmap, layout: Layout, path: Path) -> pl.DataFrame:
    """The needed columns, numbers as Float64 (null where unreadable), texts as they are."""
    wanted = layout.used
    types: dict[str, Any] = {}
    other = [] if layout.opposite is None else [("opposite", layout.opposite)]
    beside = [(name, index) for name, (index, _) in layout.beside.items()]
    for field, index in (*layout.columns.items(), *beside, *other):
        textual = field in {"date", "channel", "state"} or (field == "time" and _textual(layout, index))
        types[f"column_{index}"] = pl.String if textual or _written_out(layout, index) else pl.Float64
    layout_options: dict[str, Any] = {
        "has_header": False,
        "columns": wanted,
        "schema_overrides": types,
        "separator": layout.delimiter,
        "decimal_comma": layout.decimal == "," and layout.delimiter != ",",
        "skip_rows": layout.first_line,
    }
    plain = layout.encoding in {"utf-8", "utf-8-sig"} and layout.delimiter != " " and content.find(b"\n", 0, HEAD) >= 0
    lines = content if plain else _as_utf8(content[:], layout)
    lines = without_stray_quotes(lines, layout.delimiter, max(wanted, default=0), layout.first_line)
    if plain and isinstance(lines, mmap.mmap):
        # a large log without a flaw is read twice as fast; the first flaw sends it through the lenient reading below
        try:
            return pl.read_csv(path, infer_schema_length=0, **layout_options)
        except pl.exceptions.PolarsError:
            pass
    read = partial(
        pl.read_csv,
        lines[:],
        ignore_errors=True,
        truncate_ragged_lines=True,
        infer_schema_length=0,
        encoding="utf8-lossy",
        null_values=["", "-", "--", "nan", "NaN", "null", "n/a", "N/A", "#N/A"],
    )
    frame = read(**layout_options)
    flawed = [name for name, kind in frame.schema.items() if kind == pl.Float64 and frame[name].null_count()]
    if not flawed:
        return frame
    written = read(**{**layout_options, "schema_overrides": {**types, **dict.fromkeys(flawed, pl.String)}})
    return frame.with_columns(written_apart(frame[name], written[name], layout.decimal) for name in flawed)


def _as_utf8(content: bytes, layout: Layout) -> bytes:
    if layout.encoding not in {"utf-8", "utf-8-sig"}:
        content = content.decode(layout.encoding, errors="replace").encode()
    if b"\n" not in content[:HEAD] and b"\r" in content[:HEAD]:
        content = content.replace(b"\r", b"\n")  # line ends of another age
    if layout.delimiter == " ":
        lines = content.decode("utf-8", errors="replace").splitlines()
        content = "\n".join(" ".join(line.split()) for line in lines).encode()
    return content


def _textual(layout: Layout, index: int) -> bool:
    values = [row[index] for row in layout.sample if index < len(row) and row[index]]
    decimal = layout.decimal
    numbers = sum(
        1
        for value in values
        if value.replace(decimal, ".", 1).replace("-", "", 1).replace(".", "", 1).isdigit() or _float(value, decimal)
    )
    return numbers < 0.5 * max(1, len(values))


def _float(text: str, decimal: str) -> bool:
    try:
        float(text.replace(decimal, "."))
        return True
    except ValueError:
        return False


def _written_out(layout: Layout, index: int) -> bool:
    """Whether a column's numbers carry units or grouping, or may further on beside a decimal comma: read as text then."""
    cells = [row[index] for row in layout.sample_all if index < len(row) and row[index]]
    if sum(":" in cell for cell in cells) > 0.5 * len(cells):
        return False  # a clock, whatever one unfinished row of it looks like
    if layout.decimal == "," and (layout.delimiter == "," or all(cell.isdigit() for cell in cells)):
        return True
    return any(
        is_value(cell)
        and ":" not in cell
        and (not _float(cell, layout.decimal) or (layout.decimal == "," and "." in cell))
        for cell in cells
    )


def _assemble(frame: pl.DataFrame, layout: Layout, choices: Choices, name: str) -> LogFile:
    if frame.height == 0:
        raise LogError("no data rows", name, "export the log again")
    position = {index: place for place, index in enumerate(layout.used)}
    remarks: list[Remark] = []
    rows = frame.height
    frame, numbers, channels = one_channel(frame, layout, choices.channel, name, remarks)
    series = {field: frame.to_series(position[index]) for field, index in layout.columns.items()}
    time_s, epoch, unnamed_clock = _time(series, layout, choices, name, remarks)
    values: dict[str, Any] = {}
    resolution: dict[str, float] = {}
    for field, target in _VALUES.items():
        if field not in series:
            continue
        index = layout.columns[field]
        factor, shift = scale_of(field, layout.headers[index].unit)
        column = numbers_of(series[field], layout.decimal)
        values[target] = column if factor == 1.0 and shift == 0.0 else column * factor + shift
        resolution[target] = last_digit(column, layout.decimals[index]) * factor
    beside = {
        field: numbers_of(frame.to_series(position[index]), layout.decimal) * factor
        for field, (index, factor) in layout.beside.items()
    }
    if "voltage_V" not in values:
        values["voltage_V"], resolution["voltage_V"] = _sum_of_cells(layout, beside, remarks)
    if not _any_finite(values["voltage_V"]):
        raise LogError("the voltage column holds no numbers", name, "choose another with --map voltage=COLUMN")
    if not _any_finite(time_s):
        raise LogError("the time column holds no times", name, "choose another with --map time=COLUMN")
    told = None
    if "current_A" in values and choices.discharge_sign == "auto":
        told = _ways_told(frame, series, layout, values["current_A"], position)
    # not one whose clock was only set back
    newest_first = bool(time_s[-1] < time_s[0] and np.count_nonzero(np.diff(time_s) < 0.0) > 0.5 * len(time_s))
    sign = _signed(values, choices.discharge_sign, told, newest_first, layout.label("current") or "")
    current = values.pop("current_A", None)
    voltage = values.pop("voltage_V")
    trace = Trace(
        time_s,
        voltage,
        current,
        resolution=resolution,
        beside=beside,
        row=numbers,
        unnamed=_unnamed(series, layout, unnamed_clock),
        **values,
    )
    labels = {field: layout.label(field) for field in ("time", *_VALUES)}
    if "voltage" not in layout.columns:
        labels["voltage"] = " + ".join(layout.headers[layout.beside[cell][0]].text for cell in layout.cells)
    if "time" not in layout.columns:
        labels["time"] = layout.label("date") or layout.label("frame")
    return LogFile(trace, layout, rows, labels, sign, moment_of(epoch), tuple(remarks), channels)


def _signed(values: dict[str, Any], sign: str, told: Column | None, newest_first: bool, header: str) -> str:
    """The sign that a log gives to a discharge, with its current (and power) drawn positive from here on.

    Args:
        told: the current where something beside it says which way it flowed.
    """
    if "current_A" not in values:
        return "+" if sign == "auto" else sign
    if told is not None:
        values["current_A"] = told
        return "+"
    if sign == "auto":
        # a log written newest first is looked at the way it happened
        way = slice(None, None, -1 if newest_first else 1)
        sign = discharge_sign(values["current_A"][way], values["voltage_V"][way], header)
    if sign == "-":
        values["current_A"] = -values["current_A"]
        if "power_W" in values:
            values["power_W"] = -values["power_W"]
    return sign


def _ways_told(
    frame: pl.DataFrame, series: dict[str, pl.Series], layout: Layout, current: Column, position: dict[int, int]
) -> Column | None:
    """The current, drawn positive, where something else than its sign says which way it flowed; else None."""
    if layout.opposite is not None:
        header = layout.headers[layout.opposite]
        other = numbers_of(frame.to_series(position[layout.opposite]), layout.decimal)
        return joined(
            current, other * scale_of("current", header.unit)[0], layout.headers[layout.columns["current"]].name
        )
    return by_words(current, series["state"]) if "state" in series else None


def _unnamed(series: dict[str, pl.Series], layout: Layout, unnamed_clock: bool) -> frozenset[str]:
    """Fields of which nothing says what unit they are in; see `Trace`."""
    found = {"time"} if unnamed_clock else set[str]()
    if unnamed_clock and series["time"].dtype == pl.String and ":" in str(series["time"][0]):
        found.add("clock")
    if "temperature" in series and not layout.headers[layout.columns["temperature"]].unit:
        found.add("temperature")
    return frozenset(found)


def _sum_of_cells(layout: Layout, beside: dict[str, Column], remarks: list[Remark]) -> tuple[Column, float]:
    """The pack's voltage where only its cells are logged: their sum, and one unit of its last digit (one of each cell's)."""
    cells = layout.cells
    total: Column = np.sum([beside[cell] for cell in cells], axis=0)
    digits = (10.0 ** -layout.decimals[layout.beside[cell][0]] * layout.beside[cell][1] for cell in cells)
    remarks.append(Remark("voltage-from-cells", said("cells-added", count=len(cells))))
    return total, float(sum(digits))


def _any_finite(column: Column) -> bool:
    """Whether there is any number at all; most often told by the first block."""
    return any(bool(np.isfinite(column[start : start + 65_536]).any()) for start in range(0, len(column), 65_536))


def _time(
    series: dict[str, pl.Series], layout: Layout, choices: Choices, name: str, remarks: list[Remark]
) -> tuple[Column, float | None, bool]:
    """Elapsed seconds, the epoch of the first reading where it is known, and whether the unit had to be assumed."""
    if "time" not in series and "date" not in series and choices.interval_s is not None:
        return _frame_clock(series, choices.interval_s, remarks), None, False
    if "date" in series and ("time" not in series or series["time"].dtype == pl.String):
        joined = series["date"].cast(pl.String).str.strip_chars()
        if "time" in series:
            joined = joined + " " + series["time"].cast(pl.String).str.strip_chars()
        try:
            seconds, epoch, naive = seconds_from_text(joined, choices.timezone, name)
            _hour_jumps(seconds, naive, remarks)
            return seconds, epoch, False
        except LogError:
            if "time" not in series:
                raise
    column = series["time"]
    index = layout.columns["time"]
    header = layout.headers[index]
    if column.dtype == pl.String and not _written_out(layout, index):
        says = {"h": "hh:mm", "min": "mm:ss"}.get(choices.time_unit or "", header.text)
        seconds, epoch, naive = seconds_from_text(column, choices.timezone, name, says)
        _hour_jumps(seconds, naive, remarks)
        return seconds, epoch, epoch is None and is_open_clock(column, says)
    unit = choices.time_unit or header.unit
    factor, _ = scale_of("time", unit)
    seconds, epoch = seconds_from_numbers(numbers_of(column, layout.decimal), factor, bool(unit))
    return seconds, epoch, epoch is None and not unit


def _frame_clock(series: dict[str, pl.Series], interval_s: float, remarks: list[Remark]) -> Column:
    """Frame number (or row number) × the interval between frames: the clock of a log typed from photographs."""
    rows = next(iter(series.values())).len()
    frames = numbers_of(series["frame"]) if "frame" in series else np.arange(rows, dtype=np.float64)
    finite = frames[np.isfinite(frames)]
    first = float(finite[0]) if len(finite) else 0.0
    last = float(finite[-1]) if len(finite) else first
    span_h = (last - first) * interval_s / 3600.0
    if "frame" in series and len(finite):
        told = said("frames-counted", first=first, last=last, interval=interval_s, hours=span_h)
    else:
        told = said("rows-counted", count=rows, interval=interval_s, hours=span_h)
    remarks.append(Remark("frame-clock", told))
    return (frames - first) * interval_s


def _hour_jumps(seconds: Column, naive: bool, remarks: list[Remark]) -> None:
    """A naive local clock that jumps by about an hour: likely daylight saving."""
    if not naive or len(seconds) < 3:
        return
    steps = np.diff(seconds)
    if not np.isfinite(steps).any():
        return
    usual = float(np.nanmedian(steps))
    back = np.abs(steps - usual + 3600.0) < max(30.0, 2 * usual)
    for index in np.flatnonzero((back & (steps < 0)) | set_forward(steps, usual))[:4]:
        row = int(index) + 2
        told = said("hour-ahead" if steps[index] > 0 else "hour-back", row=row)
        remarks.append(Remark("daylight-saving", told, (row - 1, row)))


@contextlib.contextmanager
def _quiet_stderr() -> Iterator[None]:
    """Keep what a library's own thread prints of a damaged file off the terminal: the error says it in one line."""
    try:
        kept = os.dup(2)
    except OSError:
        yield
        return
    try:
        with open(os.devnull, "wb") as nowhere:  # noqa: PTH123
            os.dup2(nowhere.fileno(), 2)
        yield
    finally:
        os.dup2(kept, 2)
        os.close(kept)


def _from_parquet(content: bytes, choices: Choices, name: str) -> LogFile:
    if content[-4:] != b"PAR1" or len(content) < 12:
        raise LogError("the Parquet file is damaged (its end is missing)", name, "copy or export it again")
    try:
        with _quiet_stderr():
            lazy = pl.scan_parquet(io.BytesIO(content))
            kinds = lazy.collect_schema()
            rows = int(lazy.select(pl.len()).collect().item())
    except (Exception, pl.exceptions.PanicException) as error:
        raise _damaged(error, name) from None
    if len(kinds) > MOST_COLUMNS:
        raise LogError(f"{len(kinds)} columns; at most {MOST_COLUMNS} are read", name, "export only the columns needed")
    if rows > MOST_ROWS:
        raise LogError(f"{rows:,} rows; at most {MOST_ROWS:,} are read", name, "split it, or thin it out")
    titles = list(kinds)
    headers = tuple(parse_header(title) for title in titles)
    columns = assign(list(headers))
    for wanted, title in choices.columns.items():
        if title not in kinds:
            raise LogError(f'no column "{title}"', name, f"the columns are: {', '.join(titles[:12])}")
        columns[wanted] = titles.index(title)
    unread = Layout("parquet", "", ".", -1, 0, headers, columns, (), ())
    _require(unread, choices, name)
    picked = unread.used
    for index in picked:
        kind = kinds[titles[index]]
        if not (kind.is_numeric() or kind.is_temporal() or kind == pl.String) or kind.is_nested():
            raise LogError(
                f'column "{titles[index]}" holds {str(kind).lower()[:40]}, no numbers', name,
                "export plain columns of numbers",
            )  # fmt: skip
    check_unpacked(8.0 * rows * len(picked), len(content), name, LogError)
    try:
        with _quiet_stderr():
            narrowed = lazy.select([titles[index] for index in picked]).collect()
    except (Exception, pl.exceptions.PanicException) as error:
        raise _damaged(error, name) from None
    for column in narrowed.columns:
        if narrowed[column].dtype.is_temporal():
            narrowed = narrowed.with_columns(narrowed[column].dt.epoch("us").cast(pl.Float64) / 1e6)
    decimals = tuple(
        _parquet_decimals(narrowed.to_series(picked.index(index))) if index in picked else 0
        for index in range(len(headers))
    )
    layout = Layout("parquet", "", ".", -1, 0, headers, columns, decimals, ())
    return _assemble(narrowed, layout, choices, name)


def _damaged(error: BaseException, name: str) -> LogError:
    reason = (str(error).splitlines() or ["no reason given"])[0][:100]
    return LogError(f"the Parquet file is damaged ({reason})", name, "copy or export it again")


def _parquet_decimals(series: pl.Series) -> int:
    if not series.dtype.is_numeric():
        return 0
    step = resolution_of(numbers_of(series))
    return 6 if step <= 0 else round(-np.log10(step))
