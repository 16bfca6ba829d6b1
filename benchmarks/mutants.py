"""Small changes to the code, one at a time: which of them does no test notice?

    python -m benchmarks.mutants PACKAGE… [--count N] [--seed S] [--seconds N] [--tests FILE…] [--reached FILE]     e.g. core/verdict bench/drivers

Works on copies. First the tests are run once, noting which reach which line (`--reached` keeps that for the next time, as
long as the code is the same); then each change is tried against the tests that reach it, the narrowest first.
What survives is printed with its place and the change; those known to change nothing are listed in `equivalent.txt`.
"""

from __future__ import annotations

import argparse
import ast
import hashlib
import importlib.util
import itertools
import json
import multiprocessing
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parent.parent
TESTS = {"core": ["tests/core", "tests/bench/test_proof.py", "tests/bench/test_guard.py", "tests/cli/test_contract.py", "tests/cli/test_more_commands.py", "tests/cli/test_cli.py"], "bench": ["tests/bench", "tests/core/test_recipes.py", "tests/core/test_packs.py", "tests/cli/test_contract.py", "tests/cli/test_more_commands.py", "tests/cli/test_cli.py"], "book": ["tests/book"], "exchange": ["tests/exchange", "tests/book"], "app": ["tests/cli/test_run.py", "tests/bench"]}  # fmt: skip
"""Which tests are looked through for a package, by its first part."""
APART = {"bench/guard/process.py": "tests/bench/test_guard.py"}
"""What runs in a process of its own, where no test is seen to reach it, and the tests that start it."""
MOST_TESTS, MOST_S = 400, 60.0
"""So many of those that reach a line are tried, and no more than take so long together."""
LAST = "tests/core/test_strangers.py"
"""Its tests are tried last: they take long, and hold every figure of many logs."""
EQUIVALENT = frozenset(
    line
    for line in (Path(__file__).parent / "equivalent.txt").read_text(encoding="utf-8").splitlines()
    if line and not line.startswith("#")
)
"""Changes that change nothing that anybody could see: file, the line as it would be."""

SWAPPED: dict[type, type] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Div, ast.Div: ast.Mult, ast.And: ast.Or, ast.Or: ast.And,
    ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.In: ast.NotIn, ast.NotIn: ast.In,
}  # fmt: skip
BOUNDARIES = (ast.Lt, ast.LtE, ast.Gt, ast.GtE)


class Change(ast.NodeTransformer):
    """Makes the change numbered `wanted`; `lines` says on which line each one is, `fine` whether it is a fine one: only what
    lies on a boundary goes the other way, or a count of three or more is one more."""

    def __init__(self, wanted: int = -1) -> None:
        self.wanted, self.lines, self.fine = wanted, list[int](), list[bool]()

    def _here(self, node: ast.AST, fine: bool = False) -> bool:
        self.lines.append(getattr(node, "lineno", 0))
        self.fine.append(fine)
        return len(self.lines) - 1 == self.wanted

    def visit_Compare(self, node: ast.Compare) -> ast.AST:
        """One comparison for its neighbour."""
        self.generic_visit(node)
        for place, operator in enumerate(node.ops):
            if type(operator) in SWAPPED and self._here(node, isinstance(operator, BOUNDARIES)):
                node.ops[place] = SWAPPED[type(operator)]()
        return node

    def visit_BinOp(self, node: ast.BinOp) -> ast.AST:
        """One sum for a difference, a product for a quotient."""
        self.generic_visit(node)
        text = any(
            isinstance(part, ast.Constant | ast.JoinedStr) and not isinstance(getattr(part, "value", ""), int | float)
            for part in (node.left, node.right)
        )
        if type(node.op) in SWAPPED and not text and self._here(node):
            node.op = SWAPPED[type(node.op)]()
        return node

    def visit_BoolOp(self, node: ast.BoolOp) -> ast.AST:
        """And for or."""
        self.generic_visit(node)
        if self._here(node):
            node.op = SWAPPED[type(node.op)]()
        return node

    def visit_UnaryOp(self, node: ast.UnaryOp) -> ast.AST:
        """Without its not, or its minus."""
        self.generic_visit(node)
        return node.operand if isinstance(node.op, ast.Not | ast.USub) and self._here(node) else node

    def visit_Constant(self, node: ast.Constant) -> ast.AST:
        """A number a little off; yes for no."""
        if isinstance(node.value, bool):
            return ast.copy_location(ast.Constant(not node.value), node) if self._here(node) else node
        if isinstance(node.value, int | float) and self._here(node, isinstance(node.value, int) and node.value > 2):
            return ast.copy_location(
                ast.Constant(node.value + 1 if isinstance(node.value, int) else node.value * 1.5 + 0.1), node
            )
        return node

    def visit_If(self, node: ast.If) -> ast.AST:
        """Never."""
        self.generic_visit(node)
        if self._here(node):
            node.test = ast.copy_location(ast.Constant(False), node.test)
        return node

    def visit_Expr(self, node: ast.Expr) -> ast.AST:
        """A call left out."""
        self.generic_visit(node)
        return ast.copy_location(ast.Pass(), node) if isinstance(node.value, ast.Call) and self._here(node) else node

    def visit_JoinedStr(self, node: ast.JoinedStr) -> ast.AST:
        """Words are not changed."""
        return node

    def visit_ClassDef(self, node: ast.ClassDef) -> ast.AST:
        """Whether a class is frozen is no test's."""
        node.body = [self.visit(item) for item in node.body]
        return node

    def visit_AnnAssign(self, node: ast.AnnAssign) -> ast.AST:
        """Types are not changed."""
        if node.value is not None:
            node.value = self.visit(node.value)
        return node

    def visit_arguments(self, node: ast.arguments) -> ast.AST:
        """Only the defaults."""
        node.defaults = [self.visit(item) for item in node.defaults]
        return node


