"""The space of an original is freed only when it is proven to be safe elsewhere, and only what is."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

import dunechest
from dunechest import clock
from dunechest.demo.applications import APPLICATIONS
from dunechest.demo.world import World
from dunechest.jobs.move.reclaim import carry_out
from dunechest.ledger.folder import state_folder
from tests.support import burrow
from tests.support.homes import libraries_of, opens, same_files
from tests.support.runs import Command
from tests.support.trees import bag_of, facts, flip

Move = Callable[[str], None]


@pytest.fixture
def chests(chests: dict[str, dunechest.Chest]) -> list[dunechest.Chest]:
    return list(chests.values())


@pytest.fixture
def proven(library: Path, chests: list[dunechest.Chest]) -> Path:
    """A library that may go."""
    dunechest.archive(library, chests)
    for chest in chests:
        assert dunechest.verify(chest).ok
    assert dunechest.drill(chests[0])[0].passed
    return library


def blocks(library: Path | str, **options: object) -> set[str]:
    """What forbids it, in the plan and in the doing alike; nothing is deleted."""
    choice = dunechest.ReclaimOptions(**options)  # type: ignore[arg-type]
    (plan,) = dunechest.plan_reclaim(library, choice)
    found = {finding.code for finding in plan.blocked}
    place = Path(library)
    before = facts(place) if place.is_dir() else None
    if found:
        with pytest.raises(dunechest.RefusedError):
            dunechest.reclaim(library, choice)
        assert before is None or facts(place) == before
        assert not list(place.parent.glob("*being deleted*"))
    return found


def test_what_is_proven_goes_and_what_came_free_is_measured(proven: Path, chests: list[dunechest.Chest]) -> None:
    before = facts(proven)
    (plan,) = dunechest.plan_reclaim(proven)
    assert (plan.blocked, plan.proven, plan.file_count) == ((), True, 3)
    assert [(copy.label, copy.counts, copy.checked_at is not None) for copy in plan.copies] == [
        ("blue", True, True),
        ("sand", True, True),
    ]
    (result,) = dunechest.reclaim(proven)
    assert not proven.exists() and list(proven.parent.glob("shed*")) == []
    assert (result.deleted_count, result.deleted_bytes, result.kept_path, result.kept_files) == (
        3,
        plan.size_bytes,
        None,
        (),
    )
    assert result.restore_command == "dunechest restore blue shed"
    with pytest.raises(dunechest.RefusedError, match="dunechest restore blue shed"):
        dunechest.undo()
    assert dunechest.restore(chests[0], "shed", dunechest.RestoreOptions(into=proven)).ok
    assert facts(proven) == before


def test_missing_checks_and_drills_come_first(library: Path, chests: list[dunechest.Chest]) -> None:
    dunechest.archive(library, chests)
    (plan,) = dunechest.plan_reclaim(library)
    assert (plan.first_checked_labels, plan.first_drilled_label, plan.proven) == (("blue", "sand"), "blue", False)
    with pytest.raises(dunechest.RefusedError, match="have to be checked first"):
        carry_out(plan)
    flip(bag_of(chests[1], "shed") / "data" / "library" / "rafters" / "big.bin")
    with pytest.raises(dunechest.RefusedError, match="sand is damaged"):
        dunechest.reclaim(library)
    assert (library / "rope.txt").is_file()
    assert "too-few-copies" in blocks(library) or dunechest.mend(chests[1], helpers=[chests[0]])[0].ok
    assert dunechest.verify(chests[1]).ok
    (result,) = dunechest.reclaim(library)
    assert (result.checked_labels, result.drilled_label) == (("blue", "sand"), "blue")
    assert not library.exists()


def test_a_failed_drill_forbids_it(
    library: Path, chests: list[dunechest.Chest], monkeypatch: pytest.MonkeyPatch
) -> None:
    dunechest.archive(library, chests)
    for chest in chests:
        dunechest.verify(chest)

    def fails(*args: object, **more: object) -> tuple[dunechest.model.Drill, ...]:
        return (dunechest.model.Drill("shed", None, "it did not come back"),)

    monkeypatch.setattr("dunechest.jobs.move.reclaim.first_checks.drill", fails)
    with pytest.raises(dunechest.RefusedError, match="did not pass its drill"):
        dunechest.reclaim(library)
    assert (library / "rope.txt").is_file()


def test_each_condition_that_fails_forbids_it(
    proven: Path, chests: list[dunechest.Chest], tmp_path: Path, holder: Callable[[Path], subprocess.Popen[str]]
) -> None:
    blue, sand = chests
    assert blocks(proven) == set()
    (proven / "new.txt").write_text("new")
    assert blocks(proven) == {"changed", "too-few-copies"}
    (proven / "new.txt").unlink()
    text = (proven / "rope.txt").read_text()
    (proven / "rope.txt").write_text("changed")
    assert blocks(proven) == {"changed", "too-few-copies"}
    info = (bag_of(blue, "shed") / "data/library/rope.txt").stat()
    (proven / "rope.txt").write_text(text)
    os.utime(proven / "rope.txt", ns=(info.st_mtime_ns, info.st_mtime_ns))
    held = holder(proven / "rope.txt")
    assert blocks(proven) == {"in-use"}
    held.kill()
    held.wait()
    (tmp_path / "home" / "shortcut").symlink_to(proven / "rafters")
    assert blocks(proven) == {"linked-from"}
    (tmp_path / "home" / "shortcut").unlink()
    # One drive is not connected: what is remembered of it does not count.
    sand.folder.parent.rename(tmp_path / "drawer")
    assert blocks(proven) == {"too-few-copies"}
    (plan,) = dunechest.plan_reclaim(proven)
    assert any("Connect sand" in finding.action for finding in plan.findings)
    (tmp_path / "drawer").rename(sand.folder.parent)
    for harm in ("record", "lost", "short"):
        bag = bag_of(sand, "shed")
        saved = tmp_path / "saved bag"
        shutil.copytree(bag, saved)
        if harm == "record":
            flip(bag / "dune" / "files.jsonl")
        elif harm == "lost":
            (bag / "data/library/rope.txt").unlink()
        else:
            (bag / "data/library/rope.txt").write_text("x")
        assert blocks(proven) == {"too-few-copies"}, harm
        shutil.rmtree(bag)
        saved.rename(bag)
    (tmp_path / "state" / "settings.toml").write_text("[protection]\ncopies = 3\n")
    assert blocks(proven) == {"too-few-copies"}
    (tmp_path / "state" / "settings.toml").write_text("[protection]\nplaces = 2\n")
    assert blocks(proven) == {"too-few-places"}
    (tmp_path / "state" / "settings.toml").unlink()
    assert blocks(proven) == set()


def test_silent_changes_are_seen_by_reading_everything(
    proven: Path, chests: list[dunechest.Chest], tmp_path: Path
) -> None:
    """One of two hundred: whatever is read by chance, it is found, each time; and what was found wrong is remembered."""
    for number in range(200):
        (proven / f"{number:03}").write_text(f"{number}")
    dunechest.archive(proven, chests)
    for chest in chests:
        assert dunechest.verify(chest).ok
        assert dunechest.drill(chest)[0].passed
    before = facts(proven)
    flip(proven / "117")
    for _ in range(2):
        with pytest.raises(dunechest.RefusedError, match="not as archived"):
            dunechest.reclaim(proven)
    flip(proven / "117")
    assert facts(proven) == before, "it is where it was, and nothing of it is gone"
    flip(bag_of(chests[1], "shed") / "data/library/042")
    with pytest.raises(dunechest.RefusedError, match="sand is damaged"):
        dunechest.reclaim(proven)
    status = {copy.label: copy.state for copy in dunechest.status().libraries[0].copies}
    assert status == {"blue": "safe", "sand": "damaged"}
    (plan,) = dunechest.plan_reclaim(proven)
    assert plan.first_checked_labels == ("sand",)
    with pytest.raises(dunechest.RefusedError, match="sand is damaged"):
        dunechest.reclaim(proven)
    assert facts(proven) == before


def test_checks_of_long_ago_are_made_again(
    proven: Path, chests: list[dunechest.Chest], monkeypatch: pytest.MonkeyPatch
) -> None:
    now = time.time()
    monkeypatch.setattr("dunechest.clock.now", lambda: now + 3 * 366 * 86_400)
    (plan,) = dunechest.plan_reclaim(proven)
    assert plan.first_checked_labels == ("blue", "sand")
    flip(bag_of(chests[0], "shed") / "data/library/rope.txt")
    with pytest.raises(dunechest.RefusedError, match="blue is damaged"):
        dunechest.reclaim(proven)
    assert (proven / "rope.txt").is_file()


def test_a_clock_that_was_once_ahead_proves_nothing(
    proven: Path, chests: list[dunechest.Chest], monkeypatch: pytest.MonkeyPatch
) -> None:
    now = time.time()
    with monkeypatch.context() as ahead:
        ahead.setattr("dunechest.clock.now", lambda: now + 8 * 366 * 86_400)
        for chest in chests:
            assert dunechest.verify(chest).ok
    for chest in chests:
        flip(bag_of(chest, "shed") / "data/library/rope.txt")
        assert not dunechest.verify(chest).ok
    (plan,) = dunechest.plan_reclaim(proven)
    assert plan.first_checked_labels == ("blue", "sand")
    with pytest.raises(dunechest.RefusedError, match="is damaged"):
        dunechest.reclaim(proven)
    assert (proven / "rope.txt").is_file()


def test_a_copy_is_held_while_its_original_is_deleted(
    proven: Path, chests: list[dunechest.Chest], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Nobody changes a chest between the last look at it and the deletion; who does so now is waited for by a refusal."""
    with chests[0].changing("another"), pytest.raises(dunechest.errors.ChestBusyError):
        dunechest.reclaim(proven)
    assert (proven / "rope.txt").is_file()

    def meanwhile(*args: object) -> None:
        with pytest.raises(dunechest.errors.ChestBusyError), chests[1].changing("another"):
            pass

    monkeypatch.setattr("dunechest.jobs.move.reclaim.doing.deleting._refuse_in_use", meanwhile)
    assert dunechest.reclaim(proven)


