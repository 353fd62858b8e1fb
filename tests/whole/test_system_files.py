"""The files that operating systems leave everywhere are no damage in a chest and no change in a library."""

from __future__ import annotations

import os
import struct
from pathlib import Path

import pytest

import dunechest
from tests.support.litter import FILES, litter, litter_drive
from tests.support.runs import Command
from tests.support.trees import bag_of, facts


@pytest.fixture
def other(tmp_path: Path) -> dunechest.Chest:
    place = tmp_path / "other drive"
    place.mkdir()
    return dunechest.create_chest(place, "sand")


def _every_folder(top: Path) -> list[Path]:
    return [Path(folder) for folder, _, _ in os.walk(top)]


def test_a_chest_that_was_looked_into_is_intact(
    library: Path, chest: dunechest.Chest, other: dunechest.Chest, command: Command, tmp_path: Path
) -> None:
    dunechest.archive(library, chest)
    (library / "rope.txt").write_text("thirty metres\n")
    dunechest.archive(library, chest)
    for folder in _every_folder(chest.folder):
        litter(folder)
    litter_drive(chest.folder.parent)
    ran = command("verify", chest.folder)
    assert (ran.status, "OK: all" in ran.out) == (0, True), ran.out
    result = dunechest.verify(chest)
    assert result.ok and {state.state for check in result.libraries for state in check.problems} == {"noted"}
    assert dunechest.archive(library, chest)[0].state == "unchanged"
    (library / "rope.txt").write_text("forty metres\n")
    assert dunechest.archive(library, chest)[0].edition == 3
    assert dunechest.drill(chest)[0].passed
    assert all(copied.ok for copied in dunechest.copy_chest(chest, other))
    assert dunechest.verify(other).ok
    assert command("mend", chest.folder, "--plan").status == 0
    for edition in (1, 3):
        into = tmp_path / f"edition {edition}"
        dunechest.restore(chest, "shed", dunechest.RestoreOptions(into=str(into), edition=edition))
        assert not [path for path in into.rglob("*") if path.name in FILES]
    assert facts(tmp_path / "edition 3") == facts(library)
    ran = command("compare", library, f"{chest.folder.parent}/shed")
    assert ran.status == 0, ran.out + ran.err
    (bag_of(chest, "shed") / "data" / "library" / "stranger.txt").write_text("of a person")
    assert not dunechest.verify(chest).ok


def test_a_library_that_was_looked_into_is_unchanged(library: Path, chest: dunechest.Chest, command: Command) -> None:
    (library / "desktop.ini").write_text("[garden]\nrope = twenty metres\n")  # a person's, whatever its name
    (library / "._diary").write_text("a diary")
    then = (library / "desktop.ini").stat().st_mtime_ns
    assert dunechest.archive(library, chest)[0].edition == 1
    littered = [path for folder in _every_folder(library) for path in litter(folder) if path.parent != library]
    for name in (".DS_Store", "Thumbs.db", "._rope.txt"):
        (library / name).write_bytes(FILES[name])
    (library / "desktop.ini").write_text("[garden]\nrope = twenty metres\n")
    os.utime(library / "desktop.ini", ns=(then, then))
    assert dunechest.archive(library, chest)[0].state == "unchanged"
    assert littered and len(dunechest.list_editions(chest, "shed").editions) == 1
    (library / "rope.txt").write_text("new")
    (result,) = dunechest.archive(library, chest)
    assert result.edition == 2 and result.ok and not [left for left in result.left_out if left.fault]
    stored = {path.name for path in (bag_of(chest, "shed") / "data").rglob("*")}
    assert "desktop.ini" in stored and "._diary" in stored
    assert not stored & {".DS_Store", "Thumbs.db", "._rope.txt", ".directory"}
    (library / ".Trashes" / "501").mkdir(parents=True)
    (library / ".Trashes" / "501" / "thrown away.txt").write_text("thrown away")
    ran = command("look", library)
    said = ran.out.replace("\n          ", " ")
    assert "files and folders of operating systems are left out: .DS_Store" in said and ".Trashes (1)" in said, (
        ran.out
    )


