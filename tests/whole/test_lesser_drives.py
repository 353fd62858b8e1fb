"""A library that was restored to a drive that cannot hold all of it, and is archived on from there, comes back whole."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

import pytest

import dunechest
from tests.support.fixtures import Image
from tests.support.runs import Command
from tests.support.trees import facts

pytestmark = pytest.mark.mounted


@pytest.fixture
def logbook(tmp_path: Path) -> Path:
    """A library with names, links, modes, attributes and times that lesser drives have not."""
    place = tmp_path / "logbook"
    (place / "year: 2023").mkdir(parents=True)
    (place / "empty?").mkdir()
    for name in (
        "tide?.txt",
        "Build",
        "build",
        "year: 2023/a:b.txt",
        "year: 2023/plain.txt",
        "run.sh",
        "secret",
        "x" * 200,
    ):
        (place / name).write_text(f"{name} {'words ' * 30}")
    (place / "run.sh").chmod(0o755)
    (place / "secret").chmod(0o600)
    (place / "year: 2023").chmod(0o750)
    (place / "to run").symlink_to("run.sh")
    (place / "year: 2023" / "up").symlink_to("../tide?.txt")
    os.link(place / "run.sh", place / "run again.sh")
    try:
        os.setxattr(place / "secret", "user.note", b"mine")
    except OSError:
        pass
    for number, path in enumerate(sorted(place.rglob("*"), key=lambda p: -len(p.parts))):
        when = 1_600_000_000_123_456_789 + number * 1_000_000_007
        os.utime(path, ns=(when, when), follow_symlinks=False)
    return place


def home_again(chest: dunechest.Chest, place: Path, command: Command) -> Path:
    ran = command("restore", chest.folder, "logbook", "--into", place, "--yes", "--allow-outside-links")
    assert ran.status == 0, ran
    return place


def test_archived_on_from_a_lesser_drive_it_comes_back_as_it_was(
    image: Image, logbook: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    assert command("archive", logbook, "--to", chest.folder).status == 0
    before = facts(logbook)
    logbook.rename(tmp_path / "gone")
    drive = image.plug()
    far = drive / "logbook"
    command("restore", chest.folder, "logbook", "--into", far, "--yes")
    ran = command("archive", far, "--to", chest.folder, "--json").library
    assert (ran["state"], ran["edition"]) == ("unchanged", 1), ran["changes"]
    assert command("compare", far, f"{chest.folder}/logbook").status == 0
    # A person works on there.
    (far / "new.txt").write_text("new")
    plain = next(path for path in far.rglob("plain.txt"))
    plain.write_text("changed on the drive")
    tide = next(path for path in far.iterdir() if path.name.startswith("tide"))
    tide.write_text("another tide, of another length")
    next(path for path in far.iterdir() if path.name.startswith("xxx")).unlink()
    ran = command("compare", far, f"{chest.folder}/logbook")
    assert (ran.status, "tide?.txt" in ran.out + ran.err, "~" in (ran.out + ran.err).replace("~/", "")) == (
        1,
        True,
        False,
    )
    told = command("archive", far, "--to", chest.folder, "--json").library
    changes = told["changes"]
    assert [changes[f"{what}_count"] for what in ("added", "changed", "moved", "dropped")] == [1, 2, 0, 1]
    listed = command("editions", "list", chest.folder, "logbook").out
    assert "tide?.txt" in listed and "~" not in listed.replace("~/", "")
    for night in range(2):
        assert command("archive", far, "--to", chest.folder, "--json").library["state"] == "unchanged", night
    assert command("verify", chest.folder).status == 0
    back = facts(home_again(chest, tmp_path / "back", command))
    for name in (b"new.txt", b"year: 2023/plain.txt", b"tide?.txt", b"x" * 200, b".", b"year: 2023"):
        now, then = back.pop(name, None), before.pop(name, None)
        if now is not None and then is not None:
            assert now[-2] == then[-2], name  # its mode is what it was
    assert back == before
    assert (tmp_path / "back" / "run.sh").stat().st_nlink == 2
    assert (tmp_path / "back" / "tide?.txt").read_text() == "another tide, of another length"
    if "user.note" in os.listxattr(tmp_path / "gone" / "secret"):
        assert os.getxattr(tmp_path / "back" / "secret", "user.note") == b"mine"
    image.unplug()


def test_a_link_that_a_person_replaced_there_is_no_link_any_more(
    image: Image, logbook: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    command("archive", logbook, "--to", chest.folder)
    logbook.rename(tmp_path / "gone")
    drive = image.plug()
    far = drive / "logbook"
    command("restore", chest.folder, "logbook", "--into", far, "--yes")
    if (far / "to run").is_symlink():
        (far / "to run").unlink()
    (far / "to run").write_text("now a file")
    folder = next(path for path in far.iterdir() if path.name.startswith("year"))
    shutil.rmtree(folder)
    assert command("archive", far, "--to", chest.folder).status == 0
    back = home_again(chest, tmp_path / "back", command)
    assert (back / "to run").read_text() == "now a file" and not (back / "to run").is_symlink()
    assert not (back / "year: 2023").exists()
    image.unplug()
