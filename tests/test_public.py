"""The public door: what is exported, documented and reachable is the same; plans are values, results tell all they hold."""

from __future__ import annotations

import ast
import collections.abc
import copy
import importlib
import inspect
import json
import pickle
import re
import subprocess
import sys
import typing
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import msgspec
import pytest

import dunechest
from dunechest.chest.file_table import FileTable, Proven
from tests.support.runs import Command

ROOT = Path(__file__).resolve().parents[1]
DOORS = ("dunechest", "dunechest.kinds", "dunechest.routines", "dunechest.offices", "dunechest.chests", "dunechest.places",
         "dunechest.plans", "dunechest.model")  # fmt: skip
#: Every public thing by its name, and the module it is in.
PUBLIC = {
    name: door
    for door in reversed(DOORS)
    for name in importlib.import_module(door).__all__
    if not inspect.ismodule(getattr(importlib.import_module(door), name))
}
NAMES = sorted(PUBLIC)


def public(name: str) -> Any:
    return getattr(importlib.import_module(PUBLIC[name]), name)


@pytest.mark.parametrize("door", DOORS)
def test_each_name_is_listed_once(door: str) -> None:
    module = importlib.import_module(door)
    stub = Path(str(module.__file__)).with_suffix(".pyi").read_text(encoding="utf-8")
    listed = re.findall(r"^from \S+ import (\w+) as \1$", stub, re.MULTILINE)
    assert sorted(listed) == module.__all__ == sorted(set(listed))
    assert dir(module) == module.__all__
    if door == "dunechest":
        assert len(listed) < 80


def test_every_public_name_is_documented() -> None:
    page = (ROOT / "docs" / "python.md").read_text(encoding="utf-8")
    shown = set(re.findall(r"^- `(\w+)", page, re.MULTILINE))
    assert shown >= set(NAMES)
    done = subprocess.run([sys.executable, ROOT / "scripts" / "python_reference.py", "--check"], check=False)
    assert done.returncode == 0, "docs/python.md is not up to date: run make docs"


@pytest.mark.parametrize("name", NAMES)
def test_each_public_thing_is_documented_and_of_the_package(name: str) -> None:
    value = public(name)
    assert (inspect.getdoc(value) or "").strip()
    if inspect.isfunction(value) or (isinstance(value, type) and issubclass(value, Exception)):
        assert value.__module__ in (*DOORS, "dunechest.errors")
    assert pickle.loads(pickle.dumps(value)) is value
    if isinstance(value, type) and issubclass(value, Exception):
        assert name.endswith("Error")


def _ours(hint: Any) -> Iterator[type]:
    if isinstance(hint, type) and hint.__module__.split(".")[0] == "dunechest":
        yield hint
    for inner in typing.get_args(hint):
        yield from _ours(inner)


def _hints(value: Any) -> Iterator[Any]:
    own = getattr(value, "__globals__", None) or vars(importlib.import_module(value.__module__))
    space = {**vars(collections.abc), **own}
    for name in NAMES:
        space.setdefault(name, public(name))
    space.setdefault("pd", importlib.import_module("pandas"))
    for name, hint in getattr(value, "__annotations__", {}).items():
        if not name.startswith("_"):
            yield eval(hint, space) if isinstance(hint, str) else hint


def test_every_type_that_can_be_reached_is_exported() -> None:
    waiting = [public(name) for name in NAMES]
    seen: set[Any] = set()
    while waiting:
        value = waiting.pop()
        if value in seen:
            continue
        seen.add(value)
        found = [cls for hint in _hints(value) for cls in _ours(hint)]
        if isinstance(value, type):
            for name, member in vars(value).items():
                inner = member.fget if isinstance(member, property) else getattr(member, "__func__", member)
                if not name.startswith("_") and inspect.isfunction(inner):
                    found += [cls for hint in _hints(inner) for cls in _ours(hint)]
        waiting += found
    missing = {cls.__name__ for cls in seen if isinstance(cls, type) and not issubclass(cls, Exception)} - set(NAMES)
    assert not missing, missing


