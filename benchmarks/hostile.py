"""Files made to hurt: each with the seconds and the memory the program takes over it, and what it says.

`python -m benchmarks.hostile`, about two minutes. Exit 1 when one is not refused
in a line, takes more than 20 s or more than 1,500 MB.
"""

from __future__ import annotations

import gzip
import json
import os
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from multiprocessing import Process
from pathlib import Path

import polars as pl

MOST_S, MOST_MB = 20.0, 1500.0
HEAD = "Time (s),Voltage (V),Current (A)\n"
CLAIMS = '[battery]\nfamily="lfp"\nrated_Ah=100\n[[claim]]\nkind="capacity"\nvalue=100\n'
STEP = '[[step]]\nkind="discharge"\nsetting=5\nends=[{time="1 h"}]\n'
RECIPE = 'name="x"\ntitle="X"\nversion=1\nstation="load"\nmethod="hold"\nfamilies=["lfp"]\n'


def text(content: str, times: int = 1, head: str = "") -> Callable[[Path], None]:
    """A file of that text, so many times."""

    def make(path: Path) -> None:
        with path.open("w", encoding="utf-8") as file:
            file.write(head)
            for start in range(0, times, 1 << 16):
                file.write(content * min(1 << 16, times - start))

    return make


def members(content: bytes, times: int) -> Callable[[Path], None]:
    """Many gzip files in one, whose last says it is small."""
    return lambda path: path.write_bytes(gzip.compress(content) * times) and None


def link(to: str) -> Callable[[Path], None]:
    """A link to something that is no file."""
    return lambda path: path.symlink_to(to)


def frame(columns: dict[str, pl.Expr]) -> Callable[[Path], None]:
    """A Parquet file of expressions."""
    return lambda path: pl.select(**columns).write_parquet(path, compression="zstd")


def rows(count: int, columns: int = 3) -> Callable[[Path], None]:
    """A Parquet file of few bytes and many rows."""
    titles = ["Time (s)", "Voltage (V)", "Current (A)", *(f"Cell {n} (V)" for n in range(1, columns - 2))]
    return frame({title: pl.repeat(1.0, count) for title in titles})


LINES = "".join(f"{n},13.{n % 10}00,5.{n % 7}0\n" for n in range(200_000)).encode()
ODD = {"Time (s)": pl.lit(pl.Series([1.0, 2.0])), "Current (A)": pl.lit(pl.Series([1.0, 2.0]))}

