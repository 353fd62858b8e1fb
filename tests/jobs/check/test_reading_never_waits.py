"""Reading needs no write and waits for no change; what a change needs is looked at before it is decided."""

from __future__ import annotations

import errno
import os
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

import dunechest
from dunechest.chest.layout import JOURNAL
from dunechest.jobs.restore.doing import restoring
from dunechest.transfer import disk
from tests.support.runs import Command
from tests.support.trees import bag_of, facts


class StopError(Exception):
    pass


@pytest.fixture
def changed(library: Path, chest: dunechest.Chest) -> Path:
    """A library that was archived, and has changed since in every way."""
    dunechest.archive([library], chest)
    (library / "rope.txt").write_text("thirty metres\n")
    (library / "rafters" / "oar.txt").rename(library / "oar.txt")
    (library / "rafters" / "new.txt").write_text("new")
    return library


def cut_after(renames: int, library: Path, chest: dunechest.Chest) -> None:
    """Have an archive cut off after so many renames since it was decided."""
    count = -1

    def gate(operation: str, *what: object) -> None:
        nonlocal count
        if operation == "rename":
            if count >= 0:
                count += 1
            if str(what[1]).endswith("journal.json") and count < 0:
                count = 0
            if count > renames:
                raise StopError

    disk.gate = gate
    try:
        with pytest.raises(StopError):
            dunechest.archive([library], chest)
    finally:
        disk.gate = None


@pytest.mark.parametrize("renames", [0, 1, 2, 3, 4, 6, 8, 10])
def test_a_change_that_waits_is_seen_as_done_without_a_write(
    renames: int, changed: Path, chest: dunechest.Chest, tmp_path: Path
) -> None:
    cut_after(renames, changed, chest)

    def refuse(operation: str, *what: object) -> None:
        raise OSError(30, "Read-only file system")

    before = facts(bag_of(chest, "shed"))
    disk.gate = refuse
    try:
        again = dunechest.Chest.open(chest.folder)
        assert "Read-only" in again.unfinished["shed"]
        result = dunechest.verify(again)
        assert [(s.path, s.state) for check in result.libraries for s in check.problems] == [("", "unfinished")]
    finally:
        disk.gate = None
    waiting = dunechest.Chest.open(chest.folder, finish=False)
    result = dunechest.restore(waiting, "shed", dunechest.RestoreOptions(into=tmp_path / "back"))
    assert result.ok
    assert facts(tmp_path / "back") == facts(changed)
    result = dunechest.restore(waiting, "shed", dunechest.RestoreOptions(into=tmp_path / "first", edition=1))
    assert result.ok
    assert (tmp_path / "first" / "rope.txt").read_text() == "twenty metres\n"
    assert facts(bag_of(chest, "shed")) == before


