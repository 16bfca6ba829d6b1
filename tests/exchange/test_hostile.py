"""Files made to hurt are refused in one line, and before the memory is taken (the measuring is benchmarks/hostile.py's)."""

from __future__ import annotations

import gzip
import re
import tracemalloc
from pathlib import Path

import pytest
from benchmarks.hostile import CLAIM_FILES, CLAIMS, HEAD, LOGS, RECIPE, RECIPES, STEP

from wintry_tally.cli.main import invoke
from wintry_tally.core.errors import InputError, LogError
from wintry_tally.exchange import content, reader
from wintry_tally.exchange.reader import read_log
from wintry_tally.exchange.recipe_file import read_recipe
from wintry_tally.files import (
    BOMB_RATIO,
    MOST_DEPTH,
    MOST_KEY_PARTS,
    MOST_TEXT_BYTES,
    SURE_BYTES,
    check_unpacked,
    table_of,
)

SMALL = ("a pipe", "an endless device", "100,000 columns", "nested Parquet", "binary Parquet", "torn Parquet")
FORECAST = ["forecast", "--family", "lfp", "--rated-ah", "100", "--recipe"]
WORDS = {
    "a pipe": "no ordinary file", "an endless device": "no ordinary file", "100,000 columns": "at most 2000 are read",
    "nested Parquet": 'holds list', "binary Parquet": 'holds binary', "torn Parquet": "damaged",
    "claims: a pipe": "no ordinary file", "claims: an endless device": "no ordinary file",
    "claims: 100,000 tables deep": "recursion", "claims: a key of 500,000 parts": "more than 100 parts",
    "claims: a number of 100,000 digits": "cannot be read", "claims: 60 tables deep": "more than 40 deep",
    "claims: 50 MB": "larger than 4 MiB", "claims: not a number": "finite",
    "recipe: a pipe": "no ordinary file", "recipe: an endless device": "no ordinary file",
    "recipe: 20,000 steps": "at most 500", "recipe: minus five amperes": "step 1, setting: -5 cannot be",
    "recipe: minus one hour": "step 1, time: -3600 cannot be", "recipe: no number": r"step\[1\].setting: nan",
    "recipe: no end": "it never ends", "recipe: a jump out of it": "skips 9, of 0", "recipe: a thousand years": "five years",
    "recipe: text for a number": "step 1", "recipe: a list for a step": r"step\[1\].kind",
}  # fmt: skip


@pytest.mark.parametrize("title", [*SMALL, *CLAIM_FILES, *RECIPES])
def test_each_is_refused_in_one_line_that_says_why(tmp_path: Path, title: str, capsys) -> None:
    command = ["analyse"] if title in LOGS else ["judge"] if title in CLAIM_FILES else FORECAST
    name, make = (LOGS | CLAIM_FILES | RECIPES)[title]
    make(tmp_path / name)
    assert invoke([*command, str(tmp_path / name)]) == 2
    said = capsys.readouterr().err.strip().splitlines()
    assert len(said) == 1 and re.search(WORDS[title], said[0]), said


def log(tmp_path: Path, rows: int, packed: bool = False) -> Path:
    """An honest log of so many rows."""
    text = HEAD + "".join(f"{n},{13 - n * 1e-4:.4f},5.00\n" for n in range(rows))
    path = tmp_path / ("log.csv.gz" if packed else "log.csv")
    path.write_bytes(gzip.compress(text.encode()) if packed else text.encode())
    return path


def test_as_many_rows_as_are_read_and_one_more(tmp_path: Path, monkeypatch) -> None:
    monkeypatch.setattr(reader, "MOST_ROWS", 500)
    assert read_log(log(tmp_path, 499)).rows == 499
    with pytest.raises(LogError, match="more than 500 rows"):
        read_log(log(tmp_path, 501))


def test_as_much_as_is_unpacked_and_more_than_its_end_admits(tmp_path: Path, monkeypatch) -> None:
    path = log(tmp_path, 2000, packed=True)
    size = len(gzip.decompress(path.read_bytes()))
    monkeypatch.setattr(content, "MOST_UNPACKED_BYTES", size)
    assert read_log(path).rows == 2000
    path.write_bytes(path.read_bytes() + gzip.compress(b"2000,12.8,5\n"))  # the end tells of the last part alone
    with pytest.raises(LogError, match="unpacked here"):
        read_log(path)
    monkeypatch.setattr(content, "MOST_UNPACKED_BYTES", size - 1)
    with pytest.raises(LogError, match="unpacked here"):
        read_log(log(tmp_path, 2000, packed=True))


def test_a_gzip_that_begins_as_binary_is_not_unpacked(tmp_path: Path) -> None:
    path = tmp_path / "zeros.csv.gz"
    path.write_bytes(gzip.compress(bytes(64 << 20)))
    tracemalloc.start()
    with pytest.raises(LogError, match="binary file"):
        read_log(path)
    assert tracemalloc.get_traced_memory()[1] < 8 << 20
    tracemalloc.stop()


