"""A library moves to a drive, back, and becomes one with a second one that was made meanwhile."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from msgspec.structs import replace

import dunechest
from dunechest.demo.applications import APPLICATIONS
from dunechest.demo.world import World
from dunechest.jobs.known.homes import list_homes, mark_of
from dunechest.ledger import events
from dunechest.machine import drives, folder_links
from tests.support.homes import libraries_of, opens, same_files
from tests.support.open_libraries import bibliography, maildir, music, notes, pictures
from tests.support.runs import Command
from tests.support.trees import facts

Move = Callable[[str], None]


@pytest.fixture
def far(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A drive that can be unplugged: the folder gets another name."""
    place = tmp_path / "media" / "sand"
    place.mkdir(parents=True)
    monkeypatch.setenv("DUNECHEST_DRIVES", os.pathsep.join([str(place), str(place.with_name("sand1"))]))
    return place


def codes(error: pytest.ExceptionInfo[dunechest.RefusedError]) -> set[str]:
    return {finding.code for finding in error.value.findings}


@pytest.mark.parametrize("name", sorted(APPLICATIONS))
def test_each_library_moves_by_setting_and_by_link_and_comes_back(
    name: str, world: World, on_machine: Move, tmp_path: Path
) -> None:
    on_machine("office-pc")
    place = libraries_of(world)[name]
    shows, before = opens(name, world.office_home), facts(place)
    assert shows[1] == 0
    for link in (False, True):
        moved = dunechest.rehome(place, world.sand, dunechest.RehomeOptions(link=link))
        assert moved.way == ("link" if link else "setting")
        assert (moved.new_path, moved.path) == (world.sand / place.name, place)
        assert opens(name, world.office_home) == shows
        assert opens(name, world.office_home, moved.new_path) == shows
        assert place.is_symlink() is link
        assert moved.set_aside_path is not None and facts(moved.set_aside_path) == before
        (home,) = dunechest.places.list_homes()
        assert (home.connected, home.second, home.strayed) == (True, None, False)
        dunechest.undo()
        assert facts(place) == before
        assert not (world.sand / place.name).exists() and not mark_of(world.sand / place.name).exists()
        assert dunechest.places.list_homes() == ()
        # Now with work done in between: undo cannot, back can.
        moved = dunechest.rehome(place, world.sand, dunechest.RehomeOptions(link=link))
        (moved.new_path / "written meanwhile.txt").write_text("seventeen terns")
        with pytest.raises(dunechest.RefusedError, match="changed since"):
            dunechest.undo()
        back = dunechest.rehome_back(place)
        assert (back.back, back.new_path) == (True, place)
        assert (place / "written meanwhile.txt").read_text() == "seventeen terns"
        assert opens(name, world.office_home) == shows
        assert dunechest.places.list_homes() == ()
        (place / "written meanwhile.txt").unlink()
        assert same_files(place, before, but=".glw")
        before = facts(place)
        for aside in (moved.set_aside_path, back.set_aside_path):
            assert aside is not None
            shutil.rmtree(aside)
        mark_of(back.set_aside_path or place).unlink(missing_ok=True)


@pytest.mark.parametrize("make", [pictures, music, bibliography, notes, maildir])
def test_kinds_by_open_format_get_a_link_and_relative_paths_that_lead_out_still_lead_there(
    make: Callable[[Path], None], far: Path, tmp_path: Path
) -> None:
    place = tmp_path / "home" / "things"
    place.mkdir()
    make(place)
    (tmp_path / "home" / "Desktop").mkdir()
    (tmp_path / "home" / "Desktop" / "outside.jpg").write_bytes(b"\xff\xd8\xff\xe0" + b"o" * 90)
    (place / "see also.md").write_text("![o](../Desktop/outside.jpg) and [inside](list.txt)\n")
    (place / "out").symlink_to("../Desktop/outside.jpg")
    before = facts(place)
    moved = dunechest.rehome(place, far)
    assert moved.way == "link" and os.readlink(place) == str(far / "things")
    assert (place / "out").read_bytes() == (tmp_path / "home" / "Desktop" / "outside.jpg").read_bytes()
    led = [r.target for r in dunechest.look(far / "things").references if r.state == "outside"]
    assert all(target == str(tmp_path / "home" / "Desktop" / "outside.jpg") for target in led)
    dunechest.undo()
    assert facts(place) == before


