"""Real filesystems, mounted from images: what they cannot hold comes back all the same."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

import dunechest
from dunechest.demo.applications import APPLICATIONS
from dunechest.demo.world import World
from dunechest.machine import volumes
from dunechest.machine.drives import filesystem
from dunechest.machine.probe import probe
from dunechest.model.study import Choice
from tests.support.runs import Command
from tests.support.trees import bag_of, facts, sha512sum
from tests.support.worlds import LIBRARIES, Move, place_of

pytestmark = pytest.mark.mounted


@pytest.fixture
def tiny(tmp_path: Path) -> Iterator[Path]:
    place = tmp_path / "tiny"
    place.mkdir()
    done = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=2m", "tmpfs", str(place)], capture_output=True, check=False
    )
    if done.returncode:
        pytest.skip("a small tmpfs cannot be mounted here")
    yield place
    subprocess.run(["umount", "-l", str(place)], check=True)


def test_a_nasty_tree_by_way_of_a_real_drive(mounted: Path, nasty: Path, tmp_path: Path) -> None:
    (nasty / "large").write_bytes(os.urandom(9_000_001))
    before = facts(nasty)
    chest = dunechest.Chest.create(mounted, "real")
    (account,) = dunechest.archive([nasty], chest)
    assert account.ok
    assert dunechest.verify(chest).ok
    bag = bag_of(chest, "nasty-tree")
    if filesystem(mounted).limits.forbidden:
        assert len(account.changed_names) > 10
        # With the line breaks gone only the two names with a percent sign are beyond sha512sum.
        assert sha512sum(bag).stderr.count("No such file") == 2
    assert dunechest.restore(chest, "nasty-tree", dunechest.RestoreOptions(into=str(tmp_path / "back"))).ok
    assert facts(tmp_path / "back") == before


def test_a_restore_onto_a_drive_that_holds_less_says_so(mounted: Path, nasty: Path, chest: dunechest.Chest) -> None:
    dunechest.archive([nasty], chest)
    result = dunechest.restore(chest, "nasty-tree", dunechest.RestoreOptions(into=str(mounted / "back")))
    assert result.file_count == result.listed_count, "every file comes back, under one name or another"
    assert all("link" in n.why for n in result.not_restored)
    if filesystem(mounted).limits.forbidden:
        assert result.renamed
    assert (mounted / "back" / "plain.txt").read_bytes() == b"content 0"


def test_a_full_drive_is_seen_before_and_a_filled_one_survived(tiny: Path, tmp_path: Path, command: Command) -> None:
    library = tmp_path / "lib"
    library.mkdir()
    for number in range(20):
        (library / f"{number:02}").write_bytes(os.urandom(150_000))
    chest = dunechest.Chest.create(tiny, "tiny")
    ran = command("archive", library, "--to", tiny)
    assert ran.status == 3
    assert "no-room" in ran.err
    # Room is there when it is counted, and something else takes it afterwards.
    for path in sorted(library.iterdir())[9:]:
        path.unlink()
    from dunechest.jobs.archive.doing.archiving import carry_out
    from dunechest.jobs.archive.planning.plan_archive import plan_archive

    (plan,) = plan_archive([dunechest.library_at(library)], chest)
    (tiny / "ballast").write_bytes(bytes(1_200_000))
    with pytest.raises(dunechest.CutOffError, match="to continue"):
        carry_out(plan)
    (tiny / "ballast").unlink()
    ran = command("archive", library, "--to", tiny, "--json")
    assert ran.status == 0
    assert ran.library["archived_count"] == 9
    assert command("verify", tiny).status == 0


def test_a_drive_that_goes_away_is_a_cut_off(tiny: Path, library: Path, command: Command) -> None:
    chest = dunechest.Chest.create(tiny, "tiny")
    dunechest.archive([library], chest)
    subprocess.run(["mount", "-o", "remount,ro", str(tiny)], check=True)
    ran = command("archive", library, "--to", tiny, "--as", "again")
    assert ran.status == 3
    assert "read-only" in ran.err
    assert command("verify", tiny).status == 0, "a chest may be read-only"
    subprocess.run(["mount", "-o", "remount,rw", str(tiny)], check=True)


def test_all_eight_libraries_by_way_of_a_real_drive(mounted: Path, world: World, on_machine: Move) -> None:
    """What the drive cannot hold is archived there all the same, and restored exactly."""
    on_machine("office-pc")
    (world.designs / "jobs" / "Harbour Office" / "What: a sign?.txt").write_text("no name for such a drive")
    (world.designs / "jobs" / "harbour office").mkdir()
    (world.designs / "jobs" / "harbour office" / "other.txt").write_text("differs in case only")
    (world.games / "latest").symlink_to("titles/lanternfish")
    chest = dunechest.Chest.create(mounted, "real")
    before = {}
    outside_files: dict[str, bytes] = {}
    for name in LIBRARIES:
        place = place_of(world, name)
        with APPLICATIONS[name](world.office_home).open() as opened:
            before[name] = opened.counts
        outside_files |= {
            s.entry.path: Path(s.entry.path).read_bytes() for s in dunechest.look(place).selection.outside_files
        }
        kept = facts(place)
        (account,) = dunechest.archive([place], chest, dunechest.ArchiveOptions(choice=Choice(rebuildable=True)))
        assert account.ok, name
        shutil.rmtree(place)
        result = dunechest.restore(chest, account.archived_as, dunechest.RestoreOptions(into=str(place)))
        assert result.ok, name
        now = facts(place)
        for path in set(kept) - set(now):  # a log that is in the database now; what may not leave
            assert path.endswith((b"-wal", b"-shm")) or path.startswith(b"bought"), path
        for path in now:
            if not path.endswith((b".glw", b".tide", b".limpet")):
                assert now[path] == kept[path], path
        with APPLICATIONS[name](world.office_home).open() as opened:
            assert (opened.counts, opened.missing) == (before[name], ())
    assert len(outside_files) == 9
    for path, content in outside_files.items():
        assert Path(path).read_bytes() == content
    assert dunechest.verify(chest).ok
    if filesystem(mounted).limits.forbidden:
        assert len(dunechest.Chest.open(mounted).bag("sign-shop").library.changed_names) >= 2  # type: ignore[union-attr]


def test_the_probe_proves_what_the_drive_holds(mounted: Path, library: Path, command: Command) -> None:
    chest = dunechest.Chest.create(mounted, "real")
    probed = probe(mounted)
    kind = filesystem(mounted).type
    if kind == "ext4":
        assert (probed.links, probed.tells_case, probed.time_step_ns) == (True, True, 1)
        assert probed.forbidden == frozenset()
    else:
        assert probed.time_step_ns > 1 or probed.links
        # Either the mount refuses what Windows forbids, or the type of the filesystem says so.
        assert {":", "?", "*"} <= probed.forbidden | filesystem(mounted).limits.forbidden
    (library / "which way?").write_text("left")
    (library / "best").symlink_to("rope.txt")
    seen = command("look", library, "--on", mounted, "--json").library
    codes = {f["code"] for f in seen["findings"]}
    assert ("names" in codes) == (kind != "ext4")
    assert ("no-links" in codes) == (not probed.links)
    assert ("coarse-times" in codes) == (probed.time_step_ns > 1)
    assert seen["drive"]["bytes_per_second"] > 0
    assert seen["drive"]["filesystem"] == kind
    # The image lies on the disk that the library is on, whatever stands between them.
    if volumes.devices(library):
        assert "same-device" in codes
    assert sorted(p.name for p in chest.folder.iterdir()) == ["READ-ME.txt", "bags", "chest-sha512.txt", "chest.json"]


def test_libraries_on_a_real_drive_are_found_and_none_of_its_files_is_called_a_placeholder(
    mounted: Path, world: World, command: Command
) -> None:
    for name in ("Dune Survey", "Old Dune Survey"):
        shutil.copytree(
            world.office_home / "Pictures" / name, mounted / "backup" / name, copy_function=shutil.copyfile
        )
    ran = command("find", mounted, "--json")
    assert [item["name"] for item in ran.json["libraries"]] == ["dune-survey", "old-dune-survey"]
    seen = command("look", mounted / "backup" / "Dune Survey", "--json").library
    assert seen["placeholder_paths"] == []


def test_a_drive_in_memory_is_told(tiny: Path, library: Path, command: Command) -> None:
    command("chest", "new", tiny, "--label", "tiny")
    codes = [f["code"] for f in command("look", library, "--on", "tiny", "--json").json["findings"]]
    assert "in-memory" in codes
    assert "same-device" not in codes
