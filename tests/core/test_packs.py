"""Packs of 6 to 48 V: the cells in series settle every voltage; said, read off the log, or told where two would fit."""

from __future__ import annotations

import json
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pytest
from benchmarks import honest
from benchmarks.packs import alike, judged

from tests.amount import THOROUGH
from tests.making import discharge
from wintry_tally.book import Book, RunSettings
from wintry_tally.cli.main import invoke
from wintry_tally.core.analysis import Options, analyse
from wintry_tally.core.battery import FAMILIES, of_cells, pack_of
from wintry_tally.core.cell import BatteryModel, parameters_for
from wintry_tally.core.cell.parameters import in_series
from wintry_tally.core.errors import BookError, InputError
from wintry_tally.core.trace import Trace


# Cells by nominal voltage: handbook table of families (3.2, 2.0 and 3.7 V a cell) and the packs of 6 to 48 V that are sold;
# common practice, no published source.
@pytest.mark.parametrize(
    ("family", "printed", "cells"),
    [
        ("lfp", 12.8, 4), ("lfp", 12.0, 4), ("lfp", 24.0, 8), ("lfp", 25.6, 8), ("lfp", 36.0, 12), ("lfp", 48.0, 16),
        ("lfp", 51.2, 16), ("lfp", 6.4, 2), ("agm", 6.0, 3), ("gel", 12.0, 6), ("flooded", 24.0, 12), ("agm", 48.0, 24),
        ("nmc", 7.4, 2), ("nmc", 11.1, 3), ("nmc", 12.0, 3), ("nmc", 14.8, 4), ("nmc", 22.2, 6), ("nmc", 25.9, 7),
        ("nmc", 36.0, 10), ("nmc", 48.1, 13), ("nmc", 51.8, 14),
    ],
)  # fmt: skip
def test_a_printed_voltage_says_the_cells(family: str, printed: float, cells: int) -> None:
    assert pack_of(FAMILIES[family], printed).cells == cells


def test_no_voltage_is_the_usual_pack_and_an_odd_one_is_refused() -> None:
    assert pack_of(FAMILIES["lfp"], None) is FAMILIES["lfp"] and pack_of(FAMILIES["lfp"], 12.8) is FAMILIES["lfp"]
    for odd in (0.0, -12.0, 3.2, 17.3, 400.0):
        with pytest.raises(InputError, match="there are 6"):
            pack_of(FAMILIES["lfp"], odd)


@pytest.mark.parametrize("family", FAMILIES)
def test_every_voltage_of_a_pack_is_its_cells(family: str) -> None:
    usual = FAMILIES[family]
    for cells in FAMILIES[family].packs:
        pack = of_cells(usual, cells)
        ratio = cells / usual.cells
        assert pack.share == pytest.approx(ratio) and pack.key == family and pack.cells == cells
        for name in ("nominal_V", "cutoff_V", "cutoff_floor_V"):
            assert getattr(pack, name) == pytest.approx(ratio * getattr(usual, name), abs=1e-3), name
        for name in ("charge_V", "float_V", "plausible_V", "mean_V", "arrival_V"):
            kept = getattr(usual, name)
            assert getattr(pack, name) == (
                None if kept is None else pytest.approx([ratio * v for v in kept], abs=1e-3)
            ), name
        assert [state for _, state in pack.charge_state] == [state for _, state in usual.charge_state]
        assert pack.charge_state[0][0] == pytest.approx(ratio * usual.charge_state[0][0], abs=1e-3)
        assert pack.cell_revival_V == usual.cell_revival_V and pack.rest_s == usual.rest_s
        assert of_cells(pack, usual.cells).cutoff_V == pytest.approx(usual.cutoff_V, abs=1e-3)


def test_the_model_of_a_pack_is_its_cells_in_series() -> None:
    one, four = (parameters_for(pack_of(FAMILIES["lfp"], volts), 100.0) for volts in (12.8, 51.2))
    assert four.ocv[-1][1] == pytest.approx(4 * one.ocv[-1][1]) and four.capacity_Ah == one.capacity_Ah
    assert four.resistance_ohm == pytest.approx(4 * one.resistance_ohm) and four.mass_kg == pytest.approx(
        4 * one.mass_kg
    )
    assert (
        four.protection.low_cut_V == pytest.approx(40.0)
        and four.protection.over_current_A == one.protection.over_current_A
    )