def _changeable(value: Any, path: str, seen: set[int]) -> Iterator[str]:
    """Yield where something in a value can be changed from outside."""
    if id(value) in seen or isinstance(value, str | bytes | int | float | Path | frozenset | type(None)):
        return
    seen.add(id(value))
    if isinstance(value, dunechest.Chest):
        return  # which chest it is, and no part of what is decided
    if isinstance(value, FileTable):
        with pytest.raises(TypeError):
            value["x"] = typing.cast(Proven, None)
        with pytest.raises(TypeError):
            value.clear()
        return
    if isinstance(value, list | set | bytearray):
        yield path
    elif isinstance(value, Mapping):
        if isinstance(value, dict):
            for change in (value.clear, value.popitem, lambda: value.update(x=1), lambda: value.__setitem__("x", 1)):
                with pytest.raises(TypeError):
                    change()
        for key in value:
            yield from _changeable(value[key], f"{path}[{key!r}]", seen)
    elif isinstance(value, tuple):
        for at, inner in enumerate(value):
            yield from _changeable(inner, f"{path}[{at}]", seen)
    elif isinstance(value, msgspec.Struct):
        assert value.__struct_config__.frozen, path
        for name in value.__struct_fields__:
            yield from _changeable(getattr(value, name), f"{path}.{name}", seen)


@pytest.fixture
def plans(library: Path, chest: dunechest.Chest, tmp_path: Path) -> dict[str, Any]:
    """A plan of each sort, for a library with two editions."""
    dunechest.archive(library, chest)
    (library / "new.txt").write_text("new")
    dunechest.archive(library, chest)
    (library / "newer.txt").write_text("newer")
    (library / "new.txt").unlink()
    (archive,) = dunechest.plan_archive(library, chest)
    dunechest.restore(chest, "shed", dunechest.RestoreOptions(into=tmp_path / "first"))
    return {
        "archive": archive,
        "restore": dunechest.plan_restore(chest, "shed", dunechest.RestoreOptions(into=tmp_path / "second")),
        "drop": dunechest.plan_drop(chest, "shed", "the last 1"),
        "undo": dunechest.plan_undo(),
    }


@pytest.mark.parametrize("sort", ["archive", "restore", "drop", "undo"])
def test_a_plan_is_a_value(sort: str, plans: dict[str, Any], library: Path, chest: dunechest.Chest) -> None:
    plan = plans[sort]
    assert list(_changeable(plan, sort, set())) == []
    with pytest.raises((AttributeError, TypeError)):
        plan.changed = plan.bag = "another"
    again = {
        "archive": lambda: dunechest.plan_archive(library, chest)[0],
        "restore": lambda: dunechest.plan_restore(chest, "shed", plan.options),
        "drop": lambda: dunechest.plan_drop(chest, "shed", plan.rule),
        "undo": dunechest.plan_undo,
    }[sort]()
    assert (plan == again, hash(plan) == hash(again), plan is again) == (True, True, False)
    assert plan != "another thing"
    assert pickle.loads(pickle.dumps(plan)) == copy.deepcopy(plan) == plan
    assert json.loads(json.dumps(plan.decisions())) == plan.decisions()
    assert json.dumps(plan.to_dict())
    assert len(repr(plan)) < 300


def test_a_plan_differs_where_it_decides_otherwise(
    plans: dict[str, Any], library: Path, chest: dunechest.Chest
) -> None:
    (library / "newest.txt").write_text("newest")
    (other,) = dunechest.plan_archive(library, chest)
    assert other != plans["archive"]
    assert plans["drop"] != dunechest.plan_drop(chest, "shed", "the last 2")


def test_each_plan_is_carried_out_by_one_function(plans: dict[str, Any]) -> None:
    order = ("undo", "restore", "drop", "archive")
    found = {}
    for sort in order:
        if sort == "archive":  # the editions were dropped meanwhile, not the latest
            assert plans["archive"].edition == 3
        found[sort] = type(dunechest.carry_out(plans[sort])).__name__
    assert found == {
        "undo": "UndoResult",
        "restore": "RestoreResult",
        "drop": "DropResult",
        "archive": "ArchiveResult",
    }


