"""Change lines one by one and run the tests that run them: what survives is a missing test.

    python scripts/mutants.py src/dunechest/jobs/move/reclaim/planning            a package, with the tests of its room
    python scripts/mutants.py src/dunechest/chest/log.py --tests tests/chest tests/jobs/known/test_household.py
    python scripts/mutants.py src/dunechest/jobs/move/reclaim --most 40            a sample, drawn by --seed
    python scripts/mutants.py --since HEAD~3                                  the lines that were changed since

Conditions are turned round, comparisons moved by one, calls left out. Everything happens in a copy of the checkout. Which tests run
a line is seen once, by coverage. The exit status is 1 if something survived.
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import re
import shutil
import sqlite3
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import closing
from pathlib import Path
from typing import NamedTuple

ROOT = Path(__file__).resolve().parents[1]
#: The tests of each room; of one that is not here, those of the folder that mirrors it.
ROOMS = {
    "jobs/archive": (
        "tests/jobs/archive/test_honest_summaries.py",
        "tests/jobs/overview/test_proposals.py",
        "tests/whole/test_what_stays.py",
    ),
    "jobs/copy": ("tests/jobs/check/test_copying_and_mending.py",),
    "jobs/editions": ("tests/jobs/editions/test_editions.py", "tests/jobs/editions/test_dropping.py"),
    "jobs/check/mend": ("tests/jobs/check/test_copying_and_mending.py", "tests/jobs/check/test_damage.py"),
    "jobs/move/reclaim": ("tests/jobs/move/test_reclaiming.py", "tests/jobs/known/test_own_things.py"),
    "jobs/move/rehome": ("tests/jobs/move/test_rehoming.py",),
    "jobs/restore": (
        "tests/jobs/archive/test_choices.py",
        "tests/jobs/restore/test_repointing.py",
        "tests/jobs/undo/test_undoing.py",
    ),
    "jobs/routine": ("tests/jobs/routine/test_routine.py", "tests/jobs/routine/test_steps.py"),
    "jobs/undo": ("tests/jobs/undo/test_undoing.py",),
}
#: Seconds for the tests of one change: one that makes a loop endless is found, too.
_PATIENCE = 180
#: So many tests of a line are run: if none of these sees a change, it is shown, with how many there are.
_TESTS = 25
_OTHER = {
    ast.Lt: "<=", ast.LtE: "<", ast.Gt: ">=", ast.GtE: ">", ast.Eq: "!=", ast.NotEq: "==", ast.In: "not in", ast.NotIn: "in",
    ast.Is: "is not", ast.IsNot: "is",
}  # fmt: skip


class Mutant(NamedTuple):
    """A change: the file, the line, where the text begins and ends in the file (bytes), and the other text."""

    path: Path
    line: int
    begin: int
    end: int
    other: str

    def applied(self, content: bytes) -> bytes:
        """Return the content of the file with the change."""
        return content[: self.begin] + self.other.encode() + content[self.end :]


def mutants_of(path: Path) -> Iterator[Mutant]:
    """Yield the changes of a file."""
    content = path.read_bytes()
    starts = [0]
    for line in content.splitlines(keepends=True):
        starts.append(starts[-1] + len(line))

    def change(node: ast.expr | ast.stmt, other: str) -> Mutant:
        assert node.end_lineno is not None and node.end_col_offset is not None
        begin, end = starts[node.lineno - 1] + node.col_offset, starts[node.end_lineno - 1] + node.end_col_offset
        return Mutant(path, node.lineno, begin, end, other)

    def text(node: ast.expr) -> str:
        return ast.get_source_segment(content.decode(), node) or ""

    for node in ast.walk(ast.parse(content)):
        if isinstance(node, ast.If | ast.While | ast.IfExp) and not _is_of_types(node.test):
            yield change(node.test, f"(not ({text(node.test)}))")
        if isinstance(node, ast.comprehension):
            for test in node.ifs:
                yield change(test, "True")
        if isinstance(node, ast.BoolOp):
            for value in node.values:
                yield change(value, "True" if isinstance(node.op, ast.And) else "False")
        if isinstance(node, ast.Compare) and len(node.ops) == 1 and type(node.ops[0]) in _OTHER:
            right = node.comparators[0]
            yield change(node, f"({text(node.left)} {_OTHER[type(node.ops[0])]} {text(right)})")
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Call):
            yield change(node, "None")
        if isinstance(node, ast.Raise):
            yield change(node, "pass")


def _is_of_types(test: ast.expr) -> bool:
    return isinstance(test, ast.Name) and test.id == "TYPE_CHECKING"


def changed_lines(since: str) -> dict[Path, set[int]]:
    """Return the lines of sources that were added or changed since a commit."""
    diff = subprocess.run(
        ["git", "diff", "-U0", since, "--", "src"], cwd=ROOT, check=True, capture_output=True, text=True
    ).stdout
    found: dict[Path, set[int]] = {}
    path = ROOT
    for line in diff.splitlines():
        if line.startswith("+++ b/"):
            path = ROOT / line[6:]
        elif match := re.match(r"@@ -\S+ \+(\d+)(?:,(\d+))? @@", line):
            begin, count = int(match.group(1)), int(match.group(2) or 1)
            found.setdefault(path, set()).update(range(begin, begin + count))
    return {path: lines for path, lines in found.items() if path.suffix == ".py"}


def tests_of(path: Path) -> tuple[str, ...]:
    """Return the tests of the room that a file belongs to."""
    below = path.relative_to(ROOT / "src" / "dunechest").as_posix()
    for room, tests in ROOMS.items():
        if below.startswith(room + "/"):
            return tests
    folder = Path("tests") / below.split("/")[0]
    return (str(folder),) if (ROOT / folder).is_dir() else ("tests/jobs",)


class Copy:
    """A copy of the checkout in which lines are changed, and which tests run which lines of it."""

    def __init__(self, top: Path, tests: Sequence[str]) -> None:
        self.top = top
        ignored = shutil.ignore_patterns(
            ".git", ".venv", ".windows", "__pycache__", "site", "marram-point", ".*_cache"
        )
        shutil.copytree(ROOT, top, ignore=ignored, symlinks=True)
        ran = self.pytest(*tests, "--cov=dunechest", "--cov-context=test", "--cov-report=", patience=1800)
        if ran:
            raise SystemExit("the tests fail as they are: look at them first")
        self._lines: dict[str, dict[int, list[str]]] = {}

    def pytest(self, *words: str, patience: float = _PATIENCE) -> int:
        """Run tests there, and return the exit status; 1 if they take too long."""
        environment = os.environ | {"PYTHONPATH": str(self.top / "src"), "COVERAGE_CORE": "ctrace"}
        order = [sys.executable, "-m", "pytest", "-q", "-x", "-p", "no:cacheprovider", "-p", "no:randomly", *words]
        try:
            ran = subprocess.run(
                order, cwd=self.top, env=environment, capture_output=True, timeout=patience, check=False
            )
        except subprocess.TimeoutExpired:
            return 1
        return ran.returncode

    def tests(self, mutant: Mutant) -> list[str]:
        """Return the tests that run a line."""
        own = mutant.path.relative_to(ROOT).as_posix()
        if own not in self._lines:
            self._lines[own] = self._read(own)
        return self._lines[own].get(mutant.line, [])

    def _read(self, own: str) -> dict[int, list[str]]:
        from coverage.numbits import numbits_to_nums

        found: dict[int, list[str]] = {}
        with closing(sqlite3.connect(self.top / ".coverage")) as data:
            rows = data.execute(
                "SELECT context.context, numbits FROM line_bits JOIN context ON context.id = context_id "
                "JOIN file ON file.id = file_id WHERE file.path LIKE ?", ("%/" + own,),
            )  # fmt: skip
            for context, bits in rows:
                for line in numbits_to_nums(bits) if context else ():
                    found.setdefault(line, []).append(context.rpartition("|")[0])
        return found

    def survives(self, mutant: Mutant, tests: Sequence[str]) -> bool:
        """Whether no test sees a change."""
        place = self.top / mutant.path.relative_to(ROOT)
        before = place.read_bytes()
        place.write_bytes(mutant.applied(before))
        try:
            return self.pytest(*tests[:_TESTS]) == 0
        finally:
            place.write_bytes(before)


def main() -> int:
    """Change what was asked for, and tell what survived."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("places", nargs="*", type=Path, help="files and folders below src/dunechest")
    parser.add_argument("--tests", nargs="+", default=None)
    parser.add_argument("--since", help="only lines that were changed since this commit")
    parser.add_argument("--most", type=int, default=0, help="so many, drawn by the seed")
    parser.add_argument("--seed", type=int, default=1)
    words = parser.parse_args()
    lines = changed_lines(words.since) if words.since else {}
    files = [path for place in words.places for path in ([place] if place.is_file() else sorted(place.rglob("*.py")))]
    paths = [path.resolve() for path in files] or list(lines)
    every = [
        mutant for path in paths for mutant in mutants_of(path) if not lines or mutant.line in lines.get(path, ())
    ]
    if words.most and len(every) > words.most:
        every = sorted(random.Random(words.seed).sample(every, words.most))
    if not every:
        print("there is nothing to change")
        return 0
    tests = words.tests or sorted({test for path in {m.path for m in every} for test in tests_of(path)})
    print(f"{len(every)} changes in {len({m.path for m in every})} files, with {' '.join(tests)}", flush=True)
    survived = unseen = 0
    with tempfile.TemporaryDirectory(prefix="dunechest-mutants-") as folder:
        copy = Copy(Path(folder) / "checkout", tests)
        for mutant in every:
            own, known = mutant.path.relative_to(ROOT), copy.tests(mutant)
            was = mutant.path.read_bytes()[mutant.begin : mutant.end].decode()
            told = f"{own}:{mutant.line}: {' '.join(was.split())[:70]} -> {' '.join(mutant.other.split())[:70]}"
            if not known:
                unseen += 1
                print(f"  no test runs   {told}", flush=True)
            elif copy.survives(mutant, known):
                survived += 1
                print(f"  survived {len(known):>3}   {told}", flush=True)
    print(
        f"{len(every)} changes: {survived} survived their tests, {unseen} are in lines that none of these tests runs"
    )
    return 1 if survived else 0


if __name__ == "__main__":
    raise SystemExit(main())