def test_copies_that_disagree_are_no_copies(library: Path, chests: list[dunechest.Chest]) -> None:
    """One was archived when a file silently had other bytes; nothing is read, and it is seen all the same."""
    dunechest.archive(library, chests[0])
    flip(library / "rope.txt")
    dunechest.archive(library, chests[1])
    assert blocks(library) == {"not-identical"}


def test_a_file_that_one_copy_lacks_keeps_the_original(proven: Path, chests: list[dunechest.Chest]) -> None:
    (proven / "new.txt").write_text("a knot")
    dunechest.archive(proven, chests[0])
    (plan,) = dunechest.plan_reclaim(proven)
    told = {copy.label: (copy.counts, copy.why_not) for copy in plan.copies}
    assert told["blue"][0] and not told["sand"][0] and "new.txt" in told["sand"][1]
    assert blocks(proven)
    # Nor does one that no copy has go.
    dunechest.archive(proven, chests[1])
    (proven / "only here.txt").write_text("a shell")
    assert not any(copy.counts for copy in dunechest.plan_reclaim(proven)[0].copies) and blocks(proven)


def test_a_drill_of_long_ago_is_made_again(
    proven: Path, chests: list[dunechest.Chest], monkeypatch: pytest.MonkeyPatch
) -> None:
    (state_folder() / "settings.toml").write_text("[protection]\ndrill_days = 10\n")
    assert dunechest.plan_reclaim(proven)[0].first_drilled_label == ""
    now = clock.now()
    monkeypatch.setattr(clock, "now", lambda: now + 11 * 86_400)
    assert dunechest.plan_reclaim(proven)[0].first_drilled_label == "blue"


