"""Times in a log, whatever they are written as, to elapsed seconds."""

from __future__ import annotations

import re
from datetime import datetime

import numpy as np
import polars as pl

from wintry_tally.core.errors import LogError
from wintry_tally.core.trace.trace import Column

_CLOCK = r"^\s*(?:(\d+)\s*d\S*\s+)?(\d+):(\d{1,2})(?::(\d{1,2}(?:[.,]\d+)?))?\s*([AaPp][Mm])?\s*$"
_MINUTES = r"^\s*(\d+):(\d{1,2}(?:[.,]\d+)?)\s*$"
_SPELT = r"^(\d+) ?h\w* ?(\d+) ?m\w* ?(\d+(?:[.,]\d+)?) ?s\w*$"
_SAYS_MINUTES = re.compile(r"(?<![h:] )(?<![h:])\b(m{1,2}|min\w*) ?: ?(s{1,2}|sec\w*)\b", re.IGNORECASE)
_COUNTS = re.compile(r"elapsed|duration|\b(run|test|step|total)[ _-]?time|since|dauer|laufzeit", re.IGNORECASE)
_ONE_H = re.compile(r"(?<![h\w])h ?: ?mm", re.IGNORECASE)
"""Headers of a clock that counts from a start: one says so, the other may stand above a clock on the wall too."""
_PLAINER = (
    (r"^\[(.*)\]$", "$1"),  # [2026-01-31 14:05:33]
    (r"^(?i:mon|tue|wed|thu|fri|sat|sun|mo|di|mi|do|fr|sa|so)[a-z]*\.?,?\s+", ""),
    (r"^([^:]*\d[\s_T,-]*)([\s_T]\d{2})-(\d{2})-(\d{2})$", "$1$2:$3:$4"),  # 2026-01-31_14-05-33
    (r"^([^:]*\d[\s_T,-]*[\s_T]\d{1,2})\.(\d{2})\.(\d{2})$", "$1:$2:$3"),  # 31.1.2026 14.05.33
    (r"(\d)(?:_|,\s*|\s+-\s+|\s{2,})(\d{1,2}:\d{2})", "$1 $2"),  # 31.1.2026, 14:05
    # 31/1/2026T14:05
    (r"^(\d{1,2}[./-]\d{1,2}[./-]\d{2,4}|\d{4}[./]\d{1,2}[./]\d{1,2}|\D+.*|.*[a-z].*)T(\d{1,2}:)", "$1 $2"),
    (r"(?i)T(\d{1,2}:\S+\s*[ap]\.?m\.?)$", " $1"),
    (r"(?i)(\d)\s*([ap])\.?m\.?$", "$1 ${2}m"),
    (r"(:\d{2}),(\d+)", "$1.$2"),  # 14:05:33,250
    (r"^(\d+)\.(\d{1,2}:\d{2}:\d{2})", "${1}d $2"),  # 1.02:03:04, a day and two hours
    (r"(:\d{2}(?:\.\d+)?)\s*(?:UTC|GMT)$", "${1}Z"),
    (r"(:\d{2}:\d{2}(?:\.\d+)?)\s+([+-]\d{2}):?(\d{2})$", "$1$2:$3"),
    (r"(:\d{2}:\d{2}(?:\.\d+)?)\s*([+-]\d{2})$", "$1$2:00"),
    (r"(:\d{2}(?:\.\d+)?)\s+(?:CES?T|MES?Z|WES?T|EES?T|BST|[ECMP][SD]T)$", "$1"),  # local, as a time without its zone
)
"""What loggers write of the same time, and how it is read. One after the other, each of what the one before has made of it:
what stands about a moment first, then what parts its date from its clock, then the clock, then what stands behind it."""
HOUR, DAY = 3600.0, 86400.0
_DATES = (
    "%Y-%m-%d", "%Y/%m/%d", "%Y.%m.%d", "%d.%m.%y", "%d.%m.%Y", "%d/%m/%y", "%d/%m/%Y", "%m/%d/%y", "%m/%d/%Y", "%d-%m-%y",
    "%d-%m-%Y", "%m-%d-%y", "%m-%d-%Y", "%d-%B-%Y", "%d-%B-%y", "%d %B %Y", "%d. %B %Y", "%B %d %Y", "%B %d, %Y", "%Y%m%d", "%y-%m-%d",
)  # fmt: skip
"""Dates as loggers write them, those that are taken first before others that could be meant; a year of two digits before one
of four, which would read it as of the year 26."""
_CLOCKS = ("%H:%M:%S%.f", "%H:%M", "%H%M%S")
_CLOCKS_OF_TWELVE = ("%I:%M:%S%.f %p", "%I:%M %p")
_FORMATS = (
    "%Y-%m-%dT%H:%M:%S%.f", "%Y-%m-%dT%H:%M", "%Y%m%dT%H%M%S", "%Y%m%dT%H:%M:%S%.f", "%Y%m%dT%H:%M", "%B %d %H:%M:%S %Y",
    *(f"{date} {clock}" for clock in _CLOCKS for date in _DATES),
    # noon is told by its letters where months come first
    *(
        f"{date} {clock}"
        for clock in _CLOCKS_OF_TWELVE
        for date in sorted(_DATES, key=lambda date: date[:2] not in {"%m", "%B"})
    ),
    *(f"{clock} {date}" for clock in (*_CLOCKS[:2], *_CLOCKS_OF_TWELVE) for date in _DATES),
)  # fmt: skip
FIRST_YEAR = 1900
THIN = 120
"""So many rows, spread over the log, tell which ways of writing are worth trying on all of them."""


