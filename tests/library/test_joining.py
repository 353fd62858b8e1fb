"""Two libraries become one: against a plain model for any two trees, and file by file for each sort of catalogue."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import hypothesis.strategies as st
import pytest
from hypothesis import given, settings

import dunechest
from dunechest.jobs.restore.doing.restoring import carry_out_once
from dunechest.library.join.files import NotMergedError, join, joins_of, only_parts
from dunechest.library.kinds.load import load_kinds
from dunechest.library.kinds.schema import Kind
from dunechest.model.restore import RestoreOptions
from tests.support.trees import facts

NAMES = st.sampled_from(["a", "b.txt", "c/d", "c/e.tar.gz", "f", "c/g/h"])
TREES = st.dictionaries(NAMES, st.tuples(st.binary(max_size=3), st.integers(1, 5)), max_size=5)


def plant(folder: Path, tree: dict[str, tuple[bytes, int]]) -> None:
    folder.mkdir(parents=True)
    for name, (content, age) in tree.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content)
        os.utime(path, (age * 1000, age * 1000))


def found(folder: Path) -> dict[str, bytes]:
    return {path.relative_to(folder).as_posix(): path.read_bytes() for path in folder.rglob("*") if path.is_file()}


def beside(name: str) -> str:
    above, _, last = name.rpartition("/")
    stem, dot, ending = last.rpartition(".")
    if not stem:
        stem, dot, ending = last, "", ""
    return (f"{above}/" if above else "") + f"{stem} (from blue){dot}{ending}"


@pytest.mark.slow
@settings(max_examples=14)
@given(TREES, TREES, st.sampled_from(["keep-both", "keep-mine", "keep-archived", "keep-newer"]))
def test_any_two_trees_become_one_and_two_again(
    theirs: dict[str, tuple[bytes, int]], mine: dict[str, tuple[bytes, int]], on_conflict: Any
) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as scratch, pytest.MonkeyPatch.context() as patch:
        root = Path(scratch)
        patch.setenv("HOME", str(root / "home"))
        patch.setenv("DUNECHEST_HOME", str(root / "state"))
        (root / "drive").mkdir()
        chest = dunechest.Chest.create(root / "drive", "blue")
        plant(root / "box", theirs)
        dunechest.archive([root / "box"], chest)
        place = root / "here"
        plant(place, mine)
        before = facts(place, times=False)
        choice = RestoreOptions(into=str(place), if_exists="merge", on_conflict=on_conflict)
        plan = dunechest.plan_restore(chest, "box", choice)
        result = carry_out_once(plan)
        assert result.ok, result.proof
        wanted = {name: content for name, (content, _) in mine.items()}
        for name, (content, age) in theirs.items():
            if name not in mine:
                wanted[name] = content
            elif content != mine[name][0]:
                if on_conflict == "keep-both":
                    wanted[beside(name)] = content
                elif on_conflict == "keep-archived" or (on_conflict == "keep-newer" and age > mine[name][1]):
                    wanted[name] = content
        assert found(place) == wanted
        # What was there and is the same was only checked: nothing of it was written.
        assert result.existing_count == sum(
            name in mine and mine[name][0] == content for name, (content, _) in theirs.items()
        )
        if any(not isinstance(step, dunechest_working()) for step in _steps()):
            dunechest.undo()
        assert facts(place, times=False) == before
        assert found(chest.folder / "bags" / "box" / "data" / "library") == {n: c for n, (c, _) in theirs.items()}


def dunechest_working() -> type:
    from dunechest.ledger.past_changes import Working

    return Working


def _steps() -> list[object]:
    from dunechest.ledger.past_changes import past_changes

    return [step for past_change in past_changes() if past_change.how == "done" for step in past_change.steps]


@pytest.fixture(scope="module")
def kinds() -> dict[str, Kind]:
    return dict(load_kinds())


def test_bibliographies_get_each_others_entries(kinds: dict[str, Kind], tmp_path: Path) -> None:
    here, other = tmp_path / "here.bib", tmp_path / "other.bib"
    here.write_text("% mine\n@article{one,\n title = {A},\n keywords = {birds},\n}\n@book{two, title = {B}}")
    other.write_text(
        "@article{one,\n title = {A}, keywords = {birds},\n}\n\n@book{two, title = {Not B}}\n"
        "@misc{three, title = {T {nested}}, keywords = {sand, birds}}\n@misc{four, title = {F}, keywords = {wind}}\n"
    )
    spec = joins_of(kinds["seaholly"], "papers.bib")
    assert spec is not None
    joined = join(kinds["seaholly"], spec, here, other, ["birds"], [], theirs=False)
    assert (joined.added, joined.differ) == (1, ())
    assert "% mine\n@article{one" in here.read_text()
    assert "@misc{three, title = {T {nested}}, keywords = {sand, birds}}\n" in here.read_text()
    joined = join(kinds["seaholly"], spec, here, other, [], [], theirs=False)
    assert (joined.added, joined.differ) == (1, ("two",))
    assert "{B}" in here.read_text()
    joined = join(kinds["seaholly"], spec, here, other, [], [], theirs=True)
    assert (joined.added, "{Not B}" in here.read_text(), "{B}" in here.read_text()) == (0, True, False)
    assert only_parts(kinds["seaholly"], spec, here, ["wind"], []) == 3
    assert "@misc{four" in here.read_text()
    assert "@misc{three" not in here.read_text()


def test_indexes_and_settings_get_each_others_keys(kinds: dict[str, Kind], tmp_path: Path) -> None:
    here, other = tmp_path / "here.json", tmp_path / "other.json"
    here.write_text(json.dumps({"designs": {"a": {"file": "jobs/a.svg"}}, "made": "here"}, indent=1) + "\n")
    designs = {"a": {"file": "jobs/z.svg"}, "b": {"file": "jobs/b.svg"}, "c": {"file": "jobs/c.svg"}}
    other.write_text(json.dumps({"designs": designs}))
    spec = joins_of(kinds["saltpan"], "index.json")
    assert spec is not None
    assert join(kinds["saltpan"], spec, here, other, ["x"], ["jobs/b.svg"], theirs=False).added == 1
    document = json.loads(here.read_text())
    assert (sorted(document["designs"]), document["made"]) == (["a", "b"], "here")
    assert here.read_text().startswith('{\n "designs"')
    joined = join(kinds["saltpan"], spec, here, other, [], [], theirs=True)
    assert (joined.added, joined.differ) == (1, ("a",))
    assert json.loads(here.read_text())["designs"] == designs
    other.write_text('{"designs": []}')
    with pytest.raises(NotMergedError):
        join(kinds["saltpan"], spec, here, other, [], [], theirs=False)
    spec = joins_of(kinds["redshank"], "redshank.ini")
    assert spec is not None
    here.write_text("; mine\n[library]\nname = x\n[covers]\none = a.png\n")
    other.write_text("[covers]\none = other.png\ntwo = b.png\n")
    joined = join(kinds["redshank"], spec, here, other, [], [], theirs=False)
    assert (joined.added, joined.differ) == (1, ("one",))
    assert here.read_text() == "; mine\n[library]\nname = x\n[covers]\ntwo = b.png\none = a.png\n"
    join(kinds["redshank"], spec, here, other, [], [], theirs=True)
    assert "one = other.png" in here.read_text()
    here.write_text("[library]\nname = x\n")
    assert join(kinds["redshank"], spec, here, other, [], [], theirs=False).added == 2
    assert here.read_text().endswith("[covers]\none = other.png\ntwo = b.png\n")


def test_lines_end_as_they_did_and_only_the_section_is_changed(kinds: dict[str, Kind], tmp_path: Path) -> None:
    """A program of Windows wrote it: with a mark at the beginning, and lines that end in two characters."""
    spec = joins_of(kinds["redshank"], "redshank.ini")
    assert spec is not None
    here, other = tmp_path / "here.ini", tmp_path / "other.ini"
    here.write_bytes(b"\xef\xbb\xbf[other]\r\none = a.png\r\n[covers]\r\none = a.png\r\n")
    other.write_bytes(b"[covers]\none = other.png\ntwo = b.png\n")
    joined = join(kinds["redshank"], spec, here, other, [], [], theirs=True)
    assert (joined.added, joined.differ) == (1, ("one",))
    assert here.read_bytes() == (
        b"\xef\xbb\xbf[other]\r\none = a.png\r\n[covers]\r\ntwo = b.png\r\none = other.png\r\n"
    )


SCHEMA = "CREATE TABLE item (id INTEGER PRIMARY KEY, stored TEXT, size INTEGER, {})"


def test_tables_that_have_grown_columns_are_joined_by_those_both_have(kinds: dict[str, Kind], tmp_path: Path) -> None:
    here, other = tmp_path / "here.db", tmp_path / "other.db"
    for path, more, rows in (
        (here, "mine", [(1, "a", 1, "m")]),
        (other, "theirs", [(1, "b", 2, "t"), (2, "a", 9, "t")]),
    ):
        with closing(sqlite3.connect(path)) as database:
            database.execute(SCHEMA.format(more))
            database.executemany("INSERT INTO item VALUES (?, ?, ?, ?)", rows)
            database.commit()
    spec = joins_of(kinds["limpet"], "phone/list.limpet")
    assert spec is not None
    joined = join(kinds["limpet"], spec, here, other, [], [], theirs=False)
    assert (joined.added, joined.differ) == (1, ("item a",))
    with closing(sqlite3.connect(here)) as database:
        assert database.execute("SELECT * FROM item ORDER BY id").fetchall() == [(1, "a", 1, "m"), (2, "b", 2, None)]
    join(kinds["limpet"], spec, here, other, [], [], theirs=True)
    with closing(sqlite3.connect(here)) as database:
        assert database.execute("SELECT size, mine FROM item WHERE stored = 'a'").fetchone() == (9, "m")
    untouched = here.read_bytes()
    shutil.copy(here, tmp_path / "no table.db")
    with closing(sqlite3.connect(tmp_path / "no table.db")) as database:
        database.execute("DROP TABLE item")
        database.commit()
    for wrong in (tmp_path / "no table.db", tmp_path / "none.db", tmp_path):
        with pytest.raises(NotMergedError):
            join(kinds["limpet"], spec, here, wrong, [], [], theirs=False)
    assert here.read_bytes() == untouched
