"""Put small slips into the code, one at a time, and tell those that no test notices.

    python tools/mutants.py [--count N] [--seed N] [--in PACKAGE ...] [--at-once N]

A slip turns a comparison round, drops half of a condition, a `not` or a call, or changes a number by one. Each is tried
in a copy of this repository, with the test modules that run its line, the quickest first, until one fails. Which
modules run which lines is measured first (`pip install coverage`), which takes as long as all tests. Slips that
change nothing are listed with a reason in `tools/mutants.toml`. Ends with 1 if fewer than 95 in 100 were noticed.
"""

import argparse
import ast
import json
import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
import time
import tomllib
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from queue import SimpleQueue

ROOT = Path(__file__).parents[1]
SOURCE = Path("src/usufruct")
PACKAGES = ("transaction", "backups", "ledger", "files", "planning")
_PATIENCE = 300.0
"""Seconds that a test module may take: a slip may make it wait for ever."""
_WANTED = 0.95
_TURNED = {
    ast.Lt: "<=", ast.LtE: "<", ast.Gt: ">=", ast.GtE: ">", ast.Eq: "!=", ast.NotEq: "==", ast.In: "not in",
    ast.NotIn: "in", ast.Is: "is not", ast.IsNot: "is",
}  # fmt: skip

_CHANGES_NOTHING = re.compile(r"checkpoint$|^_log\.")
"""Calls that only tests or the log hear of."""


@dataclass(frozen=True)
class Slip:
    """One change of one file."""

    file: str
    line: int
    statement: int
    """The line that its statement begins in: of a statement of many lines only that is measured."""
    was: str
    now: str
    begin: int
    end: int
    """Bytes of the file that are replaced."""

    def applied(self, content: bytes) -> bytes:
        return content[: self.begin] + self.now.encode() + content[self.end :]

    def __str__(self) -> str:
        return f"{self.file}:{self.line}  {self.was!r} → {self.now!r}"


def slips_in(file: str, text: str) -> Iterator[Slip]:
    """Every slip that can be made in a file."""
    starts = [0]
    for line in text.encode().splitlines(keepends=True):
        starts.append(starts[-1] + len(line))

    def slip(node: ast.expr | ast.stmt, now: str, statement: int) -> Slip:
        begin = starts[node.lineno - 1] + node.col_offset
        end = starts[(node.end_lineno or node.lineno) - 1] + (node.end_col_offset or 0)
        return Slip(file, node.lineno, statement, text.encode()[begin:end].decode(), now, begin, end)

    for node, statement in _with_statements(ast.parse(text)):
        if isinstance(node, ast.Compare) and len(node.ops) == 1 and type(node.ops[0]) in _TURNED:
            left, right = ast.unparse(node.left), ast.unparse(node.comparators[0])
            yield slip(node, f"({left} {_TURNED[type(node.ops[0])]} {right})", statement)
        elif isinstance(node, ast.BoolOp):
            word = " and " if isinstance(node.op, ast.And) else " or "
            for number in range(len(node.values)):
                kept = [ast.unparse(value) for at, value in enumerate(node.values) if at != number]
                yield slip(node, f"({word.join(kept)})", statement)
        elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
            yield slip(node, f"bool({ast.unparse(node.operand)})", statement)
        elif isinstance(node, ast.Constant) and type(node.value) is int:
            yield slip(node, str(node.value + 1), statement)
        elif (
            isinstance(node, ast.Expr)
            and isinstance(node.value, ast.Call)
            and not _CHANGES_NOTHING.search(ast.unparse(node.value.func))
        ):
            yield slip(node, "...", statement)


def _with_statements(top: ast.AST, statement: int = 0) -> Iterator[tuple[ast.AST, int]]:
    """Every node below one, with the line that its statement begins in."""
    for node in ast.iter_child_nodes(top):
        begins = node.lineno if isinstance(node, ast.stmt) else statement
        yield node, begins
        yield from _with_statements(node, begins)


