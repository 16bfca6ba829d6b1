"""Several files that are one log; and logs without a clock."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from wintry_tally.core.analysis import Options, analyse
from wintry_tally.core.errors import LogError
from wintry_tally.core.trace.trace import Trace
from wintry_tally.exchange import Choices, read_log
from wintry_tally.exchange.parts import join_logs
from wintry_tally.exchange.sign import discharge_sign
from wintry_tally.exchange.writer import write_log

BEGUN = datetime(2026, 1, 14, 22, 0, tzinfo=UTC)


def whole(rows: int = 1200, step: float = 10.0) -> Trace:
    time_s = np.arange(rows) * step
    live = (time_s >= 600) & (time_s < time_s[-1] - 300)
    amps = np.where(live, 4.0, 0.0)
    volts = np.where(live, 13.0 - 0.5 * time_s / time_s[-1], 13.3)
    return Trace(time_s, np.round(volts, 3), amps, resolution={"voltage_V": 0.001, "current_A": 0.01})


def parts_of(trace: Trace, cuts: list[int], overlap: int, folder: Path, anew: bool = False, dated: bool = False):
    edges, found = [0, *cuts, len(trace)], []
    for number in range(len(edges) - 1):
        begin = max(0, edges[number] - (overlap if number else 0))
        piece = trace.taking(np.arange(begin, edges[number + 1]))
        path = folder / f"part{number}.csv"
        lines = ["Time,Voltage / V,Current / A"]
        for t, v, a in zip(piece.time_s, piece.voltage_V, piece.current, strict=True):
            clock = (
                (BEGUN + timedelta(seconds=float(t))).isoformat()
                if dated
                else f"{t - (piece.time_s[0] if anew else 0)}"
            )
            lines.append(f"{clock},{v},{a}")
        path.write_text("\n".join(lines) + "\n")
        found.append((path.name, read_log(path)))
    return found


@settings(max_examples=12)
@given(
    st.lists(st.integers(100, 1100), min_size=1, max_size=4, unique=True),
    st.integers(0, 40),
    st.booleans(),
    st.randoms(),
)
def test_the_count_does_not_mind_the_cuts(tmp_path_factory, cuts: list[int], overlap: int, dated: bool, random) -> None:
    folder = tmp_path_factory.mktemp("parts")
    trace = whole()
    parts = parts_of(trace, sorted(cuts), overlap, folder, dated=dated)
    if dated:
        random.shuffle(parts)
    joined = join_logs(parts)
    assert np.allclose(joined.trace.time_s - joined.trace.time_s[0], trace.time_s)
    assert np.allclose(joined.trace.voltage_V, trace.voltage_V)
    once, again = analyse(trace, Options()), analyse(joined.trace, Options())
    assert again.capacity is not None and once.capacity is not None
    assert again.capacity.count.charge.value == pytest.approx(once.capacity.count.charge.value, rel=1e-9)
    assert joined.rows == len(trace) + overlap * len(cuts)
    assert joined.remarks[0].code == "parts-joined" and joined.trace.row_at(len(trace) - 1) == joined.rows


def test_clocks_that_begin_anew_are_put_behind_each_other(tmp_path: Path) -> None:
    trace = whole()
    joined = join_logs(parts_of(trace, [400, 800], 0, tmp_path, anew=True))
    assert np.allclose(joined.trace.time_s, trace.time_s)
    assert "its clock anew" in joined.remarks[0].message


def test_a_part_at_rest_says_nothing_of_the_sign_and_a_turned_one_is_remarked(tmp_path: Path) -> None:
    trace = whole()
    turned = Trace(trace.time_s, trace.voltage_V, -trace.current, resolution=trace.resolution)
    resting, rest = trace.taking(np.arange(0, 50)), turned.taking(np.arange(50, 1200))
    for name, piece in (("a", resting), ("b", rest), ("c", trace.taking(np.arange(0, 600))), ("d", turned.taking(np.arange(600, 1200)))):  # fmt: skip
        (tmp_path / f"{name}.csv").write_text(
            "t/s,U/V,I/A\n"
            + "".join(f"{t},{v},{a}\n" for t, v, a in zip(piece.time_s, piece.voltage_V, piece.current, strict=True))
        )
    logs = {name: read_log(tmp_path / f"{name}.csv") for name in "abcd"}
    calm = join_logs([("a.csv", logs["a"]), ("b.csv", logs["b"])])
    assert calm.discharge_sign == "-" and [r.code for r in calm.remarks] == ["parts-joined"]
    loud = join_logs([("c.csv", logs["c"]), ("d.csv", logs["d"])])
    assert [r.code for r in loud.remarks] == ["parts-joined", "sign-flipped"] and "d.csv" in loud.remarks[1].message
    assert analyse(loud.trace, Options()).capacity.count.charge.value == pytest.approx(
        analyse(trace, Options()).capacity.count.charge.value, rel=1e-6
    )


def test_what_cannot_be_joined() -> None:
    with pytest.raises(LogError, match="no files"):
        join_logs([])


def test_parts_with_and_without_a_current(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("t/s,U/V,I/A\n0,13,1\n1,13,1\n2,13,1\n")
    (tmp_path / "b.csv").write_text("t/s,U/V,Ah\n0,13,0\n1,13,0.1\n2,13,0.2\n")
    with pytest.raises(LogError, match=r"b\.csv: this part has no current"):
        join_logs([("a.csv", read_log(tmp_path / "a.csv")), ("b.csv", read_log(tmp_path / "b.csv"))])


# --- logs typed from photographs ---


def test_frames_and_their_interval_are_a_clock(tmp_path: Path) -> None:
    # N8, common practice: frame number × interval; 481 frames a minute apart are eight hours
    path = tmp_path / "photos.csv"
    path.write_text("frame,U/V,I/A\n" + "".join(f"{n},{13.0 - n / 400:.2f},5.0\n" for n in range(1, 482)))
    with pytest.raises(LogError, match="--interval"):
        read_log(path)
    log = read_log(path, Choices(interval_s=60.0))
    assert log.trace.time_s[-1] == 8 * 3600.0
    assert log.remarks[0].code == "frame-clock" and "8 h" in log.remarks[0].message
    assert analyse(log.trace, Options()).capacity.count.charge.value == pytest.approx(40.0, rel=1e-6)


def test_a_missing_frame_is_a_gap_of_two(tmp_path: Path) -> None:
    path = tmp_path / "photos.csv"
    path.write_text("frame,U/V,I/A\n" + "".join(f"{n},13.0,5.0\n" for n in range(1, 50) if n != 20))
    steps = np.diff(read_log(path, Choices(interval_s=30.0)).trace.time_s)
    assert sorted(set(steps)) == [30.0, 60.0]


# --- the sign of a charge whose idle voltage is the charger's ---


@pytest.mark.parametrize("sign", [1.0, -1.0])
def test_a_charger_s_standing_voltage_does_not_turn_the_sign(sign: float) -> None:
    # a charger put on stands at 14.4 V; the pack pulls it down when it takes the current: that is no discharge
    volts = np.array([13.1] * 30 + [14.4] * 30 + [13.5 + 0.002 * n for n in range(100)])
    amps = sign * np.array([0.0] * 60 + [-10.0] * 100)
    assert discharge_sign(amps, volts, "I/A") == ("+" if sign > 0 else "-")


def test_what_is_written_reads_back_to_the_same_figures(tmp_path: Path) -> None:
    trace = whole()
    once = analyse(trace, Options()).capacity
    for name in ("log.csv", "log.parquet"):
        write_log(trace, tmp_path / name)
        again = analyse(read_log(tmp_path / name).trace, Options()).capacity
        assert again.count.charge.value == pytest.approx(once.count.charge.value, rel=1e-9)
        assert again.ended_by == once.ended_by


@pytest.mark.parametrize("sign", [1.0, -1.0])
def test_cells_that_take_over_from_a_heater_do_not_turn_the_sign(sign: float) -> None:
    # a heater fed at the charger's limit, then the cells: the current rises and the voltage falls, again and again
    cycle_V = [14.4] * 40 + [13.2 + 0.002 * n for n in range(60)]
    volts = np.array([12.6] * 20 + cycle_V * 5)
    amps = -sign * np.array([0.0] * 20 + ([3.0] * 40 + [12.0] * 60) * 5)
    assert discharge_sign(amps, volts, "I/A") == ("+" if sign > 0 else "-")


@pytest.mark.parametrize("sign", [1.0, -1.0])
@pytest.mark.parametrize("zero_A", [0.0, 0.08, -0.08])
def test_a_charger_that_stood_at_a_frozen_pack_does_not_turn_the_sign_of_what_it_takes_at_last(
    sign: float, zero_A: float
) -> None:
    """Refused for half an hour at 14.4 V, then 0.8 A at 12.9 V: the volts fall as the charge begins, and are higher after it."""
    volts = np.concatenate([np.full(6, 12.86), np.full(300, 14.4), np.linspace(12.88, 12.93, 120), np.full(12, 12.91)])
    amps = np.concatenate([np.zeros(306), np.full(120, -0.8), np.zeros(12)]) + zero_A
    assert discharge_sign(sign * amps, volts, "I/A") == ("+" if sign > 0 else "-")
