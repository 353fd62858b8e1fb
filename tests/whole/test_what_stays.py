"""What was archived stays: files that are away, folders that may not be read, mass changes, another computer's work."""

from __future__ import annotations

import errno
import json
import os
import re
import shlex
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

import dunechest
from dunechest.jobs.archive.doing import archiving as carry_out
from tests.support import burrow
from tests.support.fixtures import AsPerson, Image, give
from tests.support.runs import Command, Ran
from tests.support.trees import facts, flip

ROUTINE_RULE = "the last 1"


def edit(place: Path, text: str = "another walk") -> None:
    (place / "walks" / "note.txt").write_text(text)


def pictures(folder: Path, count: int = 24) -> list[Path]:
    folder.mkdir(parents=True, exist_ok=True)
    made = [folder / f"picture {number:02}.map" for number in range(count)]
    for number, path in enumerate(made):
        path.write_bytes(f"picture {number} ".encode() * 400)
    return made


def held(chest: dunechest.Chest, bag: str) -> dunechest.model.LibraryRecord:
    record = dunechest.Chest.open(chest.folder).bag(bag).library
    assert record is not None
    return record


@pytest.fixture
def card(tmp_path: Path) -> Path:
    """A library that uses pictures on a card, which can be taken out."""
    library = burrow.make(tmp_path)
    for path in pictures(tmp_path / "media" / "card" / "pictures"):
        burrow.refer(library, path)
    return library