def measured(copy: Path, at_once: int) -> tuple[dict[str, dict[str, set[int]]], dict[str, float]]:
    """Test module → file → lines that it runs, and its seconds."""
    from tests.__main__ import modules

    lines: dict[str, dict[str, set[int]]] = {}
    seconds: dict[str, float] = {}

    def measure(name: str) -> None:
        data, begun = copy / f".coverage.{name}", time.monotonic()
        words = [sys.executable, "-m", "coverage", "run", f"--data-file={data}", f"--source={SOURCE}", "-m", "unittest"]
        subprocess.run([*words, name], cwd=copy, env=_world(copy), capture_output=True, check=False)
        seconds[name] = time.monotonic() - begun
        said = subprocess.run(
            [sys.executable, "-m", "coverage", "json", f"--data-file={data}", "-o", "-", "-q"],
            cwd=copy, env=_world(copy), capture_output=True, text=True, check=False,
        ).stdout  # fmt: skip
        found = json.loads(said)["files"] if said.startswith("{") else {}
        lines[name] = {file: set(one["executed_lines"]) for file, one in found.items()}

    with ThreadPoolExecutor(at_once) as pool:
        list(pool.map(measure, modules([])))
    return lines, seconds


def _world(copy: Path) -> dict[str, str]:
    return {**os.environ, "PYTHONPATH": f"{copy / 'src'}{os.pathsep}{copy}", "PYTHONDONTWRITEBYTECODE": "1"}


def noticed_by(slip: Slip, copy: Path, tests: list[str]) -> str:
    """The test module that notices a slip; empty where none does."""
    path = copy / slip.file
    content = path.read_bytes()
    path.write_bytes(slip.applied(content))
    try:
        for name in tests:
            words = [sys.executable, "-m", "unittest", "-f", name]
            try:
                done = subprocess.run(
                    words, cwd=copy, env=_world(copy), capture_output=True, timeout=_PATIENCE, check=False
                )
            except subprocess.TimeoutExpired:
                return name
            if done.returncode:
                return name
    finally:
        path.write_bytes(content)
    return ""


def main() -> int:
    """Try a sample of slips, and tell those that nothing noticed."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--count", type=int, default=500)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--in", dest="packages", nargs="*", default=PACKAGES)
    parser.add_argument("--at-once", type=int, default=os.cpu_count() or 1)
    parser.add_argument("--lines", type=Path, help="keep here what was measured, or take it from here")
    asked = parser.parse_args()
    sys.path.insert(0, str(ROOT))
    with tempfile.TemporaryDirectory(prefix="usufruct-mutants-") as scratch:
        copies: SimpleQueue[Path] = SimpleQueue()
        for number in range(asked.at_once):
            copy = Path(scratch, str(number))
            shutil.copytree(ROOT, copy, ignore=shutil.ignore_patterns(".git", ".venv", "__pycache__", ".*_cache"))
            copies.put(copy)
        lines, seconds = _lines(asked.lines, Path(scratch, "0"), asked.at_once)
        equivalent = {(one["file"], one["was"], one["now"]) for one in _equivalent()}
        every = [
            slip
            for package in asked.packages
            for file in sorted((ROOT / SOURCE / package).rglob("*.py"))
            for slip in slips_in(file.relative_to(ROOT).as_posix(), file.read_text(encoding="utf-8"))
            if (slip.file, slip.was, slip.now) not in equivalent
        ]
        sample = random.Random(asked.seed).sample(every, min(asked.count, len(every)))

        def tried(slip: Slip) -> bool:
            tests = [name for name, files in lines.items() if {slip.line, slip.statement} & files.get(slip.file, set())]
            copy = copies.get()
            try:
                by = noticed_by(slip, copy, sorted(tests, key=seconds.__getitem__))
            finally:
                copies.put(copy)
            sys.stdout.write("." if by else f"\nnot noticed by {len(tests)} modules: {slip}\n")
            sys.stdout.flush()
            return bool(by)

        with ThreadPoolExecutor(asked.at_once) as pool:
            noticed = sum(pool.map(tried, sample))
    sys.stdout.write(f"\n{noticed} of {len(sample)} noticed ({noticed / len(sample):.1%})\n")
    return int(noticed < _WANTED * len(sample))


def _equivalent() -> list[dict[str, str]]:
    file = Path(__file__).with_suffix(".toml")
    return tomllib.loads(file.read_text(encoding="utf-8")).get("slip", []) if file.exists() else []


def _lines(kept: Path | None, copy: Path, at_once: int) -> tuple[dict[str, dict[str, set[int]]], dict[str, float]]:
    if kept and kept.exists():
        stored = json.loads(kept.read_text(encoding="utf-8"))
        lines = {name: {file: set(found) for file, found in files.items()} for name, files in stored["lines"].items()}
        return lines, stored["seconds"]
    lines, seconds = measured(copy, at_once)
    if kept:
        plain = {name: {file: sorted(found) for file, found in files.items()} for name, files in lines.items()}
        kept.write_text(json.dumps({"lines": plain, "seconds": seconds}), encoding="utf-8")
    return lines, seconds


if __name__ == "__main__":
    sys.exit(main())