def test_a_repository_works_on_where_its_link_leads(far: Path, tmp_path: Path) -> None:
    place = tmp_path / "home" / "work"
    place.mkdir()

    def git(*words: str) -> str:
        own = ["-c", "user.name=t", "-c", "user.email=t@marram.example"]
        return subprocess.run(
            ["git", *own, "-C", str(place), *words], check=True, capture_output=True, text=True
        ).stdout

    git("init", "-q")
    (place / "tide.txt").write_text("spring")
    git("add", ".")
    git("commit", "-qm", "a")
    dunechest.rehome(place, far)
    assert git("status", "--porcelain") == ""
    (place / "tide.txt").write_text("neap")
    git("commit", "-qam", "b")
    assert git("log", "--oneline").count("\n") == 2
    dunechest.rehome_back(place)
    assert git("fsck") == "" and git("status", "--porcelain") == ""
    assert (place / "tide.txt").read_text() == "neap"


def test_it_moves_on_to_another_drive_and_archives_go_on_in_their_bag(
    far: Path, library: Path, tmp_path: Path
) -> None:
    (tmp_path / "media" / "blue").mkdir()
    chest = dunechest.create_chest(tmp_path / "media" / "blue", "blue")
    dunechest.archive(library, chest)
    other = tmp_path / "media" / "sand1"
    other.mkdir()
    first = dunechest.rehome(library, far)
    (first.new_path / "new.txt").write_text("a")
    (result,) = dunechest.archive(first.new_path, chest)
    assert (result.archived_as, result.edition, result.state) == ("shed", 2, "archived")
    second = dunechest.rehome(first.new_path, other)
    assert os.readlink(library) == str(other / "shed")
    assert second.set_aside_path is not None and second.set_aside_path.parent == far
    (result,) = dunechest.archive(library, chest)
    assert (result.archived_as, result.state) == ("shed", "unchanged")
    back = dunechest.rehome_back(library)
    assert not library.is_symlink() and (library / "new.txt").read_text() == "a"
    assert dunechest.archive(back.new_path, chest)[0].state == "unchanged"
    assert [library.name for library in dunechest.status().libraries] == ["shed"]


