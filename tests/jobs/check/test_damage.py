"""A flipped byte in each kind of file of a bag is found, and named rightly."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest

import dunechest
from tests.support.runs import Command
from tests.support.sealing import reseal
from tests.support.trees import bag_of, flip

TAG_FILES = [
    "bagit.txt",
    "bag-info.txt",
    "manifest-sha512.txt",
    "HOW-TO-RESTORE.txt",
    "dune/library.json",
    "dune/files.jsonl",
    "dune/tags.jsonl",
    "tagmanifest-sha512.txt",
]


@pytest.fixture(scope="module")
def pristine_drive(tmp_path_factory: pytest.TempPathFactory) -> Path:
    top = tmp_path_factory.mktemp("damage")
    library = top / "shed"
    (library / "rafters").mkdir(parents=True)
    for number in range(6):
        (library / "rafters" / f"{number}.txt").write_text(f"plank {number}\n" * 50)
    (top / "drive").mkdir()
    chest = dunechest.Chest.create(top / "drive", "blue")
    dunechest.archive([library], chest)
    return top / "drive"


@pytest.fixture
def damaged(pristine_drive: Path, tmp_path: Path) -> dunechest.Chest:
    shutil.copytree(pristine_drive, tmp_path / "copy")
    return dunechest.Chest.open(tmp_path / "copy")


@pytest.mark.parametrize("name", TAG_FILES)
@pytest.mark.parametrize("where", [0.02, 0.2, 0.37, 0.5, 0.63, 0.81, 0.98])
@pytest.mark.parametrize("bit", [0x01, 0x20, 0x80])
def test_a_flipped_bit_in_a_tag_file_names_that_file_alone(
    name: str, where: float, bit: int, damaged: dunechest.Chest
) -> None:
    path = bag_of(damaged, "shed") / name
    flip(path, int(path.stat().st_size * where), bit)
    (check,) = dunechest.verify(damaged).libraries
    assert {(s.path, s.state) for s in check.problems} == {(name, "changed")}


@pytest.mark.parametrize("name", [*TAG_FILES, "data/library/rafters/3.txt"])
def test_a_missing_file_is_missing(name: str, damaged: dunechest.Chest) -> None:
    (bag_of(damaged, "shed") / name).unlink()
    (check,) = dunechest.verify(damaged).libraries
    assert (name, "missing") in {(s.path, s.state) for s in check.problems}
    assert {s.path for s in check.problems} == {name}
    assert not dunechest.verify(damaged, quick=True).ok


def test_payload_states(damaged: dunechest.Chest, command: Command) -> None:
    data = bag_of(damaged, "shed") / "data" / "library" / "rafters"
    flip(data / "0.txt")
    (data / "1.txt").unlink()
    (data / "extra.txt").write_text("who put this here")
    (data / "2.txt").unlink()
    (data / "2.txt").mkdir()
    (data / "link").symlink_to("3.txt")
    ran = command("verify", damaged.folder, "--json")
    assert ran.status == 1
    assert {s["path"].rpartition("/")[2]: s["state"] for s in ran.json["libraries"][0]["problems"]} == {
        "0.txt": "changed",
        "1.txt": "missing",
        "2.txt": "missing",
        "extra.txt": "unlisted",
        "link": "unlisted",
    }
    frame = dunechest.verify(damaged).to_frame()
    assert sorted(frame["state"]) == ["changed", "missing", "missing", "unlisted", "unlisted"]


def test_quick_sees_sizes_and_names_and_says_so(damaged: dunechest.Chest, command: Command) -> None:
    data = bag_of(damaged, "shed") / "data" / "library" / "rafters"
    flip(data / "0.txt")
    ran = command("verify", damaged.folder, "--quick")
    assert ran.status == 0
    assert "No content was read" in ran.out
    (data / "0.txt").write_text("shorter")
    ran = command("verify", damaged.folder, "--quick")
    assert ran.status == 1
    assert "0.txt" in ran.out


def test_only_named_libraries_are_checked(damaged: dunechest.Chest, command: Command) -> None:
    assert command("verify", damaged.folder, "shed").status == 0
    ran = command("verify", damaged.folder, "no-such")
    assert ran.status == 2
    assert "It holds: shed" in ran.err


def test_the_ledger_keeps_each_check(damaged: dunechest.Chest, command: Command) -> None:
    command("verify", damaged.folder)
    (library,) = command("chest", "show", damaged.folder, "--json").json["libraries"]
    assert library["last_check"]["intact"] is True
    flip(bag_of(damaged, "shed") / "data" / "library" / "rafters" / "0.txt")
    command("verify", damaged.folder)
    command("verify", damaged.folder, "--quick")
    (library,) = command("chest", "show", damaged.folder, "--json").json["libraries"]
    assert (library["last_check"]["intact"], library["last_check"]["quick"]) == (False, False)
    assert "problems found, 1 fault" in command("chest", "show", damaged.folder).out


def test_what_is_sound_is_restored_and_the_rest_named(
    damaged: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    bag = bag_of(damaged, "shed")
    flip(bag / "data" / "library" / "rafters" / "2.txt")
    (bag / "data" / "library" / "rafters" / "3.txt").unlink()
    ran = command("restore", damaged.folder, "shed", "--into", tmp_path / "back", "--json")
    assert ran.status == 1
    assert sorted(p.name for p in (tmp_path / "back" / "rafters").iterdir()) == ["0.txt", "1.txt", "4.txt", "5.txt"]
    assert {n["path"].rpartition("/")[2] for n in ran.json["libraries"][0]["not_restored"]} == {"2.txt", "3.txt"}
    assert ran.json["libraries"][0]["listed_count"] == 6


def test_damaged_records_still_give_the_files_back(damaged: dunechest.Chest, tmp_path: Path) -> None:
    bag = bag_of(damaged, "shed")
    (bag / "dune" / "files.jsonl").write_bytes(b"\xff torn\n" * 3)
    result = dunechest.restore(damaged, "shed", dunechest.RestoreOptions(into=str(tmp_path / "one")))
    assert result.file_count == 6
    flip(bag / "data" / "library" / "rafters" / "2.txt")
    result = dunechest.restore(damaged, "shed", dunechest.RestoreOptions(into=str(tmp_path / "two")))
    assert (result.file_count, result.ok) == (5, False)


@pytest.mark.parametrize("content", [b"", b"{", b"[]", b"null", b"\xff", b'{"format": "x"}', b"[" * 100_000])
def test_a_torn_chest_record_is_named_and_read_around(
    content: bytes, damaged: dunechest.Chest, tmp_path: Path, library: Path, command: Command
) -> None:
    (damaged.folder / "chest.json").write_bytes(content)
    ran = command("verify", damaged.folder)
    assert ran.status == 1
    assert "chest.json" in ran.out
    assert command("chest", "show", damaged.folder).status == 1
    assert command("restore", damaged.folder, "shed", "--into", tmp_path / "back").status == 1
    assert (tmp_path / "back" / "rafters" / "3.txt").exists()
    ran = command("archive", library, "--to", damaged.folder)
    assert ran.status == 3
    assert "chest rebuild" in ran.err
    assert (damaged.folder / "chest.json").read_bytes() == content
    assert command("chest", "rebuild", damaged.folder).status == 0
    assert command("verify", damaged.folder).status == 0


def test_without_any_record_a_chest_is_refused_untouched(damaged: dunechest.Chest, command: Command) -> None:
    (damaged.folder / "chest.json").write_bytes(b"torn")
    (damaged.folder / "READ-ME.txt").unlink()
    ran = command("verify", damaged.folder)
    assert ran.status == 3
    assert "rebuild" in ran.err


def test_a_newer_format_is_refused_untouched(damaged: dunechest.Chest, library: Path, command: Command) -> None:
    record = json.loads((damaged.folder / "chest.json").read_bytes())
    (damaged.folder / "chest.json").write_text(json.dumps({**record, "format": 2, "new": {"things": 1}}))
    for words in (("verify",), ("chest", "show"), ("archive", library, "--to")):
        ran = command(*words, damaged.folder)
        assert ran.status == 3
        assert "format 2" in ran.err


def test_a_library_record_of_a_newer_format_is_left_alone(
    damaged: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    path = bag_of(damaged, "shed") / "dune" / "library.json"
    record = json.loads(path.read_bytes())
    path.write_text(json.dumps({**record, "format": 9}))
    ran = command("restore", damaged.folder, "shed", "--into", tmp_path / "back")
    assert ran.status == 3
    assert not (tmp_path / "back").exists()


def test_parts_of_a_later_version_are_no_obstacle(damaged: dunechest.Chest, tmp_path: Path, command: Command) -> None:
    path = bag_of(damaged, "shed") / "dune" / "library.json"
    record = json.loads(path.read_bytes())
    path.write_text(json.dumps({**record, "parts": [{"name": ["an", "album"]}], "outside_files": [[1]]}))
    ran = command("verify", damaged.folder, "shed", "SHED")
    assert ran.status == 1
    assert ran.out.count("PROBLEM  shed") == 1
    assert command("restore", damaged.folder, "shed", "--into", tmp_path / "back").status == 1
    reseal(bag_of(damaged, "shed"))
    assert command("restore", damaged.folder, "shed", "--into", tmp_path / "back 2").status == 0


def test_a_stranger_in_the_chest_is_left_alone(damaged: dunechest.Chest, command: Command) -> None:
    (damaged.folder / "bags" / "holiday").mkdir()
    (damaged.folder / "bags" / "holiday" / "beach.jpg").write_text("sand")
    (damaged.folder / "bags" / "notes.txt").write_text("hello")
    ran = command("verify", damaged.folder)
    assert ran.status == 1
    assert "holiday" in ran.out
    assert (damaged.folder / "bags" / "notes.txt").read_text() == "hello"