def test_plans_are_carried_out_one_by_one_or_in_order(library: Path, chest: dunechest.Chest, tmp_path: Path) -> None:
    (tmp_path / "second").mkdir()
    (tmp_path / "second" / "a.txt").write_text("a")
    results = dunechest.carry_out(dunechest.plan_archive([library, tmp_path / "second"], chest))
    assert [(result.archived_as, result.ok) for result in results] == [("shed", True), ("second", True)]
    for nonsense in (3, "shed", chest):
        with pytest.raises(TypeError, match="expected a plan"):
            dunechest.carry_out(nonsense)  # type: ignore[call-overload]


def test_results_tell_all_they_hold(library: Path, chest: dunechest.Chest, tmp_path: Path) -> None:
    (archived,) = dunechest.archive(library, chest)
    results = [
        archived,
        dunechest.verify(chest),
        dunechest.look(library, chest=chest),
        dunechest.find_libraries(tmp_path),
        dunechest.list_chests(),
        dunechest.show_chest(chest),
        dunechest.list_editions(chest, "shed"),
        dunechest.compare(library, f"{chest.folder}/shed"),
        dunechest.restore(chest, "shed", dunechest.RestoreOptions(into=tmp_path / "back")),
        dunechest.undo(),
        *dunechest.drill(chest),
        *dunechest.offers(chest),
        dunechest.drop_editions(chest, "shed", "the last 1"),
        dunechest.kinds.draft_kind(library),
    ]
    for result in results:
        document = result.to_dict()
        assert json.loads(json.dumps(document)) == document
        assert len(repr(result)) < 400, repr(result)[:500]


def test_tables_have_times_as_times(library: Path, chest: dunechest.Chest) -> None:
    import pandas as pd

    dunechest.archive(library, chest)
    editions = dunechest.list_editions(chest, "shed").to_frame()
    assert isinstance(editions["archived_at"].dtype, pd.DatetimeTZDtype)
    assert isinstance(dunechest.list_chests().to_frame()["last_seen_at"].dtype, pd.DatetimeTZDtype)
    assert isinstance(dunechest.find_libraries(library).to_frame()["changed_at"].dtype, pd.DatetimeTZDtype)