def changes(path: Path) -> Iterator[tuple[int, int, bool]]:
    """Number and line of every change of a file, and whether it is a fine one."""
    counter = Change()
    counter.visit(ast.parse(path.read_text(encoding="utf-8")))
    return zip(range(len(counter.lines)), counter.lines, counter.fine, strict=True)


REACHED = """
import json, os, time
import coverage, pytest
folder = os.environ["MUTANTS_SOURCE"]
cover = coverage.Coverage(data_file=None, config_file=False, include=[folder + "/*"])
took = {}
def pytest_sessionstart(session):
    cover.start()
@pytest.hookimpl(hookwrapper=True)
def pytest_runtest_protocol(item, nextitem):
    cover.switch_context(item.nodeid)
    begun = time.monotonic()
    yield
    took[item.nodeid] = time.monotonic() - begun
    cover.switch_context("")
def pytest_sessionfinish(session):
    cover.stop()
    data, lines = cover.get_data(), {}
    for name in data.measured_files():
        of_file = {at: [test for test in tests if test] for at, tests in data.contexts_by_lineno(name).items()}
        lines[os.path.relpath(name, folder)] = {at: tests for at, tests in of_file.items() if tests}
    with open(os.environ["MUTANTS_REACHED"] + "." + os.environ.get("PYTEST_XDIST_WORKER", "all"), "w") as file:
        json.dump([lines, took], file)
"""

PREPARED = ("pytest", "hypothesis", "numpy", "scipy.optimize", "scipy.stats", "scipy.interpolate", "scipy.signal")
"""Imported once, before a process is parted that tries a change: nothing of the project may be among them."""


class Reach:
    """Which tests reach which line of a module, and how long each took."""

    def __init__(self, lines: dict[str, dict[str, list[str]]], took: dict[str, float]) -> None:
        self.lines, self.took, self.weight = lines, took, dict[str, int]()
        for of_file in lines.values():
            for names in of_file.values():
                for test in names:
                    self.weight[test] = self.weight.get(test, 0) + 1

    def tests(self, module: str, line: int) -> list[str]:
        """Those that reach a line, the narrowest first. A line that runs when its module is imported is no one test's, but of
        those that reach a line, of any module, which speaks of what it names; or else any line of its own module."""
        of_file = self.lines.get(module, {})
        able = of_file.get(str(line), [])
        named = named_at(ROOT / "src/wintry_tally" / module, line)
        if named is not None:
            able = [test for name in named for test in self._speaking(name)]
        able = able or [test for names in of_file.values() for test in names]
        return sorted(set(able), key=lambda test: (self.weight[test], test))

    def _speaking(self, name: str) -> list[str]:
        found, word = list[str](), re.compile(rf"\b{re.escape(name)}\b")
        for module, of_file in self.lines.items():
            text = (ROOT / "src/wintry_tally" / module).read_text(encoding="utf-8").splitlines()
            if any(word.search(line) for line in text):
                found += [test for at, tests in of_file.items() if word.search(text[int(at) - 1]) for test in tests]
        return found


def named_at(path: Path, line: int) -> list[str] | None:
    """What a line outside of every function names; None within one."""
    for node in ast.parse(path.read_text(encoding="utf-8")).body:
        if node.lineno <= line <= (node.end_lineno or node.lineno):
            if isinstance(node, ast.FunctionDef | ast.ClassDef):
                return None
            return [
                part.id for part in ast.walk(node) if isinstance(part, ast.Name) and isinstance(part.ctx, ast.Store)
            ]
    return None


