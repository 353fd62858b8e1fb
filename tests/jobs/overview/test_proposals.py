"""What `status` proposes works as it stands, and says what only a person can decide."""

from __future__ import annotations

import os
import shlex
import shutil
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path
from types import SimpleNamespace

import pytest
from msgspec.structs import replace

import dunechest
from dunechest import clock
from dunechest.chest.log import read_log
from dunechest.cli.hints import HINTS
from dunechest.computer import Computer, using
from dunechest.jobs.archive.planning import foresight, unseen
from dunechest.jobs.known import chests as known_chests
from dunechest.jobs.study import drive as study_drive
from dunechest.ledger.folder import state_folder
from tests.support.runs import Command
from tests.support.trees import flip


@pytest.fixture(autouse=True)
def in_words_of_the_command_line() -> Iterator[None]:
    """What is proposed is what a person at the command line reads."""
    with using(Computer(words=HINTS)):
        yield


@pytest.fixture
def drives(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, command: Command) -> dict[str, Path]:
    """Three drives, two of them with a chest; a copy of each would be beside it."""
    found = {label: tmp_path / label for label in ("red", "blue", "sand")}
    every = [*found.values(), *(place.with_name(f"{place.name} copy") for place in found.values())]
    monkeypatch.setenv("DUNECHEST_DRIVES", os.pathsep.join(map(str, every)))
    for label, place in found.items():
        place.mkdir()
        command("chest", "new", place, "--label", label)
    return found


@pytest.fixture
def notes(tmp_path: Path) -> Path:
    """A library of thirty files."""
    place = tmp_path / "documents" / "notes"
    place.mkdir(parents=True)
    for number in range(30):
        (place / f"{number:02}.txt").write_text(f"note {number}\n")
    return place


def first() -> str:
    """Return the first command that is proposed."""
    return next((step.command for step in dunechest.status().steps if step.command), "")


def messages() -> str:
    return "\n".join(step.message for step in dunechest.status().steps)


def follow(command: Command) -> None:
    ran = command(*shlex.split(first())[1:])
    assert ran.status == 0, ran.err


def _shrink(notes: Path) -> None:
    for path in sorted(notes.iterdir())[4:]:
        path.unlink()


def _encrypt(notes: Path) -> None:
    for path in notes.iterdir():
        path.write_bytes(os.urandom(path.stat().st_size))
        os.utime(path, ns=(1, 10**18))


def _touch(notes: Path) -> None:
    for path in notes.iterdir():
        os.utime(path, ns=(1, 10**18))


def _move(notes: Path) -> None:
    (notes / "all").mkdir()
    for path in notes.glob("*.txt"):
        path.rename(notes / "all" / path.name)


@pytest.mark.parametrize(("change", "refused"), [(_shrink, True), (_encrypt, True), (_touch, False), (_move, False)])
def test_that_much_of_a_library_went_is_said_before_it_is_archived(
    change: Callable[[Path], None], refused: bool, notes: Path, drives: dict[str, Path], command: Command
) -> None:
    command("archive", notes, "--to", "red")
    change(notes)
    if not refused:
        follow(command)
        return
    assert not first()
    told = messages()
    assert told.count("files vanished") + told.count("files changed") == 1, "it is told once, for all chests"
    assert "dunechest restore red notes" in told and "--ignore mass-change" in told
    # It is proposed again when a person brought it back, also by hand, or said that it was they.
    assert command("archive", notes, "--to", "blue").status == 3
    before = notes.with_name("was")
    notes.rename(before)
    shutil.copytree(drives["red"] / "dune-chest" / "bags" / "notes" / "data" / "library", notes)
    assert first().endswith("--to blue")
    follow(command)
    shutil.rmtree(notes)
    before.rename(notes)
    assert command("archive", notes, "--to", "red", "--ignore", "mass-change").status == 0
    follow(command)
    assert dunechest.status().safe


def test_databases_change_as_long_as_they_are_used(
    notes: Path, drives: dict[str, Path], command: Command, tmp_path: Path
) -> None:
    kind = tmp_path / "tern.toml"
    kind.write_text(
        'format = 1\nname = "tern"\ntitle = "Tern counts"\napplication = "Tern"\ndatabases = ["*.count"]\n'
        '[[signs]]\npath = "tern.mark"\n'
    )
    assert command("kinds", "add", kind).status == 0
    (notes / "tern.mark").write_text("mark")
    for path in notes.glob("*.txt"):
        with closing(sqlite3.connect(path.with_suffix(".count"))) as index:
            index.execute("CREATE TABLE terns (name)")
            index.commit()
        path.unlink()
    assert command("archive", notes, "--to", "red").status == 0
    for path in notes.glob("*.count"):
        with closing(sqlite3.connect(path)) as index:
            index.execute("INSERT INTO terns VALUES (?)", ("little" * 2000,))
            index.commit()
    follow(command)
    follow(command)
    assert dunechest.status().safe


