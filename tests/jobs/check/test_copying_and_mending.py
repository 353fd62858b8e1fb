"""Copying from chest to chest, and mending one from another: what people meet who have damaged, full and mixed-up drives."""

from __future__ import annotations

import errno
import os
import shutil
from pathlib import Path

import pytest
from msgspec.structs import replace

import dunechest
from dunechest.chest.layout import PENDING
from dunechest.machine import drives
from dunechest.transfer import disk
from tests.support import burrow
from tests.support.editions import archive, back
from tests.support.harms import tree
from tests.support.runs import Command
from tests.support.trees import bag_of, facts, flip


@pytest.fixture
def sand(tmp_path: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch) -> dunechest.Chest:
    """A second chest; it and the first one are connected."""
    return _another(tmp_path, "sand", chest, monkeypatch)


def _another(tmp_path: Path, label: str, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch) -> dunechest.Chest:
    (tmp_path / label).mkdir()
    known = os.environ["DUNECHEST_DRIVES"] or str(chest.folder.parent)
    monkeypatch.setenv("DUNECHEST_DRIVES", os.pathsep.join([known, str(tmp_path / label)]))
    return dunechest.create_chest(tmp_path / label, label)


def data(chest: dunechest.Chest, name: str) -> Path:
    return bag_of(chest, "shed") / "data" / "library" / name


def test_a_damaged_file_is_named_and_comes_later(
    library: Path, chest: dunechest.Chest, sand: dunechest.Chest, command: Command
) -> None:
    archive(library, chest)
    flip(data(chest, "rope.txt"))
    data(chest, "rafters/oar.txt").unlink()
    ran = command("copy", "blue", "sand")
    assert ran.status == 1
    assert ran.out.startswith("INCOMPLETE: 2 files could not be copied from blue to sand.")
    assert "data/library/rope.txt: it is damaged in blue" in ran.out
    assert "data/library/rafters/oar.txt: it is missing in blue" in ran.out
    assert command("verify", "sand").status == 1, "a copy with a hole in it is no intact copy"
    assert command("copy", "blue", "sand").status == 1, "it is not forgotten"
    ran = command("mend", "blue", "shed", "--from", library)
    assert (ran.status, ran.out.split(",")[0]) == (0, "Mended 2 files in blue")
    ran = command("copy", "blue", "sand")
    assert (ran.status, "2 files that had gone copied again" in ran.out) == (0, True)
    assert tree(bag_of(chest, "shed")) == tree(bag_of(sand, "shed"))


