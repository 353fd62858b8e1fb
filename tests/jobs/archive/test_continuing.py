"""The same library elsewhere goes on in its bag; another library never gets into it."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

import pytest

import dunechest
from tests.support.runs import Command


@pytest.fixture
def home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    home = tmp_path / "homes" / "tern"
    (home / "Documents").mkdir(parents=True)
    monkeypatch.setenv("HOME", str(home))
    return home


def diary(folder: Path, days: int = 12) -> Path:
    folder.mkdir(parents=True)
    for day in range(days):
        (folder / f"day {day}.txt").write_text(f"{day} terns " * (day + 3))
    return folder


def another_computer(monkeypatch: pytest.MonkeyPatch, tmp_path: Path, user: str = "plover") -> Path:
    home = tmp_path / "homes" / user
    (home / "Documents").mkdir(parents=True, exist_ok=True)
    monkeypatch.setenv("HOME", str(home))
    monkeypatch.setenv("DUNECHEST_HOME", str(tmp_path / f"state of {user}"))
    return home


def edition_there(chest: dunechest.Chest, bag: str) -> int:
    record = dunechest.Chest.open(chest.folder).bag(bag).library
    assert record is not None
    return record.edition


def codes(plan: dunechest.model.ArchivePlan) -> set[str]:
    return {finding.code for finding in plan.findings}


def test_after_a_restore_on_a_new_computer_the_next_archive_continues(
    tmp_path: Path, home: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    dunechest.archive(diary(home / "Documents" / "Diary"), chest)
    new = another_computer(monkeypatch, tmp_path)
    shutil.move(home, tmp_path / "gone")
    assert dunechest.restore(chest.folder, "diary", dunechest.RestoreOptions(into=str(new / "My Days"))).ok
    (plan,) = dunechest.plan_archive(new / "My Days", chest.folder)
    assert (plan.archived_as, plan.state) == ("diary", "unchanged")
    (new / "My Days" / "day 3.txt").write_text("no terns")
    (plan,) = dunechest.plan_archive(new / "My Days", chest.folder)
    assert (plan.archived_as, plan.state) == ("diary", "next")
    assert "continues" in codes(plan)
    assert dunechest.carry_out(plan).ok
    assert edition_there(chest, "diary") == 2
    # From now on it comes from here, and nothing needs to be said.
    (new / "My Days" / "day 4.txt").write_text("one tern")
    (plan,) = dunechest.plan_archive(new / "My Days", chest.folder)
    assert (plan.state, "continues" in codes(plan)) == ("next", False)


def test_after_a_new_set_up_of_the_same_computer_it_continues(
    tmp_path: Path, home: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    place = diary(home / "Documents" / "Diary")
    dunechest.archive(place, chest)
    monkeypatch.setenv("DUNECHEST_HOME", str(tmp_path / "fresh"))
    (place / "day 1.txt").write_text("changed")
    (account,) = dunechest.archive(place, chest.folder)
    assert (account.archived_as, account.edition, account.ok) == ("diary", 2, True)


@pytest.mark.parametrize("new", ["Documents/Journal", "Desktop/Diary"])
def test_a_moved_or_renamed_folder_continues(
    new: str, tmp_path: Path, home: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    place = diary(home / "Documents" / "Diary")
    dunechest.archive(place, chest)
    (home / new).parent.mkdir(exist_ok=True)
    place.rename(home / new)
    (account,) = dunechest.archive(home / new, chest)
    assert (account.archived_as, account.state) == ("diary", "unchanged")
    (home / new / "more.txt").write_text("more")
    (account,) = dunechest.archive(home / new, chest)
    assert (account.archived_as, account.edition) == ("diary", 2)


def test_a_copy_beside_the_original_is_another_library(home: Path, chest: dunechest.Chest) -> None:
    place = diary(home / "Documents" / "Diary")
    dunechest.archive(place, chest)
    shutil.copytree(place, home / "Copy")
    (account,) = dunechest.archive(home / "Copy", chest)
    assert (account.archived_as, account.state) == ("copy", "archived")
    shutil.copytree(place, home / "Desktop" / "Diary")
    with pytest.raises(dunechest.RefusedError, match="already taken"):
        dunechest.archive(home / "Desktop" / "Diary", chest)


def test_another_library_of_the_same_name_is_refused_as_before(
    tmp_path: Path, home: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    dunechest.archive(diary(home / "Documents" / "Diary"), chest)
    new = another_computer(monkeypatch, tmp_path)
    other = new / "Documents" / "Diary"
    other.mkdir()
    for day in range(12):
        (other / f"day {day}.txt").write_text(f"{day} geese " * (day + 3))  # same names and sizes, other bytes
    (plan,) = dunechest.plan_archive(other, chest.folder)
    assert (plan.state, codes(plan) & {"name-taken", "continues"}) == ("blocked", {"name-taken"})
    assert edition_there(chest, "diary") == 1


def test_where_it_is_not_certain_it_is_asked(
    tmp_path: Path, home: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch, command: Command
) -> None:
    dunechest.archive(diary(home / "Documents" / "Diary"), chest)
    new = another_computer(monkeypatch, tmp_path)
    shutil.copytree(home / "Documents" / "Diary", new / "Old things")  # carried by hand, under another name
    ran = command("archive", new / "Old things", "--to", chest.folder)
    assert ran.status == 3
    assert "--continue diary" in ran.err and "--as old-things" in ran.err
    assert command("archive", new / "Old things", "--to", chest.folder, "--as", "old-things").status == 0
    (new / "Old things" / "day 1.txt").write_text("none")
    ran = command("archive", new / "Old things", "--to", chest.folder, "--continue", "diary", "--json")
    assert ran.status == 0
    assert edition_there(chest, "diary") == 2


def test_continue_is_checked(home: Path, chest: dunechest.Chest, command: Command) -> None:
    place = diary(home / "Documents" / "Diary")
    dunechest.archive(place, chest)
    assert "no library of that name" in command("archive", place, "--to", chest.folder, "--continue", "x").err
    ran = command("archive", place, "--to", chest.folder, "--continue", "diary", "--as", "y")
    assert (ran.status, "exclude each other" in ran.err) == (2, True)
    ran = command("archive", place, home, "--to", chest.folder, "--continue", "diary")
    assert (ran.status, "are for one library" in ran.err) == (2, True)


def test_continue_with_something_else_is_seen_as_a_mass_change(home: Path, chest: dunechest.Chest) -> None:
    dunechest.archive(diary(home / "Documents" / "Diary", 30), chest)
    other = home / "Other"
    other.mkdir()
    for number in range(30):
        (other / f"{number}").write_text("other")
    with pytest.raises(dunechest.RefusedError, match="vanished"):
        dunechest.archive(other, chest, dunechest.ArchiveOptions(continues="diary"))
    assert edition_there(chest, "diary") == 1


def test_a_single_file_that_was_renamed_continues(home: Path, chest: dunechest.Chest) -> None:
    (home / "list.txt").write_text("terns " * 50)
    dunechest.archive(home / "list.txt", chest)
    os.rename(home / "list.txt", home / "terns.txt")
    (account,) = dunechest.archive(home / "terns.txt", chest)
    assert account.ok