def test_files_on_a_drive_that_is_away_stay(
    card: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    media = tmp_path / "media" / "card"
    before = facts(media)
    assert command("archive", card, "--to", chest.folder).status == 0
    media.rename(tmp_path / "in the drawer")
    edit(card)
    ran = command("archive", card, "--to", chest.folder)
    assert ran.status == 0
    assert "24 files could not be seen" in ran.out
    assert "last seen in edition 1" in ran.out
    told = command("archive", card, "--to", chest.folder, "--json").library
    assert (told["state"], len(told["not_seen_files"])) == ("unchanged", 24)
    assert {file["last_seen_edition"] for file in told["not_seen_files"]} == {1}
    # Retention and a month of further editions change nothing of that.
    for night in range(3):
        edit(card, f"night {night}")
        assert command("archive", card, "--to", chest.folder).status == 0
    assert command("editions", "drop", chest.folder, "burrow", "--retain", ROUTINE_RULE, "--yes").status == 0
    listed = command("editions", "list", chest.folder, "burrow", "--json").library["editions"]
    assert [edition["not_seen_count"] for edition in listed] == [24]
    assert "could not be seen" in command("status").out
    shutil.rmtree(tmp_path / "in the drawer")
    into = tmp_path / "back"
    assert command("restore", chest.folder, "burrow", "--into", into, "--yes").status == 0
    found = {
        path.name: path.read_bytes() for path in tmp_path.rglob("picture *.map") if "dune-chest" not in str(path)
    }
    assert len(found) == 24
    assert all(found[name].startswith(f"picture {int(name[8:10])} ".encode()) for name in found)
    assert before  # what was on the card is what came back, by content


def test_what_comes_back_is_seen_again_and_what_is_gone_is_forgotten_by_name(
    card: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    media = tmp_path / "media" / "card"
    command("archive", card, "--to", chest.folder)
    media.rename(tmp_path / "drawer")
    edit(card)
    command("archive", card, "--to", chest.folder)
    (tmp_path / "drawer").rename(media)
    edit(card, "it is back")
    told = command("archive", card, "--to", chest.folder, "--json").library
    assert (told["edition"], told["not_seen_files"], told["changes"]["dropped_count"]) == (3, [], 0)
    shutil.rmtree(media)
    refused = command("archive", card, "--to", chest.folder, "--forget-absent", "*.nothing")
    assert (refused.status, "names nothing" in refused.err) == (3, True)
    assert held(chest, "burrow").edition == 3
    one = media / "pictures" / "picture 03.map"
    told = command("archive", card, "--to", chest.folder, "--forget-absent", one, "--json").library
    assert (len(told["not_seen_files"]), told["changes"]["dropped_count"]) == (23, 1)
    assert "--forget-absent" in command("archive", card, "--to", chest.folder, "--plan").out
    told = command(
        "archive", card, "--to", chest.folder, "--forget-absent", media, "--ignore", "mass-change", "--json"
    ).library
    assert (told["not_seen_files"], told["changes"]["dropped_count"]) == ([], 23)


def test_what_is_away_and_harmed_in_a_chest_is_mended_from_another(
    card: Path, chests: dict[str, dunechest.Chest], tmp_path: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Find damage, archive, ask for the status: each step that is told works, and brings the verdict nearer."""
    blue, sand = chests["blue"].folder, chests["sand"].folder
    command("archive", card, "--to", blue, "--to", sand)
    (tmp_path / "media" / "card").rename(tmp_path / "drawer")
    edit(card)
    next(blue.rglob("picture 03.map")).unlink()
    ran = command("archive", card, "--to", blue)
    assert (ran.status, "LOST" in ran.out, "not to be seen" in ran.out, "changed since" in ran.out) == (
        1,
        True,
        True,
        False,
    )
    told = command("status", "--json").json
    assert [copy["state"] for copy in told["libraries"][0]["copies"]] == ["damaged", "behind"]
    (step,) = [step["command"] for step in told["steps"] if "mend" in step["command"]]
    assert command(*shlex.split(step)[1:]).status == 0
    assert command("verify", blue).status == 0
    told = command("status", "--json").json
    assert [copy["state"] for copy in told["libraries"][0]["copies"]] == ["safe", "behind"]
    (step,) = [step["command"] for step in told["steps"] if "archive" in step["command"]]
    assert command(*shlex.split(step)[1:]).status == 0
    (library,) = command("status", "--json").json["libraries"]
    assert (library["safe"], library["file_count"]) == (True, sum(path.is_file() for path in card.rglob("*")) + 24)
    # Two chests on one drive count as one, and that is said.
    monkeypatch.setenv("DUNECHEST_DRIVES", os.path.commonpath([blue, sand]))
    command("verify", blue)
    command("verify", sand)
    told = command("status", "--json").json
    assert (told["safe"], "on one drive" in told["steps"][0]["message"]) == (False, True)


def test_a_deleted_outside_file_is_deleted(
    card: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    command("archive", card, "--to", chest.folder)
    (tmp_path / "media" / "card" / "pictures" / "picture 00.map").unlink()
    told = command("archive", card, "--to", chest.folder, "--json").library
    assert (told["not_seen_files"], told["changes"]["dropped_count"]) == ([], 1)


def test_another_outside_file_never_takes_the_name_of_one_that_is_away(
    chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    library = burrow.make(tmp_path)
    for drive in ("red", "green"):
        (tmp_path / drive / "maps").mkdir(parents=True)
        (tmp_path / drive / "maps" / "moor.map").write_text(f"the {drive} moor")
        burrow.refer(library, tmp_path / drive / "maps" / "moor.map")
    command("archive", library, "--to", chest.folder)
    (tmp_path / "green").rename(tmp_path / "away")
    edit(library)
    assert command("archive", library, "--to", chest.folder).status == 0
    assert command("verify", chest.folder).status == 0
    texts = {path.read_text() for path in (chest.folder / "bags" / "burrow" / "data" / "outside").rglob("*.map")}
    assert texts == {"the red moor", "the green moor"}


@pytest.mark.mounted
def test_a_drive_mounted_in_the_library_and_one_it_refers_to(
    image: Image, tmp_path: Path, chest: dunechest.Chest, command: Command
) -> None:
    """The mount point stays when the drive is unplugged: an empty folder is no deletion."""
    library = burrow.make(tmp_path)
    inner = image.plug(library / "originals")
    pictures(inner / "2024", 10)
    assert command("archive", library, "--to", chest.folder).status == 0
    first = facts(chest.folder / "bags" / "burrow" / "data")
    image.unplug()
    edit(library)
    told = command("archive", library, "--to", chest.folder, "--json")
    assert told.status == 0
    assert {file["why"] for file in told.library["not_seen_files"]} == {"away"}
    assert len(told.library["not_seen_files"]) == 10
    edit(library, "a week later")
    assert command("archive", library, "--to", chest.folder).status == 0
    command("editions", "drop", chest.folder, "burrow", "--retain", ROUTINE_RULE, "--yes")
    now = facts(chest.folder / "bags" / "burrow" / "data")
    assert {key: value for key, value in first.items() if "originals" in str(key)} == {
        key: value for key, value in now.items() if "originals" in str(key)
    }
    assert command("drill", chest.folder, "burrow").status == 0
    image.plug()
    told = command("archive", library, "--to", chest.folder, "--json").library
    assert told["not_seen_files"] == []
    image.unplug()


def test_a_folder_behind_a_link_to_a_drive_that_is_away(
    tmp_path: Path, chest: dunechest.Chest, command: Command
) -> None:
    library = burrow.make(tmp_path)
    media = tmp_path / "media" / "card" / "pictures"
    for path in pictures(media, 6):
        burrow.refer(library, f"linked/{path.name}")
    (library / "linked").symlink_to(media)
    assert command("archive", library, "--to", chest.folder).status == 0
    (tmp_path / "media").rename(tmp_path / "drawer")
    edit(library)
    told = command("archive", library, "--to", chest.folder, "--json")
    assert (told.status, len(told.library["not_seen_files"])) == (0, 6)
    command("editions", "drop", chest.folder, "burrow", "--retain", ROUTINE_RULE, "--yes")
    # Whether the originals are there makes no difference to a drill: it reads what was archived.
    assert command("drill", chest.folder, "burrow").status == 0
    (tmp_path / "drawer").rename(tmp_path / "media")
    assert command("drill", chest.folder, "burrow").status == 0
    kept = chest.folder / "bags/burrow/data/outside/pictures/picture 03.map"
    flip(kept)
    assert command("drill", chest.folder, "burrow").status == 1
    flip(kept)
    shutil.rmtree(tmp_path / "media")
    ran = command("restore", chest.folder, "burrow", "--into", tmp_path / "back", "--yes", "--json")
    assert (ran.status, ran.library["references_by_hand"]) == (0, [])
    assert len(list((tmp_path / "back" / "linked").glob("picture *.map"))) == 6


def test_a_folder_that_may_not_be_read_is_no_deletion(
    tmp_path: Path, chest: dunechest.Chest, as_person: AsPerson
) -> None:
    library = tmp_path / "papers"
    for name in ("open", "closed"):
        (library / name).mkdir(parents=True)
        for number in range(8):
            (library / name / f"{number}.txt").write_text(f"{name} {number}" * 20)
    give(54321, library, chest.folder.parent)
    ran = as_person("archive", library, "--to", chest.folder, "--json")
    assert ran.returncode == 0, ran.stderr
    os.chown(library / "closed", 0, 0)
    (library / "closed").chmod(0o700)
    (library / "open" / "new.txt").write_text("new")
    ran = as_person("archive", library, "--to", chest.folder, "--json")
    told = json.loads(ran.stdout)["libraries"][0]
    assert ran.returncode == 1  # the folder itself could not be listed: what is new in it is not archived
    assert [file["why"] for file in told["not_seen_files"]] == ["closed"] * 8
    assert told["changes"]["dropped_count"] == 0
    ran = as_person("editions", "drop", chest.folder, "papers", "--retain", "the last 1", "--yes")
    assert ran.returncode == 0, ran.stderr
    ran = as_person("restore", chest.folder, "papers", "--into", tmp_path / "home 54321" / "back", "--yes")
    assert ran.returncode == 0, ran.stdout + ran.stderr
    assert len(list((tmp_path / "home 54321" / "back" / "closed").iterdir())) == 8


def test_a_placeholder_whose_content_was_archived_stays(
    tmp_path: Path, chest: dunechest.Chest, command: Command
) -> None:
    library = burrow.make(tmp_path)
    command("archive", library, "--to", chest.folder)
    wanted = (library / "maps" / "north.map").read_bytes()
    burrow.make_placeholder(library / "maps" / "north.map")
    told = command("archive", library, "--to", chest.folder, "--json")
    assert told.status == 0
    assert [file["path"] for file in told.library["not_seen_files"]] == ["maps/north.map"]
    edit(library)
    assert command("archive", library, "--to", chest.folder).status == 0
    command("editions", "drop", chest.folder, "burrow", "--retain", ROUTINE_RULE, "--yes")
    assert (chest.folder / "bags/burrow/data/library/maps/north.map").read_bytes() == wanted


# --- mass changes


def encrypt(library: Path) -> None:
    for path in library.rglob("*"):
        if path.is_file():
            path.write_bytes(os.urandom(64) + path.read_bytes())
            path.rename(path.with_name(path.name + ".locked"))


@pytest.fixture
def papers(tmp_path: Path) -> Path:
    library = tmp_path / "papers"
    library.mkdir()
    for number in range(30):
        (library / f"{number}.txt").write_text(f"paper {number} " * 30)
    return library


def test_no_rule_drops_what_came_before_a_mass_change(papers: Path, chest: dunechest.Chest, command: Command) -> None:
    for night in range(3):
        (papers / "night.txt").write_text(f"night {night}")
        command("archive", papers, "--to", chest.folder)
    encrypt(papers)
    assert command("archive", papers, "--to", chest.folder, "--ignore", "mass-change").status == 0
    for night in range(6):
        (papers / "night.txt").write_text(f"after {night}")
        assert command("archive", papers, "--to", chest.folder).status == 0
        assert command("editions", "drop", chest.folder, "papers", "--retain", "the last 2", "--yes").status == 0
    listed = command("editions", "list", chest.folder, "papers", "--json").library["editions"]
    assert [edition["edition"] for edition in listed if edition["protected"]] == [3]
    assert len(listed) == 3
    assert command("verify", chest.folder).status == 0
    into = papers.parent / "back"
    assert command("restore", chest.folder, "papers", "--edition", "3", "--into", into, "--yes").status == 0
    assert (into / "7.txt").read_text() == "paper 7 " * 30
    # A copy in another chest is protected, too.
    (papers.parent / "second").mkdir()
    second = dunechest.create_chest(papers.parent / "second", "sand")
    assert command("copy", chest.folder, second.folder).status == 0
    command("editions", "drop", second.folder, "papers", "--retain", "the last 1", "--yes")
    assert held(second, "papers").edition == 10
    assert [
        e["edition"] for e in command("editions", "list", second.folder, "papers", "--json").library["editions"]
    ] == [3, 10]
    # Only a person drops it, by its number.
    assert (
        command(
            "editions", "drop", chest.folder, "papers", "--retain", "the last 1", "--protected", "9", "--yes"
        ).status
        == 2
    )
    ran = command("editions", "drop", chest.folder, "papers", "--retain", "the last 1", "--protected", "3", "--yes")
    assert ran.status == 0
    assert len(command("editions", "list", chest.folder, "papers", "--json").library["editions"]) == 1


def test_the_guard_knows_the_newest_state_in_any_chest(
    papers: Path, chests: dict[str, dunechest.Chest], command: Command, tmp_path: Path
) -> None:
    blue, sand = chests["blue"].folder, chests["sand"].folder
    assert command("archive", papers, "--to", blue).status == 0
    encrypt(papers)
    assert command("archive", papers, "--to", blue).status == 3
    ran = command("archive", papers, "--to", sand)
    assert (ran.status, "mass-change" in ran.err, "dunechest restore blue papers" in ran.err) == (3, True, True)
    # Nor while the chest that has it is not connected.
    drawer = tmp_path / "drawer"
    blue.parent.rename(drawer)
    ran = command("archive", papers, "--to", sand)
    assert (ran.status, "30 files" in ran.err) == (3, True)
    drawer.rename(blue.parent)
    # The way out that is proposed brings it back, and then all is as it was.
    assert command(*proposed(ran, "set-aside"), "--yes").status == 0
    assert command("archive", papers, "--to", blue, "--to", sand).status == 0
    told = command("status", "--json").json
    assert [copy["state"] for copy in told["libraries"][0]["copies"]] == ["safe", "safe"]


def test_after_a_full_restore_the_restored_state_is_the_newest_again(
    papers: Path, chests: dict[str, dunechest.Chest], command: Command
) -> None:
    blue, sand = chests["blue"].folder, chests["sand"].folder
    command("archive", papers, "--to", blue)
    encrypt(papers)
    assert command("archive", papers, "--to", sand, "--ignore", "mass-change").status == 0
    assert command("restore", blue, "papers", "--into", papers, "--if-exists", "set-aside", "--yes").status == 0
    assert "Unchanged" in command("archive", papers, "--to", blue).out
    copies = {copy["label"]: copy["state"] for copy in command("status", "--json").json["libraries"][0]["copies"]}
    assert copies == {"blue": "safe", "sand": "behind"}
    assert command("archive", papers, "--to", sand, "--ignore", "mass-change").status == 0
    copies = {copy["label"]: copy["state"] for copy in command("status", "--json").json["libraries"][0]["copies"]}
    assert copies == {"blue": "safe", "sand": "safe"}


def test_outside_files_count_for_the_guard(
    card: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    command("archive", card, "--to", chest.folder)
    for path in (tmp_path / "media" / "card" / "pictures").iterdir():
        path.unlink()
    (tmp_path / "media" / "card" / "pictures" / "READ ME.txt").write_text("pay")
    ran = command("archive", card, "--to", chest.folder)
    assert (ran.status, "24 files vanished" in ran.err) == (3, True)


# --- a second computer


@pytest.fixture
def computers(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Callable[[str], Path]:
    def at(user: str) -> Path:
        home = tmp_path / "homes" / user
        home.mkdir(parents=True, exist_ok=True)
        monkeypatch.setenv("HOME", str(home))
        monkeypatch.setenv("DUNECHEST_HOME", str(tmp_path / f"state of {user}"))
        return home

    return at


def proposed(ran: Ran, if_exists: str) -> list[str]:
    """The words of the restore that a refusal proposes, as they would be pasted."""
    (line,) = re.findall(rf"dunechest (restore .*? --if-exists {if_exists})", ran.err)
    return shlex.split(line)


def diary(folder: Path) -> Path:
    folder.mkdir(parents=True)
    for number in range(12):
        (folder / f"day {number}.txt").write_text(f"{number} terns " * 20)
    return folder


@pytest.fixture
def diaries(computers: Callable[[str], Path], chest: dunechest.Chest, command: Command) -> tuple[Path, Path]:
    """A diary that was archived on one computer and restored on another."""
    first = diary(computers("tern") / "diary")
    assert command("archive", first, "--to", chest.folder).status == 0
    second = computers("plover") / "diary"
    assert command("restore", chest.folder, "diary", "--into", second, "--yes").status == 0
    return first, second


def test_another_computers_work_is_not_taken_back(
    computers: Callable[[str], Path], diaries: tuple[Path, Path], chest: dunechest.Chest, command: Command
) -> None:
    first, second = diaries
    computers("tern")
    for number in range(8):
        (first / f"new {number}.txt").write_text("geese")
    assert command("archive", first, "--to", chest.folder).status == 0
    computers("plover")
    ran = command("archive", second, "--to", chest.folder)
    assert ran.status == 3
    assert "delete 8 files" in ran.err
    assert command("archive", second, "--to", chest.folder, "--continue", "diary").status == 3
    assert held(chest, "diary").edition == 2
    # Each choice that is named works. First: bring it here, and go on.
    assert command(*proposed(ran, "merge"), "--yes").status == 0
    (second / "mine.txt").write_text("mine")
    assert command("archive", second, "--to", chest.folder).status == 0
    # And back: the first computer does not have that.
    computers("tern")
    assert command("archive", first, "--to", chest.folder).status == 3
    assert command("archive", first, "--to", chest.folder, "--as", "diary-of-tern").status == 0
    ran = command("archive", first, "--to", chest.folder, "--continue", "diary", "--ignore", "newer-state")
    assert ran.status == 0
    listed = command("editions", "list", chest.folder, "diary", "--json").library["editions"]
    assert [edition["edition"] for edition in listed if edition["protected"]] == [3]


def test_a_run_that_was_killed_once_its_edition_was_made_holds_up_no_other(
    papers: Path, chests: dict[str, dunechest.Chest], command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    blue = chests["blue"].folder
    command("archive", papers, "--to", blue)
    with monkeypatch.context() as killed:
        killed.setattr(carry_out, "_note", lambda *args: None)
        (papers / "new.txt").write_text("new")
        command("archive", papers, "--to", blue)
    (papers / "new.txt").write_text("newer")
    assert command("archive", papers, "--to", blue).status == 0
    assert held(chests["blue"], "papers").edition == 3


def test_a_restore_that_was_undone_leaves_no_claim(
    computers: Callable[[str], Path], diaries: tuple[Path, Path], chest: dunechest.Chest, command: Command
) -> None:
    first, second = diaries
    computers("tern")
    (first / "new.txt").write_text("geese")
    command("archive", first, "--to", chest.folder)
    computers("plover")
    assert (
        command("restore", chest.folder, "diary", "--into", second, "--if-exists", "set-aside", "--yes").status == 0
    )
    assert command("undo", "--yes").status == 0
    assert not (second / "new.txt").exists()
    assert command("archive", second, "--to", chest.folder).status == 3


def test_the_same_files_by_another_way_continue(
    computers: Callable[[str], Path], chest: dunechest.Chest, command: Command
) -> None:
    first = diary(computers("tern") / "diary")
    command("archive", first, "--to", chest.folder)
    second = computers("plover") / "diary"
    shutil.copytree(first, second)
    (second / "more.txt").write_text("more")
    assert command("archive", second, "--to", chest.folder, "--continue", "diary").status == 0


# --- two chests that went apart


def test_an_archive_to_two_chests_that_was_interrupted_on_one(
    papers: Path, chests: dict[str, dunechest.Chest], command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Each has an edition of the same number with other content: the next archive or copy brings both together."""
    blue, sand = chests["blue"].folder, chests["sand"].folder
    command("archive", papers, "--to", blue, "--to", sand)
    (papers / "second.txt").write_text("second")
    full = errno.ENOSPC

    def gate(operation: str, *what: object) -> None:
        if any(str(sand) in os.fsdecode(item) for item in what if isinstance(item, str | bytes | os.PathLike)):
            raise OSError(full, os.strerror(full))

    with monkeypatch.context() as patch:
        patch.setattr("dunechest.transfer.disk.gate", gate)
        assert command("archive", papers, "--to", blue, "--to", sand).status == 4
    assert (held(chests["blue"], "papers").edition, held(chests["sand"], "papers").edition) == (2, 1)
    (papers / "third.txt").write_text("third")
    assert command("archive", papers, "--to", sand).status == 0
    # Both have an edition 2, of other content. The copy does not guess.
    ran = command("copy", "blue", "sand")
    assert ran.status == 0
    assert "newer state" in ran.out
    assert command("copy", "sand", "blue").status == 0
    assert command("verify", "blue").status == 0
    assert held(chests["blue"], "papers").state == held(chests["sand"], "papers").state
    assert held(chests["blue"], "papers").edition == 3
    ran = command("compare", "blue", "sand", "--json")
    (found,) = ran.json["libraries"]
    assert (found["first_only_editions"], found["second_only_editions"]) == ([2], [])
    into = papers.parent / "back"
    for number, names in ((1, set()), (2, {"second.txt"}), (3, {"second.txt", "third.txt"})):
        command("restore", "blue", "papers", "--edition", str(number), "--into", into, "--yes")
        assert {p.name for p in into.iterdir()} - {f"{n}.txt" for n in range(30)} == names
        shutil.rmtree(into)
    # And the next archive goes on in both.
    (papers / "fourth.txt").write_text("fourth")
    assert command("archive", papers, "--to", "blue", "--to", "sand").status == 0
    assert held(chests["blue"], "papers").state == held(chests["sand"], "papers").state
    assert command("copy", "blue", "sand").status == 0


def test_two_states_that_diverged_are_told_and_neither_is_reverted(
    computers: Callable[[str], Path], chests: dict[str, dunechest.Chest], command: Command
) -> None:
    blue, sand = chests["blue"].folder, chests["sand"].folder
    first = diary(computers("tern") / "diary")
    command("archive", first, "--to", blue)
    command("copy", blue, sand)
    second = computers("plover") / "diary"
    command("restore", sand, "diary", "--into", second, "--yes")
    (second / "plover.txt").write_text("plover")
    assert command("archive", second, "--to", sand).status == 0
    computers("tern")
    (first / "tern.txt").write_text("tern")
    assert command("archive", first, "--to", blue).status == 0
    for one, other in ((blue, sand), (sand, blue)):
        ran = command("copy", one, other)
        assert (ran.status, "has diverged" in ran.err + ran.out) == (3, True)
    # What is proposed works: bring the other state here, then archive to both.
    assert command("restore", sand, "diary", "--into", first, "--if-exists", "merge", "--yes").status == 0
    assert command("archive", first, "--to", blue, "--to", sand).status == 0
    for name in ("tern.txt", "plover.txt"):
        assert (sand / "bags/diary/data/library" / name).is_file()
    assert command("copy", blue, sand).status == 0
