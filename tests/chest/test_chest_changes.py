"""A chest gets another label, an id of its own, a place where it is kept; it retires, and is expected again."""

from __future__ import annotations

import hashlib
import os
import shutil
from pathlib import Path

import pytest

import dunechest
from dunechest.chest import chest_record
from dunechest.transfer import safe
from tests.support.runs import Command


def sums_fit(folder: Path) -> bool:
    """Whether each record has a digest that `chest-sha512.txt` lists."""
    lines = (folder / "chest-sha512.txt").read_text().splitlines()
    return all(
        f"{hashlib.sha512((folder / name).read_bytes()).hexdigest()}  {name}" in lines
        for name in ("chest.json", "READ-ME.txt")
    )


def test_a_chest_is_renamed_on_the_drive_and_here(library: Path, drive: Path, command: Command) -> None:
    command("chest", "new", drive, "--label", "blue")
    command("archive", library, "--to", "blue")
    ran = command("chest", "rename", "blue", "harbour", "--json")
    assert (ran.status, ran.json["chest"]["label"], ran.json["former_label"]) == (0, "harbour", "blue")
    folder = drive / "dune-chest"
    assert "Label of this chest: harbour" in (folder / "READ-ME.txt").read_text()
    assert sums_fit(folder)
    assert len((folder / "chest-sha512.txt").read_text().splitlines()) == 2
    assert command("verify", "harbour").status == 0
    assert "Did you mean" in command("verify", "harbor").err
    assert command("verify", "blue").status == 2
    shown = command("chest", "show", "harbour", "--json").json
    assert shown["libraries"][0]["last_check"]["intact"], "what was known of it is known of it"
    for label in ("", "-x", "two\nlines", "x" * 61):
        assert command("chest", "rename", "harbour", label).status == 2
    (drive.parent / "other").mkdir()
    command("chest", "new", drive.parent / "other", "--label", "sand")
    ran = command("chest", "rename", "harbour", "SAND")
    assert (ran.status, "already exists" in ran.err) == (2, True)
    assert command("chest", "rename", "harbour", "Harbour").status == 0, "its own label in other letters"


@pytest.mark.parametrize("cut", range(5))
def test_a_rename_that_is_cut_short_leaves_no_damaged_chest(
    drive: Path, command: Command, monkeypatch: pytest.MonkeyPatch, cut: int
) -> None:
    """After each of its writes the chest can be read without a fault, and the same command finishes."""
    chest = dunechest.create_chest(drive, "blue")
    written: list[str] = []
    write = safe.write_file

    def fails(path: Path, content: bytes, **more: object) -> None:
        if path.parent == chest.folder and path.name in ("chest.json", "READ-ME.txt", "chest-sha512.txt"):
            if len(written) == cut:
                raise OSError(5, "Input/output error")
            written.append(path.name)
        write(path, content, **more)  # type: ignore[arg-type]

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(chest_record.safe, "write_file", fails)
        ran = command("chest", "rename", drive, "harbour")
    assert ran.status == (4 if cut < 4 else 0)
    assert dunechest.Chest.open(drive).faults == ()
    assert sums_fit(chest.folder)
    assert dunechest.Chest.open(drive).label in ("blue", "harbour")
    assert command("chest", "rename", drive, "harbour").status == 0
    assert (dunechest.Chest.open(drive).label, dunechest.Chest.open(drive).id) == ("harbour", chest.id)
    assert len((chest.folder / "chest-sha512.txt").read_text().splitlines()) == 2


def test_a_damaged_record_is_not_written_over(drive: Path, command: Command) -> None:
    dunechest.create_chest(drive, "blue")
    (drive / "dune-chest" / "READ-ME.txt").write_text("harmed")
    before = (drive / "dune-chest" / "READ-ME.txt").read_bytes()
    for words in (("chest", "rename", drive, "harbour"), ("chest", "new-id", drive, "--yes")):
        ran = command(*words)
        assert (ran.status, "chest rebuild" in ran.err) == (3, True)
    assert (drive / "dune-chest" / "READ-ME.txt").read_bytes() == before


