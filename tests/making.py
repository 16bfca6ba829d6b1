"""Makers of traces, logs and books for tests. Invented data; every truth is known."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from alembic import command
from alembic.config import Config
from sqlalchemy import create_engine

from wintry_tally.book import tables
from wintry_tally.core.trace import Trace

RESOLUTION = {"voltage_V": 0.001, "current_A": 0.001}


def discharge(
    amps: float = 8.0,
    hours: float = 5.0,
    *,
    interval_s: float = 10.0,
    rest_s: float = 1800.0,
    after_s: float = 600.0,
    top_V: float = 13.2,
    end_V: float = 10.3,
    opened: bool = True,
    noise_V: float = 0.001,
    noise_A: float = 0.001,
    seed: int = 1,
) -> Trace:
    """A rest, one constant-current discharge along an LFP-like curve, and what comes after.

    `opened`: the protection opens (the terminals collapse); otherwise the load lets go and they rebound.
    """
    random = np.random.default_rng(seed)
    total = rest_s + 3600.0 * hours + after_s
    time_s = np.arange(0.0, total + interval_s / 2, interval_s)
    load = (time_s >= rest_s) & (time_s < rest_s + 3600.0 * hours)
    share = np.clip((time_s - rest_s) / (3600.0 * hours), 0.0, 1.0)
    fall = top_V - 0.45 - end_V
    voltage = top_V - 0.45 * share - fall * np.exp((share - 1.0) / 0.02) - np.where(load, 0.1, 0.0) + 0.1
    after = time_s >= rest_s + 3600.0 * hours
    voltage[after] = 0.4 if opened else end_V + 1.4
    current = np.where(load, amps, 0.0)
    voltage = voltage + noise_V * random.standard_normal(len(time_s))
    current = current + np.where(load, noise_A, 0.0) * random.standard_normal(len(time_s))
    return Trace(time_s, np.round(voltage, 3), np.round(current, 3), resolution=RESOLUTION)


def piecewise(*parts: tuple[float, float, float], interval_s: float = 1.0) -> Trace:
    """A trace of (seconds, amperes, volts) parts, each constant."""
    currents, volts = [], []
    for seconds, amps, voltage in parts:
        size = int(seconds / interval_s)
        currents.append(np.full(size, amps))
        volts.append(np.full(size, voltage))
    current = np.concatenate(currents)
    return Trace(
        np.arange(len(current)) * interval_s,
        np.concatenate(volts),
        current,
        resolution={"voltage_V": 0.001, "current_A": 0.001},
    )


def write_log(
    path: Path,
    trace: Trace,
    *,
    header: str = "Time / s,Voltage / V,Current / A",
    delimiter: str = ",",
    decimal: str = ".",
    sign: float = 1.0,
    scale: tuple[float, float] = (1.0, 1.0),
    preamble: str = "",
    encoding: str = "utf-8",
    time=lambda seconds: f"{seconds:.1f}",
    extra: str = "",
) -> Path:
    """Write a trace as some device would."""
    lines = [preamble + header] if preamble else [header]
    assert trace.current_A is not None
    for seconds, volts, amps in zip(trace.time_s, trace.voltage_V, trace.current_A, strict=True):
        numbers = [f"{volts * scale[0]:.3f}", f"{sign * amps * scale[1] + 0.0:.3f}"]
        cells = [time(seconds), *(number.replace(".", decimal) for number in numbers)]
        lines.append(delimiter.join(cells) + extra)
    path.write_text("\n".join(lines) + "\n", encoding=encoding)
    return path


def same(first: Trace, second: Trace) -> bool:
    """Whether two traces hold the same readings, bit for bit."""
    if set(first.beside) != set(second.beside):
        return False
    if not all(np.array_equal(first.beside[name], second.beside[name], equal_nan=True) for name in first.beside):
        return False
    for name in (
        "time_s",
        "voltage_V",
        "current_A",
        "temperature_C",
        "counter_Ah",
        "counter_Wh",
        "power_W",
        "charge_state",
        "row",
    ):
        a, b = getattr(first, name), getattr(second, name)
        if (a is None) != (b is None):
            return False
        if a is not None and not np.array_equal(a, b, equal_nan=name != "row"):
            return False
    return True


def with_tables(path: Path, revision: str) -> None:
    """A book's tables as an earlier version had them, by every migration's own way back."""
    config = Config()
    config.set_main_option("script_location", str(Path(tables.__file__).parent / "migrations"))
    engine = create_engine(f"sqlite:///{path}")
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.downgrade(config, revision)
    engine.dispose()
