"""Editions: made, listed, compared, thinned, and every one of them had back exactly."""

from __future__ import annotations

import datetime
import os
import random
import shutil
from pathlib import Path
from typing import Any

import pytest

import dunechest
from dunechest.demo.applications.tidewrack import Tidewrack
from dunechest.demo.world import World
from dunechest.model.archive import ArchiveOptions
from dunechest.transfer import copying
from tests.support.editions import archive, back
from tests.support.runs import Command
from tests.support.trees import bag_of, facts, flip, sha512sum
from tests.support.worlds import Move

UTC = datetime.UTC


def test_every_edition_comes_back_exactly(library: Path, chest: dunechest.Chest, tmp_path: Path) -> None:
    truth = {1: facts(library)}
    archive(library, chest)
    (library / "rope.txt").write_text("nineteen metres\n")
    (library / "rafters" / "oar.txt").rename(library / "oar.txt")
    (library / "link").symlink_to("rope.txt")
    truth[2] = facts(library)
    account = archive(library, chest)
    assert (account.edition, account.unchanged_count) == (2, 2)
    assert (account.changes.changed_count, account.changes.moved_count, account.changes.added_count) == (1, 1, 0)
    shutil.rmtree(library / "rafters")
    (library / "empty").rmdir()
    (library / "link").unlink()
    (library / "rope.txt").chmod(0o600)
    os.utime(library / "rope.txt", (1, 1))
    truth[3] = facts(library)
    account = archive(library, chest)
    assert (account.changes.dropped_count, account.changes.changed_count, account.changes.added_bytes) == (1, 0, 0)
    for number, content in truth.items():
        assert back(chest, "shed", number, tmp_path / "back") == content, number
    data = bag_of(chest, "shed") / "data" / "library"
    assert {p.name for p in data.rglob("*")} == {"rope.txt", "oar.txt"}, (
        "data is the current edition, whole and plain"
    )
    assert (bag_of(chest, "shed") / "dune/earlier/0001/library/rope.txt").read_text() == "twenty metres\n"
    assert sha512sum(bag_of(chest, "shed")).returncode == 0
    assert dunechest.verify(chest).ok
    with pytest.raises(dunechest.UsageError, match="It has: 1, 2, 3"):
        dunechest.restore(chest, "shed", dunechest.RestoreOptions(into=str(tmp_path / "back"), edition=4))


@pytest.mark.parametrize("seed", range(4))
def test_random_walks(seed: int, tmp_path: Path, chest: dunechest.Chest) -> None:
    rng = random.Random(seed)
    library = tmp_path / "lib"
    library.mkdir()
    names = [f"{a}/{b}" for a in ("x", "y", "x/z", "X") for b in ("1", "2", "é")] + ["top", "x.d"]
    truth = {}
    for _ in range(7):
        for _ in range(rng.randint(1, 5)):
            files = [p for p in library.rglob("*") if p.is_file()]
            goal = library / rng.choice(names)
            dice = rng.random()
            try:
                if dice < 0.5 or not files:
                    goal.parent.mkdir(parents=True, exist_ok=True)
                    goal.write_bytes(rng.choice([b"a", b"", rng.randbytes(rng.randint(0, 3000))]))
                elif dice < 0.65:
                    rng.choice(files).unlink()
                elif dice < 0.85:
                    goal.parent.mkdir(parents=True, exist_ok=True)
                    rng.choice(files).rename(goal)
                elif dice < 0.9:
                    shutil.rmtree(
                        rng.choice(files).parent if len(files) > 3 else library / "none", ignore_errors=True
                    )
                    library.mkdir(exist_ok=True)
                else:
                    os.utime(rng.choice(files))
            except (IsADirectoryError, NotADirectoryError, FileExistsError):
                continue
        account = archive(library, chest, ArchiveOptions(ignore=("mass-change",), read_all=rng.random() < 0.3))
        assert account.ok
        if account.state != "unchanged":
            truth[account.edition] = facts(library)
        assert dunechest.verify(chest).ok
    for number, content in truth.items():
        assert back(chest, "lib", number, tmp_path / "back") == content