def environment(tree: Path) -> dict[str, str]:
    """What tests of a copied tree are run with."""
    return {
        "PYTHONPATH": f"{tree / 'src'}:{tree}", "QT_QPA_PLATFORM": "offscreen", "PYTHONDONTWRITEBYTECODE": "1",
        "MUTANTS_SOURCE": str(tree / "src/wintry_tally"),
    }  # fmt: skip


def copied(folder: Path) -> Path:
    """A copy of the project in a folder."""
    tree = folder / "tree"
    shutil.copytree(ROOT, tree, ignore=shutil.ignore_patterns(".git", ".venv", "__pycache__", ".*cache*", "docs"))
    (tree / "reached.py").write_text(REACHED)
    return tree


def reach_of(tests: list[str], kept: Path | None) -> Reach:
    """Run the tests once; or take what is kept of the same code (a test written since is not in it)."""
    seal = hashlib.sha256(" ".join(tests).encode())
    for part in sorted((ROOT / "src").rglob("*.py")):
        seal.update(part.read_bytes())
    if kept is not None and kept.exists():
        found = json.loads(kept.read_text())
        if found["of"] == seal.hexdigest():
            return Reach(found["lines"], found["took"])
    lines, took = dict[str, dict[str, list[str]]](), dict[str, float]()
    with tempfile.TemporaryDirectory() as name:
        tree = copied(Path(name))
        subprocess.run(
            [sys.executable, "-W", "ignore", "-m", "pytest", "-q", "-p", "no:cacheprovider", "--assert=plain", "-p", "reached", "-n", "2", *tests],
            cwd=tree, env=os.environ | environment(tree) | {"MUTANTS_REACHED": f"{name}/reached"}, capture_output=True, check=False,
        )  # fmt: skip
        for part in Path(name).glob("reached.gw*"):
            of_part, took_part = json.loads(part.read_text())
            took |= took_part
            for module, of_file in of_part.items():
                for at, names in of_file.items():
                    lines.setdefault(module, {}).setdefault(at, []).extend(names)
    if kept is not None:
        kept.write_text(json.dumps({"of": seal.hexdigest(), "lines": lines, "took": took}))
    return Reach(lines, took)


