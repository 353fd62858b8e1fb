"""The kind of a library travels in its archive, is taken over when it changes, and is not lost unnoticed."""

from __future__ import annotations

import json
import os
import shutil
from pathlib import Path
from typing import Any

import pytest

import dunechest
from dunechest.library.kinds.carried import kind_from
from tests.support.runs import Command
from tests.support.trees import bag_of

RINGS = """
format = 1
name = "rings"
title = "Ringing records"
[[signs]]
path = "rings.txt"
begins = "# rings"
[roles]
rebuildable = ["previews/**"]
[[references]]
from = "lines"
files = ["rings.txt"]
"""


@pytest.fixture
def state() -> Path:
    folder = Path(os.environ["DUNECHEST_HOME"]) / "kinds"
    folder.mkdir(parents=True, exist_ok=True)
    return folder


@pytest.fixture
def rings(tmp_path: Path) -> Path:
    library = tmp_path / "Rings"
    library.mkdir()
    (tmp_path / "outside.txt").write_text("a list")
    (library / "rings.txt").write_text(f"# rings\n{tmp_path}/outside.txt\n")
    for number in range(8):
        (library / f"{number}.txt").write_text(f"{number}")
    return library


def codes(plan: dunechest.model.ArchivePlan | dunechest.model.RestorePlan) -> set[str]:
    return {finding.code for finding in plan.findings}


def test_a_kind_of_ones_own_is_used_where_nobody_knows_it(
    rings: Path, state: Path, chest: dunechest.Chest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (state / "rings.toml").write_text(RINGS)
    dunechest.archive(rings, chest)
    shutil.rmtree(rings)
    (tmp_path / "outside.txt").unlink()
    monkeypatch.setenv("DUNECHEST_HOME", str(tmp_path / "elsewhere"))
    plan = dunechest.plan_restore(chest.folder, "rings", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert (plan.kind.title, len(plan.references.updates)) == ("Ringing records", 1)
    assert "kind-unknown" not in codes(plan)
    assert dunechest.carry_out(plan).ok
    named = (tmp_path / "back" / "rings.txt").read_text().splitlines()[1]
    assert Path(named).read_text() == "a list"


def test_a_shipped_kind_is_not_carried(tmp_path: Path, chest: dunechest.Chest) -> None:
    for number in range(6):
        (tmp_path / "notes").mkdir(exist_ok=True)
        (tmp_path / "notes" / f"{number}.md").write_text("# terns")
    dunechest.archive(tmp_path / "notes", chest)
    record = json.loads((bag_of(chest, "notes") / "dune" / "library.json").read_text())
    assert (record["kind"], record.get("kind_file", {})) == ("notes", {})


def test_a_kind_that_is_made_later_is_taken_over_and_said(rings: Path, state: Path, chest: dunechest.Chest) -> None:
    dunechest.archive(rings, chest)
    (state / "rings.toml").write_text(RINGS)
    (plan,) = dunechest.plan_archive(rings, chest)
    assert (plan.state, "kind-changed" in codes(plan)) == ("next", True)
    assert dunechest.carry_out(plan).ok
    (account,) = dunechest.archive(rings, chest)
    assert (account.state, account.edition) == ("unchanged", 2)
    (state / "rings.toml").write_text(RINGS.replace("previews", "thumbs"))
    (account,) = dunechest.archive(rings, chest)
    assert account.edition == 3


def test_a_library_that_lost_its_kind_is_a_warning_and_keeps_its_outside_files(
    rings: Path, state: Path, chest: dunechest.Chest
) -> None:
    (state / "rings.toml").write_text(RINGS)
    dunechest.archive(rings, chest)
    text = (rings / "rings.txt").read_text()
    (rings / "rings.txt").write_text(text.replace("# rings", "# ringing"))
    (plan,) = dunechest.plan_archive(rings, chest)
    assert "kind-lost" in codes(plan)
    assert [outside_file.entry.path for outside_file in plan.selection.outside_files] == [
        str(rings.parent / "outside.txt")
    ]
    assert dunechest.carry_out(plan).ok
    (state / "rings.toml").unlink()  # even where the kind file itself is gone: the archive has it
    (rings / "more.txt").write_text("more")
    (plan,) = dunechest.plan_archive(rings, chest)
    assert ("kind-lost" in codes(plan), len(plan.selection.outside_files)) == (True, 1)


def test_a_person_says_the_kind(rings: Path, state: Path, chest: dunechest.Chest, command: Command) -> None:
    (state / "rings.toml").write_text(RINGS.replace("# rings", "# never"))
    assert command("look", rings, "--kind", "rings", "--json").library["kind"] == "rings"
    assert command("archive", rings, "--to", chest.folder, "--kind", "rings").status == 0
    assert dunechest.Chest.open(chest.folder).bag("rings").library.kind == "rings"  # type: ignore[union-attr]
    assert command("archive", rings, "--to", chest.folder, "--kind", "nothing").status == 2
    assert command("archive", rings, "--to", chest.folder, "--kind", "folder").status == 0


def test_one_broken_kind_file_is_a_warning_and_not_the_end(
    rings: Path, state: Path, chest: dunechest.Chest, command: Command
) -> None:
    (state / "broken.toml").write_text("format = 1\nname = ")
    ran = command("find", rings.parent)
    assert (ran.status, "has a mistake and was skipped" in ran.out) == (0, True)
    assert command("archive", rings, "--to", chest.folder).status == 0


@pytest.mark.parametrize(
    "harm",
    [
        {"name": "other"},
        {"signs": []},
        {"signs": [{"path": "**/" * 9 + "x"}]},
        {"signs": [{"path": "../x"}]},
        {"signs": [{"path": "x" * 501}]},
        {"references": [{"from": "lines", "files": ["x"] * 3000}]},
        {"references": "nonsense"},
        {"unknown": 1},
        {"roles": {"a": {"b": {"c": {"d": {"e": {"f": {"g": {"h": {}}}}}}}}}},
    ],
)
def test_a_carried_kind_that_lies_is_none(harm: dict[str, Any]) -> None:
    intact = {"format": 1, "name": "rings", "title": "Rings", "signs": [{"path": "rings.txt"}]}
    assert kind_from(intact, "rings") is not None
    assert kind_from(intact | harm, "rings") is None


def test_a_carried_kind_says_nothing_about_the_rest_of_the_computer() -> None:
    document = {
        "format": 1,
        "name": "rings",
        "title": "Rings",
        "signs": [{"path": "rings.txt"}],
        "settings": [{"file": "{configuration}/x.json", "key": "a"}],
        "places": {"linux": ["{home}/.config"]},
        "elsewhere": [{"what": "x", "place": "{home}/x"}],
    }
    kind = kind_from(document, "rings")
    assert kind is not None
    assert not (kind.settings or kind.places or kind.elsewhere)
