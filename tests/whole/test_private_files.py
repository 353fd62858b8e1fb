"""Private files stay private on a drive with Unix permissions, and nobody is surprised by it."""

from __future__ import annotations

import json
import os
from pathlib import Path

import pytest

import dunechest
from tests.support.fixtures import AsPerson, give
from tests.support.runs import Command

TERN, PLOVER = 54321, 54322


@pytest.fixture
def library(tmp_path: Path) -> Path:
    place = tmp_path / "papers"
    place.mkdir()
    for number in range(4):
        (place / f"open {number}.txt").write_text(f"open {number}")
        (place / f"private {number}.txt").write_text(f"private {number}")
        (place / f"private {number}.txt").chmod(0o600)
    give(TERN, place)
    return place


@pytest.fixture
def stick(tmp_path: Path) -> Path:
    place = tmp_path / "stick"
    place.mkdir()
    give(TERN, place)
    return place


def test_whoever_may_not_read_a_file_is_told_so_and_gets_all_else(
    library: Path, stick: Path, tmp_path: Path, as_person: AsPerson
) -> None:
    ran = as_person("chest", "new", stick, "--label", "blue", user=TERN)
    assert ran.returncode == 0, ran.stderr
    assert "--readable" in ran.stdout
    assert as_person("archive", library, "--to", stick, user=TERN).returncode == 0
    chest = stick / "dune-chest"
    # Another person, or the same one with another number on a new computer.
    ran = as_person("verify", stick, user=PLOVER)
    assert ran.returncode == 4, ran.stdout + ran.stderr
    assert "4 files of papers may not be read" in ran.stdout
    assert "user number 54321" in ran.stdout
    assert "Do not archive" not in ran.stdout
    assert "sudo dunechest verify" in ran.stdout
    ran = as_person("drill", stick, user=PLOVER)
    assert (ran.returncode, "NOT TRIED" in ran.stdout) == (4, True)
    told = json.loads(as_person("status", "--json", user=PLOVER).stdout)
    assert [copy["state"] for library in told["libraries"] for copy in library["copies"]] == ["unchecked"]
    back = tmp_path / f"home {PLOVER}" / "papers"
    plan = as_person("restore", stick, "papers", "--into", back, "--plan", user=PLOVER)
    assert plan.returncode == 0, plan.stdout
    assert "4 files in this chest may not be read" in plan.stdout
    assert f"sudo dunechest restore {chest} papers --into" in plan.stdout
    ran = as_person("restore", stick, "papers", "--into", back, "--yes", user=PLOVER)
    assert ran.returncode == 4, ran.stdout + ran.stderr
    assert sorted(path.name for path in back.iterdir()) == [f"open {number}.txt" for number in range(4)]
    told = json.loads(as_person("status", "--json", user=PLOVER).stdout)
    assert [copy["state"] for library in told["libraries"] for copy in library["copies"]] == ["unchecked"]


def test_what_the_administrator_restores_belongs_to_who_asked(
    library: Path, stick: Path, tmp_path: Path, as_person: AsPerson, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    as_person("chest", "new", stick, "--label", "blue", user=TERN)
    as_person("archive", library, "--to", stick, user=TERN)
    monkeypatch.setenv("SUDO_UID", str(PLOVER))
    monkeypatch.setenv("SUDO_GID", str(PLOVER))
    for place in (tmp_path / "of the administrator" / "back", tmp_path / f"home {TERN}" / "back"):
        assert command("restore", stick, "papers", "--into", place, "--yes").status == 0
    owners = {path.stat().st_uid for path in (tmp_path / "of the administrator" / "back").rglob("*")}
    assert owners == {PLOVER}
    assert (tmp_path / "of the administrator" / "back" / "private 1.txt").stat().st_mode & 0o777 == 0o600
    assert {path.stat().st_uid for path in (tmp_path / f"home {TERN}" / "back").rglob("*")} == {TERN}


def test_a_readable_chest_is_read_by_whoever_has_the_drive(
    library: Path, stick: Path, tmp_path: Path, as_person: AsPerson
) -> None:
    """Whatever the umask of who makes it; and each file gets its own permissions back."""
    before = os.umask(0o077)
    try:
        ran = as_person("chest", "new", stick, "--label", "blue", "--readable", user=TERN)
        assert ran.returncode == 0, ran.stderr
        assert as_person("archive", library, "--to", stick, user=TERN).returncode == 0
        (library / "private 1.txt").write_text("private and new")
        assert as_person("archive", library, "--to", stick, user=TERN).returncode == 0
    finally:
        os.umask(before)
    second = tmp_path / "second"
    second.mkdir()
    give(PLOVER, second)
    assert as_person("verify", stick, user=PLOVER).returncode == 0
    assert as_person("drill", stick, user=PLOVER).returncode == 0
    back = tmp_path / f"home {PLOVER}" / "papers"
    assert as_person("restore", stick, "papers", "--into", back, "--yes", user=PLOVER).returncode == 0
    assert {path.name: path.stat().st_mode & 0o777 for path in back.iterdir()} == {
        **{f"open {number}.txt": 0o644 for number in range(4)},
        **{f"private {number}.txt": 0o600 for number in range(4)},
    }
    # A copy to a chest that is not made so keeps them private again.
    as_person("chest", "new", second, "--label", "sand", user=PLOVER)
    assert as_person("copy", stick, second, user=PLOVER).returncode == 0
    payload = second / "dune-chest/bags/papers/data/library"
    assert (payload / "private 2.txt").stat().st_mode & 0o777 == 0o600


def test_a_chest_of_which_nothing_may_be_read(library: Path, stick: Path, as_person: AsPerson) -> None:
    before = os.umask(0o077)
    try:
        as_person("chest", "new", stick, "--label", "blue", user=TERN)
        as_person("archive", library, "--to", stick, user=TERN)
    finally:
        os.umask(before)
    for words in (
        ("verify", stick),
        ("chest", "show", stick),
        ("restore", stick, "papers", "--yes"),
        ("drill", stick),
    ):
        ran = as_person(*words, user=PLOVER)
        assert ran.returncode in (2, 4), (words, ran.stdout, ran.stderr)
        assert "amaged" not in ran.stdout + ran.stderr, words
        assert "user number 54321" in ran.stdout + ran.stderr, (words, ran.stdout, ran.stderr)


def test_earlier_states_of_private_files_are_private_in_a_copy(
    library: Path, chests: dict[str, dunechest.Chest], command: Command
) -> None:
    blue, sand = chests["blue"].folder, chests["sand"].folder
    command("archive", library, "--to", blue)
    (library / "private 1.txt").write_text("another one")
    command("archive", library, "--to", blue)
    assert command("copy", blue, sand).status == 0
    kept = list((sand / "bags/papers/dune/earlier").rglob("private 1.txt"))
    assert [path.stat().st_mode & 0o777 for path in kept] == [0o600]
