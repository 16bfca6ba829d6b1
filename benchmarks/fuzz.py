"""Mutated logs, each of which must be read or refused in one clear line; see README.md beside this file.

.venv/bin/python benchmarks/fuzz.py [--count 10000] [--seed 1]
"""

from __future__ import annotations

import argparse
import gzip
import io
import json
import resource
import tempfile
import time
from collections import Counter
from pathlib import Path
from random import Random

import polars as pl

from wintry_tally.cli.logs import analyse_log, options_from, parse_given
from wintry_tally.core.errors import WintryError
from wintry_tally.exchange.analysis_json import analysis_dict

HEADS = {
    "plain": ("Time / s,Voltage / V,Current / A,Temperature / degC\n", "{s},{v:.3f},{a:.3f},23.1\n"),
    "semicolon": ("Zeit;Spannung (V);Strom (mA)\n", "{h};{w};{m}\n"),
    "preamble": ("Logger 3\nBattery;mast\n\nt [min];U [V];I [A]\n", "{n:.3f};{v:.3f};-{a:.2f}\n"),
    "iso": ("timestamp,volts,amps,Ah\n", "2026-01-14T{h}+01:00,{v:.2f},{a:.2f},{q:.3f}\n"),
    "tabs": ("h:mm:ss\tV\tA\tW\n", "{h}\t{v:.2f}\t{a:.2f}\t{p:.1f}\n"),
    "units": ("time,reading,current\n,V,A\n", "{s},{v:.3f} V,{a:.2f} A\n"),
    "frames": ("frame,U/V,I/A,SOC\n", "{i},{v:.2f},{a:.1f},{c:.0f}\n"),
}
SPICE = (b"\x00", b"\xff\xfe", b'"', b",", b";", b"\t", b"\n\n", b"\r", b"-", b"nan", b"1e309", b"-1e-400", b"9" * 40, b"\xe2\x88\x92",
         b"2026-03-29T02:30:00", b"=cmd()", b"\x1a", b"Inf", b"0x1F", "٣".encode())  # fmt: skip


def seed_log(name: str) -> bytes:
    """A small discharge in one layout."""
    head, row = HEADS[name]
    lines = [head]
    for i in range(120):
        s, a = 30 * i, 0.0 if i < 10 or i > 110 else 8.0
        v = 13.3 - 0.01 * i if i <= 110 else 13.0
        q = max(0, i - 10) * 8.0 * 30 / 3600
        hour = f"{s // 3600}:{s // 60 % 60:02}:{s % 60:02}"
        values = {"s": s, "v": v, "a": a, "q": q, "h": hour, "i": i, "n": s / 60, "p": v * a, "c": 100 - i / 2}
        lines.append(row.format(**values, w=f"{v:.3f}".replace(".", ","), m=f"{1000 * a:.0f}"))
    return "".join(lines).encode()


def mutated(random: Random, content: bytes) -> bytes:
    """A few random injuries."""
    data = bytearray(content)
    for _ in range(random.choice([1, 1, 2, 3, 8])):
        at = random.randrange(len(data) + 1)
        kind = random.randrange(9)
        if kind == 0 and data:
            data[at % len(data)] = random.randrange(256)
        elif kind == 1:
            data[at:at] = random.choice(SPICE)
        elif kind == 2:
            del data[at : at + random.choice([1, 7, 200])]
        elif kind == 3:
            data[at:at] = bytes(data[at : at + random.choice([20, 300])])
        elif kind == 4:
            del data[at:]
        elif kind == 5:
            lines = bytes(data).split(b"\n")
            random.shuffle(lines)
            data = bytearray(b"\n".join(lines))
        elif kind == 6:
            data = bytearray(
                bytes(data).replace(
                    random.choice([b",", b";", b".", b":"]), random.choice(SPICE), random.randrange(1, 60)
                )
            )
        elif kind == 7:
            data = bytearray(
                bytes(data).decode("latin-1").encode(random.choice(["utf-16", "utf-16-be", "utf-8", "latin-1"]))
            )
        else:
            data[at:at] = bytes(random.randrange(256) for _ in range(random.choice([3, 90])))
    made = bytes(data)
    return gzip.compress(made) if random.random() < 0.05 else made


def parquet(random: Random) -> bytes:
    """A Parquet log with a few bytes turned."""
    kept = io.BytesIO()
    pl.DataFrame(
        {"Time / s": [0.0, 1.0, 2.0], "Voltage / V": [13.2, 13.1, 13.0], "Current / A": [1.0, 1.0, 1.0]}
    ).write_parquet(kept)
    data = bytearray(kept.getvalue())
    for _ in range(random.randrange(1, 6)):
        data[random.randrange(len(data))] = random.randrange(256)
    return bytes(data)


def main() -> None:
    """Run the mutants; exit 1 if any was neither read nor refused."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=10_000)
    parser.add_argument("--seed", type=int, default=1)
    asked = parser.parse_args()
    random = Random(asked.seed)
    seeds = [seed_log(name) for name in HEADS]
    given = parse_given(
        {"family": "lfp", "rated_ah": 40, "voltage_accuracy": "0.5%+2d", "current_accuracy": "1%+0.01", "interval": 30}
    )
    choices, options = options_from(given)
    tally: Counter[str] = Counter()
    slowest = 0.0
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "mutant.csv"
        for number in range(asked.count):
            content = parquet(random) if random.random() < 0.03 else mutated(random, random.choice(seeds))
            path.write_bytes(content)
            begun = time.perf_counter()
            try:
                json.dumps(analysis_dict(*analyse_log(path, choices, options)), allow_nan=False)
                tally["read"] += 1
            except WintryError as error:
                tally["refused"] += 1
                if "\n" in str(error):
                    tally["in more than one line"] += 1
                    print(f"  mutant {number}: {error}")
            except Exception as error:
                tally["FAILED"] += 1
                kept = Path(tempfile.gettempdir()) / f"mutant-{asked.seed}-{number}"
                kept.write_bytes(content)
                print(f"  mutant {number}: {type(error).__name__}: {error}; kept as {kept}")
            slowest = max(slowest, time.perf_counter() - begun)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"{asked.count} mutants: {dict(tally)}; slowest {slowest:.2f} s; peak memory {peak:.0f} MiB")
    raise SystemExit(1 if tally["FAILED"] or tally["in more than one line"] else 0)


if __name__ == "__main__":
    main()
