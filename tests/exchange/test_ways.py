"""Which way a current flowed, where no sign says it: words beside it, a column for each way, or the voltage alone.

Common practice, no published source; invented data.
"""

from __future__ import annotations

from datetime import datetime, timedelta
from pathlib import Path

import numpy as np
import pytest

from tests.making import RESOLUTION
from wintry_tally.core.analysis import Analysis, Options, analyse
from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.trace import Trace
from wintry_tally.exchange import read_log
from wintry_tally.exchange.ways import way_of

# 8 A in for 2 h, half an hour's rest, 8 A out for 1.5 h: 16 and 12 Ah
AMPS = np.concatenate([np.zeros(12), np.full(720, -8.0), np.zeros(180), np.full(540, 8.0), np.zeros(12)])
VOLTS = np.concatenate(
    [
        np.full(12, 12.9),
        np.linspace(13.2, 13.6, 720),
        np.full(180, 13.3),
        np.linspace(13.1, 12.8, 540),
        np.full(12, 13.0),
    ]
).round(2)
WORDS = [{-8.0: "CC_Chg", 0.0: "Rest", 8.0: "CC_DChg"}[float(amps)] for amps in AMPS]


def analysed(trace: Trace) -> Analysis:
    return analyse(trace, Options(FAMILIES["lfp"], 40.0))


def read(tmp_path: Path, header: str, cells: list[str]) -> Analysis:
    path = tmp_path / "log.csv"
    rows = [f"{10 * n},{volts},{cell}" for n, (volts, cell) in enumerate(zip(VOLTS, cells, strict=True))]
    path.write_text("\n".join([f"Time (s),Voltage (V),{header}", *rows]) + "\n", encoding="utf-8")
    return analysed(read_log(path).trace)


def both(found: Analysis) -> tuple[float, float]:
    assert found.capacity is not None and found.charge is not None
    return found.capacity.count.charge.value, found.charge.count.charge.value


@pytest.mark.parametrize(
    ("words", "way"),
    [
        ("CC_DChg", "discharge"), ("CC_Chg", "charge"), ("Discharging", "discharge"), ("CCCV charge", "charge"), ("Rest", ""),
        ("Entladen", "discharge"), ("Laden", "charge"), ("DSG", "discharge"), ("Décharge", ""), ("Decharge", "discharge"), ("Hold", ""),
    ],
)  # fmt: skip
def test_words_name_a_way(words: str, way: str) -> None:
    assert way_of(words) == way


def test_a_column_of_words_signs_the_current(tmp_path: Path) -> None:
    found = read(tmp_path, "Current (A),Step Type", [f"{abs(a):.2f},{w}" for a, w in zip(AMPS, WORDS, strict=True)])
    assert both(found) == (pytest.approx(12.0, rel=0.003), pytest.approx(16.0, rel=0.003))
    assert not {"sign-flipped", "unit-suspect"} & {remark.code for remark in found.remarks}
    # where the current has its signs they are believed, whatever the words
    signed = read(tmp_path, "Current (A),Step Type", [f"{a:.2f},Discharge" for a in AMPS])
    assert both(signed) == (pytest.approx(12.0, rel=0.003), pytest.approx(16.0, rel=0.003))
    # words that name no way say nothing
    said = read(tmp_path, "Current (A),Status", [f"{a:.2f},OK" for a in AMPS])
    assert both(said) == both(signed)


@pytest.mark.parametrize(
    "header",
    [
        "Charge current (A),Discharge current (A)",
        "Charging current (mA),Discharging current (mA)",
        "Ladestrom (A),Entladestrom (A)",
    ],
)
def test_a_column_for_each_way_is_one_current(tmp_path: Path, header: str) -> None:
    factor = 1000.0 if "mA" in header else 1.0
    cells = [f"{factor * max(0.0, -amps):.2f},{factor * max(0.0, amps):.2f}" for amps in AMPS]
    found = read(tmp_path, header, cells)
    assert both(found) == (pytest.approx(12.0, rel=0.003), pytest.approx(16.0, rel=0.003))
    gaps = [cell if amps else "," for cell, amps in zip(cells, AMPS, strict=True)]
    blank = read(tmp_path, header, gaps)
    assert blank.capacity is not None and blank.capacity.count.charge.value == pytest.approx(12.0, rel=0.01)


def test_a_limit_is_no_current_the_other_way(tmp_path: Path) -> None:
    found = read(tmp_path, "Discharge current (A),Charge current limit (A)", [f"{amps:.2f},20.0" for amps in AMPS])
    assert both(found) == (pytest.approx(12.0, rel=0.003), pytest.approx(16.0, rel=0.003))


@pytest.mark.parametrize("sign", [1.0, -1.0])
def test_the_voltage_tells_of_a_current_without_signs_what_is_turned(sign: float) -> None:
    trace = Trace(10.0 * np.arange(len(AMPS)), VOLTS, sign * np.abs(AMPS), resolution=RESOLUTION)
    told = [remark for remark in analysed(trace).remarks if remark.code == "sign-flipped"]
    assert len(told) == 1 and told[0].rows is not None
    turned = slice(told[0].rows[0], told[0].rows[1] - 1)
    assert set(AMPS[turned]) == {-8.0 if sign > 0 else 8.0}


def test_a_charge_that_is_one_is_not_turned() -> None:
    # a heater's at the charger's limit, then the cells': down by 1.1 V, and a charger that stands before and after
    volts = np.concatenate([np.full(30, 14.4), np.full(200, 14.3), np.linspace(13.2, 13.4, 300), np.full(30, 14.4)])
    amps = np.concatenate([np.zeros(30), np.full(500, -5.0), np.zeros(30)])
    trace = Trace(10.0 * np.arange(len(amps)), volts, amps, resolution=RESOLUTION)
    assert "sign-flipped" not in {remark.code for remark in analysed(trace).remarks}


@pytest.mark.parametrize("form", ["%Y%m%d%H%M%S", "%d-%b-%Y %H:%M:%S", "%a %b %d %H:%M:%S %Y"])
def test_dates_written_in_one_or_with_the_month_s_name(tmp_path: Path, form: str) -> None:
    begins, path = datetime(2027, 2, 27, 23, 0), tmp_path / "log.csv"
    rows = [f"{begins + timedelta(seconds=600 * n):{form}},13.2,8" for n in range(200)]
    path.write_text("\n".join(["time,V,A", *rows]) + "\n", encoding="utf-8")
    read = read_log(path)
    assert read.trace.time_s[-1] == 600.0 * 199