SAMPLE = 100_000


def seconds_from_numbers(values: Column, factor: float, unit_known: bool) -> tuple[Column, float | None]:
    """Elapsed seconds, and the epoch of the first reading where the numbers are epoch times (s, ms, µs or ns)."""
    # of a long log evenly spread readings tell its size as well as all of them
    thin = values[:: max(1, len(values) // SAMPLE)]
    finite = thin[np.isfinite(thin)]
    if len(finite) == 0:
        finite = values[np.isfinite(values)]
    if len(finite) == 0:
        return values, None
    typical = float(np.median(finite))
    dates = _written_dates(values) if 1.97e13 < typical < 2.2e13 and not unit_known else None
    if dates is not None:
        scaled = dates
    elif 1e8 < typical < 1e11:
        scaled = values
    elif 1e11 <= typical < 1e14:
        scaled = values / 1e3
    elif 1e14 <= typical < 1e17:
        scaled = values / 1e6
    elif 1e17 <= typical < 1e20:
        scaled = values / 1e9
    elif 30_000 < typical < 80_000 and not unit_known and _day_steps(values):
        scaled = (values - 25_569.0) * DAY  # a spreadsheet's day number
    else:
        return values if factor == 1.0 else values * factor, None
    start = float(scaled[np.isfinite(scaled)][0])
    return scaled - start, start


_WRITTEN = (100, 100, 100, 100, 100, 10_000)
_WITHIN = ((0, 60), (0, 59), (0, 23), (1, 31), (1, 12), (1970, 2200))


def _written_dates(values: Column) -> Column | None:
    """Seconds of the epoch, where numbers are dates written in one (20260131140533); None where they are not."""
    rest, parts = np.nan_to_num(values, nan=20000101000000.0).astype(np.int64), []
    for size, (least, most) in zip(_WRITTEN, _WITHIN, strict=True):
        part, rest = rest % size, rest // size
        if part.min() < least or part.max() > most:
            return None
        parts.append(part)
    second, minute, hour, day, month, year = parts
    days = (year - 1970).astype("datetime64[Y]").astype("datetime64[M]") + (month - 1).astype("timedelta64[M]")
    since = days.astype("datetime64[D]").astype(np.int64) + day - 1
    return np.where(np.isfinite(values), DAY * since + HOUR * hour + 60.0 * minute + second, np.nan)


def _day_steps(values: Column) -> bool:
    finite = values[np.isfinite(values)]
    return len(finite) > 2 and float(np.median(np.abs(np.diff(finite)))) < 0.05


def seconds_from_text(
    series: pl.Series, timezone: str, name: str, header: str = ""
) -> tuple[Column, float | None, bool]:
    """Elapsed seconds from clock times or dated times; the epoch of the first where it is dated; whether naive local.

    A clock that counts from a test's start, as its header says, keeps what it had counted at its first reading. A time of day
    that falls back by more than half a day has passed midnight. "12:05" is hours and minutes, unless a
    fraction follows or the header says "mm:ss": minutes and seconds then, which a spreadsheet begins anew each hour.

    Raises:
        LogError: the texts are no times, or the time zone is unknown.
    """
    text = series.cast(pl.String).str.strip_chars()
    thin = text.gather_every(max(1, len(text) // 1000))
    for written, plain in _PLAINER:
        if thin.str.contains(written).any():
            text, thin = text.str.replace(written, plain), thin.str.replace(written, plain)
    if len(text) and re.match(_SPELT, next((value for value in text.drop_nulls().head(50).to_list() if value), "")):
        text = text.str.replace(_SPELT, "$1:$2:$3")
    sample = [value for value in text.drop_nulls().head(50).to_list() if value]
    if not sample:
        raise LogError("the time column is empty", name, "choose another column as the time")
    if re.match(_MINUTES, sample[0]) and (re.search(r"[.,]", sample[0]) or _SAYS_MINUTES.search(header)):
        parts = text.str.extract_groups(_MINUTES).struct.unnest()
        minutes, seconds = (
            parts.to_series(index).str.replace(",", ".").cast(pl.Float64, strict=False) for index in range(2)
        )
        lifted = _lifted(np.asarray((minutes * 60 + seconds).to_numpy(), dtype=np.float64), HOUR)
        finite = lifted[np.isfinite(lifted)]
        return lifted - _not_counted(finite, header), None, False
    if re.match(_CLOCK, sample[0]):
        parts = text.str.extract_groups(_CLOCK).struct.unnest()
        half = parts.to_series(4).str.to_lowercase()
        days, hours, minutes, seconds = (
            parts.to_series(index).str.replace(",", ".").cast(pl.Float64, strict=False) for index in range(4)
        )
        noon = half.is_not_null()
        on_twelve = pl.when(noon).then(hours % 12 + 12 * (half == "pm").cast(pl.Float64)).otherwise(hours)
        hours = pl.select(on_twelve).to_series()
        total = (days.fill_null(0) * DAY + hours * 3600 + minutes * 60 + seconds.fill_null(0)).to_numpy()
        seconds_of = _lifted(np.asarray(total, dtype=np.float64), DAY)
        finite = seconds_of[np.isfinite(seconds_of)]
        return seconds_of - _not_counted(finite, header), None, False
    moments, naive = _dated(text, sample, timezone, name)
    epoch = np.asarray(moments.dt.epoch("us").cast(pl.Float64).to_numpy(), dtype=np.float64) / 1e6
    finite = epoch[np.isfinite(epoch)]
    if len(finite) == 0:
        raise LogError(f'times like "{sample[0]}" cannot be read', name, "write them like 2026-01-31 14:05:33")
    return epoch - finite[0], float(finite[0]), naive


def _not_counted(seconds: Column, header: str) -> float:
    """What a clock shows at its first reading, where that is not what it had counted from a start: 0 where it is."""
    if not len(seconds) or _COUNTS.search(header) or (_ONE_H.search(header) and seconds[0] < HOUR):
        return 0.0
    return float(seconds[0])


def is_open_clock(series: pl.Series, header: str) -> bool:
    """Whether clock times of two parts may be hours and minutes or minutes and seconds: nothing says which.

    One that begins at a time of day is a clock on the wall.
    """
    first = next(
        (value.strip() for value in series.cast(pl.String).drop_nulls().head(50).to_list() if value.strip()), ""
    )
    two = re.fullmatch(r"00?:\d{1,2}", first) is not None
    return two and not re.search(r"\bh+\b", header, re.IGNORECASE) and not _SAYS_MINUTES.search(header)


def _lifted(seconds: Column, period_s: float) -> Column:
    """A clock that begins anew after a period goes on counting."""
    steps = np.diff(seconds)
    back = (steps < -0.5 * period_s) & np.isfinite(steps)
    if not np.any(back) or float(np.nanmax(seconds)) >= period_s:
        return seconds
    lifted = seconds.copy()
    lifted[1:] += period_s * np.cumsum(back)
    return lifted


def _dated(text: pl.Series, sample: list[str], timezone: str, name: str) -> tuple[pl.Series, bool]:
    zoned = all(
        (re.search(r"(Z|[+\-]\d{2}:?\d{2})$", value) and "T" in value)
        or value.endswith("Z")
        or re.search(r"\d[+\-]\d{2}:\d{2}$", value)
        for value in sample
    )
    if zoned:
        plain = text.str.replace(r"Z$", "+00:00").str.replace(" ", "T")
        parsed = plain.str.to_datetime("%Y-%m-%dT%H:%M:%S%.f%:z", strict=False, time_unit="us", time_zone="UTC")
        if parsed.null_count() < len(parsed):
            return parsed.dt.replace_time_zone(None), False
    best, chosen = None, ""
    thin = text.drop_nulls().gather_every(max(1, (len(text) - text.null_count()) // THIN))
    marks = {_marks(re.sub(r"(:\d+)\.\d+", r"\1", value)) for value in thin.to_list()}
    for form in (form for form in _FORMATS if _marks(re.sub(r"%\.?[A-Za-z]", "", form)) in marks):
        try:
            tried = thin.str.to_datetime(form, strict=False, time_unit="us")
            # "26" is read as the year 26 where one of four digits is looked for
            if tried.null_count() > 0.5 * len(thin) + 0.5 or (tried.dt.year() < FIRST_YEAR).any():
                continue
            parsed = text.str.to_datetime(form, strict=False, time_unit="us")
        except pl.exceptions.PolarsError:
            continue
        if parsed.null_count() > 0.5 * len(parsed) + 0.5:
            continue
        if best is None or parsed.null_count() < best.null_count():
            best, chosen = parsed, form
        if best.null_count() == text.null_count():
            break
    if best is None:
        raise LogError(f'times like "{sample[0]}" cannot be read', name, "write them like 2026-01-31 14:05:33")
    best = _day_and_month(text, best, chosen)
    if timezone:
        try:
            zoned_times = best.dt.replace_time_zone(timezone, ambiguous="earliest", non_existent="null")
        except (pl.exceptions.PolarsError, ValueError):
            raise LogError(f'time zone "{timezone}" is not known', name, 'write it like "Europe/Oslo"') from None
        in_utc = zoned_times.dt.convert_time_zone("UTC").dt.replace_time_zone(None)
        return _hour_taken_twice(in_utc, best, timezone), False
    return best, True


def _marks(written: str) -> str:
    """What stands between the figures and words of a time."""
    return re.sub(r"\d+|[^\W\d_]{2,}|\s", "", written)


LEAPT_S, EVENLY = 20 * DAY, 100.0


def _day_and_month(text: pl.Series, moments: pl.Series, form: str) -> pl.Series:
    """Day and month the other way round where only so the log goes on past midnight, and else leaps by weeks."""
    other = form.replace("%d", "%?").replace("%m", "%d").replace("%?", "%m")
    turned = text.str.to_datetime(other, strict=False, time_unit="us")
    if turned.null_count() > moments.null_count():
        return moments
    as_read, as_turned = (
        np.abs(np.diff(one.drop_nulls().dt.epoch("us").cast(pl.Float64).to_numpy())) / 1e6 for one in (moments, turned)
    )
    if len(as_read) < 2:
        return moments
    usual = EVENLY * float(np.median(as_read))
    leaps = float(as_read.max()) > max(LEAPT_S, usual)
    return turned if leaps and float(as_turned.max()) <= max(DAY, usual) else moments


def _hour_taken_twice(in_utc: pl.Series, local: pl.Series, timezone: str) -> pl.Series:
    """Where clocks were set back, the second passage of the hour is an hour later than its local time says."""
    later = local.dt.replace_time_zone(timezone, ambiguous="latest", non_existent="null")
    latest = later.dt.convert_time_zone("UTC").dt.replace_time_zone(None)
    first = np.asarray(in_utc.dt.epoch("us").cast(pl.Float64).to_numpy())
    second = np.asarray(latest.dt.epoch("us").cast(pl.Float64).to_numpy())
    if np.array_equal(first, second, equal_nan=True):
        return in_utc
    back = np.flatnonzero(np.diff(first) < 0)
    if len(back) == 0:
        return in_utc
    chosen = first.copy()
    chosen[back[0] + 1 :] = second[back[0] + 1 :]
    return pl.Series(chosen.astype("int64")).cast(pl.Datetime("us"))


def moment_of(epoch: float | None) -> datetime | None:
    """The epoch as a moment in UTC."""
    from datetime import UTC

    return None if epoch is None else datetime.fromtimestamp(epoch, UTC)
