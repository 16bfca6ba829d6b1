"""The house itself: what is committed names no host, no path of a machine and nobody; pictures are linked; files stay short."""

from __future__ import annotations

import ast
import re
import subprocess
import tomllib
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
FILES = [
    ROOT / name
    for name in subprocess.run(["git", "ls-files"], cwd=ROOT, capture_output=True, text=True).stdout.splitlines()
] or [path for path in ROOT.rglob("*") if ".venv" not in path.parts and ".git" not in path.parts]
TEXTS = {".py", ".md", ".toml", ".lock", ".j2", ".xml", ".desktop", ".svg", ".mako", ""}


def texts() -> list[tuple[Path, str]]:
    return [
        (path, path.read_text(encoding="utf-8"))
        for path in FILES
        if path.is_file() and path.suffix in TEXTS and path.name not in {"LICENSE", "test_house.py"}
    ]


def test_locks_are_hashed_and_name_no_host() -> None:
    for name in ("requirements.lock", "requirements-test.lock"):
        text = (ROOT / name).read_text()
        assert not re.search(r"http|--(extra-)?index|--find", text)
        pins = [line for line in text.splitlines() if "==" in line]
        assert len(pins) > 10
        for block in re.split(r"\n(?=\S)", text):
            assert not block.strip() or block.startswith("#") or "--hash=sha256:" in block, block[:60]


def test_every_direct_dependency_is_pinned() -> None:
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    lock = (ROOT / "requirements.lock").read_text().lower().replace("_", "-")
    for line in project["dependencies"]:
        name = re.split(r"[<>=\[ ]", line)[0].lower().replace("_", "-")
        assert f"\n{name}==" in f"\n{lock}", name
    both = (ROOT / "requirements-test.lock").read_text()
    for pin in re.findall(r"^(\S+==\S+)", (ROOT / "requirements.lock").read_text(), re.M):
        assert pin in both, f"the test environment holds the shipped versions: {pin}"


def test_nothing_committed_names_a_machine() -> None:
    for path, text in texts():
        assert not re.search(r"/(work|home|root)/\w", text), path


def test_no_function_is_too_long() -> None:
    for path, text in texts():
        if path.suffix != ".py" or "src" not in path.parts or "migrations" in path.parts:
            continue
        bodies = [ast.parse(text)]
        while bodies:  # statements alone: a function is in no expression
            for node in ast.iter_child_nodes(bodies.pop()):
                if isinstance(node, ast.FunctionDef):
                    assert (node.end_lineno or 0) - node.lineno < 60, f"{path}: {node.name}"
                bodies += [node] if isinstance(node, ast.stmt) else []


def test_no_file_is_too_long_and_nothing_is_left_open() -> None:
    for path, text in texts():
        if path.suffix == ".py":
            assert text.count("\n") <= 500 or "tests" in path.parts, path
            if "src" in path.parts:
                assert not re.search(r"\b(TODO|FIXME|XXX|NotImplementedError)\b", text), path
                assert text.startswith('"""') or not text.strip(), f"{path} says what it is for"


def test_every_picture_is_linked_and_there_are_few() -> None:
    readme = (ROOT / "README.md").read_text()
    pictures = list((ROOT / "docs" / "screenshots").glob("*.png"))
    assert 5 <= len(pictures) < 20
    for picture in pictures:
        assert picture.name in readme


def test_links_in_the_documents_lead_somewhere() -> None:
    for path, text in texts():
        if path.suffix == ".md":
            for target in re.findall(r"\]\(([^)#:]+)\)", text):
                assert (path.parent / target).exists(), (path, target)


def test_shipped_files_are_in_the_package() -> None:
    data = tomllib.loads((ROOT / "pyproject.toml").read_text())["tool"]["setuptools"]["package-data"]
    source = ROOT / "src"
    for package, patterns in data.items():
        folder = source.joinpath(*package.split("."))
        for pattern in patterns:
            assert list(folder.glob(pattern)), (package, pattern)
    assert (source / "wintry_tally" / "desk" / "theme" / "fonts" / "OFL.txt").is_file()


@pytest.mark.parametrize("arguments", [[], ["nonsense"]])
def test_the_run_script_explains_itself(arguments: list[str]) -> None:
    done = subprocess.run([str(ROOT / "run"), *arguments], capture_output=True, text=True)
    assert done.returncode == 2 and "./run demo" in done.stdout and "./run test" in done.stdout


def test_the_shell_scripts_parse() -> None:
    for script in (ROOT / "run", ROOT / ".ci" / "run"):
        assert subprocess.run(["bash", "-n", str(script)], capture_output=True).returncode == 0


def test_every_key_of_a_source_stands_in_the_table() -> None:
    table = (ROOT / "tests" / "SOURCES.md").read_text(encoding="utf-8")
    known = set(re.findall(r"^\| ([PT]\d+) \|", table, re.M))
    assert len(known) > 40
    for path, text in texts():
        if path.suffix == ".py" and "tests" in path.parts:
            used = set(re.findall(r"(?:#|;|\(|,|and) ?\b([PT][1-9]\d?)\b(?=[:,;. )])", text))
            assert used <= known, (path, used - known)