def test_what_was_archived_from_a_drive_is_restored_where_it_was_at_first(
    far: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    own = tmp_path / "home" / "Documents" / "letters"
    own.mkdir(parents=True)
    (own / "a.txt").write_text(f"see {own}/b.txt")
    (tmp_path / "media" / "blue").mkdir()
    chest = dunechest.create_chest(tmp_path / "media" / "blue", "blue")
    moved = dunechest.rehome(own, far)
    dunechest.archive(own, chest)
    record = chest.bag("letters").library
    assert record is not None
    assert (record.origin.path, record.origin.standard) == (str(moved.new_path), "documents")
    # Another computer, without that drive.
    (tmp_path / "other").mkdir()
    monkeypatch.setenv("HOME", str(tmp_path / "other"))
    monkeypatch.setenv("DUNECHEST_HOME", str(tmp_path / "other state"))
    monkeypatch.setenv("DUNECHEST_DRIVES", str(tmp_path / "media" / "blue"))
    back = dunechest.restore(chest, "letters")
    assert back.ok and back.path == tmp_path / "other" / "Documents" / "letters"


def test_what_forbids_a_move_is_said_and_nothing_is_changed(
    far: Path,
    library: Path,
    tmp_path: Path,
    holder: Callable[[Path], subprocess.Popen[str]],
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    before = facts(tmp_path / "shed")

    def refused(**more: object) -> set[str]:
        with pytest.raises(dunechest.RefusedError) as error:
            dunechest.rehome(library, far, dunechest.RehomeOptions(**more))  # type: ignore[arg-type]
        assert facts(library) == before
        assert list(far.iterdir()) == [], "nothing is left on the drive"
        return codes(error)

    held = holder(library / "rope.txt")
    assert refused() == {"in-use"}
    held.kill()
    held.wait()
    (far / "shed").mkdir()
    (far / "shed" / "x").write_text("somebody's")
    with pytest.raises(dunechest.RefusedError) as error:
        dunechest.rehome(library, far)
    assert codes(error) == {"occupied"}
    assert dunechest.rehome(library, far, dunechest.RehomeOptions(name="shed 2")).new_path == far / "shed 2"
    dunechest.undo()
    shutil.rmtree(far / "shed")
    with pytest.raises(dunechest.RefusedError) as error:
        dunechest.rehome(library, library / "rafters")
    assert "inside-itself" in codes(error)
    with pytest.raises(dunechest.RefusedError) as error:
        dunechest.rehome(tmp_path / "home", far)
    assert "protected-place" in codes(error)
    with pytest.raises(dunechest.UsageError):
        dunechest.rehome(library, tmp_path / "nowhere")
    with pytest.raises(dunechest.UsageError):
        dunechest.rehome(library / "rope.txt", far)

    def small(found: dunechest.model.Filesystem) -> dunechest.model.Filesystem:
        return dunechest.model.Filesystem(
            found.type, found.mount, 1000, found.total, found.block, None, True, found.limits
        )

    with monkeypatch.context() as patch:
        patch.setattr(drives, "pretend", small)
        assert refused() == {"no-room"}
    (far / ".sync-marker").touch()
    with pytest.raises(dunechest.RefusedError) as error:
        dunechest.rehome(library, far)
    assert codes(error) == {"sync-folder"}
    assert dunechest.rehome(library, far, dunechest.RehomeOptions(ignore=("sync-folder",))).file_count == 3


def test_a_drive_that_cannot_hold_names_or_links_in_use_is_refused(
    far: Path, library: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from dunechest.machine import probe

    (library / "a:b.txt").write_text("colon")
    (library / "to rope").symlink_to("rope.txt")
    limits = replace(drives.limits_of("exfat"), largest=20)
    (library / "film.raw").write_bytes(bytes(21))
    monkeypatch.setattr(drives, "pretend", lambda found: drives.with_limits(found, limits))
    monkeypatch.setattr(
        probe, "pretend", lambda found: probe.Probed(frozenset(":"), 255, False, True, False, False, 10_000_000)
    )
    with pytest.raises(dunechest.RefusedError) as error:
        dunechest.rehome(library, far)
    assert codes(error) == {"names", "no-links", "file-too-large"}


def test_a_library_that_is_written_to_meanwhile_is_not_moved(
    far: Path, library: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from dunechest.jobs.move.rehome.doing import copy

    real = copy._refuse_changed

    def written(run: object) -> None:
        (library / "rope.txt").write_text("other bytes meanwhile")
        real(run)  # type: ignore[arg-type]

    monkeypatch.setattr(copy, "_refuse_changed", written)
    with pytest.raises(dunechest.errors.ChangedMeanwhileError, match="changed while it was copied"):
        dunechest.rehome(library, far)
    assert list(far.iterdir()) == [] and not library.is_symlink()
    assert dunechest.places.list_homes() == ()


def test_without_an_exchange_of_names_it_works_in_two_steps(
    far: Path, library: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(folder_links, "_exchange", lambda first, second: False)
    before = facts(library)
    dunechest.rehome(library, far)
    assert library.is_symlink() and (library / "rope.txt").is_file()
    dunechest.undo()
    assert facts(library) == before
    dunechest.rehome(library, far)
    dunechest.rehome_back(library)
    assert facts(library) == before


def test_outside_files_move_along_where_that_is_asked_for(world: World, on_machine: Move) -> None:
    on_machine("office-pc")
    shows = opens("glasswort", world.office_home)
    outside = [r.target for r in dunechest.look(world.photos).references if r.state == "outside"]
    assert outside
    moved = dunechest.rehome(world.photos, world.sand, dunechest.RehomeOptions(outside_files=True))
    assert {old for old, _ in moved.outside_files} == set(outside)
    for old, new in moved.outside_files:
        assert new.is_relative_to(world.sand) and new.read_bytes() == Path(old).read_bytes()
        Path(old).rename(f"{old}.hidden")
    assert opens("glasswort", world.office_home) == shows
    for old, _ in moved.outside_files:
        Path(f"{old}.hidden").rename(old)
    dunechest.undo()
    assert not (world.sand / "Dune Survey outside files").exists()


# The missing drive.


def unplug(far: Path) -> Path:
    return far.rename(far.with_name(f".{far.name} in a drawer"))


def plug(far: Path, *, at: str = "sand") -> Path:
    drawer, place = far.with_name(".sand in a drawer"), far.with_name(at)
    return drawer.rename(place)


def test_a_drive_that_is_missing_is_said_by_every_command_that_looks(
    far: Path, library: Path, tmp_path: Path, command: Command
) -> None:
    (tmp_path / "home" / "shed").mkdir()
    own = tmp_path / "home" / "shed"
    shutil.copytree(library, own, dirs_exist_ok=True)
    chest = dunechest.create_chest(tmp_path / "drive", "blue") if (tmp_path / "drive").mkdir() is None else None
    assert command("find", tmp_path / "home").status == 0
    assert command("rehome", own, "--to", far).status == 0
    unplug(far)
    for words in (("look", own), ("look", "shed"), ("archive", own, "--to", "blue"), ("rehome", "--back", "shed")):
        ran = command(*words)
        assert (ran.status, "not connected" in ran.err) == (4, True), (words, ran)
    ran = command("find", tmp_path / "home")
    assert "shed: It is on the drive sand, which is not connected." in ran.out
    assert command("find", tmp_path / "home", "--json").json["moved_libraries"][0]["connected"] is False
    # The application makes a new one in the old place.
    own.unlink()
    own.mkdir()
    (own / "three.txt").write_text("made without the drive")
    for words in (("find", tmp_path / "home"), ("status",), ("look", own)):
        ran = command(*words)
        assert "Two libraries: the one on sand (not connected), and a new one with 1 file since" in ran.out, (
            words,
            ran,
        )
    ran = command("rehome", "--rejoin", "shed")
    assert (ran.status, "not connected" in ran.err) == (4, True)
    plug(far)
    ran = command("status")
    assert "-> dunechest rehome --rejoin shed" in ran.out
    for words in (("rehome", own, "--to", far.parent), ("rehome", "--back", own), ("reclaim", own, "--yes")):
        ran = command(*words)
        assert (ran.status, "--rejoin" in ran.err) == (3, True), (words, ran)
    ran = command("rehome", "--rejoin", "shed")
    assert ran.status == 0 and "1 file came over" in ran.out
    assert own.is_symlink() and (own / "three.txt").is_file() and (own / "rope.txt").is_file()
    assert chest is not None


@pytest.mark.parametrize("shadow", [False, True])
def test_two_libraries_become_one_by_setting(
    shadow: bool, world: World, on_machine: Move, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The application makes a new library in its usual place, or where the drive used to be mounted."""
    on_machine("office-pc")
    drive, again = world.sand, world.sand.with_name("sand again")
    monkeypatch.setenv("DUNECHEST_DRIVES", os.pathsep.join(map(str, (drive, again, world.blue))))
    dunechest.rehome(world.games, drive)
    away = drive.rename(world.folder / "in a drawer")
    home = world.office_home
    if not shadow:
        APPLICATIONS["cuttlebone"](home).point_to(world.games)
    assert opens("cuttlebone", home) == ({"titles": 0}, 0)
    second = drive / "Winter Games" if shadow else world.games
    title = dunechest.look(away / "Winter Games").parts[0]
    for path in title.files:
        brought = second / path.replace(title.name, "brought")
        brought.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy2(away / "Winter Games" / path, brought)
    away.rename(again if shadow else drive)
    (found,) = dunechest.places.list_homes()
    assert found.second is not None and found.second.path == second
    result = dunechest.rejoin("winter-games" if found.name == "winter-games" else found.name)
    assert result.path == (again if shadow else drive) / "Winter Games"
    assert opens("cuttlebone", home)[0]["titles"] >= 4
    assert result.set_aside_path is not None and result.set_aside_path.is_dir() and not second.exists()
    settings = json.loads((home / ".config/cuttlebone/settings.json").read_text())
    assert settings["library"] == str(result.path)
    (found,) = dunechest.places.list_homes()
    assert (found.second, found.strayed) == (None, False)
    dunechest.undo()
    assert second.is_dir() and not result.set_aside_path.exists()
    (found,) = dunechest.places.list_homes()
    assert found.second is not None
    dunechest.rejoin(found.name)


def test_nothing_is_lost_where_both_changed(far: Path, tmp_path: Path) -> None:
    own = tmp_path / "home" / "letters"
    own.mkdir()
    (own / "a.txt").write_text("a, first")
    dunechest.rehome(own, far)
    away = unplug(far)
    own.unlink()
    own.mkdir()
    (own / "a.txt").write_text("a, written without the drive")
    (own / "b.txt").write_text("b")
    (away / "letters" / "a.txt").write_text("a, written on the drive")
    plug(far)
    kept = dunechest.rejoin(own, dunechest.RehomeOptions(on_conflict="keep-mine"))
    assert kept.kept_paths == ("a.txt",)
    dunechest.undo()
    result = dunechest.rejoin(own)
    texts = {path.read_text() for path in (far / "letters").iterdir()}
    assert texts == {"a, written on the drive", "a, written without the drive", "b"}
    assert [old for old, _ in result.renamed_files] == ["a.txt"]
    assert dunechest.rejoin(own).added_count == 0


def test_a_database_that_cannot_be_merged_is_refused_and_kept(world: World, on_machine: Move) -> None:
    on_machine("office-pc")
    dunechest.rehome(world.notes, world.sand)
    world.notes.mkdir()
    APPLICATIONS["tidewrack"](world.office_home).point_to(world.notes)
    shutil.copy2(world.sand / ".tidewrack" / "notes.tide", world.notes / "notes.tide")
    APPLICATIONS["tidewrack"](world.office_home).write("made without the drive", "kree-ar")
    (home,) = dunechest.places.list_homes()
    before = facts(world.notes), facts(world.sand / ".tidewrack")
    with pytest.raises(dunechest.RefusedError, match="keep-mine"):
        dunechest.rejoin(home.name)
    assert (facts(world.notes), facts(world.sand / ".tidewrack")) == before
    result = dunechest.rejoin(home.name, dunechest.RehomeOptions(on_conflict="keep-mine"))
    assert result.set_aside_path is not None and result.kept_paths == ("notes.tide",)
    # What is in the second one alone is not deleted.
    plans = {plan.path: plan for plan in dunechest.plan_reclaim(home.name)}
    assert "notes.tide" in dict(plans[result.set_aside_path].kept_files)


def test_marks_and_records_that_lie_are_not_believed(far: Path, library: Path, tmp_path: Path) -> None:
    moved = dunechest.rehome(library, far)
    mark = mark_of(moved.new_path)
    good = mark.read_bytes()
    for bad in (b"", b"{}", b'{"id": 7}', b"\x00" * 50, good.replace(good[8:20], b"000000000000"), b"x" * 100_000):
        mark.write_bytes(bad)
        (home,) = dunechest.places.list_homes()
        assert not home.connected
        with pytest.raises(dunechest.CutOffError):
            dunechest.rehome_back(library)
        with pytest.raises(dunechest.CutOffError):
            dunechest.reclaim(library)
        assert moved.set_aside_path is not None and moved.set_aside_path.is_dir()
    mark.unlink()
    mark.symlink_to("/dev/zero")
    assert not dunechest.places.list_homes()[0].connected
    mark.unlink()
    mark.write_bytes(good)
    # Somebody else's library under the drive's mount point is not the one that was moved.
    drawer = unplug(far)
    (far / "shed").mkdir(parents=True)
    (far / "shed" / "other.txt").write_text("somebody else's")
    (home,) = dunechest.places.list_homes()
    assert (home.connected, home.second is not None) == (False, True)
    shutil.rmtree(far)
    drawer.rename(far)
    # A ledger's note that is torn or odd ends nothing.
    (tmp_path / "state" / "notes" / "0-torn.jsonl").write_text(
        '{"what":"rehome","when":1.0,"facts":{"old":"/x"}}\n{"wh'
    )
    assert [home.connected for home in dunechest.places.list_homes()] == [True]
    assert dunechest.rehome_back(library).file_count == 3


@pytest.mark.skipif(not hasattr(os, "geteuid") or os.geteuid() == 0, reason="root may rename everything")
def test_what_may_not_be_renamed_is_said_before_anything_is_copied(far: Path, library: Path) -> None:
    library.parent.chmod(0o555)
    try:
        with pytest.raises(dunechest.RefusedError) as error:
            dunechest.rehome(library, far)
        assert codes(error) == {"no-access"}
        assert "no-access" in {finding.code for finding in dunechest.plan_reclaim(library)[0].blocked}
    finally:
        library.parent.chmod(0o755)


def test_names_that_are_odd_move_and_come_back(far: Path, tmp_path: Path) -> None:
    place = Path(os.fsdecode(os.fsencode(tmp_path / "home") + b"/odd \xff\nname"))
    place.mkdir()
    (place / os.fsdecode(b"a\xfe\x1b[31m")).write_text("a")
    before = facts(place)
    moved = dunechest.rehome(place, far)
    assert place.is_symlink() and facts(moved.new_path, times=False).keys() == before.keys()
    (home,) = dunechest.places.list_homes()
    assert home.connected and home.old_path == place
    assert "\n" not in home.message and "\x1b" not in home.message
    dunechest.rehome_back(place)
    assert facts(place) == before


def test_a_copy_on_the_drive_that_the_library_lives_on_is_none(
    far: Path, library: Path, tmp_path: Path, command: Command
) -> None:
    chest = dunechest.create_chest(far, "sand")
    dunechest.archive(library, chest)
    (before,) = dunechest.status().libraries
    assert before.good_copy_count == 1
    dunechest.rehome(library, far)
    dunechest.archive(far / "shed", chest)
    (after,) = dunechest.status().libraries
    assert (after.good_copy_count, [copy.label for copy in after.beside_copies], after.safe) == (0, ["sand"], False)
    said = command("status").out
    assert "The copy of shed on sand is on the drive that the library itself is on." in said
    assert "so it does not count" in said
    document = command("status", "--json").json
    assert document["libraries"][0]["moved"]["path"] == str(far / "shed")
    assert [copy["label"] for copy in document["libraries"][0]["beside_copies"]] == ["sand"]


def test_an_edited_setting_and_an_open_one_are_left_alone(world: World, on_machine: Move) -> None:
    on_machine("office-pc")
    settings = world.office_home / ".config/redshank/settings.json"
    settings.write_text("{ this is no JSON")
    moved = dunechest.rehome(world.sounds, world.sand)
    assert moved.way == "link" and settings.read_text() == "{ this is no JSON"
    dunechest.undo()
    settings.write_text(json.dumps({"library": str(world.photos)}))
    assert dunechest.rehome(world.sounds, world.sand).way == "link"
    assert json.loads(settings.read_text()) == {"library": str(world.photos)}


def test_a_database_with_a_log_moves_with_it(far: Path, tmp_path: Path) -> None:
    own = tmp_path / "home" / "notes"
    own.mkdir()
    held = sqlite3.connect(own / "n.db", isolation_level=None)
    held.execute("PRAGMA journal_mode=WAL")
    held.execute("PRAGMA wal_autocheckpoint=0")
    held.execute("CREATE TABLE t (x)")
    held.execute("INSERT INTO t VALUES ('in the log alone')")
    shutil.copytree(own, tmp_path / "home" / "crashed")
    held.close()
    dunechest.rehome(tmp_path / "home" / "crashed", far)
    with sqlite3.connect(tmp_path / "home" / "crashed" / "n.db") as asked:
        assert asked.execute("SELECT x FROM t").fetchall() == [("in the log alone",)]
    asked.close()


@pytest.mark.parametrize("step", ["there", "back"])
def test_a_state_folder_that_is_full_at_any_note(
    step: str, library: Path, chests: dict[str, dunechest.Chest], monkeypatch: pytest.MonkeyPatch, command: Command
) -> None:
    """Whatever note fails, and all after it: the library is in one place, this computer knows where, and can go on."""
    far, before = chests["sand"].folder.parent, facts(library)
    append, count = events.append_many, [0]

    def words() -> tuple[str, ...]:
        return ("rehome", "--back", str(library)) if step == "back" else ("rehome", str(library), "--to", str(far))

    def until(last: int) -> None:
        def failing(items: list[tuple[str, dict[str, Any]]]) -> None:
            count[0] += 1
            if count[0] > last:
                raise dunechest.DuneChestError("The ledger cannot be written: No space left on device.")
            append(items)

        monkeypatch.setattr(events, "append_many", failing)

    if step == "back":
        assert command("rehome", library, "--to", far).status == 0
    for last in range(6):
        count[0] = 0
        until(last)
        ran = command(*words())
        monkeypatch.setattr(events, "append_many", append)
        home = next(iter(list_homes()), None)
        if ran.status == 0:
            break
        assert (home is not None) == (step == "back"), (last, ran)
        now, then = facts(library.resolve()), dict(before)
        del now[b"."], then[b"."]
        assert now == then
    else:
        pytest.fail("it never succeeds")
    if step == "there":
        assert command("rehome", "--back", library).status == 0
    assert facts(library) == before
    assert list_homes() == ()