LOGS: dict[str, tuple[str, Callable[[Path], None]]] = {
    "a pipe": ("p.csv", os.mkfifo),
    "an endless device": ("z.csv", link("/dev/zero")),
    "1.5 GB of zeros by gzip": ("zeros.csv.gz", members(bytes(1 << 20), 1500)),
    "2 GB of honest lines by gzip": ("lines.csv.gz", members(HEAD.encode() + LINES, 600)),
    "one line of 300 MB": ("line.csv", text("1" * 1024, 300 << 10)),
    "100,000 columns": ("wide.csv", text(",".join(f"c{n}" for n in range(100_000)) + "\n" + "1," * 99_999 + "1\n")),
    "60 million empty rows": ("rows.csv", text("\n", 60_000_000, HEAD + "1,2,3\n")),
    "30 million rows of little": ("short.csv", text("1,1,1\n", 30_000_000, HEAD)),
    "40 million rows of Parquet": ("rows.parquet", rows(40_000_000)),
    "2 million rows × 400 cells of Parquet": ("cells.parquet", rows(2_000_000, 400)),
    "nested Parquet": ("nested.parquet", frame({**ODD, "Voltage (V)": pl.lit(pl.Series([[1.0], [2.0]]))})),
    "binary Parquet": ("binary.parquet", frame({**ODD, "Voltage (V)": pl.lit(pl.Series([b"1", b"2"]))})),
    "torn Parquet": ("torn.parquet", lambda path: path.write_bytes(b"PAR1" + bytes(1000) + b"PAR1") and None),
}
CLAIM_FILES: dict[str, tuple[str, Callable[[Path], None]]] = {
    "claims: a pipe": ("p.toml", os.mkfifo),
    "claims: an endless device": ("z.toml", link("/dev/zero")),
    "claims: 100,000 tables deep": ("deep.json", text("[" * 100_000 + "]" * 100_000)),
    "claims: a key of 500,000 parts": ("dots.toml", text("a." * 500_000 + "a=1")),
    "claims: a number of 100,000 digits": ("big.json", text('{"battery": ' + "9" * 100_000 + "}")),
    "claims: 60 tables deep": ("nest.json", text('{"a":' * 60 + "1" + "}" * 60)),
    "claims: 50 MB": ("large.toml", text("#", 50 << 20, CLAIMS)),
    "claims: not a number": ("nan.toml", text(CLAIMS.replace("value=100", "value=nan"))),
}
RECIPES: dict[str, tuple[str, Callable[[Path], None]]] = {
    "recipe: a pipe": ("p.toml", os.mkfifo),
    "recipe: an endless device": ("z.toml", link("/dev/zero")),
    "recipe: 20,000 steps": ("steps.toml", text(RECIPE + STEP * 20_000)),
    "recipe: minus five amperes": ("minus.toml", text(RECIPE + STEP.replace("=5", "=-5"))),
    "recipe: minus one hour": ("hour.toml", text(RECIPE + STEP.replace('"1 h"', '"-1 h"'))),
    "recipe: no number": ("nan.toml", text(RECIPE + STEP.replace("=5", "=nan"))),
    "recipe: no end": ("end.toml", text(RECIPE + STEP.replace('{time="1 h"}', ""))),
    "recipe: a jump out of it": ("jump.toml", text(RECIPE + STEP.replace('"1 h"', '"1 h", skip=9'))),
    "recipe: a thousand years": ("years.toml", text(RECIPE + STEP.replace('"1 h"', '"9000000 h"'))),
    "recipe: text for a number": ("text.toml", text(RECIPE + STEP.replace("=5", '="five"'))),
    "recipe: a list for a step": ("list.json", text(json.dumps({"step": [1, 2]}))),
}


def main() -> int:
    """Make each, run the command on it, print a table."""
    sys.stdout.reconfigure(line_buffering=True)  # type: ignore[union-attr]
    worst = 0
    print(f"{'file':40} {'s':>6} {'MB':>6}  exit  words")
    with tempfile.TemporaryDirectory() as folder:
        for command, files in (("analyse", LOGS), ("judge", CLAIM_FILES), ("forecast", RECIPES)):
            for title, (name, make) in files.items():
                path = Path(folder) / name
                maker = Process(target=make, args=(path,))  # its memory is not the program's
                maker.start()
                maker.join()
                worst |= tried(title, command, path)
                path.unlink()
    return worst


def tried(title: str, command: str, path: Path) -> int:
    """One command on one file; 1 when it is not refused as it should be."""
    more = ["--json"] if command != "forecast" else []
    given = [command, str(path), *more]
    if command == "forecast":
        given = ["forecast", "--family", "lfp", "--rated-ah", "100", "--recipe", str(path)]
    begun = time.monotonic()
    process = subprocess.Popen(
        [sys.executable, "-m", "wintry_tally", *given], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True
    )
    timer = threading.Timer(120.0, process.kill)
    timer.start()
    assert process.stderr is not None
    said = process.stderr.read()
    _, status, usage = os.wait4(process.pid, 0)
    timer.cancel()
    seconds, megabytes, code = time.monotonic() - begun, usage.ru_maxrss / 1024.0, os.waitstatus_to_exitcode(status)
    lines = said.strip().splitlines()
    good = code == 2 and len(lines) == 1 and seconds < MOST_S and megabytes < MOST_MB
    words = (lines or [""])[-1].replace(str(path), path.name)[:110]
    print(f"{title:40} {seconds:6.1f} {megabytes:6.0f}  {code:4}  {words}{'' if good else '   <<<'}")
    return 0 if good else 1


if __name__ == "__main__":
    raise SystemExit(main())
