"""A run's own picture: held against logs made by hand, whose every figure can be worked out beside them (invented)."""

from __future__ import annotations

import re

import numpy as np
import pytest

from wintry_tally.core.analysis import Instrument, Options, analyse
from wintry_tally.core.battery import family_named
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.core.trace.trace import Trace
from wintry_tally.report.portrait import MOST_BLOCKS, Portrait, portrait_of, thinned


def _log(
    *parts: tuple[float, float, float, float, float], step: float = 10.0, temperature: float | None = None
) -> Trace:
    """Stretches one after the other: s, and V and A from and to."""
    time, volts, amps, at = [], [], [], 0.0
    for seconds, v0, v1, a0, a1 in parts:
        count = round(seconds / step)
        time.append(at + step * np.arange(count))
        volts.append(np.linspace(v0, v1, count))
        amps.append(np.linspace(a0, a1, count))
        at += seconds
    t = np.concatenate(time)
    warm = None if temperature is None else np.full(len(t), temperature) + t / 1000.0
    return Trace(
        t, np.concatenate(volts), np.concatenate(amps), warm, resolution={"voltage_V": 0.001, "current_A": 0.01}
    )


def _of(test: str, trace: Trace, **options: object) -> Portrait | None:
    return portrait_of(test, analyse(trace, Options(family=family_named("lfp"), rated_Ah=40.0, **options)))  # type: ignore[arg-type]


CHARGE = ((600.0, 12.9, 12.9, 0.0, 0.0), (7200.0, 13.0, 13.9, -8.0, -8.0), (3600.0, 14.4, 14.4, -8.0, -1.6), (1200.0, 13.8, 13.6, 0.0, 0.0))  # fmt: skip


def test_a_charge_is_its_phases() -> None:
    """8 A for two hours are 16 Ah; from 8 A down to 1.6 A (0.04 C) in a straight line over an hour 4.8 Ah, full at 2 A."""
    made = _of("charge", _log(*CHARGE))
    assert made is not None
    phases = [row[0] for row in made.rows]
    assert phases[:2] == ["constant current", "constant voltage"] and made.head[0] == "phase"
    assert made.rows[0][2] == "16.00 Ah" and made.rows[0][3] == "8 A" and made.rows[0][4] == "13.90 V"
    volts, current = made.panels
    assert volts.y_title == "V" and current.y_title == "A in" and current.x_title == "time / h" and volts.x_title == ""
    x, y = current.series[0][1:]
    assert y.max() == pytest.approx(8.0) and y.min() > 0 and x[-1] == pytest.approx(3.0, abs=0.01)
    # 8 A fall to 2 A, 0.05 C, after 56 min 15 s of the hour: full after 2 h 56 min
    assert volts.marks[0][1] == "full" and volts.marks[0][0] == pytest.approx(2.0 + 56.25 / 60.0, abs=0.02)
    assert "full after 2 h 56 min" in made.told[0] and volts.bands[0].words == "constant current"
    assert all(not band.words for band in current.bands) and not current.marks
    # the log begins with ten minutes of rest; the picture begins with the charge
    ends = [(round(band.start, 2), round(band.end, 2)) for band in volts.bands[:2]]
    assert ends[0][0] == 0.0 and ends[0][1] == pytest.approx(2.0, abs=0.02) == ends[1][0] and ends[1][1] <= 3.01
    assert volts.bands[0].live
    assert "Charge acceptance" in made.told[1]


def test_a_charge_that_goes_on_to_float_says_what_came_after_full() -> None:
    made = _of("charge", _log(*CHARGE[:3], (3600.0, 13.5, 13.5, -0.6, -0.6), CHARGE[3]))
    assert made is not None
    last = [row for row in made.rows if row[0].startswith("after full")]
    assert last and last[-1][2] == "0.60 Ah"
    never = _of("charge", _log(CHARGE[0], CHARGE[1]))
    assert never is not None and "never full" in never.told[0] and not never.panels[0].marks