def test_without_pandas_a_table_says_what_to_install(
    library: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    (result,) = dunechest.archive(library, chest)
    monkeypatch.setitem(sys.modules, "pandas", None)
    with pytest.raises(ImportError, match=r"pip install 'dunechest\[frames\]'") as raised:
        result.to_frame()
    assert isinstance(raised.value, dunechest.errors.PackageMissingError)


def test_arguments_are_taken_as_values_paths_and_names(library: Path, chest: dunechest.Chest, tmp_path: Path) -> None:
    value = dunechest.library_at(library)
    for given in (library, str(library), value, [library], (str(library),), [value]):
        (result,) = dunechest.archive(given, chest.folder)
        assert result.name == "shed"
    assert dunechest.get_library(value) is value
    assert dunechest.get_chest(chest) is chest
    for libraries in ("shed", ["shed"], ("shed",)):
        assert [check.name for check in dunechest.verify(chest.folder.parent, libraries).libraries] == ["shed"]
    assert dunechest.drill(str(chest.folder), "shed")[0].passed
    results = dunechest.restore_several(chest.folder, options=dunechest.RestoreOptions(into=tmp_path / "back"))
    assert [result.name for result in results] == ["shed"]
    assert dunechest.verify(chest, seconds=60).libraries[0].ok


def test_errors_are_the_builtin_ones_too_and_carry_data(chest: dunechest.Chest, tmp_path: Path) -> None:
    with pytest.raises(ValueError, match="no library") as raised:
        chest.bag("nothing of that name")
    assert isinstance(raised.value, dunechest.UsageError)
    assert issubclass(dunechest.CutOffError, OSError)
    assert issubclass(dunechest.errors.BagUnusableError, ValueError)
    with pytest.raises(dunechest.RefusedError) as refused:
        dunechest.archive(chest.folder, chest)
    assert {finding.code for finding in refused.value.findings} == {"chest-inside"}
    assert refused.value.findings[0].message in str(refused.value)
    error = dunechest.CutOffError("The drive is gone.", about="blue")
    assert (str(error), error.about, error.status) == ("The drive is gone.", "blue", 4)


def test_options_are_checked_where_they_are_made() -> None:
    with pytest.raises(dunechest.UsageError, match="no such finding"):
        dunechest.ArchiveOptions(ignore=("in_use",))
    with pytest.raises(dunechest.UsageError, match="cannot be a library's name in a chest"):
        dunechest.ArchiveOptions(name="Not A Slug")
    with pytest.raises(dunechest.UsageError, match="exclude each other"):
        dunechest.RestoreOptions(home="/home/a", into="/home/b")
    with pytest.raises(dunechest.UsageError, match="when merging"):
        dunechest.RestoreOptions(on_conflict="keep-newer")
    assert dunechest.RestoreOptions(parts="one").parts == ("one",)  # type: ignore[arg-type]
    assert dunechest.ArchiveOptions(ignore="in-use").ignore == ("in-use",)  # type: ignore[arg-type]


def test_the_library_can_do_what_the_commands_do(command: Command) -> None:
    """Each command, and what in the library does the same."""
    from dunechest.cli.app import COMMANDS

    does = {
        "find": ("find_libraries",),
        "look": ("look",),
        "kinds": ("list_kinds", "read_kind", "draft_kind", "try_kind", "add_kind"),
        "chest": (
            "create_chest",
            "list_chests",
            "show_chest",
            "rebuild_chest",
            "forget_library",
            "rename_chest",
            "retire_chest",
            "new_chest_id",
            "set_chest_place",
            "remember_server",
        ),
        "archive": ("plan_archive", "archive"),
        "copy": ("plan_copy", "copy_chest", "costs_of"),
        "mend": ("plan_mend", "mend"),
        "verify": ("verify",),
        "editions": ("list_editions", "plan_drop", "drop_editions"),
        "restore": ("offers", "plan_restores", "restore_several", "saved_plan", "plan_as_saved", "recover"),
        "drill": ("drill",),
        "undo": ("plan_undo", "undo", "cut_off"),
        "rehome": (
            "plan_rehome",
            "plan_rehome_back",
            "plan_rehome_parts",
            "plan_rejoin",
            "rehome",
            "rehome_back",
            "rejoin",
            "list_homes",
            "forget_home",
        ),
        "reclaim": ("plan_reclaim", "reclaim"),
        "routine": ("plan_routine", "add_routine", "list_routines", "run_routine", "run_due", "remove_routine"),
        "office": (
            "set_up_office",
            "add_office_computer",
            "remove_office_computer",
            "join_office",
            "leave_office",
            "send_to_office",
            "show_office",
        ),
        "release": ("release",),
        "compare": ("compare", "compare_chests"),
        "demo": (),
        "search": ("search",),
        "status": ("status",),
        "report": ("overview", "write_report"),
        "computers": ("list_computers", "say_computer"),
        "places": ("mapped_places", "remember_place", "forget_place"),
        "completion": (),
        "schema": (),
        "help": (),
    }
    assert set(does) == set(COMMANDS)
    assert {name for names in does.values() for name in names} <= set(NAMES)


def test_no_function_is_long_and_none_takes_many_parameters() -> None:
    long = []
    for path in (ROOT / "src").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.FunctionDef):
                lines = (node.end_lineno or 0) - node.lineno + 1
                arguments = [*node.args.posonlyargs, *node.args.args, *node.args.kwonlyargs]
                count = sum(argument.arg not in ("self", "cls") for argument in arguments)
                if lines > 60 or count > 8:
                    long.append((path.name, node.name, lines, count))
    assert long == []