@pytest.mark.parametrize("key", ["lfp", "nmc", "agm", "flooded"])
@pytest.mark.parametrize("times", [0.5, 2.0, 4.0])
def test_cells_in_series_are_charged_and_drawn_as_each_of_them(key: str, times: float) -> None:
    """So many times the voltage at the same current, over a charge to full, a taper and a discharge (Kirchhoff)."""
    usual = parameters_for(FAMILIES[key], 40.0)
    one, many = BatteryModel(usual, 0.6, 25.0), BatteryModel(in_series(usual, times), 0.6, 25.0)
    limit_V = FAMILIES[key].charge_V[1]
    for minute in range(900):
        charging = minute < 600
        if charging:
            alone, together = one.charge(10.0, limit_V, 60.0), many.charge(10.0, times * limit_V, 60.0)
        else:
            alone, together = one.advance(8.0, 60.0), many.advance(8.0, 60.0)
        for model in (one, many):  # a large pack keeps its warmth for longer
            model.temperature_C = 25.0
        assert together.voltage_V == pytest.approx(times * alone.voltage_V, abs=2e-3 * times), (minute, charging)
        assert together.current_A == pytest.approx(alone.current_A, abs=5e-3)
    assert one.state_of_charge < 0.6


def of_pack(cells: int, trace: Trace | None = None) -> Trace:
    """An LFP discharge of four cells as one of so many."""
    made = trace or discharge()
    return replace(made, voltage_V=made.voltage_V * cells / 4.0)


@pytest.mark.parametrize("cells", [2, 8, 12, 16])
def test_a_log_says_its_pack_itself_and_once(cells: int) -> None:
    known = Options(family=FAMILIES["lfp"], rated_Ah=40.0)
    usual, found = analyse(discharge(), known), analyse(of_pack(cells), known)
    assert found.options.family.cells == cells
    assert [item.code for item in found.remarks] == ["pack-voltage", *(item.code for item in usual.remarks)]
    assert f"pack of {cells} cells in series" in found.remarks[0].message
    assert found.capacity.ended_by == usual.capacity.ended_by
    assert found.capacity.count.charge.value == pytest.approx(usual.capacity.count.charge.value, rel=1e-6)
    said = replace(known, family=of_cells(FAMILIES["lfp"], cells), cells_known=True)
    assert [item.code for item in analyse(of_pack(cells), said).remarks] == [item.code for item in usual.remarks]


def test_what_was_said_holds_against_the_log() -> None:
    said = Options(family=FAMILIES["lfp"], rated_Ah=40.0, cells_known=True)
    told = {item.code for item in analyse(of_pack(8), said).remarks}
    assert "voltage-outside-family" in told and not told & {"pack-voltage", "pack-voltage-open"}


def steady(low: float, high: float) -> Trace:
    """An hour's fall from one voltage to another at 5 A."""
    time_s = np.arange(0.0, 3600.0, 10.0)
    return Trace(time_s, np.linspace(high, low, len(time_s)), np.full(len(time_s), 5.0))


def test_voltages_that_fit_two_packs_are_told_and_the_usual_one_stays() -> None:
    nmc = Options(family=FAMILIES["nmc"], rated_Ah=50.0)
    both = analyse(steady(12.1, 12.4), nmc)
    assert [item.code for item in both.remarks][:1] == ["pack-voltage-open"] and both.options.family.cells == 3
    assert (
        "3 cells (11.1 V) or of 4 cells (14.8 V)" in both.remarks[0].message
        and "nominal voltage says which" in both.remarks[0].message
    )
    for low, high, cells in ((11.9, 12.4, 3), (12.1, 13.5, 4)):  # a reading below the one, above the other
        one = analyse(steady(low, high), nmc)
        assert one.options.family.cells == cells and "pack-voltage-open" not in {item.code for item in one.remarks}
    wide = analyse(steady(45.0, 50.0), nmc)
    assert wide.options.family.cells == 13 and wide.remarks[0].code == "pack-voltage-open"


def test_a_slip_is_no_pack_and_a_sleeping_pack_says_nothing() -> None:
    lfp = Options(family=FAMILIES["lfp"], rated_Ah=40.0)
    for factor in (10.0, 1000.0, 0.1, 1.4):
        found = analyse(replace(discharge(), voltage_V=discharge().voltage_V * factor), lfp)
        assert found.options.family.cells == 4 and not {"pack-voltage", "pack-voltage-open"} & {
            r.code for r in found.remarks
        }
    asleep = of_pack(8, discharge(after_s=7200.0))  # opened, and long at 0.8 V
    assert analyse(asleep, lfp).options.family.cells == 8


def asked(*arguments: str, capsys) -> dict:
    assert invoke([*arguments, "--json"]) == 0
    return json.loads(capsys.readouterr().out)