def test_a_hold_is_its_sag() -> None:
    """From 13.30 V at rest to 12.30 V after ten minutes of 50 A: 1.00 V, 20 mΩ in all."""
    made = _of("hold", _log((300.0, 13.3, 13.3, 0.0, 0.0), (600.0, 12.6, 12.3, 50.0, 50.0), (300.0, 13.0, 13.2, 0.0, 0.0), step=1.0, temperature=20.0))  # fmt: skip
    assert made is not None
    assert (
        made.told[0] == "50 A for 10 min 00 s: from 13.30 V at rest to 12.30 V at its end, 1.00 V of sag (20 mΩ in all)"
    )
    # a meter good to 0.1 % and two digits of 0.01 V: the gain cancels but for its part of the sag, 0.1 % of 1 V
    meter = Instrument(parse_accuracy("0.1%+2d"), parse_accuracy("1%"), "m")
    sure = _of("hold", _log((300.0, 13.3, 13.3, 0.0, 0.0), (600.0, 12.6, 12.3, 50.0, 50.0), (300.0, 13.0, 13.2, 0.0, 0.0), step=1.0), instrument=meter)  # fmt: skip
    assert sure is not None and sure.working is not None
    assert re.search(r"1\.0\d* ± 0\.0\d+ V of sag \((20|20\.0\d*) ± 0\.\d+ mΩ in all\)", sure.told[0]), sure.told[0]
    assert sure.working.formula == "sag = V_rest − V_end; R = sag / I" and "± 0.0" in sure.working.result
    assert [panel.y_title for panel in made.panels] == ["V", "A", "°C"]
    # it went from 20.3 °C as the load came on to 21.0 °C a minute after it was off
    assert made.told[1] == "It warmed from 20.3 to 21.0 °C"
    assert made.panels[0].series[0][1][0] == pytest.approx(-20.0 / 60.0, abs=0.02)
    assert made.rows == () and made.lines == made.told


def test_an_overload_is_the_seconds_round_its_opening() -> None:
    steps = ((60.0, 13.3, 13.3, 0.0, 0.0), (60.0, 12.6, 12.6, 40.0, 40.0), (60.0, 12.0, 12.0, 90.0, 90.0), (8.0, 11.6, 11.6, 120.0, 120.0), (60.0, 0.0, 0.0, 0.0, 0.0))  # fmt: skip
    made = _of("overload", _log(*steps, step=0.5))
    assert made is not None
    assert [row[2] for row in made.rows] == ["held", "held", "the protection opened"]
    assert made.rows[1][:2] == ("90 A", "1 min 00 s") and made.told[0].startswith("It opened at 120 A, ")
    x = made.panels[0].series[0][1]
    assert made.panels[0].marks == ((0.0, "opened"),) and made.panels[1].x_title == "time / s from the opening"
    assert made.panels[1].series[0][2].max() == 120.0
    # three times the eight seconds before it, and twenty after it
    assert x[0] == pytest.approx(-24.0, abs=1.5) and x[-1] == pytest.approx(20.0, abs=1.0)
    stood = _of("overload", _log(*steps[:3], (60.0, 13.0, 13.2, 0.0, 0.0), step=0.5))
    assert (
        stood is not None
        and stood.lines[0] == "It did not open."
        and [row[2] for row in stood.rows] == ["held", "held"]
    )


def test_a_rest_is_drawn_by_the_logarithm_of_time() -> None:
    """A voltage that falls by 10 mV with every ten times longer is a straight line there."""
    at = np.arange(5.0, 7300.0, 5.0)
    volts = 13.5 - 0.01 * np.log10(at)
    made = _of("", Trace(at, volts, np.zeros(len(at)), resolution={"voltage_V": 1e-5, "current_A": 0.01}))
    assert made is not None
    x, y = made.panels[0].series[0][1:]
    assert np.polyfit(x, y, 1)[0] == pytest.approx(-0.01, abs=2e-4)
    assert [row[0] for row in made.rows] == ["30 min 00 s", "1 h 00 min", "4 h 00 min", "24 h 00 min"]
    assert [row[1] for row in made.rows][2:] == ["not yet", "not yet"]
    assert made.rows[0][1] == "13.467 V" and len(made.panels[0].marks) == 2
    assert {words for _, words in made.panels[0].ticks} >= {"1 min", "10 min", "1 h"}
    # from 5832 to 7290 s it falls by 10 mV × log10 of their ratio: 0.969 mV in 0.405 h
    assert "moving by −2.4 mV/h in its last fifth" in made.told[0]
    assert (x[0], x[-1]) == (pytest.approx(np.log10(5.0 / 60.0)), pytest.approx(np.log10(7290.0 / 60.0)))
    assert {words: place for place, words in made.panels[0].ticks} == {
        "10 s": pytest.approx(np.log10(1.0 / 6.0)), "1 min": 0.0, "10 min": 1.0, "1 h": pytest.approx(np.log10(60.0)),
    }  # fmt: skip
    assert _of("", Trace(at[:100], volts[:100], np.zeros(100))) is None  # eight minutes are no rest


