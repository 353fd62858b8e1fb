"""`find`: everywhere a library may hide, and nowhere it should not look."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

import pytest

import dunechest
from dunechest.demo.world import World
from dunechest.jobs import find
from dunechest.library import recognise
from tests.support.burrow import make
from tests.support.runs import Command
from tests.support.worlds import NAMES, Move


def found(command: Command, *places: Path) -> dict[str, dict[str, object]]:
    ran = command("find", *places, "--json")
    assert ran.status == 0
    return {item["name"]: item for item in ran.json["libraries"]}


@pytest.fixture
def all_drives(world: World, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Let the computer have one drive, which holds a whole former system besides other things."""
    drive = world.folder / "old-disk"
    former = drive / "system before 2024"
    for name in ("etc", "usr/share", "var/lib", "bin"):
        (former / name).mkdir(parents=True)
    (former / "home").mkdir()
    shutil.move(world.office_home, former / "home" / "tern")
    shutil.copytree(former / "home" / "tern" / "Documents" / "Marram Papers", former / "usr" / "share" / "hidden")
    world.office_home.mkdir(parents=True)
    monkeypatch.setattr(find, "search_roots", lambda: ((drive,), frozenset({str(drive / "network")})))
    monkeypatch.setattr(find, "drive_folders", lambda: (drive,))
    shutil.copytree(former / "home" / "tern" / "Documents" / "Marram Papers", drive / "network" / "papers")
    return drive


def test_all_drives_and_a_former_system_on_one_are_searched(
    world: World, all_drives: Path, on_machine: Move, command: Command
) -> None:
    on_machine("office-pc")
    libraries = found(command)
    assert set(libraries) == {*NAMES.values(), "old-dune-survey"} - {"winter-games"}
    for item in libraries.values():
        assert item["whose"] == f"an old system in {all_drives}/system before 2024"
    assert "old system" in command("find").out
    (all_drives / "Sea Games").mkdir()
    shutil.move(world.games, all_drives / "Sea Games" / "Winter Games")
    assert found(command)["winter-games"]["whose"] == f"the drive in {all_drives}"
    # From there it is looked at, archived and restored like any other.
    old = all_drives / "system before 2024" / "home" / "tern"
    (moved,) = [f for f in dunechest.look(old / "Pictures" / "Dune Survey").findings if f.code == "moved"]
    assert "references to another place" in moved.message


def test_a_whole_former_home_in_a_folder(world: World, on_machine: Move, command: Command) -> None:
    on_machine("new-laptop")
    shutil.copytree(world.office_home, world.laptop_home / "Desktop" / "tern (old computer)", symlinks=True)
    assert set(found(command)) == {*NAMES.values(), "old-dune-survey"} - {"winter-games"}


def test_two_libraries_of_one_kind_are_told_apart(pristine: World, command: Command) -> None:
    libraries = found(command, pristine.office_home)
    new, old = libraries["dune-survey"], libraries["old-dune-survey"]
    assert (new["kind"], old["kind"]) == ("glasswort", "glasswort")
    assert new["path"] != old["path"]
    assert new["file_count"] > old["file_count"]  # type: ignore[operator]
    lines = command("find", pristine.office_home).out.split("\n")
    place = next(i for i, line in enumerate(lines) if line.startswith("old-dune-survey"))
    assert "Photo catalogue" in lines[place]
    assert lines[place + 1].strip().startswith(str(pristine.old_photos))
    frame = dunechest.find_libraries([pristine.office_home], kind="glasswort").to_frame()
    assert list(frame["name"]) == ["dune-survey", "old-dune-survey"]
    columns = [
        "name",
        "kind",
        "path",
        "drive",
        "whose",
        "file_count",
        "size_bytes",
        "rebuildable_bytes",
        "changed_at",
    ]
    assert list(frame.columns) == columns


def test_it_does_not_descend_into_chests_or_other_libraries(tmp_path: Path, command: Command) -> None:
    library = make(tmp_path)
    inner = library / "maps" / "inner"
    shutil.copytree(library, tmp_path / "copy")
    shutil.move(tmp_path / "copy", inner)
    chest = dunechest.Chest.create(tmp_path / "documents", "inside")
    dunechest.archive([inner], chest)
    assert [item["path"] for item in found(command, tmp_path / "documents").values()] == [str(library)]


def test_folders_that_cannot_be_listed_and_loops_are_survived(
    tmp_path: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    library = make(tmp_path)
    (tmp_path / "documents" / "round").symlink_to(tmp_path)
    (tmp_path / "documents" / "up").symlink_to("..")
    (tmp_path / "documents" / "self").symlink_to("self")
    (tmp_path / "documents" / "closed").mkdir()
    deep = tmp_path / "documents"
    for number in range(60):
        deep = deep / f"level {number}"
    deep.mkdir(parents=True)
    listed = os.scandir

    def scandir(path: str) -> object:
        if os.fspath(path).endswith("/closed"):
            raise PermissionError(13, "Permission denied")
        return listed(path)

    monkeypatch.setattr(recognise.os, "scandir", scandir)
    ran = command("find", tmp_path / "documents", "--json")
    assert ran.status == 0
    assert [item["path"] for item in ran.json["libraries"]] == [str(library)]
    assert ran.json["unreadable_paths"] == [str(tmp_path / "documents" / "closed")]
    assert "1 folder could not be listed" in command("find", tmp_path / "documents").out


def test_an_odd_name_can_be_shown_and_used_by_its_path(tmp_path: Path, command: Command) -> None:
    library = make(tmp_path)
    odd = library.with_name("bur\x1b[31mrow\n")
    library.rename(odd)
    ran = command("find", odd.parent)
    assert "\x1b" not in ran.out
    assert ran.out.count("Burrow maps") == 1
    assert command("look", odd).status == 0
    raw = os.fsdecode(os.fsencode(odd.parent) + b"/b\xff")
    odd.rename(raw)
    assert found(command, odd.parent)


def test_search_roots_are_drives_and_no_inner_mounts(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    from dunechest.machine import drives

    part = type("Part", (), {})

    def mounted(point: str, kind: str) -> object:
        item = part()
        item.mountpoint, item.fstype, item.device, item.opts = point, kind, "x", "rw"
        return item

    real = [
        mounted("/", "ext4"),
        mounted("/boot/efi", "vfat"),
        mounted("/media/tern/blue", "exfat"),
        mounted("/snap/x", "squashfs"),
    ]
    inner = [mounted("/proc", "proc"), mounted("/mnt/office", "nfs4"), mounted("/run/user/1", "tmpfs")]
    monkeypatch.setattr(drives, "mounts", lambda drives_only=False: real if drives_only else real + inner)
    monkeypatch.delenv("DUNECHEST_DRIVES")
    roots, around = drives.search_roots()
    assert set(map(str, roots)) == {"/", "/media/tern/blue"}
    assert {"/proc", "/mnt/office", "/media/tern/blue", "/tmp"} <= around


@pytest.mark.slow
def test_twenty_thousand_files_are_searched_through(tmp_path: Path, command: Command) -> None:
    """The time is measured in the benchmarks; here it only has to be right."""
    library = make(tmp_path)
    top = tmp_path / "documents" / "many"
    for number in range(40):
        place = top / f"{number:02}"
        place.mkdir(parents=True)
        subprocess.run(["bash", "-c", "seq -f 'f%05g' 1 500 | xargs touch"], cwd=place, check=True)
    assert [item["path"] for item in found(command, tmp_path / "documents").values()] == [str(library)]
