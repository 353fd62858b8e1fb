"""Each finding is in the catalogue once, is used, and gets the facts that its texts tell of; the core names no option."""

from __future__ import annotations

import ast
import re
import string
import subprocess
import sys
from pathlib import Path

import pytest

from dunechest.cli.hints import HINTS
from dunechest.computer import Computer, using
from dunechest.model.findings import FINDINGS, finding_of, worded

ROOT = Path(__file__).resolve().parents[2]
SOURCE = ROOT / "src" / "dunechest"
#: An option, or a command, in words.
SPOKEN = re.compile(r"(?<![\w-])--[a-z][a-z-]+|\bdunechest [a-z]+")


def _used() -> dict[str, list[tuple[str, set[str]]]]:
    """Return where each finding is made, with the facts that it gets."""
    used: dict[str, list[tuple[str, set[str]]]] = {}
    for path in SOURCE.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "finding_of":
                (key,) = node.args
                keys = [
                    item.value for item in ast.walk(key) if isinstance(item, ast.Constant) and item.value in FINDINGS
                ]
                assert keys or isinstance(key, ast.Name), (path, node.lineno)
                for own in keys:
                    facts = {str(word.arg) for word in node.keywords}
                    used.setdefault(str(own), []).append((f"{path.name}:{node.lineno}", facts))
    return used


def _names(text: str) -> set[str]:
    return {name for _, name, _, _ in string.Formatter().parse(text) if name is not None}


def test_the_catalogue_is_what_is_said() -> None:
    used = _used()
    paths = {key for key in FINDINGS if key.startswith("path-length")}  # their key is handed down
    assert set(used) | paths == set(FINDINGS)
    for key, places in used.items():
        told = _names(FINDINGS[key].message) | _names(FINDINGS[key].action) | _names(HINTS.get(key, ""))
        for place, facts in places:
            assert facts == told, (key, place)
    assert set(HINTS) <= set(FINDINGS)


def test_no_finding_is_worded_anywhere_else() -> None:
    for path in SOURCE.rglob("*.py"):
        if path.name != "findings.py":
            text = path.read_text(encoding="utf-8")
            assert not re.search(r"(?<![\w`])Finding\(", text), path


def test_its_words_are_neutral_and_the_command_line_has_its_own() -> None:
    for key, saying in FINDINGS.items():
        assert not SPOKEN.search(saying.message + saying.action), key
        assert key not in HINTS or SPOKEN.search(HINTS[key]) or "{command}" in HINTS[key], (
            f"{key}: nothing in it is the command line's"
        )
        for text in (saying.message, saying.action):
            assert text[-1] in ".:}", key
    facts = {"chest": "blue one", "label": "blue one"}
    neutral = finding_of("too-few-places", places=1, wanted=2, **facts)
    assert neutral.action == "Say where a drive is kept."
    with using(Computer(words=HINTS)):
        assert finding_of("too-few-places", places=1, wanted=2, **facts).action.endswith(
            "chest place 'blue one' PLACE"
        )
    assert finding_of("too-few-places", places=1, wanted=2, **facts) == neutral


@pytest.mark.parametrize("count", [0, 1, 2, 1200])
def test_numbers_have_their_words(count: int) -> None:
    told = worded("{n:file} {n:?is|are} here, {n:copy|copies}", {"n": count})
    plural = count != 1
    assert (
        told == f"{count:,} {'files are' if plural else 'file is'} here, {count:,} {'copies' if plural else 'copy'}"
    )


def test_a_name_does_nothing_to_a_terminal() -> None:
    assert "\x1b" not in worded("{name} {name!q}", {"name": "a\x1b[31m {n} b"})


def test_the_page_is_up_to_date() -> None:
    done = subprocess.run([sys.executable, ROOT / "scripts" / "findings_reference.py", "--check"], check=False)
    assert done.returncode == 0, "docs/findings.md is not up to date: run make docs"