def test_the_shell_goes_by_it_in_every_command(tmp_path: Path, capsys) -> None:
    (tmp_path / "b.toml").write_text('family = "agm"\nrated_Ah = 80\nnominal_V = 24\n')
    log = tmp_path / "l.csv"
    assert (
        invoke(
            [
                "simulate",
                "--battery",
                str(tmp_path / "b.toml"),
                "--protocol",
                "capacity-reference",
                "--out",
                str(log),
                "--interval",
                "60",
            ]
        )
        == 0
    )
    capsys.readouterr()
    known = ["--family", "agm", "--rated-ah", "80", "--nominal-v", "24"]
    shown = asked("analyse", str(log), *known, "--current-accuracy", "0.5%", capsys=capsys)
    assert shown["capacity"]["ended_by"] == "set-cutoff" and shown["remarks"] == []
    claims = tmp_path / "c.toml"
    for nominal in ("nominal_V = 24\n", ""):
        claims.write_text(
            f'[battery]\nfamily = "agm"\nrated_Ah = 80\n{nominal}[[claim]]\nkind = "capacity"\nvalue = 75\nunit = "Ah"\n'
            '[[evidence]]\nmethod = "capacity"\nlog = "l.csv"\n[evidence.options]\ncurrent_accuracy = "0.5%"\n'
        )
        judged = asked("judge", str(claims), capsys=capsys)
        assert judged["claims"][0]["outcome"] == "met", "21 V is its end, not a cut-off far above the claim's"
    foretold = asked("forecast", *known, "--charger-v", "32", capsys=capsys)
    assert 23.0 < foretold["energy_Wh"] / foretold["charge_Ah"] < 26.0, "twelve cells, not six"
    assert invoke(["analyse", str(log), "--nominal-v", "24"]) == 2 and "give --family too" in capsys.readouterr().err
    assert invoke(["analyse", str(log), "--family", "agm", "--nominal-v", "17"]) == 2
    assert "pack of 17 V is not known" in capsys.readouterr().err
    assert invoke(["rate", str(log), *known, "--nominal-v", "17"]) == 2
    assert "pack of 17 V is not known" in capsys.readouterr().err


def test_a_sample_s_pack_is_kept_and_every_limit_follows(tmp_path: Path) -> None:
    with Book.create(tmp_path / "b.wintry") as book:
        usual = book.samples.get(book.samples.add("B1", "", "", "lfp"))
        pack = book.samples.get(book.samples.add("B2", "", "", "lfp", nominal_V=25.6))
        assert usual.family is FAMILIES["lfp"] and (pack.family.cells, pack.cutoff_V) == (8, 2 * usual.cutoff_V)
        settings = RunSettings(family=pack.family_key, nominal_V=pack.nominal_V)
        run = book.runs.begin(pack.id, "x", "simulated", datetime(2027, 1, 11, tzinfo=UTC), settings)
        assert book.runs.get(run).settings.options().family == pack.family
        book.samples.change(pack.id, nominal_V=90.0)
        with pytest.raises(BookError, match="sample 2 of the book"):
            book.samples.get(pack.id)


def test_the_shell_takes_a_pack_from_the_label_or_is_told(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (tmp_path / "label.txt").write_text("25.6 V 100 Ah LiFePO4\n2560 Wh\n")
    path = str(tmp_path / "b.wintry")
    for arguments in (["new", path], ["add", path, "B1", "--claims", str(tmp_path / "label.txt")], ["add", path, "B2", "--nominal-v", "48"]):  # fmt: skip
        assert invoke(arguments) == 0
    with Book.open(Path(path)) as book:
        assert [sample.family.cells for sample in book.samples.all()] == [8, 16]
    capsys.readouterr()
    assert invoke(["judge", path, "B1", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["battery"]["nominal_V"] == 25.6 and told["findings"] == [], "25.6 V × 100 Ah are the 2560 Wh printed"
    assert invoke(["add", path, "B3", "--nominal-v", "90"]) == 2 and "there are 6.4 V" in capsys.readouterr().err


@pytest.mark.parametrize("kind", ["capacity", "charge-voltage", "low-cut", "reserve"])
def test_a_log_of_more_cells_in_series_is_judged_as_that_of_12_V(kind: str) -> None:
    """benchmarks/packs.py, of one stranger's battery a kind: what is judged of a cell is judged of many."""
    assert alike(judged(kind, 12, 1.0), judged(kind, 12, 4.0))


@pytest.mark.parametrize("seed", [113, 17] if THOROUGH else [113])
def test_a_bench_at_which_nothing_is_wrong_comes_to_its_own_end(seed: int) -> None:
    """benchmarks/honest.py: a charge of 16 cells to the charger's limit, by a meter that is half a percent off."""
    assert honest.run(seed)[1] == ""
