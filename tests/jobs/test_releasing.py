"""May I unplug it now? On real filesystem images that are mounted for the test."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

import dunechest
from dunechest.machine import unplug
from tests.support.fixtures import Image
from tests.support.runs import Command
from tests.support.trees import facts


@contextmanager
def process_that(code: str, *words: str, folder: Path | None = None) -> Iterator[subprocess.Popen[str]]:
    """A process that says when it is at it, and ends when the block does."""
    process = subprocess.Popen(
        [sys.executable, "-c", f"import os, sys; {code}; print('there', flush=True); input()", *words],
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, cwd=folder,
    )  # fmt: skip
    assert process.stdout is not None and process.stdout.readline() == "there\n"
    try:
        yield process
    finally:
        process.communicate("\n")


@pytest.mark.mounted
@pytest.mark.parametrize("image", ["exfat", "ntfs", "ext4"], indirect=True)
def test_a_drive_is_unmounted_when_nobody_uses_it(
    image: Image, library: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    drive = image.plug()
    monkeypatch.setenv("DUNECHEST_DRIVES", str(drive))
    chest = dunechest.create_chest(drive, "blue")
    (drive / "mine.txt").write_text("mine")
    with process_that("f = open(sys.argv[1])", str(drive / "mine.txt")) as reader:
        result = dunechest.release(chest)
        assert (result.outcome, result.may_unplug) == ("in-use", False)
        assert [(user.process_id, user.path) for user in result.users] == [(reader.pid, str(drive / "mine.txt"))]
        ran = command("archive", library, "--to", "blue", "--release")
        assert ran.status == 3 and "Do not unplug blue yet" in ran.out and str(reader.pid) in ran.out
        assert unplug.is_mounted(drive)
    with process_that("pass", folder=drive) as stander:
        ran = command("release", "blue", "--json")
        (told,) = ran.json["released_drives"]
        assert (ran.status, told["outcome"], told["users"][0]["process_id"]) == (3, "in-use", stander.pid)
    ran = command("verify", "blue", "--release")
    assert (ran.status, ran.out.rstrip().endswith(str(drive)), "You may unplug blue." in ran.out) == (0, True, True)
    assert not os.path.ismount(drive) and not (drive / "mine.txt").exists()
    ran = command("release", "blue")
    assert (ran.status, "not connected" in ran.err) == (4, True)
    image.plug()
    assert dunechest.verify(dunechest.get_chest("blue")).ok
    ran = command("mend", "blue", "--release", "--json")
    assert [drive_["may_unplug"] for drive_ in ran.json["released_drives"]] == [True]
    image.plug()
    image.unplug()


def test_a_folder_of_the_computers_own_disk_is_nothing_to_unplug(
    library: Path, chest: dunechest.Chest, command: Command
) -> None:
    ran = command("archive", library, "--to", chest.folder, "--release")
    assert (ran.status, "nothing to unplug" in ran.out) == (0, True)
    ran = command("archive", library, "--to", chest.folder, "--release", "--plan")
    assert ran.status == 2


def test_what_was_interrupted_is_said_and_keeps_nobody(
    library: Path, chest: dunechest.Chest, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    def fail(step: object) -> None:
        raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        dunechest.archive(library, chest, progress=fail)
    before = facts(chest.folder)
    ran = command("release", chest.folder)
    assert ran.status == 0
    assert facts(chest.folder) == before


def test_a_drive_that_could_not_write_everything_is_not_believed(
    chest: dunechest.Chest, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    def fail(mount: Path) -> None:
        raise OSError(5, "Input/output error")

    monkeypatch.setattr(unplug, "flush", fail)
    ran = command("release", chest.folder)
    assert (ran.status, "could not be written" in ran.err, "dunechest verify" in ran.err) == (4, True, True)


@pytest.mark.parametrize(
    ("done", "still", "others", "outcome", "status"),
    [
        (True, False, (), "released", 0),
        (True, False, (Path("/media/second part"),), "shared", 3),
        (False, True, (), "flushed", 1),
    ],
)
def test_each_end_has_its_sentence_and_status(
    done: bool, still: bool, others: tuple[Path, ...], outcome: str, status: int, chest: dunechest.Chest,
    command: Command, monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    monkeypatch.setattr(unplug, "is_mounted", lambda mount: True)
    monkeypatch.setattr("dunechest.jobs.release._is_systems", lambda drive: False)
    monkeypatch.setattr(unplug, "users", lambda mount: ())
    monkeypatch.setattr(unplug, "beside", lambda mount: others)
    monkeypatch.setattr(
        unplug, "unmount", lambda mount: unplug.Unmounted(done, f"umount {mount}", "" if done else "you may not")
    )
    monkeypatch.setattr("dunechest.jobs.release.os.path.isdir", lambda place: still)
    ran = command("release", chest.folder, "--json")
    if still:
        (told,) = ran.json["released_drives"]
        assert (told["outcome"], told["command"].startswith("umount")) == (outcome, True)
    assert ran.status == status or not still