def those_that_speak_of(module: Path, able: list[str], took: dict[str, float], most_s: float = MOST_S) -> list[str]:
    """At most MOST_TESTS of the tests that reach a line, and no more than `most_s` of them: those of files that name its module,
    then of all files in turn, last those that hold every figure of many logs."""
    names = (".".join(module.with_suffix("").parts), f"{'.'.join(module.parent.parts)} import")
    files = dict[str, list[str]]()
    for test in able:
        files.setdefault(test.split("::")[0], []).append(test)
    named = [file for file in files if any(name in (ROOT / file).read_text(encoding="utf-8") for name in names)]
    last = files.pop(LAST, [])
    first = sorted((test for file in named if file != LAST for test in files.pop(file)), key=took.__getitem__)
    rest = [test for turn in itertools.zip_longest(*files.values()) for test in turn if test is not None]
    spent, found = 0.0, []
    for test in [*first[: MOST_TESTS // 2], *last, *rest][:MOST_TESTS]:
        if spent + took[test] <= most_s:
            spent += took[test]
            found.append(test)
    return sorted(found, key=lambda test: (test.startswith(LAST), test not in first, took[test]))


@dataclass(frozen=True)
class Trial:
    """One change to be tried: the module, the number of the change and its line, the tests and the most they may take."""

    module: str
    number: int
    line: int
    tests: list[str]
    most_s: float
    fine: bool


def passes(tree: Path, trial: Trial) -> bool:
    """Whether the tests pass, run in a process parted from this one (what is imported is imported)."""
    child = os.fork()
    if child == 0:
        os.setsid()
        os.chdir(tree)
        os.environ.update(environment(tree))
        sys.path[:0] = [str(tree / "src"), str(tree)]
        nowhere = os.open(os.devnull, os.O_WRONLY)
        os.dup2(nowhere, 1)
        os.dup2(nowhere, 2)
        import pytest

        code = 1
        try:
            code = int(
                pytest.main(["-q", "-x", "-W", "ignore", "-p", "no:cacheprovider", "--assert=plain", *trial.tests])
            )
        finally:
            os._exit(code)
    end = time.monotonic() + trial.most_s
    while True:
        done, status = os.waitpid(child, os.WNOHANG)
        if done:
            return os.waitstatus_to_exitcode(status) == 0
        if time.monotonic() > end:  # a loop without end is noticed
            os.killpg(child, signal.SIGKILL)
            os.waitpid(child, 0)
            return False
        time.sleep(0.02)


def survives(trial: Trial) -> bool:
    """Make the change in this worker's own copy, run the tests, take it back."""
    tree = Path(os.environ["MUTANTS_TREES"]) / str(os.getpid()) / "tree"
    if not tree.exists():
        for name in PREPARED:
            importlib.import_module(name)
        copied(tree.parent)
    path = tree / "src/wintry_tally" / trial.module
    source = path.read_text(encoding="utf-8")
    path.write_text(
        ast.unparse(ast.fix_missing_locations(Change(trial.number).visit(ast.parse(source)))), encoding="utf-8"
    )
    try:
        return not trial.tests or passes(tree, trial)
    finally:
        path.write_text(source, encoding="utf-8")


def differs(path: Path, number: int) -> str:
    """The first line that a change makes otherwise, as it would be."""
    tree = ast.parse(path.read_text(encoding="utf-8"))
    before = ast.unparse(tree).splitlines()
    after = ast.unparse(ast.fix_missing_locations(Change(number).visit(tree))).splitlines()
    return next((new.strip() for old, new in zip(before, after, strict=False) if old != new), "(a line less)")


def trials_of(package: str, reach: Reach, count: int, dice: random.Random, tests_s: float = MOST_S) -> list[Trial]:
    """A sample of the changes of a package."""
    source = ROOT / "src/wintry_tally"
    files = sorted((source / package).rglob("*.py")) or [source / f"{package}.py"]
    every = [(path, number, line, fine) for path in files for number, line, fine in changes(path) if line]
    found = []
    for path, number, line, fine in dice.sample(every, min(count, len(every))):
        module = path.relative_to(source)
        if f"{module}: {differs(path, number)}" in EQUIVALENT:
            continue
        able = reach.tests(str(module), line)
        if str(module) in APART:
            able = sorted({*able, *(test for test in reach.took if test.startswith(APART[str(module)]))})
        tests = those_that_speak_of(Path("wintry_tally") / module, able, reach.took, tests_s)
        most_s = 60.0 + 3.0 * sum(reach.took[test] for test in tests)
        found.append(Trial(str(module), number, line, tests, most_s, fine))
    return found


def main() -> int:
    """Try them; print what survives and the share that was noticed, by package."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("packages", nargs="+")
    parser.add_argument("--count", type=int, default=60)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--workers", type=int, default=2)
    parser.add_argument("--seconds", type=float, default=MOST_S, help="of tests for each change; fewer find less")
    parser.add_argument("--tests", nargs="*", help="look through these only; the usual ones where none is named")
    parser.add_argument("--reached", type=Path, help="keep in this file which tests reach which line")
    asked = parser.parse_args()
    if importlib.util.find_spec("coverage") is None:
        parser.error("coverage is not installed; .venv/bin/python -m pip install -e .[mutants]")
    sys.stdout.reconfigure(line_buffering=True)  # type: ignore[union-attr]
    firsts = sorted(TESTS) if asked.reached else {item.split("/", maxsplit=1)[0] for item in asked.packages}
    reach = reach_of(asked.tests or sorted({test for first in firsts for test in TESTS[first]}), asked.reached)
    dice = random.Random(asked.seed)
    fork = multiprocessing.get_context("fork")
    with tempfile.TemporaryDirectory() as name:
        os.environ["MUTANTS_TREES"] = name
        with ProcessPoolExecutor(asked.workers, mp_context=fork) as workers:
            for package in asked.packages:
                trials = trials_of(package, reach, asked.count, dice, asked.seconds)
                noticed, coarse = 0, [0, 0]
                for tried, (trial, alive) in enumerate(zip(trials, workers.map(survives, trials), strict=True), 1):
                    noticed += not alive
                    coarse = [coarse[0] + (not alive and not trial.fine), coarse[1] + (not trial.fine)]
                    if alive:
                        path = ROOT / "src/wintry_tally" / trial.module
                        was = path.read_text(encoding="utf-8").splitlines()[trial.line - 1].strip()[:110]
                        none = "   (fine)" if trial.fine else "" if trial.tests else "   (no test reaches it)"
                        print(f"  {trial.module}:{trial.line}: {was}")
                        print(f"      → {differs(path, trial.number)}{none}   ({noticed} of {tried})")
                print(
                    f"{package}: {noticed} of {len(trials)} noticed, {100 * noticed / max(1, len(trials)):.0f} %; of those that are not fine {coarse[0]} of {coarse[1]}, {100 * coarse[0] / max(1, coarse[1]):.0f} %"
                )
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
