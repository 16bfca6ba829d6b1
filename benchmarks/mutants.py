"""Small changes to the code, one at a time: which of them does no test notice?

    python -m benchmarks.mutants PACKAGE… [--count N] [--seed S] [--tests FILE…]     e.g. core/verdict bench/drivers

Works on a copy. First the tests are run once, noting which reach which line; then each change is tried against the tests
that reach it, the quickest first. What survives is printed with its place and the change; those known to change nothing
are listed in EQUIVALENT.
"""

from __future__ import annotations

import argparse
import ast
import copy
import itertools
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).parent.parent
TESTS = {"core": ["tests/core", "tests/bench/test_proof.py", "tests/bench/test_guard.py", "tests/cli/test_contract.py", "tests/cli/test_more_commands.py", "tests/cli/test_cli.py"], "bench": ["tests/bench"], "book": ["tests/book"], "exchange": ["tests/exchange", "tests/book"], "app": ["tests/cli/test_run.py", "tests/bench"]}  # fmt: skip
"""Which tests are looked through for a package, by its first part."""
MOST_TESTS = 400
"""So many of those that reach a line are tried: first of the files that name its module or its package, then of every other file
in turn."""
ALWAYS = "tests/core/test_strangers.py"
"""Its tests are tried beside those: they hold every figure of many logs."""
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


class Change(ast.NodeTransformer):
    """Makes the change numbered `wanted`; `count` says how many there are."""

    def __init__(self, wanted: int = -1) -> None:
        self.wanted, self.count, self.line = wanted, 0, 0

    def _here(self, node: ast.AST) -> bool:
        self.count += 1
        if self.count - 1 == self.wanted:
            self.line = getattr(node, "lineno", 0)
            return True
        return False

    def visit_Compare(self, node: ast.Compare) -> ast.AST:
        """One comparison for its neighbour."""
        self.generic_visit(node)
        for place, operator in enumerate(node.ops):
            if type(operator) in SWAPPED and self._here(node):
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
        if isinstance(node.value, int | float) and self._here(node):
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


def changes(path: Path) -> Iterator[tuple[int, int]]:
    """Number and line of every change of a file."""
    tree = ast.parse(path.read_text(encoding="utf-8"))
    counter = Change()
    counter.visit(copy.deepcopy(tree))
    for number in range(counter.count):
        one = Change(number)
        one.visit(copy.deepcopy(tree))
        yield number, one.line


REACHED = """
import json, os, sys, threading, time
import pytest
found, took, now, folder = {}, {}, [""], os.environ["MUTANTS_PACKAGES"].split(":")
def local(frame, event, arg):
    if event == "line":
        found.setdefault(f"{frame.f_code.co_filename}:{frame.f_lineno}", {})[now[0]] = 1
    return local
def trace(frame, event, arg):
    name = frame.f_code.co_filename
    return local if any(name.startswith(part) for part in folder) else None
@pytest.hookimpl(hookwrapper=True)
def pytest_runtest_protocol(item, nextitem):
    now[0], begun = item.nodeid, time.monotonic()
    threading.settrace(trace); sys.settrace(trace)
    yield
    sys.settrace(None); threading.settrace(None)
    took[item.nodeid] = time.monotonic() - begun
def pytest_sessionfinish(session):
    with open(os.environ["MUTANTS_REACHED"], "w") as file:
        json.dump([{place: list(tests) for place, tests in found.items()}, took], file)
"""