def test_swelling_is_told_by_size_and_ratio_together() -> None:
    check_unpacked(SURE_BYTES, 1, "x", LogError)
    check_unpacked(BOMB_RATIO * SURE_BYTES, SURE_BYTES, "x", LogError)
    with pytest.raises(LogError, match="unpacks to more"):
        check_unpacked(SURE_BYTES + 1, SURE_BYTES // BOMB_RATIO, "x", LogError)


def test_a_text_as_large_as_is_read_and_one_byte_more(tmp_path: Path) -> None:
    path = tmp_path / "a.toml"
    path.write_text("a = 1\n" + "#" * (MOST_TEXT_BYTES - 6))
    assert table_of(path, "a table") == {"a": 1}
    path.write_text("a = 1\n" + "#" * (MOST_TEXT_BYTES - 5))
    with pytest.raises(InputError, match="larger than"):
        table_of(path, "a table")


def test_as_deep_as_is_read_and_one_deeper(tmp_path: Path) -> None:
    for text, deep in (
        ('{"a":' * MOST_DEPTH + "1" + "}" * MOST_DEPTH, False),
        ('{"a":' * (MOST_DEPTH + 1) + "1" + "}" * (MOST_DEPTH + 1), True),
    ):
        (tmp_path / "a.json").write_text(text)
        if deep:
            with pytest.raises(InputError, match="deep"):
                table_of(tmp_path / "a.json", "x")
        else:
            table_of(tmp_path / "a.json", "x")
    parts = (MOST_KEY_PARTS - 1) * "a."
    (tmp_path / "a.toml").write_text('words = "' + "One. " * 90 + f'"\n[t]\nx.{parts}b = 1\n')
    with pytest.raises(InputError, match="deep"):  # not for the key's length
        table_of(tmp_path / "a.toml", "x")


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (("setting=5", "setting=0"), "above zero"), (("setting=5", "setting=true"), "no set-point"),
        (('"1 h"', "inf"), "no set-point"), (('time="1 h"', "moved=0"), "above zero"),
        (('time="1 h"', "voltage=-1"), "above zero"), (('"1 h"', '"1 h", readings=0'), "1 to 100"),
        (('"1 h"', '"1 h", readings=1.5'), "no whole number"), (('"1 h"', '"1 h", skip=-1'), "skips -1"),
        (('ends=[{time="1 h"}]', 'ends=[{time="1 h"}]\nonly="lfp"'), "no list of families"),
        (('ends=[{time="1 h"}]', 'ends=[{time="1 h"}]\nattended=3'), "neither true nor false"),
        (('ends=[{time="1 h"}]', f'ends=[{",".join(["{time=1}"] * 21)}]'), "at most 20"),
        (("discharge", "charge"), "limit: 0 cannot be"),
        (('ends=[{time="1 h"}]', 'ends=[{time="1 h"}]\nmode="x"'), "none of a discharge"),
    ],
)  # fmt: skip
def test_recipes_that_cannot_be_are_refused_with_step_and_field(tmp_path: Path, change, words: str, capsys) -> None:
    path = tmp_path / "r.toml"
    path.write_text(RECIPE + STEP)
    assert invoke([*FORECAST, str(path)]) == 0 and read_recipe(path).steps
    path.write_text(RECIPE + STEP.replace(*change))
    capsys.readouterr()
    assert invoke([*FORECAST, str(path)]) == 2
    said = capsys.readouterr().err
    assert re.search(r"step ?\[?1\]?", said) and words in said, said


def test_more_claims_than_anybody_prints_are_refused(tmp_path: Path, capsys) -> None:
    path = tmp_path / "c.toml"
    path.write_text(CLAIMS + '[[claim]]\nkind="capacity"\nvalue=1\n' * 1001)
    assert invoke(["judge", str(path)]) == 2 and "at most 1000" in capsys.readouterr().err


@pytest.mark.parametrize("part", ["cautions", "needs", "settles", "families"])
def test_a_recipe_that_names_what_is_not_known_is_refused(tmp_path: Path, part: str) -> None:
    head = RECIPE if part != "families" else RECIPE.replace('families=["lfp"]\n', "")
    (tmp_path / "r.toml").write_text(f'{part}=["unheard of"]\n{head}{STEP}')
    with pytest.raises(InputError, match=f'{part}: "unheard of" is not known'):
        read_recipe(tmp_path / "r.toml")


def test_what_is_exported_runs_as_no_formula(tmp_path: Path) -> None:
    from tests.making import discharge
    from wintry_tally.exchange.writer import write_log

    write_log(discharge(), tmp_path / "e.csv")
    head, *lines = (tmp_path / "e.csv").read_text().splitlines()
    assert not any(cell.strip('" ')[0] in "=+-@\t\r" for cell in head.split(","))
    assert all(re.fullmatch(r"-?[\d.]+(e-?\d+)?|", cell) for line in lines[::50] for cell in line.split(","))
