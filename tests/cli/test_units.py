"""`--units`: words and pages in a reader's units, JSON and what is kept as ever."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest

from wintry_tally.cli.main import cli, invoke
from wintry_tally.demo import scratch_copy


def printed(capsys: pytest.CaptureFixture[str], *words: str) -> str:
    assert invoke(list(words)) == 0
    return capsys.readouterr().out


@pytest.fixture(scope="module")
def book(tmp_path_factory) -> str:
    return str(scratch_copy(tmp_path_factory.mktemp("demo")))


def test_claims_are_told_in_lb_and_quoted_as_printed(tmp_path: Path, capsys) -> None:
    label = tmp_path / "label.txt"
    label.write_text("4.4 kg\nlength 330 mm\nno charging below 0 °C\n", encoding="utf-8")
    usual = printed(capsys, "claims", str(label))
    us = printed(capsys, "claims", str(label), "--units", "us")
    assert "4.4 kg  (“4.4 kg”)" in usual
    assert "9.7 lb  (“4.4 kg”)" in us and "12.99 in" in us and "32 °F" in us
    assert "lb" not in printed(capsys, "claims", str(label)), "one command line says nothing about the next"
    assert printed(capsys, "--units", "us", "claims", str(label)) == us


def test_json_has_the_kept_units(book: str, capsys) -> None:
    told = [printed(capsys, "judge", book, "M1", "--json", *more) for more in ((), ("--units", "us"))]
    assert json.loads(told[0]) == json.loads(told[1])
    recipes = [printed(capsys, "recipes", "charge-block", "--json", *more) for more in ((), ("--units", "us"))]
    assert recipes[0] == recipes[1]


def test_the_report_too_but_not_somebody_s_own_words(book: str, tmp_path: Path, capsys) -> None:
    from wintry_tally.book import Book

    with Book.open(Path(book)) as opened:
        number = next(one.id for one in opened.samples.all() if one.code == "M1")
        opened.samples.change(number, prose="I weighed it at 4.4 kg and froze it to −18 °C.")
    out = tmp_path / "m1.html"
    printed(capsys, "report", book, "M1", "--out", str(out), "--units", "us")
    page = out.read_text(encoding="utf-8")
    assert "I weighed it at 4.4 kg and froze it to −18 °C." in page
    rest = page.replace("I weighed it at 4.4 kg and froze it to −18 °C.", "")
    assert "Mass 9.7 lb" in rest and "block 32 °F" in rest and "4.4 kg" not in rest and " °C" not in rest
    sheet = tmp_path / "sheet.html"
    printed(capsys, "sheet", book, "M1", "--recipe", "capacity-reference", "--out", str(sheet), "--units", "us")
    assert ">°F<" in sheet.read_text(encoding="utf-8") and "°C" not in sheet.read_text(encoding="utf-8")
    compared = tmp_path / "two.html"
    printed(capsys, "compare", "--book", book, "M1", "M2", "--out", str(compared), "--units", "us")
    assert " lb" in compared.read_text(encoding="utf-8") and " kg" not in compared.read_text(encoding="utf-8")


def test_every_command_has_it() -> None:
    def commands(group) -> list:
        return [one for each in group.commands.values() for one in (each, *(commands(each) if hasattr(each, "commands") else ()))]  # fmt: skip

    for command in commands(cli):
        assert [one.name for one in command.params].count("units") == 1, command.name
    assert invoke(["claims", "-", "--units", "imperial"]) == 2


def test_numbers_are_written_as_a_language_does(book: str, tmp_path: Path, capsys) -> None:
    """Decimal marks by Unicode CLDR (held here from memory: a comma in German and Portuguese, a point in English)."""
    plain, comma = (printed(capsys, "report", book, "M1", "--out", str(tmp_path / "x.html"), *more) for more in ((), ("--lang", "de")))  # fmt: skip
    page = (tmp_path / "x.html").read_text(encoding="utf-8")
    assert (
        "41,37 ± 0,17 Ah" in page
        and "JCGM 100:2008, 5.2" in page
        and "41.37" not in page
        and not re.search(r">\d+\.\d+</text>", page)
    )
    style = page[page.index("<style>") : page.index("</style>")]
    assert re.search(r"\d\.\d|[^\d]\.\d", style), "what is no words stays"
    assert plain.replace(".html", "") == comma.replace(".html", "")
    words = printed(capsys, "claims", str(_label(tmp_path)), "--lang", "pt-BR")
    assert "12,8 V" in words and "“12.8 V, 4.4 kg”" in words
    assert printed(capsys, "--lang", "en", "claims", str(_label(tmp_path))) == printed(capsys, "claims", str(_label(tmp_path)))  # fmt: skip
    both = printed(capsys, "claims", str(_label(tmp_path)), "--units", "us", "--lang", "de")
    assert "9,7 lb" in both and both == printed(
        capsys, "claims", str(_label(tmp_path)), "--lang", "de", "--units", "us"
    )
    recipe = [printed(capsys, "recipes", "charge-lead-acid", *more) for more in ((), ("--lang", "de"))]
    assert recipe[0] == recipe[1], "what a program reads is as ever"
    assert invoke(["claims", str(_label(tmp_path)), "--lang", "nowhere"]) == 2
    assert "no language known here" in capsys.readouterr().err


def _label(folder: Path) -> Path:
    path = folder / "label.txt"
    path.write_text("12.8 V, 4.4 kg\n", encoding="utf-8")
    return path