def test_a_third_chest_gives_what_the_source_has_lost(
    library: Path, chest: dunechest.Chest, sand: dunechest.Chest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    archive(library, chest)
    dunechest.copy_chest(chest, sand)
    flip(data(chest, "rope.txt"))
    grey = _another(tmp_path, "grey", chest, monkeypatch)
    (result,) = dunechest.copy_chest(chest, grey)
    assert result.from_other_chests == (("data/library/rope.txt", "sand"),)
    assert tree(bag_of(grey, "shed")) == tree(bag_of(sand, "shed"))


def test_nothing_goes_from_the_target_that_did_not_arrive(
    library: Path, chest: dunechest.Chest, sand: dunechest.Chest, tmp_path: Path
) -> None:
    """The source loses what an earlier edition had; the target, which still has it as its current state, keeps it."""
    archive(library, chest)
    first = facts(library)
    dunechest.copy_chest(chest, sand)
    (library / "rope.txt").write_text("thirty metres\n")
    archive(library, chest)
    shutil.rmtree(bag_of(chest, "shed") / "dune" / "earlier")
    (result,) = dunechest.copy_chest(chest, sand)
    assert [path for path, _ in result.missing_files] == [], "it was never away from the target"
    assert back(sand, "shed", 1, tmp_path / "back") == first
    (library / "rope.txt").write_text("forty metres\n")
    archive(library, chest)
    flip(data(chest, "rope.txt"))
    (result,) = dunechest.copy_chest(chest, sand)
    assert [path for path, _ in result.missing_files] == ["data/library/rope.txt"]
    assert back(sand, "shed", 1, tmp_path / "back") == first
    check = dunechest.verify(sand)
    assert [state.path for item in check.libraries for state in item.problems] == ["data/library/rope.txt"]


def test_cut_off_and_continued(
    library: Path, chest: dunechest.Chest, sand: dunechest.Chest, monkeypatch: pytest.MonkeyPatch, command: Command
) -> None:
    for number in range(30):
        (library / f"{number}.bin").write_bytes(os.urandom(70_000 + number))
    (library / "large.bin").write_bytes(os.urandom(5 << 20))
    archive(library, chest)
    written = 0

    def full(operation: str, *what: object) -> None:
        nonlocal written
        written += operation == "create" and b"payload" in os.fsencode(str(what[0]))
        if written > 20 and operation == "write":
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

    monkeypatch.setattr(disk, "gate", full)
    ran = command("copy", "blue", "sand")
    assert (ran.status, "Run the same command again to continue" in ran.err) == (4, True)
    monkeypatch.setattr(disk, "gate", None)
    assert command("verify", "sand").status == 1
    assert not (bag_of(sand, "shed") / "data").exists()
    (result,) = dunechest.copy_chest(chest, sand)
    assert result.ok
    assert tree(bag_of(chest, "shed")) == tree(bag_of(sand, "shed"))


def test_libraries_that_are_not_the_same_stay_apart(
    library: Path, chest: dunechest.Chest, sand: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    archive(library, chest)
    other = tmp_path / "elsewhere" / "shed"
    other.mkdir(parents=True)
    (other / "knots.txt").write_text("bowline")
    archive(other, sand)
    before = tree(sand.folder)
    ran = command("copy", "blue", "sand")
    assert (ran.status, "is another library of the same name" in ran.err) == (3, True)
    assert tree(sand.folder) == before
    (tmp_path / "papers").mkdir()
    (tmp_path / "papers" / "a.txt").write_text("a")
    archive(tmp_path / "papers", chest)
    ran = command("copy", "blue", "sand")
    assert (ran.status, "NOT COPIED  shed" in ran.out, "Copied" in ran.out) == (1, True, False)
    assert dunechest.verify(sand).ok
    assert (bag_of(sand, "papers") / "data").is_dir(), "one library does not keep the others from it"


def test_archives_of_the_same_library_are_told_from_copies(
    library: Path, chest: dunechest.Chest, sand: dunechest.Chest, command: Command
) -> None:
    archive(library, chest)
    archive(library, sand)
    ran = command("copy", "blue", "sand")
    assert (ran.status, "from an archive of its own" in ran.out or "unchanged" in ran.out) == (0, True)
    (library / "rope.txt").write_text("cut")
    archive(library, chest)
    assert command("copy", "blue", "sand").status in (0, 3)
    assert dunechest.verify(sand).ok


def test_the_newer_one_is_not_replaced(
    library: Path, chest: dunechest.Chest, sand: dunechest.Chest, command: Command
) -> None:
    archive(library, chest)
    dunechest.copy_chest(chest, sand)
    (library / "rope.txt").write_text("cut")
    archive(library, sand)
    ran = command("copy", "blue", "sand")
    assert (ran.status, "-> To copy it the other way: dunechest copy sand blue shed" in ran.out) == (0, True)
    assert command("copy", "sand", "blue").status == 0
    assert tree(bag_of(chest, "shed")) == tree(bag_of(sand, "shed"))


def test_two_with_one_id_and_one_with_itself(
    library: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    archive(library, chest)
    shutil.copytree(chest.folder, tmp_path / "copied" / "dune-chest")
    ran = command("copy", chest.folder, tmp_path / "copied")
    assert (ran.status, "have the same id" in ran.err, "chest new-id" in ran.err) == (2, True, True)
    assert command("copy", chest.folder, chest.folder).status == 2
    assert command("mend", chest.folder, "--from", chest.folder).status == 2
    assert command("mend", chest.folder, "--from", tmp_path / "copied").status == 0, "for mending a twin will do"


def test_a_hostile_record_leads_nowhere(
    library: Path, chest: dunechest.Chest, sand: dunechest.Chest, tmp_path: Path
) -> None:
    """Names in a chest that somebody made on purpose do not leave the chest that is copied to."""
    import msgspec

    from dunechest.chest.fitted_names import fit_edition
    from dunechest.chest.records import ChangedName
    from dunechest.machine.drives import Limits

    archive(library, chest)
    record = chest.bag("shed").library
    assert record is not None
    hostile = msgspec.structs.replace(record, changed_names=(ChangedName("../../../out.txt", "rope.txt"),))
    with pytest.raises(dunechest.errors.ChestUnusableError, match="must not be used"):
        fit_edition(hostile, ["library/rope.txt"], Limits())


def test_a_chest_in_use_is_left_alone(
    library: Path, chest: dunechest.Chest, sand: dunechest.Chest, command: Command
) -> None:
    archive(library, chest)
    for held in (chest, sand):
        with held.changing("another"):
            assert command("copy", "blue", "sand").status == 3
    assert command("copy", "blue", "sand").status == 0


def test_what_cannot_be_mended_is_said_and_the_rest_is(
    library: Path, chest: dunechest.Chest, sand: dunechest.Chest, command: Command
) -> None:
    archive(library, chest)
    dunechest.copy_chest(chest, sand)
    for held in (chest, sand):
        flip(data(held, "rope.txt"))
    flip(data(chest, "rafters/oar.txt"))
    data(chest, "rafters/big.bin").unlink()
    data(chest, "rafters/big.bin").mkdir()
    (data(chest, "rafters/big.bin") / "somebody's.txt").write_text("mine")
    (data(chest, "") / "note.txt").write_text("mine")
    ran = command("mend", "blue", "--plan")
    assert (ran.status, "3 files in blue damaged or missing" in ran.out) == (1, True)
    ran = command("mend", "blue")
    assert (ran.status, ran.out.split("\n")[0]) == (
        1,
        "NOT ALL MENDED: 2 files in blue still damaged or missing; 1 file mended.",
    )
    assert "intact in none of the other copies" in ran.out
    assert "move that folder away from the chest" in ran.out
    assert "data/library/note.txt: it is no part of the archive" in ran.out
    assert (data(chest, "rafters/big.bin") / "somebody's.txt").read_text() == "mine"
    assert data(chest, "rafters/oar.txt").read_text() == "two of them\n"
    ran = command("mend", "blue", "shed", "--from", library)
    assert (ran.status, "1 file in blue still damaged" in ran.out) == (1, True)


def test_a_library_that_has_gone_is_copied_again(
    library: Path, chest: dunechest.Chest, sand: dunechest.Chest, command: Command
) -> None:
    archive(library, chest)
    dunechest.copy_chest(chest, sand)
    shutil.rmtree(bag_of(chest, "shed"))
    ran = command("mend", "blue", "--from", "sand")
    assert (ran.status, "dunechest copy sand blue shed" in ran.out) == (1, True)
    assert command("copy", "sand", "blue", "shed").status == 0
    assert command("mend", "blue").status == 0


def test_mending_writes_only_what_is_damaged(library: Path, chest: dunechest.Chest, sand: dunechest.Chest) -> None:
    archive(library, chest)
    dunechest.copy_chest(chest, sand)
    flip(data(chest, "rope.txt"))
    before = {path: path.lstat().st_ino for path in bag_of(chest, "shed").rglob("*") if path.is_file()}
    (result,) = dunechest.mend(chest)
    assert result.mended_files == (("data/library/rope.txt", "sand"),)
    after = {path: path.lstat().st_ino for path in bag_of(chest, "shed").rglob("*") if path.is_file()}
    assert {path for path in after if after[path] != before[path]} == {data(chest, "rope.txt")}
    assert not (bag_of(chest, "shed") / PENDING).exists()
    assert data(chest, "rope.txt").lstat().st_mtime_ns == (library / "rope.txt").lstat().st_mtime_ns


def test_a_lying_helper_mends_nothing(library: Path, chest: dunechest.Chest, sand: dunechest.Chest) -> None:
    """A chest with another library under the name: its records and files are not taken for ours."""
    archive(library, chest)
    (library / "rope.txt").write_text("something else")
    archive(library, sand)
    before = tree(bag_of(chest, "shed"))
    for name in ("manifest-sha512.txt", "tagmanifest-sha512.txt", "dune/files.jsonl", "dune/tags.jsonl"):
        (bag_of(chest, "shed") / name).write_bytes(b"")
    data(chest, "rope.txt").write_text("harmed")
    (result,) = dunechest.mend(chest)
    assert not result.ok
    after = tree(bag_of(chest, "shed"))
    assert after["data/library/rope.txt"] == b"harmed"
    assert all(after[path] in (before[path], b"") for path in after if not path.startswith("data/"))


def test_two_chests_are_compared(
    library: Path, chest: dunechest.Chest, sand: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    archive(library, chest)
    dunechest.copy_chest(chest, sand)
    ran = command("compare", "blue", "sand")
    assert (ran.status, ran.out.split(":")[1]) == (0, " blue and sand hold the same 1 library")
    (library / "rope.txt").write_text("cut")
    archive(library, chest)
    (tmp_path / "papers").mkdir()
    (tmp_path / "papers" / "a.txt").write_text("a")
    archive(tmp_path / "papers", sand)
    ran = command("compare", "blue", "sand")
    assert ran.status == 1
    assert ran.out.startswith("DIFFERENT: 2 libraries differ in blue and sand.")
    assert "only in sand" in ran.out
    assert "only in blue: edition 2" in ran.out
    assert "different: rope.txt" in ran.out
    assert command("compare", "blue", chest.folder.parent).status == 2
    assert command("compare", "blue", "sand", "--edition", "1").status == 2


def test_files_from_outside_a_library_are_compared_too(
    tmp_path: Path, chest: dunechest.Chest, sand: dunechest.Chest, command: Command
) -> None:
    library = burrow.make(tmp_path)
    outside = tmp_path / "home" / "Pictures" / "dune.map"
    outside.parent.mkdir()
    outside.write_bytes(b"outside" * 100)
    burrow.refer(library, outside)
    result = archive(library, chest)
    dunechest.copy_chest(chest, sand)
    (alike,) = dunechest.compare_chests(chest, sand).libraries
    assert alike.same and alike.files is not None
    assert alike.files.identical_count == result.archived_count, "as many as were archived"
    assert dunechest.compare(library, f"{chest.folder}/burrow").same
    outside.write_bytes(b"changed" * 100)
    archive(library, chest)
    assert [u.path for u in dunechest.compare(library, f"{sand.folder}/burrow").differences] == [str(outside)]
    both = dunechest.compare(f"{chest.folder}/burrow", f"{chest.folder}/burrow", editions=(1, 2))
    assert [u.path for u in both.differences] == [str(outside)], "an earlier state of it, too"
    assert dunechest.compare(f"{chest.folder}/burrow", f"{sand.folder}/burrow", editions=(1, 1)).same
    (stored,) = (path for path in (bag_of(sand, "burrow") / "data").rglob("dune*.map"))
    flip(stored)
    assert not dunechest.compare(f"{chest.folder}/burrow", f"{sand.folder}/burrow", editions=(1, 1)).same
    outside.unlink()
    assert [u.path for u in dunechest.compare(library, f"{chest.folder}/burrow").differences] == [str(outside)]


def test_what_cannot_be_copied_takes_no_room_from_the_others(
    tmp_path: Path, chest: dunechest.Chest, sand: dunechest.Chest, monkeypatch: pytest.MonkeyPatch, command: Command
) -> None:
    """A drive that cannot hold a large file, and has room for the others alone, gets these."""
    for name, size in (("albums", 2_000_000), ("letters", 1_000_000)):
        (tmp_path / name).mkdir()
        (tmp_path / name / "one.txt").write_bytes(b"x" * size)
        assert command("archive", tmp_path / name, "--to", chest.folder).status == 0
    small = drives.Limits(largest=1_500_000)
    monkeypatch.setattr(drives, "pretend", lambda found: replace(found, limits=small, free=2_500_000))
    ran = command("copy", chest.folder, sand.folder)
    assert (ran.status, "file-too-large" in ran.out) == (1, True), ran.out
    assert bag_of(sand, "letters").is_dir() and not (sand.folder / "bags" / "albums").exists()
    assert command("copy", chest.folder, sand.folder, "--json").json["libraries"][0]["state"] == "blocked"