def test_a_copy_in_which_something_is_unfinished_is_none(
    proven: Path, chests: list[dunechest.Chest], monkeypatch: pytest.MonkeyPatch
) -> None:
    real = dunechest.Chest.open

    def unfinished(*words: Any, **more: Any) -> dunechest.Chest:
        chest = real(*words, **more)
        if chest.label == "sand":
            chest.unfinished["shed"] = "an interrupted change could not be rolled back"
        return chest

    monkeypatch.setattr(dunechest.Chest, "open", unfinished)
    (plan,) = dunechest.plan_reclaim(proven)
    told = {copy.label: (copy.counts, copy.why_not) for copy in plan.copies}
    assert told["sand"] == (False, "an interrupted change could not be rolled back")
    assert blocks(proven)


@pytest.mark.parametrize("victim", [7, 59])
def test_an_original_set_aside_is_held_against_all_of_the_library(
    victim: int, tmp_path: Path, chests: list[dunechest.Chest]
) -> None:
    own = tmp_path / "home" / "book"
    own.mkdir()
    for number in range(60):
        (own / f"{number:02}.txt").write_text(f"page {number}")
    moved = dunechest.rehome(own, chests[1].folder.parent)
    assert moved.set_aside_path is not None
    flip(moved.new_path / f"{victim:02}.txt")
    before = facts(moved.set_aside_path)
    for _ in range(2):
        with pytest.raises(dunechest.RefusedError, match="not as copied"):
            dunechest.reclaim(own)
    assert facts(moved.set_aside_path) == before
    flip(moved.new_path / f"{victim:02}.txt")
    assert dunechest.reclaim(own)[0].deleted_count == 60