def test_only_what_is_new_is_read_and_written(
    library: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    archive(library, chest)
    kept = bag_of(chest, "shed") / "data" / "library" / "rafters" / "big.bin"
    inode = kept.stat().st_ino
    (library / "new.txt").write_text("new")
    (library / "rafters" / "big.bin").rename(library / "bigger.bin")
    opened: list[str] = []
    true = os.open

    def watch(path: Any, *rest: Any, **more: Any) -> int:
        opened.append(os.fsdecode(path) if isinstance(path, (str, bytes, os.PathLike)) else "")
        return true(path, *rest, **more)

    monkeypatch.setattr(copying.os, "open", watch)
    account = archive(library, chest)
    monkeypatch.undo()
    read = {path for path in opened if path.startswith(str(library)) and Path(path).is_file()}
    # Texts are looked through each time for what they name outside; nothing else is opened.
    assert {path for path in read if not path.endswith(".txt")} == {str(library / "bigger.bin")}
    assert str(library / "new.txt") in read
    assert account.changes.added_bytes == 3
    moved = bag_of(chest, "shed") / "data" / "library" / "bigger.bin"
    assert moved.stat().st_ino == inode, "renamed in the bag, not copied again"


def test_an_unchanged_library_is_recognised_without_opening_a_file(
    library: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    archive(library, chest)
    before = facts(bag_of(chest, "shed"))
    true = os.open

    def refuse(path: Any, *rest: Any, **more: Any) -> int:
        name = os.fsdecode(path) if isinstance(path, (str, bytes, os.PathLike)) else ""
        assert not (name.startswith(str(library)) and Path(name).is_file()), name
        assert "/data/" not in name
        return true(path, *rest, **more)

    monkeypatch.setattr(os, "open", refuse)
    assert archive(library, chest).state == "unchanged"
    monkeypatch.undo()
    assert facts(bag_of(chest, "shed")) == before


def test_a_silent_change_is_found_by_reread_and_by_compare(
    library: Path, chest: dunechest.Chest, command: Command, tmp_path: Path
) -> None:
    archive(library, chest)
    assert archive(library, chest, ArchiveOptions(read_all=True)).state == "unchanged"
    flip(library / "rafters" / "oar.txt")
    assert archive(library, chest).state == "unchanged", "size and time are the same"
    ran = command("compare", library, f"{chest.folder}/shed", "--json")
    assert ran.status == 1
    assert [(u["path"], u["what"]) for u in ran.json["differences"]] == [("rafters/oar.txt", "silent")]
    assert (
        "changed without a new size or date: rafters/oar.txt"
        in command("compare", library, f"{chest.folder}/shed").out
    )
    ran = command("archive", library, "--to", chest.folder, "--read-all", "--json")
    assert ran.status == 1
    assert ran.library["silently_changed_paths"] == ["rafters/oar.txt"]
    assert command("compare", library, f"{chest.folder}/shed").status == 0
    ran = command(
        "compare", f"{chest.folder}/shed", f"{chest.folder}/shed", "--edition", "1", "--edition", "2", "--json"
    )
    assert [u["path"] for u in ran.json["differences"]] == ["rafters/oar.txt"]
    frame = dunechest.compare(str(library), f"{chest.folder}/shed", editions=(1,)).to_frame()
    assert list(frame["what"]) == ["silent"]


@pytest.mark.parametrize("words", [("x", "y"), ("{}", "nope/shed"), ("{}@2", "{}")])
def test_places_that_cannot_be_compared(words: tuple[str, str], library: Path, command: Command) -> None:
    assert command("compare", *(word.format(library) for word in words)).status == 2


def test_editions_are_listed(library: Path, chest: dunechest.Chest, command: Command) -> None:
    archive(library, chest)
    assert "1 edition. Archive the library again" in command("editions", "list", chest.folder, "shed").out
    (library / "a\x1b[31m.txt").write_text("x")
    (library / "rope.txt").write_text("cut")
    (library / "rafters" / "oar.txt").rename(library / "oar.txt")
    (library / "rafters" / "big.bin").unlink()
    archive(library, chest)
    ran = command("editions", "list", chest.folder, "shed")
    assert "\x1b" not in ran.out
    for words in (
        "edition 1",
        "edition 2",
        "current",
        "1 added, 1 changed, 1 moved, 1 deleted",
        "was rafters/oar.txt",
    ):
        assert words in ran.out
    seen = command("editions", "list", chest.folder, "shed", "--json").library
    assert seen["editions"][1]["changes"] == {
        "added_count": 1, "changed_count": 1, "moved_count": 1, "dropped_count": 1, "added_bytes": 4,
    }  # fmt: skip
    assert {c["what"] for c in seen["editions"][1]["changed_files"]} == {"added", "changed", "moved", "dropped"}
    listed = dunechest.list_editions(chest, "shed")
    assert list(listed.to_frame()["edition"]) == [1, 2]
    assert listed.earlier_bytes == 256_000 + len("twenty metres\n")
    for number in range(130):
        (library / f"many {number:03}").write_text("x")
    archive(library, chest)
    assert len(dunechest.list_editions(chest, "shed").editions[2].changed_files) == 100
    assert command("editions", "list", chest.folder, "no-such").status == 2


def test_what_cannot_be_read_stays_as_it_was(
    library: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    archive(library, chest)
    (library / "rope.txt").write_text("a new rope")
    true = os.open

    def bad_sector(path: Any, *rest: Any, **more: Any) -> int:
        if os.fsdecode(path if isinstance(path, (str, bytes, os.PathLike)) else "") == str(library / "rope.txt"):
            raise OSError(5, "Input/output error")
        return true(path, *rest, **more)

    (library / "other.txt").write_text("fine")
    monkeypatch.setattr(copying.os, "open", bad_sector)
    account = archive(library, chest)
    monkeypatch.undo()
    assert not account.ok
    (left,) = account.left_out
    assert (left.path, left.fault) == ("rope.txt", True)
    assert "as in edition 1" in left.why
    assert dunechest.restore(chest, "shed", dunechest.RestoreOptions(into=str(tmp_path / "b"))).file_count == 4
    assert (tmp_path / "b" / "rope.txt").read_text() == "twenty metres\n"
    assert (tmp_path / "b" / "other.txt").exists()
    assert dunechest.verify(chest).ok


def test_notes_get_editions_too(world: World, on_machine: Move, tmp_path: Path) -> None:
    on_machine("office-pc")
    chest = dunechest.Chest.create(world.blue, "blue")
    notes = Tidewrack(world.office_home)
    counts = {}
    for number in (1, 2, 3):
        with notes.open() as opened:
            counts[number] = opened.counts["notes"]
            notes.write(f"note {number}", "written meanwhile")
            counts[number] += 1
        account = archive(world.notes, chest)
        assert (account.edition, account.ok) == (number, True)
        assert archive(world.notes, chest).state == "unchanged"
    for number, count in counts.items():
        dunechest.restore(
            chest,
            "tidewrack",
            dunechest.RestoreOptions(into=str(tmp_path / str(number) / ".tidewrack"), edition=number),
        )
        with Tidewrack(tmp_path / str(number)).open() as opened:
            assert opened.counts["notes"] == count


# A surprise.


@pytest.fixture
def many(tmp_path: Path) -> Path:
    place = tmp_path / "many"
    place.mkdir()
    for number in range(60):
        (place / f"{number:02}.txt").write_text(f"content {number}")
    return place


@pytest.mark.parametrize("how", ["vanished", "encrypted", "renamed and encrypted"])
def test_a_large_share_that_changes_at_once_stops(
    how: str, many: Path, chest: dunechest.Chest, command: Command, tmp_path: Path
) -> None:
    truth = facts(many)
    archive(many, chest)
    for path in sorted(many.iterdir())[:40]:
        if how == "vanished":
            path.unlink()
        else:
            path.write_bytes(os.urandom(path.stat().st_size))
            if how != "encrypted":
                path.rename(path.with_suffix(".locked"))
    ran = command("archive", many, "--to", chest.folder, "--json")
    assert (ran.status, ran.json["findings"][0]["code"]) == (3, "mass-change")
    assert dunechest.list_editions(chest, "many").editions[-1].edition == 1
    ran = command("archive", many, "--to", chest.folder, "--ignore", "mass-change")
    assert ran.status == 0
    assert back(chest, "many", 1, tmp_path / "back") == truth
    assert "many files changed at once" in command("editions", "list", chest.folder, "many").out
    plan = dunechest.plan_drop(chest, "many", "the last 1")
    assert (plan.kept_editions, plan.dropped_editions, plan.exempt_editions) == ((1, 2), (), (1,))


@pytest.mark.parametrize("how", ["moved", "touched", "added", "a few"])
def test_what_is_no_surprise(how: str, many: Path, chest: dunechest.Chest) -> None:
    archive(many, chest)
    paths = sorted(many.iterdir())
    if how == "moved":
        (many / "sub").mkdir()
        for path in paths:
            path.rename(many / "sub" / path.name)
    elif how == "touched":
        for path in paths:
            os.utime(path)
    elif how == "added":
        for number in range(200):
            (many / f"new {number}").write_text(str(number))
    else:
        for path in paths[:19]:
            path.unlink()
    account = archive(many, chest)
    assert account.edition == 2
    assert account.changes.added_bytes == (sum(len(str(n)) for n in range(200)) if how == "added" else 0)
