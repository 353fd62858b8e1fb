"""What is a person's own stays where it is: homes, drives, labels, other libraries' files, what a kill left."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

import dunechest
from dunechest.jobs import undo
from dunechest.jobs.restore.planning.several import plan_restores
from dunechest.ledger import past_changes
from dunechest.model.restore import RestoreOptions
from tests.support.burrow import make, refer
from tests.support.runs import Command
from tests.support.sealing import edit
from tests.support.trees import bag_of, facts


@pytest.fixture
def shed(library: Path, chest: dunechest.Chest) -> dunechest.Chest:
    dunechest.archive([library], chest)
    return chest


@pytest.mark.parametrize("place", ["", "Documents", ".local/share", ".config", ".."])
def test_the_home_and_standard_folders_are_never_set_aside(
    place: str, shed: dunechest.Chest, own_machine: Path, command: Command
) -> None:
    target = (own_machine / place).resolve()
    target.mkdir(parents=True, exist_ok=True)
    (target / "letters").write_text("mine")
    ran = command("restore", shed.folder, "shed", "--into", target, "--if-exists", "set-aside")
    assert (ran.status, "protected-place" in ran.err, f"--into {target}/shed" in ran.err) == (3, True, True)
    assert (target / "letters").read_text() == "mine"


def test_chests_bags_and_the_state_folder_are_never_set_aside_nor_written_into(
    shed: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    before = facts(shed.folder)
    state = Path(os.environ["DUNECHEST_HOME"])
    for place in (shed.folder, shed.folder.parent, bag_of(shed, "shed"), state, state.parent):
        ran = command("restore", shed.folder, "shed", "--into", place, "--if-exists", "set-aside")
        assert ran.status == 3, place
    for place in (shed.folder / "new", bag_of(shed, "shed") / "data" / "new"):
        ran = command("restore", shed.folder, "shed", "--into", place)
        assert (ran.status, "inside-archive" in ran.err) == (3, True)
    now = facts(shed.folder)
    assert {k for k in now if b"in-use" not in k} == {k for k in before if b"in-use" not in k}


def test_an_empty_standard_folder_is_filled_and_not_replaced(
    shed: dunechest.Chest, own_machine: Path, command: Command
) -> None:
    music = own_machine / "Music"
    music.mkdir(mode=0o700)
    inode = music.stat().st_ino
    assert command("restore", shed.folder, "shed", "--into", music).status == 0
    assert (music.stat().st_ino, (music / "rope.txt").exists()) == (inode, True)
    assert command("undo").status == 0
    assert (music.stat().st_ino, os.listdir(music)) == (inode, [])


def test_the_demo_uses_its_own_drives_only_and_stops_when_astray(
    chest: dunechest.Chest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    before = facts(chest.folder)
    monkeypatch.setenv("DUNECHEST_DRIVES", str(chest.folder.parent))
    from dunechest.cli import demo_story
    from dunechest.demo.world import make_world

    world = make_world(tmp_path / "world", size=0.05)
    assert str(chest.folder.parent) not in world.environment("office-pc")["DUNECHEST_DRIVES"]
    shutil.rmtree(world.blue)
    teller = demo_story.Teller(demo_story.Out(True, False, False, False), world)
    with pytest.raises(demo_story.AstrayError):
        demo_story._story(teller, world)
    assert len(teller.scenes) == 2, "the second step cannot make its chest, and nothing comes after it"
    assert facts(chest.folder) == before


def test_dropping_editions_asks_or_wants_yes(shed: dunechest.Chest, library: Path, command: Command) -> None:
    (library / "rope.txt").write_text("forty metres")
    dunechest.archive([library], shed)
    ran = command("editions", "drop", shed.folder, "shed", "--retain", "the last 1")
    assert (ran.status, "--yes" in ran.err) == (3, True)
    assert len(dunechest.list_editions(shed, "shed").editions) == 2
    assert command("editions", "drop", shed.folder, "shed", "--retain", "the last 1", "--yes").status == 0
    assert len(dunechest.list_editions(shed, "shed").editions) == 1


def test_a_plan_remembers_no_place(shed: dunechest.Chest, library: Path, tmp_path: Path, command: Command) -> None:
    words = ("--map", f"{library.parent}={tmp_path / 'new'}")
    plan = command("restore", shed.folder, "shed", *words, "--plan", "--json").json["libraries"][0]
    assert plan["path"] == str(tmp_path / "new" / "shed")
    assert command("restore", shed.folder, "shed", "--plan", "--json").json["libraries"][0]["path"] is None
    assert command("restore", shed.folder, "shed", *words).status == 0
    again = command("restore", shed.folder, "shed", "--plan", "--json").json["libraries"][0]
    assert again["path"] == str(tmp_path / "new" / "shed")


def _killed_before_the_tree_comes(shed: dunechest.Chest, place: Path) -> None:
    """Have a restore die after it has written down that its tree comes, and before it does."""
    program = (
        "import os, signal, sys, dunechest\n"
        "from dunechest.ledger import past_changes\n"
        "real = past_changes.OpenChange.will\n"
        "def will(self, *steps):\n"
        "    real(self, *steps)\n"
        "    if any(isinstance(s, past_changes.Tree) for s in steps): os.kill(os.getpid(), signal.SIGKILL)\n"
        "past_changes.OpenChange.will = will\n"
        "dunechest.restore(sys.argv[1], 'shed', dunechest.RestoreOptions(into=sys.argv[2]))\n"
    )
    subprocess.run([sys.executable, "-c", program, str(shed.folder), str(place)], check=False)


def test_recovery_never_takes_what_somebody_else_put_there_and_no_listing_recovers(
    shed: dunechest.Chest, library: Path, tmp_path: Path, command: Command
) -> None:
    place = tmp_path / "place"
    _killed_before_the_tree_comes(shed, place)
    shutil.copytree(library, place, symlinks=True)  # by hand, times and all
    mine = facts(place)
    left = [p.name for p in tmp_path.iterdir() if p.name.startswith(".dune-restore")]
    assert left
    for words in ((), ("--plan", "--into", tmp_path / "other"), ("shed", "--plan", "--into", tmp_path / "other")):
        command("restore", shed.folder, *words)
        assert [p.name for p in tmp_path.iterdir() if p.name.startswith(".dune-restore")] == left
    assert command("undo", "--plan").status == 0
    assert facts(place) == mine
    assert command("restore", shed.folder, "shed", "--into", tmp_path / "third").status == 0
    assert facts(place) == mine
    assert not [p for p in tmp_path.iterdir() if p.name.startswith(".dune-restore")]


@pytest.fixture
def two_burrows(tmp_path: Path, own_machine: Path, chest: dunechest.Chest) -> tuple[dunechest.Chest, Path]:
    """Two libraries that refer to one file outside of both."""
    outside = own_machine / "Pictures" / "shared.map"
    outside.parent.mkdir()
    outside.write_bytes(b"shared" * 100)
    first = make(tmp_path)
    second = tmp_path / "documents" / "second"
    shutil.copytree(first, second)
    for item in (first, second):
        refer(item, outside)
        dunechest.archive([item], chest)
    shutil.rmtree(first)
    shutil.rmtree(second)
    outside.unlink()
    return chest, outside


def test_undo_takes_the_last_command_back_as_a_whole(
    two_burrows: tuple[dunechest.Chest, Path], tmp_path: Path, command: Command
) -> None:
    chest, outside = two_burrows
    words = ("--map", f"{tmp_path / 'documents'}={tmp_path / 'documents'}")
    ran = command("restore", chest.folder, "burrow", "second", *words)
    assert ran.status == 0, ran.out
    assert outside.exists()
    assert command("undo").status == 0
    assert not outside.exists()
    assert not (tmp_path / "documents" / "burrow").exists()
    assert not (tmp_path / "documents" / "second").exists()
    assert command("undo").status == 2


def test_undo_of_one_library_leaves_the_file_that_another_needs(
    two_burrows: tuple[dunechest.Chest, Path], tmp_path: Path
) -> None:
    chest, outside = two_burrows
    choice = RestoreOptions(places=((str(tmp_path / "documents"), str(tmp_path / "documents")),))
    plans = plan_restores(chest, ["burrow", "second"], choice)
    from dunechest.jobs.restore.doing.restoring import carry_out_once

    for plan in plans:
        assert carry_out_once(plan).ok
    undo.undo()
    assert outside.exists(), "the first library brought it, and is still here"
    assert (tmp_path / "documents" / "burrow").exists()


def test_undo_is_not_offered_when_nothing_was_done(shed: dunechest.Chest, tmp_path: Path, command: Command) -> None:
    into = tmp_path / "place"
    assert "dunechest undo" in command("restore", shed.folder, "shed", "--into", into).out
    ran = command("restore", shed.folder, "shed", "--into", into, "--if-exists", "merge")
    assert (ran.status, "dunechest undo" in ran.out) == (0, False)


def test_undo_cut_off_between_content_and_time_gives_the_time_back(
    library: Path, chest: dunechest.Chest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (library / "rope.txt").write_text("from the chest")
    dunechest.archive([library], chest)
    place = tmp_path / "place"
    place.mkdir()
    (place / "rope.txt").write_text("mine")
    os.utime(place / "rope.txt", ns=(10**18, 10**18))
    before = facts(place / "rope.txt")
    dunechest.restore(chest, "shed", RestoreOptions(into=str(place), if_exists="merge", on_conflict="keep-archived"))
    real = os.utime

    def cut(path: object, *words: object, **more: object) -> None:
        if str(path) == str(place / "rope.txt"):
            raise OSError(5, "cut off")
        real(path, *words, **more)  # type: ignore[arg-type]

    with monkeypatch.context() as patched:
        patched.setattr(os, "utime", cut)
        with pytest.raises(dunechest.CutOffError):
            undo.undo()
    for past_change in past_changes.past_changes():
        undo.undo_change(past_change)
    assert facts(place / "rope.txt") == before


def test_a_known_label_stands_for_the_known_chest_only(
    chest: dunechest.Chest, tmp_path: Path, library: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    command("chest", "show", chest.folder)
    stranger = tmp_path / "stranger"
    stranger.mkdir()
    dunechest.Chest.create(stranger, "blue")
    monkeypatch.setenv("DUNECHEST_DRIVES", str(stranger))
    chest.folder.rename(tmp_path / "away")
    ran = command("archive", library, "--to", "blue")
    assert (ran.status, "Another chest with that label" in ran.err) == (4, True)
    assert os.listdir(stranger / "dune-chest" / "bags") == []
    assert command("archive", library, "--to", stranger).status == 0
    ran = command("chest", "new", tmp_path / "home", "--label", "blue")
    assert (ran.status, "Choose another label" in ran.err) == (2, True)


def test_a_missing_chest_is_not_taken_for_a_new_drive(
    chest: dunechest.Chest, library: Path, tmp_path: Path, command: Command
) -> None:
    command("chest", "show", chest.folder)
    chest.folder.rename(tmp_path / "away")
    ran = command("archive", library, "--to", chest.folder.parent)
    assert (ran.status, "and is gone now" in ran.err, "chest new" in ran.err) == (4, True, False)


def test_no_chest_is_made_inside_a_chest_or_a_bag(shed: dunechest.Chest, command: Command) -> None:
    before = facts(shed.folder)
    for place in (shed.folder, shed.folder / "bags", bag_of(shed, "shed"), bag_of(shed, "shed") / "data"):
        ran = command("chest", "new", place, "--label", "inner")
        assert ran.status in (2, 3), place
    assert facts(shed.folder) == before


def test_an_exact_name_wins_and_an_ambiguous_one_is_refused(
    tmp_path: Path, chest: dunechest.Chest, command: Command
) -> None:
    library = make(tmp_path)
    dunechest.archive([library], chest, dunechest.ArchiveOptions(name="tunnels"))
    dunechest.archive(
        [library], chest, dunechest.ArchiveOptions(name="only", choice=dunechest.Choice(parts=("short",)))
    )
    assert chest.bag("tunnels").name == "tunnels"
    assert chest.bag("only").name == "only"
    ran = command("restore", chest.folder, "burrow", "--into", tmp_path / "back")
    assert (ran.status, "tunnels" in ran.err, "only short" in ran.err) == (2, True, True)
    shutil.copytree(library, tmp_path / "second" / "burrow")
    dunechest.archive([tmp_path / "second" / "burrow"], chest, dunechest.ArchiveOptions(name="burrow"))
    assert chest.bag("burrow").name == "burrow", "whatever the libraries in the others are called"


@pytest.mark.skipif(os.name != "posix" or os.geteuid() != 0, reason="only the administrator restores for others")
def test_restored_by_the_administrator_it_belongs_to_the_person(
    shed: dunechest.Chest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    home = tmp_path / "theirs"
    home.mkdir()
    os.chown(home, 12345, 12345)
    monkeypatch.setenv("HOME", str(home))
    monkeypatch.setenv("DUNECHEST_HOME", str(home / ".local" / "share" / "dunechest"))
    assert dunechest.restore(shed, "shed", dunechest.RestoreOptions(into=str(home / "Boats" / "shed"))).ok
    owners = {os.lstat(p).st_uid for p in [home, *home.rglob("*")]}
    assert owners == {12345}


def test_files_without_modes_get_what_the_umask_allows(shed: dunechest.Chest, tmp_path: Path) -> None:
    (bag_of(shed, "shed") / "dune/files.jsonl").unlink()
    assert not dunechest.restore(shed, "shed", dunechest.RestoreOptions(into=str(tmp_path / "by manifest"))).ok
    mask = os.umask(0o077)
    os.umask(mask)
    for path in (tmp_path / "by manifest").rglob("*.txt"):
        assert path.stat().st_mode & mask == 0


def test_modes_that_a_mount_gave_are_not_taken_for_a_person_s(shed: dunechest.Chest, tmp_path: Path) -> None:
    bag = bag_of(shed, "shed")
    record = bag / "dune/files.jsonl"
    every = [{**json.loads(line), "mode": 0o777} for line in record.read_text().splitlines()]
    record.write_text("".join(json.dumps(line, separators=(",", ":")) + "\n" for line in every))
    edit(bag, lambda item: item.update(modes=False))
    assert dunechest.restore(shed, "shed", dunechest.RestoreOptions(into=str(tmp_path / "back"))).ok
    assert {p.stat().st_mode & 0o111 for p in (tmp_path / "back").rglob("*.txt")} == {0}