def test_a_library_that_changed_as_a_whole_keeps_its_original(tmp_path: Path, chests: list[dunechest.Chest]) -> None:
    own = tmp_path / "home" / "book"
    own.mkdir()
    for number in range(60):
        (own / f"{number:02}.txt").write_text(f"page {number}")
    moved = dunechest.rehome(own, chests[1].folder.parent)
    assert moved.set_aside_path is not None
    for number in range(40):  # a person's work, or a drive that loses its mind
        (moved.new_path / f"{number:02}.txt").write_text("zzzzzzzzzzzzz")
    assert blocks(moved.set_aside_path) == {"mass-change"}
    (moved.new_path / "50.txt").write_text("")
    (plan,) = dunechest.plan_reclaim(own, dunechest.ReclaimOptions(ignore=("mass-change",)))
    assert (plan.would_run, dict(plan.kept_files)) == (True, {"50.txt": "it is empty in the library now"})


def test_two_chests_on_one_drive_are_one_copy(library: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    drive = tmp_path / "one drive"
    for name in ("a", "b"):
        (drive / name).mkdir(parents=True)
    monkeypatch.setenv("DUNECHEST_DRIVES", str(drive))
    chests = [dunechest.create_chest(drive / name, name) for name in ("a", "b")]
    dunechest.archive(library, chests)
    assert blocks(library) == {"too-few-copies"}


def test_a_chest_on_the_library_s_own_drive_is_no_copy(
    library: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("DUNECHEST_DRIVES", str(tmp_path / "media"))
    (tmp_path / "media" / "blue").mkdir(parents=True)
    (tmp_path / "beside").mkdir()
    chests = [
        dunechest.create_chest(tmp_path / "media" / "blue", "blue"),
        dunechest.create_chest(tmp_path / "beside", "beside"),
    ]
    dunechest.archive(library, chests)
    assert blocks(library) == {"too-few-copies"}
    (plan,) = dunechest.plan_reclaim(library)
    assert [copy.why_not for copy in plan.copies if copy.label == "beside"] == [
        "it is on the same drive as the library"
    ]


def test_licensed_left_out_and_placeholder_files_stay_unless_they_are_named(
    world: World, on_machine: Move, command: Command
) -> None:
    on_machine("office-pc")
    chests = [dunechest.create_chest(drive, drive.name) for drive in (world.blue, world.sand)]
    dunechest.archive(world.designs, chests, dunechest.ArchiveOptions(choice=dunechest.Choice(rebuildable=False)))
    licensed = sorted(p for p in (world.designs / "bought").rglob("*") if p.is_file())
    rendered = sorted(p for p in (world.designs / "renders").rglob("*") if p.is_file())
    assert licensed and rendered
    (plan,) = dunechest.plan_reclaim(world.designs)
    assert {path for path, _ in plan.kept_files} == {
        str(p.relative_to(world.designs)) for p in (*licensed, *rendered)
    }
    assert blocks(world.designs, also=("nothing/of/that/name",)) == {"also"}
    ran = command("reclaim", world.designs, "--yes", "--also", "renders")
    assert ran.status == 0 and "bought or licensed" in ran.out
    assert all(path.is_file() for path in licensed) and not any(path.exists() for path in rendered)
    assert sorted(p for p in world.designs.rglob("*") if p.is_file()) == licensed


def test_a_placeholder_is_not_deleted(library: Path, chests: list[dunechest.Chest]) -> None:
    burrow.leave_name(library / "in the cloud.jpg", 100_000)  # a name, and no bytes on this disk
    dunechest.archive(library, chests, dunechest.ArchiveOptions(ignore=("placeholders",)))
    (gone,) = dunechest.reclaim(library)
    assert [path for path, _ in gone.kept_files] == ["in the cloud.jpg"]
    assert [path.name for path in library.rglob("*") if path.is_file()] == ["in the cloud.jpg"]


def test_other_names_of_files_and_mounts_are_noticed(
    proven: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    # Others write to the disk that the tests run on.
    monkeypatch.setattr("dunechest.jobs.move.reclaim.doing.deleting._free", lambda folder: 1 << 30)
    os.link(proven / "rafters" / "big.bin", tmp_path / "other name")
    (plan,) = dunechest.plan_reclaim(proven)
    assert {f.code for f in plan.findings if f.severity == "info"} >= {"hard-links"}
    assert plan.disk_bytes < 50_000, "what has another name gives nothing back"
    if os.geteuid() == 0 and _binds(proven / "empty", tmp_path):
        try:
            assert blocks(proven) >= {"mounted"}
        finally:
            subprocess.run(["umount", str(proven / "empty")], check=True)
    (result,) = dunechest.reclaim(proven)
    assert (tmp_path / "other name").stat().st_size == 256_000
    assert result.freed_bytes == 0 and "other names" in result.why_less


def _binds(place: Path, tmp_path: Path) -> bool:
    (tmp_path / "somebody's").mkdir()
    (tmp_path / "somebody's" / "things.txt").write_text("theirs")
    done = subprocess.run(
        ["mount", "--bind", str(tmp_path / "somebody's"), str(place)], capture_output=True, check=False
    )
    return done.returncode == 0


def test_what_other_libraries_use_is_not_deleted(world: World, on_machine: Move) -> None:
    on_machine("office-pc")
    chests = [dunechest.create_chest(drive, drive.name) for drive in (world.blue, world.sand)]
    used = next(path for path in sorted((world.photos / "originals").rglob("*.jpg")))
    playlist = next((world.sounds / "playlists").glob("*.m3u8"))
    playlist.write_text(playlist.read_text() + f"{used}\n")
    dunechest.find_libraries([world.office_home])
    dunechest.archive(world.photos, chests)
    assert blocks(world.photos) == {"referred-to"}
    (gone,) = dunechest.reclaim(world.photos, dunechest.ReclaimOptions(ignore=("referred-to",)))
    assert gone.deleted_count and not world.photos.exists()


def test_outside_files_go_only_where_that_is_asked_for(world: World, on_machine: Move) -> None:
    on_machine("office-pc")
    chests = [dunechest.create_chest(drive, drive.name) for drive in (world.blue, world.sand)]
    dunechest.archive(world.photos, chests)
    outside = [Path(r.target) for r in dunechest.look(world.photos).references if r.state == "outside"]
    assert outside
    (plan,) = dunechest.plan_reclaim(world.photos)
    assert plan.outside == () and {f.code for f in plan.findings} >= {"outside-files-left"}
    outside[0].write_bytes(b"changed since")
    beside = outside[0].parent / "mine.txt"
    beside.write_text("not of the library")
    asked = dunechest.ReclaimOptions(outside_files=True)
    (plan,) = dunechest.plan_reclaim(world.photos, asked)
    assert plan.outside and "outside-files-left" not in {f.code for f in plan.findings}
    (gone,) = dunechest.reclaim(world.photos, asked)
    assert outside[0].read_bytes() == b"changed since" and beside.is_file()
    assert not any(path.exists() for path in outside[1:])
    assert set(gone.outside_paths) == {str(path) for path in outside[1:]}


def test_an_original_that_was_set_aside_goes_and_never_the_library(
    library: Path, chests: list[dunechest.Chest], command: Command
) -> None:
    far = chests[1].folder.parent
    moved = dunechest.rehome(library, far)
    assert moved.set_aside_path is not None
    (moved.new_path / "rope.txt").write_text("worked on since")
    (moved.new_path / "rafters" / "oar.txt").unlink()
    (moved.set_aside_path / "put there since.txt").write_text("mine")
    (moved.set_aside_path / "rafters" / "big.bin").write_bytes(b"changed since it was set aside")
    (plan,) = dunechest.plan_reclaim(library)
    assert (plan.what, plan.path, plan.in_use_path) == ("set-aside", moved.set_aside_path, moved.new_path)
    assert {path for path, _ in plan.kept_files} == {"put there since.txt", "rafters/big.bin", "rafters/oar.txt"}
    assert [file.path for file in plan.going] == ["rope.txt"]
    assert "only-copy" in {finding.code for finding in plan.findings}
    assert command("reclaim", library, "--yes").status == 0
    assert (moved.new_path / "rope.txt").read_text() == "worked on since"
    assert sorted(p.name for p in moved.set_aside_path.rglob("*") if p.is_file()) == [
        "big.bin",
        "oar.txt",
        "put there since.txt",
    ]
    ran = command("reclaim", library, "--yes", "--also", "*", "--also", "rafters")
    assert ran.status == 0, ran
    assert not moved.set_aside_path.exists() and (moved.new_path / "rope.txt").is_file()
    ran = command("reclaim", library, "--yes")
    assert (ran.status, "was deleted just now" in ran.out) == (0, True)
    assert (moved.new_path / "rope.txt").is_file()


def test_a_link_in_an_original_goes_only_if_it_was_one_when_it_was_set_aside(
    library: Path, chests: list[dunechest.Chest], tmp_path: Path
) -> None:
    (library / "to rope").symlink_to("rope.txt")
    moved = dunechest.rehome(library, chests[1].folder.parent)
    assert moved.set_aside_path is not None
    (moved.set_aside_path / "since").symlink_to(tmp_path)
    (moved.set_aside_path / "rope.txt").unlink()
    (moved.set_aside_path / "rope.txt").symlink_to("rafters/oar.txt")
    (plan,) = dunechest.plan_reclaim(library)
    assert plan.links == ("to rope",)
    assert {path for path, _ in plan.kept_files} == {"since", "rope.txt"}
    dunechest.reclaim(library)
    assert {path.name for path in moved.set_aside_path.iterdir()} == {"since", "rope.txt"}


def test_each_original_is_held_against_its_own_library(
    library: Path, chests: list[dunechest.Chest], tmp_path: Path
) -> None:
    far = chests[1].folder.parent
    other = library.with_name("quay")
    shutil.copytree(library, other)
    (other / "rope.txt").write_text("another rope")
    moved = [dunechest.rehome(place, far) for place in (library, other)]
    for place, own in zip((library, other), moved, strict=True):
        (plan,) = dunechest.plan_reclaim(place)
        assert (plan.in_use_path, plan.path, plan.kept_files) == (own.new_path, own.set_aside_path, ())
        dunechest.reclaim(place)
        assert own.set_aside_path is not None and not own.set_aside_path.exists()


def test_a_harmed_list_or_a_harmed_library_keeps_the_original(
    library: Path, chests: list[dunechest.Chest], tmp_path: Path
) -> None:
    far = chests[1].folder.parent
    moved = dunechest.rehome(library, far)
    assert moved.set_aside_path is not None
    (listing,) = (tmp_path / "state" / "asides").iterdir()
    good = listing.read_bytes()
    for bad in (b"", good[:-10], good.replace(b"rope", b"cope"), b"[]\n", b"\xff" * 100):
        listing.write_bytes(bad)
        assert blocks(moved.set_aside_path) == {"not-listed"}
    listing.write_bytes(good)
    flip(moved.new_path / "rafters" / "big.bin")
    with pytest.raises(dunechest.RefusedError, match="not as copied"):
        dunechest.reclaim(moved.set_aside_path)
    flip(moved.new_path / "rafters" / "big.bin")
    far.rename(tmp_path / "drawer")
    with pytest.raises(dunechest.errors.NotConnectedError):
        dunechest.reclaim(library)
    assert moved.set_aside_path.is_dir()
    (tmp_path / "drawer").rename(far)
    assert dunechest.reclaim(library)[0].deleted_count == 3


def test_one_command_does_the_whole_errand(library: Path, chests: list[dunechest.Chest], command: Command) -> None:
    far = chests[1].folder.parent
    before = facts(library)
    ran = command("rehome", library, "--to", far, "--reclaim")
    assert (ran.status, "no terminal to ask on" in ran.err) == (3, True)
    assert facts(library) == before and not (far / "shed").exists()
    ran = command("rehome", library, "--to", far, "--reclaim", "--yes", "--json")
    assert ran.status == 0
    (gone,) = ran.json["reclaimed_libraries"]
    assert (gone["deleted_count"], gone["in_use_path"]) == (3, str(far / "shed"))
    assert library.is_symlink() and list(library.parent.glob("shed (*")) == []
    again = command("rehome", library, "--to", far, "--reclaim", "--yes")
    assert again.status == 0 and "Nothing to move" in again.out
    ran = command("rehome", "--back", library, "--reclaim", "--yes")
    assert ran.status == 0
    assert facts(library) == before and not [p for p in far.iterdir() if p.name != "dune-chest"]


def test_the_trash_frees_nothing_and_that_is_said(proven: Path, tmp_path: Path) -> None:
    """In a process of its own: where the trash is, is decided when the package is loaded."""
    environment = {**os.environ, "XDG_DATA_HOME": str(tmp_path / "home" / "data")}
    done = subprocess.run(
        [sys.executable, "-m", "dunechest", "reclaim", str(proven), "--trash", "--yes"],
        capture_output=True,
        text=True,
        env=environment,
        check=False,
    )
    assert done.returncode == 0, done.stderr
    assert not proven.exists() and "Moved to the trash" in done.stdout
    if "no more free space" in done.stdout:
        assert "empty the trash" in done.stdout
    kept = list((tmp_path / "home" / "data" / "Trash").rglob("rope.txt"))
    assert [path.read_text() for path in kept] == ["twenty metres\n"]


def test_something_that_appears_while_it_is_deleted_is_put_back(
    proven: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from dunechest.jobs.move.reclaim.doing import deleting as carry_out

    real = carry_out._lines

    def meddle(plan: dunechest.model.ReclaimPlan, aside: Path, along: list[str]) -> Iterator[object]:
        (aside / "rafters" / "written at the last moment.txt").write_text("mine")
        (aside / "rope.txt").write_text("changed at the last moment")
        return real(plan, aside, along)

    monkeypatch.setattr(carry_out, "_lines", meddle)
    (result,) = dunechest.reclaim(proven)
    assert (proven / "rafters" / "written at the last moment.txt").read_text() == "mine"
    assert (proven / "rope.txt").read_text() == "changed at the last moment"
    assert result.kept_path == proven and len(result.kept_files) == 2
    assert not list(proven.parent.glob("*being deleted*"))


def test_a_change_record_that_lies_deletes_nothing_else(tmp_path: Path, library: Path) -> None:
    """A change record of a process that is no more is finished on the next command: it may only name what it made."""
    import msgspec

    from dunechest.ledger import past_changes

    before = facts(library)
    state = tmp_path / "state" / "deeds"
    state.mkdir(parents=True)
    (state / "000001.tree-0").write_bytes(
        b"".join(
            msgspec.json.encode(
                past_changes.Listed(p.relative_to(library).as_posix(), p.stat().st_size, p.stat().st_mtime_ns)
            )
            + b"\n"
            for p in library.rglob("*")
            if p.is_file()
        )
    )
    head = past_changes.Head("reclaim", "shed", str(library), 1.0, 2**30)
    step = past_changes.Removing(str(library), "000001.tree-0")
    (state / "000001.jsonl").write_bytes(b"".join(msgspec.json.encode(item) + b"\n" for item in (head, step)))
    with pytest.raises(dunechest.CutOffError, match="does not have the name"):
        dunechest.plans.recover()
    assert facts(library) == before


# Parts.


@pytest.mark.parametrize(
    ("name", "part"),
    [
        ("cuttlebone", "Gull Parliament"),
        ("spindrift", "Quiet Water"),
        ("glasswort", "Terns"),
        ("seaholly", "Birds"),
        ("redshank", "Evening"),
        ("saltpan", "Bird Station"),
        ("limpet", "Old field handset"),
    ],
)
def test_a_part_goes_and_the_application_opens_the_rest(name: str, part: str, world: World, on_machine: Move) -> None:
    on_machine("office-pc")
    place, home = libraries_of(world)[name], world.office_home
    opens(name, home)
    before = facts(place)
    shutil.copytree(place, place.with_name("kept"), symlinks=True)
    parts = {item.title: item for item in dunechest.look(place).parts}
    moved = dunechest.rehome(place, world.shell, dunechest.RehomeOptions(parts=(part,)))
    assert moved.parts == (part,) and moved.set_aside_path is not None
    assert opens(name, home)[1] == 0, "nothing is missing in the rest"
    others = {path for title, item in parts.items() if title != part for path in item.files}
    for path in parts[part].files:
        assert (place / path).exists() is (path in others or path in moved.shared_paths), path
    dunechest.undo()
    assert same_files(place, before)
    dunechest.rehome(place, world.shell, dunechest.RehomeOptions(parts=(part,)))
    assert opens(name, home, world.shell / place.name)[1] == 0, "nor in the part elsewhere"
    shutil.rmtree(place)
    moved.set_aside_path.with_name("kept").rename(place)
    # The same out of what is in chests.
    chests = [dunechest.create_chest(drive, drive.name) for drive in (world.blue, world.sand)]
    dunechest.archive(place, chests)
    (gone,) = dunechest.reclaim(place, dunechest.ReclaimOptions(parts=(part,)))
    assert gone.parts == (part,) and gone.deleted_count == len(parts[part].files) - len(
        set(parts[part].files) & others
    )
    assert opens(name, home)[1] == 0
    assert dunechest.list_editions(chests[0], dunechest.status().libraries[0].copies[0].archived_as).editions
    # And back again.
    words = gone.restore_command.split()
    back = dunechest.restore(
        words[2], words[3], dunechest.RestoreOptions(parts=(part,), if_exists="merge", into=place)
    )
    assert back.ok
    assert {item.title for item in dunechest.look(place).parts} == set(parts)
    assert opens(name, home)[1] == 0


def test_parts_join_those_that_moved_before_and_the_last_one_is_refused(world: World, on_machine: Move) -> None:
    on_machine("office-pc")
    home = world.office_home
    titles = [part.title for part in dunechest.look(world.games).parts]
    for count, title in enumerate(titles[:-1], start=1):
        dunechest.rehome(world.games, world.shell, dunechest.RehomeOptions(parts=(title,)))
        assert opens("cuttlebone", home) == ({"titles": len(titles) - count}, 0)
        assert opens("cuttlebone", home, world.shell / "Winter Games") == ({"titles": count}, 0)
    with pytest.raises(dunechest.RefusedError) as error:
        dunechest.rehome(world.games, world.shell, dunechest.RehomeOptions(parts=(titles[-1],)))
    assert {finding.code for finding in error.value.findings} == {"last-part"}
    with pytest.raises(dunechest.UsageError, match="no part"):
        dunechest.rehome(world.games, world.shell, dunechest.RehomeOptions(parts=("Nowhere",)))


def test_a_catalogue_that_cannot_be_edited_is_said_so(world: World, on_machine: Move, tmp_path: Path) -> None:
    on_machine("office-pc")
    state = world.state("office-pc") / "kinds"
    state.mkdir(parents=True)
    shipped = Path(dunechest.__file__).parent / "library/kinds/shipped/glasswort.toml"
    text = shipped.read_text()
    (state / "glasswort.toml").write_text(text[: text.index("# Two catalogues become one")])
    before = facts(world.photos)
    with pytest.raises(dunechest.RefusedError) as error:
        dunechest.rehome(world.photos, world.shell, dunechest.RehomeOptions(parts=("Terns",)))
    assert {finding.code for finding in error.value.findings} == {"nothing-goes"}
    assert "in Glasswort itself" in error.value.findings[0].action
    assert facts(world.photos) == before and list(world.shell.iterdir()) == []


@contextmanager
def held_open(name: str, home: Path) -> Iterator[None]:
    with APPLICATIONS[name](home).open():
        yield


def test_an_application_that_is_open_forbids_all_of_it(world: World, on_machine: Move) -> None:
    on_machine("office-pc")
    process = subprocess.Popen(
        [sys.executable, "-m", "dunechest.demo.applications", "spindrift", "open", "--hold", "30"],
        env=world.environment("office-pc"),
        stdout=subprocess.PIPE,
    )
    try:
        assert process.stdout is not None
        process.stdout.readline()
        for words in (dunechest.RehomeOptions(), dunechest.RehomeOptions(parts=("Storm",))):
            with pytest.raises(dunechest.RefusedError) as error:
                dunechest.rehome(world.film, world.sand, words)
            assert "in-use" in {finding.code for finding in error.value.findings}
        assert "in-use" in {finding.code for finding in dunechest.plan_reclaim(world.film)[0].blocked}
    finally:
        process.kill()
        process.communicate()
