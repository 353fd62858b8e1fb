"""Paths of this computer are never taken apart by ``/``, and only a few modules know what stands between the pieces of one."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from pathlib import Path

import pytest

SOURCES = Path(__file__).resolve().parents[1] / "src" / "dunechest"
#: Modules that turn paths of this computer into paths inside a library or of another system, and back.
TRANSLATE = {
    "paths.py": "the place for it",
    "names.py": "says which names lead elsewhere on this system",
    "machine/written_paths.py": "writes paths as other systems do",
    "library/references/resolve.py": "finds what paths in files of any system mean here",
    "jobs/check/compare/places.py": "takes CHEST/LIBRARY as a person types it",
}
#: What makes a text that is a path of this computer.
_MAKERS = {"fspath", "fsdecode", "realpath", "abspath", "expanduser", "normpath", "getcwd", "str"}
_TAKES_APART = {
    "split",
    "rsplit",
    "partition",
    "rpartition",
    "startswith",
    "endswith",
    "removeprefix",
    "removesuffix",
    "count",
}


def _is_path_of_this_computer(node: ast.expr) -> bool:
    if not isinstance(node, ast.Call):
        return False
    called = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
    if called == "str":
        # The words of a value may hold a slash; a path's are told by how it is called.
        told = node.args[0] if node.args else None
        name = told.attr if isinstance(told, ast.Attribute) else getattr(told, "id", "")
        return name in (
            "path",
            "place",
            "folder",
            "home",
            "mount",
            "root",
            "target",
            "source",
            "library",
            "bag",
            "parent",
        )
    return called in _MAKERS


def _faults(tree: ast.AST) -> Iterator[int]:
    for node in ast.walk(tree):
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr in _TAKES_APART:
            slash = any(isinstance(word, ast.Constant) and word.value == "/" for word in node.args)
            if slash and _is_path_of_this_computer(node.func.value):
                yield node.lineno
        if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add):
            ends = (
                isinstance(node.right, ast.Constant)
                and isinstance(node.right.value, str)
                and node.right.value[:1] == "/"
            )
            if ends and _is_path_of_this_computer(node.left):
                yield node.lineno
        if isinstance(node, ast.JoinedStr):
            for first, second in zip(node.values, node.values[1:], strict=False):
                begins = isinstance(second, ast.Constant) and str(second.value).startswith("/")
                if begins and isinstance(first, ast.FormattedValue) and _is_path_of_this_computer(first.value):
                    yield node.lineno


def _trees() -> Iterator[tuple[str, ast.Module]]:
    for path in sorted(SOURCES.rglob("*.py")):
        yield path.relative_to(SOURCES).as_posix(), ast.parse(path.read_text(encoding="utf-8"))


def _asks_what_divides(tree: ast.AST) -> Iterator[int]:
    for node in ast.walk(tree):
        if (
            isinstance(node, ast.Attribute)
            and node.attr in ("sep", "altsep")
            and getattr(node.value, "id", "") == "os"
        ):
            yield node.lineno


def test_no_path_of_this_computer_is_taken_apart_by_what_divides_it() -> None:
    sliced: list[str] = []
    asked: list[str] = []
    for module, tree in _trees():
        sliced += [f"{module}:{line}" for line in _faults(tree)]
        asked += [f"{module}:{line}" for line in _asks_what_divides(tree) if module not in TRANSLATE]
    assert sliced == [], "use Path, os.path.join, Path.as_posix or Path.relative_to"
    assert asked == [], "ask dunechest.paths instead"


@pytest.mark.parametrize(
    ("text", "wrong"),
    [
        ('str(folder) + "/x"', True), ('f"{os.fspath(place)}/x"', True), ('os.path.realpath(p).split("/")', True),
        ('path.split("/")', False), ('str(count) + "/x"', False), ('folder / "x"', False),
    ],
)  # fmt: skip
def test_the_test_would_see_it(text: str, wrong: bool) -> None:
    assert bool(list(_faults(ast.parse(text)))) is wrong
    assert list(_asks_what_divides(ast.parse("os.sep"))) == [1]