@pytest.mark.parametrize("how", ["away", "closed"])
def test_what_cannot_be_seen_did_not_vanish(
    how: str, notes: Path, drives: dict[str, Path], command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    card = notes / "card"
    card.mkdir()
    for path in sorted(notes.glob("*.txt"))[4:]:
        path.rename(card / path.name)
    real = unseen.mounts()
    mounted = SimpleNamespace(mountpoint=str(card), fstype="exfat", device="/dev/tern", opts="rw")
    monkeypatch.setattr(unseen, "mounts", lambda: [*real, mounted])
    command("archive", notes, "--to", "red")
    if how == "away":
        monkeypatch.setattr(unseen, "mounts", lambda: real)
    shutil.rmtree(card)
    card.mkdir()
    if how == "closed":
        assert not first() and "26 files vanished" in messages()
        monkeypatch.setattr(foresight, "why_closed", lambda place: f"{place} is closed" if place == card else "")
    assert not first() and "26 files could not be seen, and blue does not have them; red has." in messages()
    assert "dunechest copy red blue notes" in messages()
    if how == "away":
        assert command("copy", "red", "blue", "notes").status == 0
        (notes / "new.txt").write_text("new")
        assert command("archive", notes, "--to", "red").status == 0
        follow(command)
        assert dunechest.status().safe


def test_a_folder_that_was_deleted_did_vanish(notes: Path, drives: dict[str, Path], command: Command) -> None:
    _move(notes)
    command("archive", notes, "--to", "red")
    shutil.rmtree(notes / "all")
    assert not first() and "30 files vanished" in messages()


def test_a_pipe_in_the_place_of_a_file_holds_nothing_up(
    notes: Path, drives: dict[str, Path], command: Command
) -> None:
    for path in notes.iterdir():
        path.write_bytes(b"")
    command("archive", notes, "--to", "red")
    for path in notes.iterdir():
        path.unlink()
        os.mkfifo(path)
    assert not first() and "30 files vanished" in messages()


def test_what_the_catalogue_knows_of_an_older_edition_says_nothing(
    notes: Path, drives: dict[str, Path], command: Command
) -> None:
    command("archive", notes, "--to", "red")
    catalogue = [state_folder() / "catalogue.sqlite", state_folder() / "catalogue.blake3"]
    before = [path.read_bytes() for path in catalogue]
    _shrink(notes)
    assert command("archive", notes, "--to", "red", "--ignore", "mass-change").status == 0
    for path, content in zip(catalogue, before, strict=True):
        path.write_bytes(content)
    follow(command)
    assert dunechest.status().safe


def test_a_decision_is_told_once_and_room_is_given_once(
    notes: Path, drives: dict[str, Path], command: Command, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (state_folder() / "settings.toml").write_text("[protection]\ncopies = 3\n")
    other = tmp_path / "documents" / "papers"
    other.mkdir()
    (other / "long.txt").write_bytes(os.urandom(600_000))
    (notes / "long.txt").write_bytes(os.urandom(600_000))
    command("archive", notes, other, "--to", "red")
    real = known_chests.filesystem
    monkeypatch.setattr(known_chests, "filesystem", lambda path: replace(real(path), free=1_300_000))
    assert first().count(str(other.parent)) == 1, "there is room for one of them"
    monkeypatch.setattr(known_chests, "filesystem", real)
    assert first().count(str(other.parent)) == 2
    shutil.rmtree(other)
    _shrink(notes)
    assert messages().count("files vanished") == 1


def test_a_large_library_is_looked_at_in_part(
    notes: Path, drives: dict[str, Path], command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("dunechest.jobs.archive.planning.foresight._MOST", 10)
    command("archive", notes, "--to", "red")
    _shrink(notes)
    assert not first() and "24 files vanished" in messages()


def test_nothing_is_proposed_to_a_drive_without_room(
    notes: Path, drives: dict[str, Path], command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    command("archive", notes, "--to", "red")
    real = known_chests.filesystem
    full = {"blue"}

    def filesystem(path: Path) -> object:
        found = real(path)
        return replace(found, free=10) if any(path.is_relative_to(drives[name]) for name in full) else found

    monkeypatch.setattr(known_chests, "filesystem", filesystem)
    assert first() == f"dunechest archive {notes} --to sand"
    full.add("sand")
    assert not first() and "There is no room for notes (" in messages() and "on blue or sand" in messages()
    # Nor is anything mended there, nor copied from elsewhere.
    notes.rename(notes.with_name("gone"))
    assert not first() and "There is no room on blue or sand" in messages()
    notes.with_name("gone").rename(notes)
    full.clear()
    follow(command)
    assert dunechest.status().safe
    shutil.rmtree(drives["red"] / "dune-chest" / "bags" / "notes")
    full.update(drives)
    assert "There is no room on red to make it good" in messages()


def test_where_another_library_has_the_name_another_one_is_proposed(
    notes: Path, drives: dict[str, Path], command: Command, tmp_path: Path
) -> None:
    others = []
    for number in (1, 2):
        place = tmp_path / f"other {number}" / "notes"
        place.mkdir(parents=True)
        (place / "else.txt").write_text(f"something else {number}")
        others.append(place)
    command("archive", others[0], "--to", "red", "--to", "blue")
    command("archive", notes, "--to", "sand")
    command("archive", others[1], "--to", "sand", "--as", "odds")
    for _ in range(4):
        if not first():
            break
        follow(command)
    assert dunechest.status().safe, messages()


def test_of_a_chest_that_is_connected_twice_the_known_one_is_meant(
    notes: Path, drives: dict[str, Path], command: Command
) -> None:
    command("archive", notes, "--to", "red", "--to", "blue")
    copy = drives["red"].with_name("red copy")
    shutil.copytree(drives["red"], copy)
    assert f"chest new-id '{copy}/dune-chest'" in messages() and dunechest.status().safe
    # What its copy has still is not what it has.
    shutil.rmtree(drives["red"] / "dune-chest" / "bags" / "notes")
    assert not dunechest.status().safe
    follow(command)
    assert (drives["red"] / "dune-chest" / "bags" / "notes").is_dir()
    # Looks at both, in whatever order, leave it so.
    for look in (("chest", "show"), ("verify",), ("chest", "show")):
        for place in (copy, drives["red"]):
            assert command(*look, place).status == 0
            assert f"chest new-id '{copy}/dune-chest'" in messages()
            if not dunechest.status().safe:
                assert place == copy and str(copy) not in first()
                follow(command)
            assert dunechest.status().safe, messages()
    (log,) = read_log(drives["red"] / "dune-chest")
    assert len({event.id for event in log.events}) == len(log.events), "nothing is told twice"
    known = sorted(state_folder().rglob("*.jsonl"))
    dunechest.status()
    assert sorted(state_folder().rglob("*.jsonl")) == known, "a look at both is no news"
    # Nobody knows which is which: nothing is proposed for either of them.
    drives["red"].rename(drives["red"].with_name("sand copy"))
    shutil.rmtree(drives["blue"] / "dune-chest" / "bags" / "notes")
    assert "is connected twice, in" in messages() and "Connect red" in messages()


def test_after_a_new_id_the_one_of_the_two_that_is_meant_is_named_by_its_place(
    notes: Path, drives: dict[str, Path], command: Command
) -> None:
    command("archive", notes, "--to", "blue")
    copy = drives["red"].with_name("red copy")
    shutil.copytree(drives["red"], copy)
    command("chest", "new-id", copy, "--yes")
    shutil.rmtree(drives["sand"])
    assert f"--to {drives['red']}/dune-chest" in first() or str(copy) in first()
    follow(command)
    assert dunechest.status().safe


def test_what_a_chest_has_under_another_name_is_not_made_again(
    notes: Path, drives: dict[str, Path], command: Command
) -> None:
    command("archive", notes, "--to", "red", "--to", "blue")
    shutil.rmtree(drives["blue"] / "dune-chest" / "bags" / "notes")
    command("archive", notes, "--to", "blue", "--as", "writings")
    assert not first() and dunechest.status().safe
    assert "dunechest chest forget blue notes" in messages()


def test_what_was_refused_is_told_and_proposed_again_when_it_may_be_over(
    notes: Path, drives: dict[str, Path], command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    command("archive", notes, "--to", "red")
    for name in ("sand", "red copy"):
        shutil.rmtree(drives["red"].with_name(name), ignore_errors=True)
    with monkeypatch.context() as patch:
        real = study_drive.filesystem
        patch.setattr(study_drive, "filesystem", lambda path: replace(real(path), free=10))
        ran = command(*shlex.split(first())[1:])
        assert (ran.status, "no-room" in ran.err) == (3, True)
    assert "--to blue" not in first() and "notes cannot be archived to blue now: Not enough space" in messages()
    now = clock.now()
    monkeypatch.setattr(clock, "now", lambda: now + 90_000)
    assert first().endswith("--to blue"), messages()
    follow(command)
    assert dunechest.status().safe


def test_where_a_mend_suffices_no_further_drive_is_asked_for(
    notes: Path, drives: dict[str, Path], command: Command
) -> None:
    shutil.rmtree(drives["sand"])
    assert command("chest", "retire", "sand").status == 0
    command("archive", notes, "--to", "red", "--to", "blue")
    flip(drives["red"] / "dune-chest" / "bags" / "notes" / "data" / "library" / "03.txt")
    assert command("verify", "red").status == 1
    assert first().startswith("dunechest mend red notes") and "another drive" not in messages()
    follow(command)
    assert dunechest.status().safe