def test_a_copy_made_by_hand_is_said_and_gets_an_id_of_its_own(
    library: Path, drive: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    command("chest", "new", drive, "--label", "blue")
    command("archive", library, "--to", "blue")
    copy = drive.parent / "copy"
    shutil.copytree(drive, copy)
    monkeypatch.setenv("DUNECHEST_DRIVES", f"{drive}{os.pathsep}{copy}")
    assert command("verify", copy).status == 0
    listed = command("chest", "list").out
    assert "Another connected chest has the same id" in listed
    assert f"dunechest chest new-id {copy / 'dune-chest'}" in listed
    ran = command("chest", "new-id", copy)
    assert (ran.status, "--yes" in ran.err) == (3, True)
    ids = {item["id"] for item in command("chest", "list", "--json").json["chests"]}
    assert len(ids) == 1
    made = command("chest", "new-id", copy, "--yes", "--json").json["chest"]
    assert made["id"] not in ids
    assert command("chest", "rename", copy, "copy").status == 0
    known = command("chest", "list", "--json").json["chests"]
    assert {item["label"] for item in known} == {"blue", "copy"}
    assert "same id" not in command("chest", "list").out
    for label in ("blue", "copy"):
        assert command("verify", label).status == 0


def test_a_lost_chest_is_retired_and_its_label_is_free_again(library: Path, drive: Path, command: Command) -> None:
    made = command("chest", "new", drive, "--label", "blue", "--json").json["chest"]
    command("archive", library, "--to", "blue")
    lost = drive.rename(drive.parent / "lost")
    ran = command("chest", "retire", "blue", "--json")
    assert (ran.status, ran.json["chests"][0]["retired_at"] is not None) == (0, True)
    assert "blue" not in command("chest", "list").out.replace("1 retired chest", "")
    assert "blue" in command("chest", "list", "--verbose").out
    assert command("verify", "blue").status == 2, "nobody waits for it"
    drive.mkdir()
    assert command("chest", "new", drive, "--label", "blue").status == 0
    assert command("verify", "blue").status == 0
    ran = command("chest", "retire", made["id"][:8], "--undo")
    assert (ran.status, "expected again" in ran.out) == (0, True)
    lost.rename(drive.parent / "found")
    assert command("verify", drive.parent / "found").status == 0
    assert "Did you mean" in command("chest", "retire", "bleu").err


def test_a_retired_chest_that_turns_up_again_does_not_stand_in_for_the_new_one(
    library: Path, drive: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    old, new = drive.parent / "found again", drive.parent / "new"
    monkeypatch.setenv("DUNECHEST_DRIVES", os.pathsep.join(map(str, (old, new))))
    first = dunechest.create_chest(drive, "blue")
    drive.rename(drive.parent / "lost")
    command("chest", "retire", "blue")
    new.mkdir()
    second = command("chest", "new", new, "--label", "blue", "--json").json["chest"]["id"]
    (drive.parent / "lost").rename(old)
    assert command("archive", library, "--to", "blue").status == 0
    assert command("chest", "show", "blue", "--json").json["chest"]["id"] == second
    assert command("chest", "show", first.id, "--json").json["libraries"] == []


def test_where_a_drive_is_kept_is_written_down(drive: Path, command: Command) -> None:
    command("chest", "new", drive, "--label", "blue")
    shutil.rmtree(drive)
    assert command("chest", "place", "blue", "with grandmother").status == 0
    assert "kept at: with grandmother" in command("chest", "list").out
    assert command("chest", "list", "--json").json["chests"][0]["kept_at_place"] == "with grandmother"
    assert command("chest", "place", "blue", "a\x1b[31m").status == 2
    assert command("chest", "place", "blue", "").status == 0
    assert "kept at" not in command("chest", "list").out
