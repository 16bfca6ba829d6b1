"""A second meter and the pack's own cells: columns, spreads, disagreements."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from tests.making import discharge
from wintry_tally.core.analysis import Instrument, Options, analyse
from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.cell import BatteryModel, parameters_for
from wintry_tally.core.cell.cells import cell_shares, cell_voltages
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.core.trace import Trace
from wintry_tally.core.trace.beside import beside_column, cells_told, in_order, named_by

GOOD = Instrument(parse_accuracy("0.1%+2d"), parse_accuracy("0.5%+2d"), "meter")


def with_cells(trace: Trace, apart_V: float, cells: int = 4) -> Trace:
    """The pack's voltage shared out, the last cell `apart_V` below the first."""
    offsets = np.linspace(apart_V / 2, -apart_V / 2, cells)
    return replace(
        trace, beside={f"cell_{n}_V": trace.voltage_V / cells + offset for n, offset in enumerate(offsets, 1)}
    )


def codes(found) -> list[str]:
    return [remark.code for remark in found.remarks]


def test_cells_within_5_mV_are_well_balanced() -> None:
    # T19, common practice, no published source: four LFP cells that differ by 5 mV under load are well balanced
    found = analyse(with_cells(discharge(), 0.005), Options(FAMILIES["lfp"], 40.0, GOOD))
    assert found.cells is not None and "well balanced" in found.cells.words
    loaded = found.cells.at("under load")
    assert loaded is not None and loaded.spread_V == pytest.approx(0.005, abs=1e-6)
    assert (loaded.lowest, loaded.highest) == (4, 1) and "cells-apart" not in codes(found)
    assert [item.when for item in found.cells.spreads] == ["at the start", "under load", "empty"]


def test_cells_far_apart_and_cells_that_do_not_add_up_are_remarked() -> None:
    options = Options(FAMILIES["lfp"], 40.0, GOOD)
    apart = analyse(with_cells(discharge(), 0.08), options)
    assert "cells-apart" in codes(apart) and "meters-disagree" not in codes(apart)
    assert apart.cells is not None and "well balanced" not in apart.cells.words
    whole = with_cells(discharge(), 0.004)
    one_more = replace(whole, beside={**whole.beside, "cell_5_V": whole.beside["cell_4_V"]})
    assert any("add up to 125.0 %" in remark.message for remark in analyse(one_more, options).remarks)
    assert analyse(discharge(), options).cells is None
    alone = replace(whole, beside={"cell_1_V": whole.beside["cell_1_V"]})
    assert analyse(alone, options).cells is None, "one cell has no spread"


@pytest.mark.parametrize(("gain", "agree"), [(1.0, True), (1.008, True), (1.02, False)])
def test_a_second_meter_is_judged_against_both_specifications(gain: float, agree: bool) -> None:
    # limits of 0.5 % + 2 digits each: two honest meters differ by at most 1 % + 4 digits (common practice)
    trace = discharge()
    both = replace(trace, beside={"second_V": trace.voltage_V + 0.001, "second_A": trace.current * gain})
    found = analyse(both, Options(FAMILIES["lfp"], 40.0, GOOD, second=GOOD))
    second = found.second
    assert second is not None and second.agree is agree and second.charge_Ah is not None
    assert second.charge_Ah == pytest.approx(second.first_Ah * gain, rel=1e-9)
    assert second.voltage_V == pytest.approx(0.001, abs=1e-6)
    assert ("meters-disagree" in codes(found)) is not agree
    assert ("within both" if agree else "beyond both") in second.words
    assert second.working.inputs["voltage"].startswith("+1.0 mV at 1") and "mA at 8.000 A" in second.working.inputs["current"]  # fmt: skip
    unknown = analyse(both, Options(FAMILIES["lfp"], 40.0, GOOD)).second
    assert unknown is not None and unknown.agree is None, "without its specification nothing can be said"


def test_headings_of_cells_and_second_meters() -> None:
    assert named_by("Cell 3 Voltage / V") == ("cell_3_V", 1.0)
    assert named_by("cell_02 (mV)") == ("cell_2_V", 1e-3) and named_by('"Cell1"') == ("cell_1_V", 1.0)
    assert named_by("vCell3") == ("cell_3_V", 1.0) and named_by("Cell V2 (mV)") == ("cell_2_V", 1e-3)
    assert named_by("Zelle 4 [V]") == ("cell_4_V", 1.0)
    for other in ("Voltage / V", "Cell 99", "Cell spread / V", "Excel 1", "Cell 1 Temperature"):
        assert named_by(other) is None, other
    for name in ("second_V", "second_A", "pack_C", "cell_7_V"):
        assert named_by(beside_column(name).heading) == (name, 1.0)
    assert in_order(["cell_10_V", "cell_2_V", "pack_C", "second_V"]) == ["second_V", "pack_C", "cell_2_V", "cell_10_V"]
    assert cells_told({"cell_2_V": 3.2, "second_V": 12.8, "cell_1_V": 3.3}) == {1: 3.3, 2: 3.2}


def test_cells_of_the_model_add_up_and_part_near_empty() -> None:
    # a series string is limited by its smallest cell, which is the first to fall (common practice)
    model = BatteryModel(parameters_for(FAMILIES["lfp"], 40.0))
    shares = cell_shares(4, seed=3)
    assert min(shares) == 1.0 and max(shares) < 1.02
    spreads = []
    for _ in range(11):
        seen = model.advance(8.0, 1680.0)
        cells = cell_voltages(model, seen.voltage_V, shares)
        assert sum(cells) == pytest.approx(model.inner_V() if model.open_discharge else seen.voltage_V, abs=1e-9)
        assert cells.index(min(cells)) == shares.index(1.0)
        spreads.append(max(cells) - min(cells))
    assert spreads[2] < 0.01 < spreads[-1], "well balanced on the plateau, apart at the knee"