def test_a_heater_and_the_cells_stand_apart() -> None:
    """4.6 A at 14.3 V for 25 min are 27.4 Wh and 65.8 W; then the cells take 18.2 A for half an hour, 9.1 Ah."""
    made = _of("heater", _log((60.0, 12.9, 12.9, 0.0, 0.0), (1500.0, 14.3, 14.3, -4.6, -4.6), (1800.0, 13.3, 13.4, -18.2, -18.2), (300.0, 13.2, 13.2, 0.0, 0.0), step=1.0, temperature=-12.0))  # fmt: skip
    assert made is not None
    assert made.rows[0] == ("heater", "25 min 00 s", "27.4 Wh, 65.8 W", "14.30 V")
    assert made.rows[1][0] == "cells" and made.rows[1][2] == "9.10 Ah" and made.rows[1][1] == "30 min 00 s"
    assert [(band.words, band.live) for band in made.panels[0].bands] == [("heater", True), ("cells", False)]
    assert made.panels[0].bands[0].end == pytest.approx(25.0, abs=0.05) and made.panels[2].y_title == "°C"
    # it began at −12 °C and went up by a kelvin in a thousand seconds: −10.4 °C as the cells took over
    assert "The cells took the charge at −10.4 °C, 25 min 00 s after it began" in made.told[0]
    assert [panel.x_title for panel in made.panels] == ["", "", "time / min"]
    assert made.panels[0].bands[0].start == 0.0 and made.panels[1].series[0][2].max() == pytest.approx(18.2)
    assert made.panels[0].bands[1].end == pytest.approx(55.0, abs=0.1)


def test_a_charge_in_the_cold_says_what_was_done_with_it_and_where() -> None:
    refused = (60.0, 13.0, 13.0, 0.0, 0.0), (2.0, 13.5, 13.6, -4.0, -4.0), (600.0, 14.4, 14.4, 0.0, 0.0)
    made = _of("charge-block", _log(*refused, (120.0, 13.4, 13.5, -4.0, -4.0), step=0.5, temperature=-10.0))
    assert made is not None
    assert [row[2] for row in made.rows] == ["refused", "taken"] and made.rows[0][1] == "−9.9 °C"
    assert made.told[1].startswith("A charge was taken at −9.3 °C") and "refused at −9.9 °C" in made.told[0]
    assert [words for _, words in made.panels[0].marks] == ["refused", "taken"]
    assert _of("charge-block", _log(refused[0], step=0.5)) is None


def test_time_is_counted_in_what_suits_its_length() -> None:
    def title(seconds: float) -> tuple[str, float]:
        made = _of("hold", _log((60.0, 13.3, 13.3, 0.0, 0.0), (seconds, 12.6, 12.3, 50.0, 50.0), (60.0, 13.0, 13.2, 0.0, 0.0), step=1.0))  # fmt: skip
        assert made is not None
        return made.panels[-1].x_title, made.panels[0].marks[1][0]

    assert title(300.0) == ("time / s", pytest.approx(300.0, abs=1.0))
    assert title(1200.0) == ("time / min", pytest.approx(20.0, abs=0.05))
    assert title(14_400.0) == ("time / h", pytest.approx(4.0, abs=0.01))


def test_a_curve_says_it_all_for_what_is_about_charge() -> None:
    drawn = _log((600.0, 13.3, 13.3, 0.0, 0.0), (18000.0, 13.1, 10.0, 8.0, 8.0), (600.0, 11.0, 11.5, 0.0, 0.0))
    assert _of("capacity", drawn) is None and _of("", drawn) is None and _of("runtime", drawn) is None
    assert _of("hold", _log((600.0, 13.3, 13.3, 0.0, 0.0))) is None


def test_thinning_keeps_every_low_and_high() -> None:
    dice = np.random.default_rng(5)
    x, y, z = np.arange(100_000.0), dice.standard_normal(100_000), dice.standard_normal(100_000)
    y[12_345], z[54_321] = 50.0, -50.0
    few, low, high = thinned(x, y, z)
    assert len(few) <= 4 * MOST_BLOCKS + 2 and low.max() == 50.0 and high.min() == -50.0
    assert few[0] == 0.0 and few[-1] == 99_999.0 and np.all(np.diff(few) > 0)
    assert thinned(x[:1200], y[:1200], z[:1200])[0] is not few and len(thinned(x[:1200], y[:1200], z[:1200])[0]) == 1200
    gappy = np.where(np.arange(100_000) < 50_000, np.nan, y)
    assert np.isfinite(thinned(x, gappy)[1]).any()


def test_no_verdict_waits_for_a_picture_that_cannot_be_drawn(
    monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    from datetime import UTC, datetime

    from wintry_tally.report import dossier
    from wintry_tally.report.dossier import RunFacts, report_run

    def fails(*_: object) -> None:
        raise ZeroDivisionError

    monkeypatch.setattr(dossier, "portrait_of", fails)
    options = Options(family=family_named("lfp"), rated_Ah=40.0)
    facts = RunFacts(1, "Charge", "imported", datetime(2027, 1, 11, tzinfo=UTC), "", "", False, options, test="charge")
    found = report_run(facts, _log(*CHARGE))
    assert found.portrait is None and found.analysis is not None and not found.problem
    assert "no picture of Charge" in caplog.text