def those_that_speak_of(module: Path, able: list[str], root: Path) -> list[str]:
    """At most MOST_TESTS of the tests that reach a line: those of files that name its module, those that are always tried,
    then of all files in turn."""
    names, files = (
        (".".join(module.with_suffix("").parts), f"{'.'.join(module.parent.parts)} import"),
        dict[str, list[str]](),
    )
    for test in able:
        files.setdefault(test.split("::")[0], []).append(test)
    named = [file for file in files if any(name in (root / file).read_text(encoding="utf-8") for name in names)]
    first = [test for file in named if file != ALWAYS for test in files.pop(file)][: MOST_TESTS // 2]
    first += files.pop(ALWAYS, [])
    rest = [test for turn in itertools.zip_longest(*files.values()) for test in turn if test is not None]
    return [*first, *rest][:MOST_TESTS]


def main() -> int:
    """Try them; print what survives and the share that was noticed, by package."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("packages", nargs="+")
    parser.add_argument("--count", type=int, default=60)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--tests", nargs="*", help="look through these only; the usual ones where none is named")
    asked = parser.parse_args()
    sys.stdout.reconfigure(line_buffering=True)  # type: ignore[union-attr]
    with tempfile.TemporaryDirectory() as name:
        copied = Path(name) / "tree"
        shutil.copytree(ROOT, copied, ignore=shutil.ignore_patterns(".git", ".venv", "__pycache__", ".*cache*", "docs"))
        (copied / "reached.py").write_text(REACHED)
        environment = os.environ | {
            "PYTHONPATH": f"{copied / 'src'}:{copied}", "QT_QPA_PLATFORM": "offscreen", "PYTHONDONTWRITEBYTECODE": "1",
            "MUTANTS_REACHED": f"{name}/reached.json", "MUTANTS_PACKAGES": ":".join(str(copied / "src/wintry_tally" / item) for item in asked.packages),
        }  # fmt: skip
        tests = asked.tests or sorted(
            {test for item in asked.packages for test in TESTS[item.split("/", maxsplit=1)[0]]}
        )

        def run(*arguments: str, limit: float | None = None) -> bool:
            try:
                return subprocess.run(
                    [sys.executable, "-W", "ignore", "-m", "pytest", "-q", "-p", "no:cacheprovider", *arguments],
                    cwd=copied, env=environment, capture_output=True, timeout=limit, check=False,
                ).returncode == 0  # fmt: skip
            except subprocess.TimeoutExpired:
                return False  # a loop without end is noticed

        run("-p", "reached", *tests)
        reached: dict[str, list[str]]
        took: dict[str, float]
        reached, took = json.loads(Path(f"{name}/reached.json").read_text())
        weight: dict[str, int] = {}
        of_file: dict[str, list[str]] = {}  # a line that runs when it is imported is no one test's: its file's tests
        for spot, names in reached.items():
            of_file[spot.rpartition(":")[0]] = list({*of_file.get(spot.rpartition(":")[0], []), *names})
        for names in reached.values():
            for test in names:
                weight[test] = weight.get(test, 0) + 1
        dice = random.Random(asked.seed)
        for package in asked.packages:
            files = sorted((copied / "src/wintry_tally" / package).rglob("*.py")) or [
                copied / f"src/wintry_tally/{package}.py"
            ]
            all_changes = [(path, number, line) for path in files for number, line in changes(path) if line]
            noticed = tried = 0
            for path, number, line in dice.sample(all_changes, min(asked.count, len(all_changes))):
                source = path.read_text(encoding="utf-8")
                one = Change(number)
                changed = ast.unparse(ast.fix_missing_locations(one.visit(ast.parse(source))))
                place = f"{path.relative_to(copied / 'src/wintry_tally')}:{line}: {source.splitlines()[line - 1].strip()[:110]}"
                before, after = (ast.unparse(ast.parse(source)).splitlines(), changed.splitlines())
                differs = next(
                    (new.strip() for old, new in zip(before, after, strict=False) if old != new), "(a line less)"
                )
                module = path.relative_to(copied / "src/wintry_tally")
                if f"{module}: {differs}" in EQUIVALENT:
                    continue
                tried += 1
                able = sorted(reached.get(f"{path}:{line}", of_file.get(str(path), [])), key=lambda test: weight[test])
                able = those_that_speak_of(path.relative_to(copied / "src"), able, copied)
                path.write_text(changed, encoding="utf-8")
                # what takes longer than it did while every line was noted hangs
                survives = not able or run("-x", *able, limit=60.0 + sum(took[test] for test in able))
                path.write_text(source, encoding="utf-8")
                noticed += not survives
                if survives:
                    print(
                        f"  {place}\n      → {differs}{'   (no test reaches it)' if not able else ''}   ({noticed} of {tried})"
                    )
            print(f"{package}: {noticed} of {tried} noticed, {100 * noticed / max(1, tried):.0f} %")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