def test_what_a_mac_keeps_beside_a_file_is_kept_if_content_is_in_it(
    library: Path, chest: dunechest.Chest, tmp_path: Path
) -> None:
    header = b"\x00\x05\x16\x07\x00\x02\x00\x00" + bytes(16) + (2).to_bytes(2)
    for name, length in (("old drawing", 5000), ("rope.txt", 286)):
        entries = struct.pack(">IIIIII", 9, 50, 32, 2, 82, length)
        (library / f"._{name}").write_bytes(header + entries + bytes(32 + length))
    # Other things that begin like one: with no version, with an entry that leads out of it, or with more behind it.
    others = {
        "._a": b"\x00\x05\x16\x07" + b"sketches of dunes" * 9,
        "._b": header + struct.pack(">IIIIII", 9, 50, 32, 2, 82, 100) + bytes(40),
        "._c": header[:24] + bytes(2) + b"twenty metres of rope" * 999,
    }
    for name, content in others.items():
        (library / name).write_bytes(content)
    dunechest.archive(library, chest)
    dunechest.restore(chest, "shed", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert {name: (tmp_path / "back" / name).read_bytes() for name in others} == others
    assert (tmp_path / "back" / "._old drawing").stat().st_size == 5082
    assert not (tmp_path / "back" / "._rope.txt").exists()


def test_undo_and_an_occupied_place_do_not_mind_them(library: Path, chest: dunechest.Chest, tmp_path: Path) -> None:
    dunechest.archive(library, chest)
    place = tmp_path / "back"
    place.mkdir()
    litter(place)
    options = dunechest.RestoreOptions(into=str(place))
    dunechest.restore(chest, "shed", options)
    assert facts(place) == facts(library)
    for folder in _every_folder(place):
        litter(folder)
    dunechest.undo()
    assert not place.exists() or not [path for path in place.rglob("*") if path.name not in FILES]
    place.mkdir(exist_ok=True)
    (place / ".DS_Store").write_text("what a person wrote under that name")
    with pytest.raises(dunechest.RefusedError):
        dunechest.restore(chest, "shed", options)


def test_a_move_and_its_way_back_do_not_mind_them(
    library: Path, chest: dunechest.Chest, other: dunechest.Chest, tmp_path: Path
) -> None:
    for folder in _every_folder(library):
        litter(folder)
    before = own(library)
    moved = dunechest.rehome(library, tmp_path / "other drive")
    assert own(moved.new_path) >= before
    for folder in _every_folder(moved.new_path):
        litter(folder)
    dunechest.rehome_back(moved.new_path)
    assert own(library) == before


def own(folder: Path) -> set[str]:
    return {os.path.relpath(path, folder) for path in folder.rglob("*") if path.name not in FILES and path.is_file()}


def test_what_was_archived_before_comes_back(
    library: Path, chest: dunechest.Chest, command: Command, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Archives that were made when such files were taken for a person's stay true."""
    litter(library / "rafters")
    with monkeypatch.context() as earlier:
        earlier.setattr("dunechest.transfer.walk.may_be", lambda name: False)
        dunechest.archive(library, chest)
        before = facts(library)
    assert dunechest.verify(chest).ok and dunechest.drill(chest)[0].passed
    dunechest.restore(chest, "shed", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert facts(tmp_path / "back") == before
    dunechest.undo()
    assert not (tmp_path / "back").exists()
    for _ in range(2):
        (result,) = dunechest.archive(library, chest)
        assert result.ok
    assert dunechest.verify(chest).ok and len(dunechest.list_editions(chest, "shed").editions) <= 2
    options = dunechest.RestoreOptions(into=str(tmp_path / "first"), edition=1)
    dunechest.restore(chest, "shed", options)
    assert facts(tmp_path / "first") == before
    (bag_of(chest, "shed") / "data" / "library" / "rope.txt").write_text("harmed")
    assert command("verify", chest.folder).status == 1
