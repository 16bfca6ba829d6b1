"""`forecast` and `import`: what the window plans and keeps, from the shell."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.making import discharge, write_log
from wintry_tally.book import Book
from wintry_tally.cli.main import invoke
from wintry_tally.core.analysis import analyse
from wintry_tally.core.battery import parse_claim
from wintry_tally.exchange.reader import read_log


@pytest.fixture
def run(capfd: pytest.CaptureFixture[str]):
    """One command line: its exit code, standard output and standard error."""

    def go(*arguments: str) -> tuple[int, str, str]:
        code = invoke(list(arguments))
        out, err = capfd.readouterr()
        return code, out, err

    return go


def test_a_forecast_names_each_step_its_checks_and_what_mends_them(run) -> None:
    code, out, _ = run(
        *("forecast", "--family", "agm", "--rated-ah", "75", "--recipe", "reserve", "--claim", "96 min reserve"),
        *("--load-w", "400", "--load-a", "30", "--begins", "2026-11-25 20:00", "--attended", "7:00-22:00", "--json"),
    )
    assert code == 0
    found = json.loads(out)
    assert found["schema"] == "wintry-tally.forecast/1" and found["may_start"] is False
    assert [step["ends_s"] is not None for step in found["steps"]][:2] == [True, True]
    # P5, IEC 60095-1 (from memory): C20 = √(17778 + 208.3 RC) - 133.3, so 75 Ah hold 25 A for about 123 min
    minutes = ((75.0 + 133.3) ** 2 - 17778.0) / 208.3
    assert found["charge_Ah"] == pytest.approx(25.0 * minutes / 60.0, rel=0.2)
    late = next(check for check in found["checks"] if check["state"] == "bar")
    assert late["name"] == "Attended" and late["offers"][0]["kind"] == "wait"
    morning = run(
        *("forecast", "--family", "agm", "--rated-ah", "75", "--recipe", "reserve", "--load-w", "400"),
        *("--load-a", "30", "--begins", "2026-11-25 09:00", "--attended", "7:00-22:00"),
    )
    assert morning[0] == 0 and "BAR" not in morning[1] and "Forecast:" in morning[1]


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (("--family", "lfp", "--rated-ah", "-4"), "cannot be"),
        (("--family", "lfp", "--rated-ah", "40", "--full", "140"), "cannot be"),
        (("--family", "lfp", "--rated-ah", "40", "--begins", "at dusk"), "no moment"),
        (("--family", "lfp", "--rated-ah", "40", "--attended", "at dusk"), "no hours"),
        (("--family", "tin", "--rated-ah", "40"), "tin"),
        (("--family", "lfp", "--rated-ah", "40", "--recipe", "hope"), "hope"),
        (("--family", "lfp"), "rated-ah"),
    ],
)
def test_forecasts_that_cannot_be_are_one_line(run, arguments: tuple[str, ...], says: str) -> None:
    code, out, err = run("forecast", *arguments)
    assert code == 2 and not out and says in err and err.count("\n") == 1


def test_a_log_is_imported_into_a_book_as_the_window_does(run, tmp_path: Path) -> None:
    log = write_log(tmp_path / "run.csv", discharge())
    book_path = tmp_path / "b.wintry"
    with Book.create(book_path) as book:
        number = book.samples.add("B1", "", "", "lfp")
        book.samples.add_claim(number, parse_claim("40 Ah at 0.2C"))
    accuracy = ("--voltage-accuracy", "0.1%+2d", "--current-accuracy", "0.5%+2d")
    code, out, err = run("import", str(book_path), "B1", str(log), *accuracy)
    assert code == 0 and "Capacity 1" in out, err
    with Book.open(book_path) as book:
        kept = book.runs.all()[0]
        assert kept.status == "finished" and kept.settings.current_accuracy and kept.station == "capacity"
        original = book.runs.original(kept.id)
        assert original is not None and original[1] == log.read_bytes()
        straight = analyse(read_log(log).trace, kept.settings.options()).capacity
        again = analyse(book.runs.trace(kept.id), kept.settings.options()).capacity
        assert straight is not None and again is not None and straight.count.charge == again.count.charge
    for wrong, says in ((("B9", str(log)), "there are B1"), (("B1", str(tmp_path / "no.csv")), "no such file")):
        code, _, err = run("import", str(book_path), *wrong)
        assert code == 2 and says in err
    code, _, err = run("import", str(book_path), "B1", str(log), "--test", "hope")
    assert code == 2 and "no kind of test" in err