def test_a_change_that_cannot_be_finished_harms_its_own_library_only(
    changed: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    other = tmp_path / "other"
    other.mkdir()
    (other / "x").write_text("x")
    dunechest.archive([other], chest)
    cut_after(1, changed, chest)
    bag = bag_of(chest, "shed")
    shutil.rmtree(bag / "dune" / "earlier", ignore_errors=True)
    (bag / "dune" / "earlier").write_text("in the way")
    assert command("restore", chest.folder, "other", "--into", tmp_path / "o").status == 0
    assert command("verify", chest.folder, "other").status == 0
    assert command("archive", other, "--to", chest.folder).status == 0


BLOCKED: dict[str, Callable[[Path], object]] = {
    "earlier is a file": lambda bag: (bag / "dune" / "earlier").write_text("x"),
    "editions is a file": lambda bag: (bag / "dune" / "editions").write_text("x"),
    "editions is a link": lambda bag: (bag / "dune" / "editions").symlink_to(bag.parent.parent.parent),
    "earlier is a link": lambda bag: (bag / "dune" / "earlier").symlink_to(bag.parent.parent.parent),
    "a stranger's file lies where one goes": lambda bag: (
        (bag / "data/library/oar.txt").mkdir(),
        (bag / "data/library/oar.txt/mine").write_text("mine"),
    ),
    "HOW-TO-RESTORE is a folder": lambda bag: (
        (bag / "HOW-TO-RESTORE.txt").unlink(),
        (bag / "HOW-TO-RESTORE.txt").mkdir(),
    ),
    "bag-info is a folder": lambda bag: ((bag / "bag-info.txt").unlink(), (bag / "bag-info.txt").mkdir()),
}


@pytest.mark.parametrize("what", BLOCKED)
def test_what_a_change_needs_is_looked_at_before_it_is_decided(
    what: str, changed: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    bag = bag_of(chest, "shed")
    BLOCKED[what](bag)
    before = facts(bag / "data")
    ran = command("archive", changed, "--to", chest.folder)
    assert ran.status == 3, ran.err
    assert facts(bag / "data") == before
    assert not (bag / JOURNAL).exists()
    assert command("restore", chest.folder, "shed", "--into", tmp_path / "back").status in (0, 1)
    assert (tmp_path / "back" / "rope.txt").read_text() == "twenty metres\n"


def test_a_decided_change_that_turns_out_impossible_is_rolled_back(
    changed: Path, chest: dunechest.Chest, tmp_path: Path
) -> None:
    before = facts(bag_of(chest, "shed"))
    cut_after(1, changed, chest)
    bag = bag_of(chest, "shed")
    (bag / "data" / "library" / "oar.txt").mkdir()
    (bag / "data" / "library" / "oar.txt" / "mine").write_text("mine")
    again = dunechest.Chest.open(chest.folder)
    assert "rolled back" in again.unfinished["shed"]
    assert (bag / "data" / "library" / "oar.txt" / "mine").read_text() == "mine"
    shutil.rmtree(bag / "data" / "library" / "oar.txt")
    assert dunechest.verify(chest).ok
    files = [{k: v[:2] for k, v in item.items() if v[0] == "file"} for item in (facts(bag), before)]
    assert files[0] == files[1]
    (account,) = dunechest.archive([changed], chest)
    assert (account.edition, dunechest.verify(chest).ok) == (2, True)


def test_a_pending_folder_that_cannot_be_emptied_is_no_obstacle(
    changed: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    def refuse(path: Path) -> None:
        raise OSError(errno.ENOTEMPTY, "Directory not empty")

    with monkeypatch.context() as patched:
        patched.setattr(disk, "remove_tree", refuse)
        (account,) = dunechest.archive([changed], chest)
        assert account.edition == 2
    assert dunechest.verify(dunechest.Chest.open(chest.folder)).ok


COMMITTER = """
import sys, time
import dunechest
library, chest = sys.argv[1:]
for number in range(60):
    with open(library + "/changing", "w") as file:
        file.write(str(number) * 50)
    dunechest.archive([library], chest)
    print(number, flush=True)
"""


def test_readers_begin_again_when_an_archive_commits_meanwhile(
    library: Path, chest: dunechest.Chest, tmp_path: Path
) -> None:
    for number in range(30):
        (library / f"{number}.bin").write_bytes(os.urandom(60_000))
    dunechest.archive([library], chest)
    busy = subprocess.Popen(
        [sys.executable, "-c", COMMITTER, str(library), str(chest.folder)], stdout=subprocess.PIPE, text=True
    )
    try:
        assert busy.stdout is not None
        busy.stdout.readline()
        for number in range(4):
            opened = dunechest.Chest.open(chest.folder)
            for check in dunechest.verify(opened, ["shed"]).libraries:
                assert {s.state for s in check.problems} <= {"unfinished"}, check.problems
            first = f"{chest.folder}/shed"
            assert dunechest.compare(first, first, editions=(1, 1)).same
            place = tmp_path / f"back {number}"
            try:
                assert dunechest.restore(opened, "shed", dunechest.RestoreOptions(into=str(place))).ok
            except dunechest.RefusedError as error:
                assert "was changed while" in str(error)
    finally:
        busy.kill()
        busy.communicate()


def test_a_drive_that_vanishes_while_restoring_is_said_and_all_is_taken_back(
    library: Path, chest: dunechest.Chest, tmp_path: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    dunechest.archive([library], chest)
    place = tmp_path / "place"
    place.mkdir()
    (place / "mine").write_text("mine")
    before = facts(tmp_path / "place")
    real = restoring.write

    def vanish(*words: object, **more: object) -> object:
        chest.folder.rename(tmp_path / "unplugged")
        return real(*words, **more)  # type: ignore[arg-type]

    monkeypatch.setattr(restoring, "write", vanish)
    ran = command("restore", chest.folder, "shed", "--into", place, "--if-exists", "set-aside")
    assert (ran.status, "is gone or can no longer be read" in ran.err) == (4, True)
    assert facts(place) == before
    assert not [p for p in tmp_path.iterdir() if "set aside" in p.name]


def test_paths_deeper_than_recursion_goes_come_and_go(tmp_path: Path, chest: dunechest.Chest) -> None:
    library = tmp_path / "deep"
    library.mkdir()
    folder = os.open(library, os.O_RDONLY)
    for _ in range(1200):
        os.mkdir("d", dir_fd=folder)
        inner = os.open("d", os.O_RDONLY, dir_fd=folder)
        os.close(folder)
        folder = inner
    os.close(os.open("x", os.O_WRONLY | os.O_CREAT, dir_fd=folder))
    os.close(folder)
    (account,) = dunechest.archive([library], chest)
    assert dunechest.verify(chest).ok
    result = dunechest.restore(chest, "deep", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert (result.ok, account.archived_count) == (True, 1)
    dunechest.undo()
    assert not (tmp_path / "back").exists()
    for top in (library, bag_of(chest, "deep")):
        subprocess.run(["rm", "-rf", str(top)], check=True)
