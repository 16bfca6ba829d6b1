"""Injured recipes, claims, dialects, benches, plans, needs and books: each used, or refused in one line.

`python -m benchmarks.fuzz_files [N] [SEED]`. Half are turned in their bytes, half in their meaning: a value somewhere is
put in another's place, taken out, or made odd.
"""

from __future__ import annotations

import copy
import json
import sys
import tempfile
import time
import tomllib
from collections import Counter
from collections.abc import Callable
from importlib import resources
from pathlib import Path
from random import Random
from typing import Any

from benchmarks.fuzz import mutated
from wintry_tally.app.bench_book import read_bench
from wintry_tally.app.dossiers import dossier_of
from wintry_tally.app.opening import opened, school_of
from wintry_tally.bench.drivers.dialect import dialect_named
from wintry_tally.cli.judging import judge_file
from wintry_tally.core.battery import family_named
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.errors import WintryError
from wintry_tally.core.plan import forecast
from wintry_tally.core.plan.planning import plan
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.demo import scratch_copy
from wintry_tally.exchange.need_file import read_needs
from wintry_tally.exchange.plan_file import read_plan
from wintry_tally.exchange.recipe_file import read_recipe

ODD: tuple[Any, ...] = (
    -1, 0, 1e308, -1e-308, float("inf"), float("nan"), 2**70, "", "x", "5 A", "-5 A", "0.2 C", "1e400 V", "\x00", [], {}, [[]],
    True, "claim:nothing", "given:x", "9" * 300, "{V}{A}", "(", "(a+)+$",
)  # fmt: skip
CLAIMS = (
    '[battery]\nfamily="lfp"\nmaker="M"\nmodel="L"\nrated_Ah=40\nschool="plain"\n[[claim]]\nkind="capacity"\nvalue=40\nunit="Ah"\n'
    'conditions={c_rate=0.2}\n[[claim]]\nkind="mass"\nvalue=4.3\ndirection="within"\ntolerance=0.1\nunit="kg"\n[[evidence]]\n'
    'method="measured"\nclaim="mass"\nmeasured={value=4.4,unit="kg",expanded=0.01}\n'
)
BENCH = (
    '[[instrument]]\nname="L"\nkind="load"\nway="scpi"\ndialect="plain-scpi"\naddress="TCPIP::127.0.0.1::5025::SOCKET"\n'
    'power_W=180\ncurrent_A=20\nvoltage_accuracy="0.1%+2d"\n[[channel]]\nname="one"\nload="L"\nvoltage="L"\ncurrent="L"\n'
)
PLAN = (
    '[plan]\nbegins="2027-01-11T08:00"\ntimezone="Europe/Oslo"\nattended="Mon-Fri 8-17:30; Sat 9-12"\naway=["2027-01-18"]\n'
    '[[resource]]\nname="load"\ncount=2\n[[task]]\nid="c"\nsample="M1"\nhours=5.5\nuses=["load"]\nattended="ends"\n'
    'due="2027-01-20T18:00"\n[[task]]\nid="d"\nsample="M1"\nrecipe="capacity-reference"\nafter=[{id="c",rest_h=[1,24]}]\n'
    'not_before="2027-01-12T00:00"\n[[sample]]\ncode="M1"\nbattery={family="lfp",rated_Ah=40}\ncharged=0.4\n'
)
NEED = (
    '[need]\nname="mast"\nhours=48\ncoldest_C=-10\ncharger_A=5\nfull_again_h=10\ncharger_price=90\ncycles_a_year=50\nyears=5\n'
    '[[need.device]]\nname="logger"\nA=0.85\nduty=1\nleast_V=11.4\n[[need.device]]\nname="pump"\nW=40\nduty=0.1\nsurge_A=12\n'
    "surge_s=2\ninverter=0.85\n"
)


def places(data: Any) -> list[tuple[Any, Any]]:
    """Every container with a key of it."""
    found: list[tuple[Any, Any]] = []
    for key, value in data.items() if isinstance(data, dict) else enumerate(data) if isinstance(data, list) else ():
        found += [(data, key), *places(value)]
    return found


def turned(dice: Random, data: dict[str, Any]) -> bytes:
    """Turned in its meaning, as JSON."""
    made = copy.deepcopy(data)
    for _ in range(dice.choice([1, 1, 2, 4])):
        holder, key = dice.choice(places(made) or [(made, "x")])
        what = dice.randrange(4)
        if what == 0 and len(made) > 1:
            holder.pop(key)
        elif what == 1:
            other, at = dice.choice(places(made))
            holder[key] = copy.deepcopy(other[at])
        elif isinstance(holder, dict) and what == 2:
            holder[dice.choice(["x", "", "ends", "kind", "setting"])] = holder.pop(key)
        else:
            holder[key] = dice.choice(ODD)
    return json.dumps(made).encode()


def use_recipe(path: Path) -> None:
    """Filled in, and foretold."""
    facts = Facts(family_named("lfp"), 40.0, ())
    made = fill(read_recipe(path), facts)
    forecast(made, parameters_for(facts.family, 40.0), 23.0, full=1.0)


def use_plan(path: Path) -> None:
    """Laid out, and placed the quick way."""
    plan(read_plan(path).campaign, 0.0, thorough=False)


def use_book(path: Path) -> None:
    """Opened, put right, judged."""
    with opened(path, lambda _: None) as book:
        for sample in book.samples.all():
            dossier_of(book, sample, school_of(book))


def main() -> int:
    """Injure so many; exit 1 where one was neither used nor refused in a line."""
    count, seed = int(sys.argv[1]) if len(sys.argv) > 1 else 4000, int(sys.argv[2]) if len(sys.argv) > 2 else 1
    dice = Random(seed)
    recipes = [
        item.read_bytes() for item in resources.files("wintry_tally.recipes").iterdir() if item.name.endswith("toml")
    ]
    dialects = [
        item.read_bytes()
        for item in resources.files("wintry_tally.bench.dialects").iterdir()
        if item.name.endswith("toml")
    ]
    kinds: list[tuple[str, list[bytes], Callable[[Path], Any]]] = [
        ("recipe", recipes, use_recipe), ("claims", [CLAIMS.encode()], judge_file),
        ("dialect", dialects, lambda path: dialect_named(str(path))), ("bench", [BENCH.encode()], read_bench),
        ("plan", [PLAN.encode()], use_plan), ("need", [NEED.encode()], read_needs),
    ]  # fmt: skip
    tally: Counter[str] = Counter()
    slowest = (0.0, "")
    with tempfile.TemporaryDirectory() as name:
        book = scratch_copy(Path(name)).read_bytes()
        for number in range(count):
            if number % 40 == 0:
                kind, use, content = "book", use_book, bytearray(book)
                for _ in range(dice.choice([1, 10, 200])):
                    content[dice.randrange(100, len(content))] = dice.randrange(256)
                path = Path(name) / "injured.wintry"
            else:
                kind, seeds, use = dice.choice(kinds)
                whole = dice.choice(seeds)
                by_meaning = dice.random() < 0.5
                content = bytearray(turned(dice, tomllib.loads(whole.decode())) if by_meaning else mutated(dice, whole))
                path = Path(name) / ("injured.json" if by_meaning and kind != "dialect" else "injured.toml")
            path.write_bytes(bytes(content))
            begun = time.perf_counter()
            try:
                use(path)
                tally[f"{kind} used"] += 1
            except WintryError as error:
                tally[f"{kind} refused"] += 1
                if "\n" in str(error):
                    tally["in more than one line"] += 1
                    print(f"  {number} {kind}: {error}")
            except Exception as error:
                tally["FAILED"] += 1
                kept = Path(tempfile.gettempdir()) / f"injured-{seed}-{number}-{kind}"
                kept.write_bytes(bytes(content))
                print(f"  {number} {kind}: {type(error).__name__}: {str(error)[:150]}; kept as {kept}")
            slowest = max(slowest, (time.perf_counter() - begun, f"{number} {kind}"))
            for left in Path(name).glob("injured*"):
                left.unlink()
    print(f"{count}: {dict(tally)}; slowest {slowest[0]:.2f} s ({slowest[1]})")
    return 1 if tally["FAILED"] or tally["in more than one line"] else 0


if __name__ == "__main__":
    raise SystemExit(main())
