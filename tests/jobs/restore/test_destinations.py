"""Where a library goes on another computer, and how well a proof tells what is not as it was."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest
from msgspec.structs import replace

import dunechest
from dunechest.chest.origin import old_path
from dunechest.chest.records import LibraryRecord, Origin, Totals
from dunechest.jobs.restore.places_map import mapped_places, remember_place
from dunechest.jobs.restore.planning.place import place_for, standard_moves
from dunechest.ledger import past_changes
from dunechest.library.kinds.load import load_kinds
from dunechest.library.kinds.schema import PLAIN_KIND
from dunechest.machine import drives
from dunechest.model.restore import RestoreOptions
from tests.support.runs import Command
from tests.support.sealing import reseal
from tests.support.trees import bag_of
from tests.support.worlds import Departed


def record(path: str, system: str, standard: str = "", relative: str = "", shape: str = "folder") -> LibraryRecord:
    origin = Origin("a" * 32, "office-pc", system, path, standard, relative)
    totals = Totals(0, 0, 0, 0, 0, 0, 0, 0)
    return LibraryRecord(1, "x", "folder", "x", "", shape, origin, 1, "2026-01-01T00:00:00Z", "", totals)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("path", "system", "standard", "relative", "here"),
    [
        ("C:\\Users\\tern\\Pictures\\Dune Survey", "windows", "pictures", "Dune Survey", "Pictures/Dune Survey"),
        ("/Users/tern/Movies/Storm", "macos", "videos", "Storm", "Videos/Storm"),
        ("/Users/tern/Library/Application Support/Box", "macos", "data", "Box", ".local/share/Box"),
        ("/home/tern/.hidden", "linux", "home", ".hidden", ".hidden"),
        ("/home/tern/Pictures/../../x", "linux", "pictures", "../../x", None),
        ("/mnt/disk/Games", "linux", "", "", None),
        ("D:\\Games", "windows", "", "", None),
        ("/barn/x", "linux", "barn", "x", None),
    ],
)
def test_a_standard_folder_exists_on_every_system(
    path: str, system: str, standard: str, relative: str, here: str | None, own_machine: Path
) -> None:
    found = place_for(record(path, system, standard, relative), PLAIN_KIND, RestoreOptions())
    assert found.place == (own_machine / here if here is not None else None)


def test_a_kind_that_has_one_place_on_each_system_goes_to_that(own_machine: Path) -> None:
    kinds = load_kinds()
    notes = record("C:\\Users\\tern\\AppData\\Roaming\\Tidewrack", "windows", "configuration", "Tidewrack")
    assert place_for(notes, kinds["tidewrack"], RestoreOptions()).place == own_machine / ".tidewrack"
    backups = record("/Users/tern/Library/Application Support/Limpet/devices", "macos", "data", "Limpet/devices")
    assert place_for(backups, kinds["limpet"], RestoreOptions()).place == own_machine / ".local/share/limpet/devices"
    other = record("/Users/tern/Library/Application Support/Other", "macos", "data", "Other")
    assert place_for(other, kinds["limpet"], RestoreOptions()).how == "standard"


def test_places_are_remembered_and_the_longest_counts(tmp_path: Path) -> None:
    remember_place("D:\\", tmp_path / "disk")
    remember_place("D:\\Games\\", tmp_path / "play")
    remember_place("D:\\Games", tmp_path / "games")
    assert len(mapped_places()) == 2
    assert (
        place_for(record("d:\\games\\Winter", "windows"), PLAIN_KIND, RestoreOptions()).place
        == tmp_path / "games" / "Winter"
    )
    assert place_for(record("D:\\Film", "windows"), PLAIN_KIND, RestoreOptions()).place == tmp_path / "disk" / "Film"
    assert place_for(record("E:\\Film", "windows"), PLAIN_KIND, RestoreOptions()).place is None
    (Path(os.environ["DUNECHEST_HOME"]) / "places.json").write_text("{ torn")
    assert mapped_places() == []
    with pytest.raises(dunechest.UsageError):
        remember_place("Games", tmp_path)


@pytest.mark.parametrize(
    ("path", "system", "standard", "relative", "home"),
    [
        ("C:\\Users\\Tern\\Pictures\\X", "windows", "pictures", "X", "C:/Users/Tern"),
        ("/Users/tern/Movies/X", "macos", "videos", "X", "/Users/tern"),
        ("/home/tern/.x", "linux", "home", ".x", "/home/tern"),
        ("/home/tern/Bilder/X", "linux", "pictures", "X", ""),
        ("/mnt/X", "linux", "", "", ""),
    ],
)
def test_the_old_home_is_known_by_where_its_folders_usually_are(
    path: str, system: str, standard: str, relative: str, home: str, tmp_path: Path
) -> None:
    item = record(path, system, standard, relative)
    pairs, old_home = standard_moves(item, tmp_path)
    assert old_home == home
    if home:
        assert dict(pairs)[home] == str(tmp_path)
    assert old_path(item).endswith("X") or old_path(item).endswith(".x")


def test_a_home_of_somebody_else(departed: Departed, new_home: Path, tmp_path: Path, command: Command) -> None:
    other = tmp_path / "dunlin"
    other.mkdir()
    words = ("restore", departed.chest.folder, "marram-papers", "--home", other, "--json")
    assert command(*words).status == 0
    assert (other / "Documents" / "Marram Papers" / "papers.bib").exists()
    assert json.loads((other / ".config" / "seaholly" / "settings.json").read_text())["library"].startswith(
        str(other)
    )
    assert not (new_home / ".config" / "seaholly").exists()
    assert command("restore", departed.chest.folder, "tidewrack", "--home", tmp_path / "nobody").status == 2


def spoilt(departed: Departed, tmp_path: Path) -> dunechest.Chest:
    shutil.copytree(departed.chest.folder, tmp_path / "copy" / "dune-chest")
    return dunechest.Chest.open(tmp_path / "copy")


def test_the_checks_tell_what_differs(
    departed: Departed,
    new_home: Path,
    tmp_path: Path,
    command: Command,
) -> None:
    chest = spoilt(departed, tmp_path)
    level = next((bag_of(chest, "winter-games") / "data").rglob("*.pak"))
    level.unlink()
    picture = next((bag_of(chest, "dune-survey") / "data" / "library" / "originals").rglob("*.jpg"))
    picture.write_bytes(b"other bytes, as an ageing drive has them")
    for name, wrong in (
        ("winter-games", {"files", "descriptors that agree with their folders"}),
        ("dune-survey", {"files", "references to files of the library"}),
    ):
        into = tmp_path / name
        ran = command("restore", chest.folder, name, "--into", into, "--no-update-settings", "--json")
        assert ran.status == 1
        lines = {line["what"]: line for line in ran.library["checks"]}
        assert wrong <= {what for what, line in lines.items() if not line["passed"]}, lines
        shown = command("restore", chest.folder, name, "--into", tmp_path / f"{name} 2", "--no-update-settings")
        assert "DIFFERENT" in shown.out
        ran = command("drill", chest.folder, name, "--json")
        assert (ran.status, ran.json["libraries"][0]["passed"]) == (1, False)
        assert "DID NOT PASS" in command("drill", chest.folder, name).out
    shown_chest = command("chest", "show", chest.folder)
    assert shown_chest.out.count("did NOT pass its drill") == 2
    assert "problems found" in shown_chest.out


def test_a_title_that_never_agreed_is_no_fault(
    departed: Departed,
    new_home: Path,
    tmp_path: Path,
    command: Command,
) -> None:
    """What was wrong already when it was archived is no fault of the restore."""
    words = ("restore", departed.chest.folder, "winter-games", "--into", tmp_path / "games", "--no-update-settings")
    assert command(*words).status == 0
    next((tmp_path / "games").rglob("*.pak")).unlink()
    chest = dunechest.Chest.create(tmp_path, "other")
    assert command("archive", tmp_path / "games", "--to", chest.folder).status == 0
    ran = command("restore", chest.folder, "games", "--into", tmp_path / "again", "--no-update-settings", "--json")
    lines = {line["what"]: line for line in ran.library["checks"]}
    assert (ran.status, lines["descriptors that agree with their folders"]["before"]) == (0, "3")


def test_a_kind_that_is_not_known_here_comes_as_files_and_says_so(
    departed: Departed,
    new_home: Path,
    tmp_path: Path,
    command: Command,
) -> None:
    chest = spoilt(departed, tmp_path)
    path = bag_of(chest, "marram-papers") / "dune" / "library.json"
    path.write_text(path.read_text().replace('"seaholly"', '"phalarope"'))
    reseal(bag_of(chest, "marram-papers"))
    ran = command("restore", chest.folder, "marram-papers", "--json")
    assert ran.status == 0
    assert "kind-unknown" in {finding["code"] for finding in ran.json["libraries"][0]["findings"]}
    assert ran.json["libraries"][0]["settings"] == []


def test_a_changed_library_is_no_longer_proven(tmp_path: Path, library: Path, chest: dunechest.Chest) -> None:
    dunechest.archive([library], chest)
    (drill,) = dunechest.drill(chest)
    assert drill.passed
    assert dunechest.show_chest(chest).proven == {"shed"}
    (library / "rope.txt").write_text("cut")
    dunechest.archive([library], chest)
    shown = dunechest.show_chest(chest)
    assert (shown.proven, shown.drills["shed"].edition) == (frozenset(), 1)


def test_torn_deeds_are_read_as_far_as_they_go(tmp_path: Path) -> None:
    past_change = past_changes.begin("restore", "shed", "/x")
    past_change.will(past_changes.MadeFolder("/x"), past_changes.Made("/x/y", 1, 2))
    past_change.close()
    folder = Path(os.environ["DUNECHEST_HOME"]) / "deeds"
    whole = (folder / "000001.jsonl").read_bytes()
    for cut in range(len(whole)):
        (folder / "000001.jsonl").write_bytes(whole[:cut])
        found = list(past_changes.past_changes())
        assert len(found) <= 1
        if found:
            assert len(found[0].steps) <= 2
            assert not found[0].finished or cut >= len(whole) - 1
    (folder / "000002.jsonl").write_bytes(b"\xff\n{}\n")
    assert [item.number for item in past_changes.past_changes()] in ([], [1])
    assert past_changes.begin("restore", "shed", "/x").number == 3


def test_a_database_that_was_broken_when_it_was_archived_is_told(tmp_path: Path, chest: dunechest.Chest) -> None:
    place = tmp_path / "home" / "Documents" / "box"
    place.mkdir(parents=True)
    with closing(sqlite3.connect(place / "a.db")) as database:
        database.execute("CREATE TABLE t (x)")
        database.executemany("INSERT INTO t VALUES (?)", [("y" * 500,) for _ in range(50)])
        database.commit()
    dunechest.archive([place], chest)
    result = dunechest.restore(chest, "box", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert result.proof.ok
    assert (tmp_path / "back" / "a.db").exists()


def test_one_library_that_cannot_be_restored_holds_up_no_other(
    tmp_path: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch, command: Command
) -> None:
    """Of all in a chest, those that can be restored are; the other is named, with what to do about it."""
    home = tmp_path / "home"
    for name in ("Documents/letters", ".config/autostart", "Documents/songs"):
        (home / name).mkdir(parents=True)
        (home / name / "one.txt").write_text(name)
        assert command("archive", home / name, "--to", chest.folder).status == 0
    new = tmp_path / "homes" / "plover"
    (new / "Documents").mkdir(parents=True)
    monkeypatch.setenv("HOME", str(new))
    monkeypatch.setenv("DUNECHEST_HOME", str(tmp_path / "other state"))
    plan = command("restore", chest.folder, "--all", "--plan")
    assert (plan.status, "NOT RESTORED: autostart" in plan.out) == (1, True)
    ran = command("restore", chest.folder, "--all", "--yes", "--json")
    assert ran.status == 1
    assert sorted(library["name"] for library in ran.json["libraries"]) == ["letters", "songs"]
    (left,) = ran.json["left_behind"]
    assert left["name"] == "autostart"
    assert "--into" in left["why"]
    assert (new / "Documents" / "letters" / "one.txt").read_text() == "Documents/letters"
    assert not (new / ".config").exists()
    # Named by itself it is refused, and where it is named with its folder it is done.
    assert command("restore", chest.folder, "autostart", "--yes").status == 3
    into = new / ".config" / "autostart"
    assert command("restore", chest.folder, "autostart", "--into", into, "--yes").status == 0
    # One undo takes back all that one command restored.
    assert command("undo", "--yes").status == 0
    assert command("undo", "--yes").status == 0
    assert not (new / "Documents" / "letters").exists()


def test_one_library_that_has_no_room_takes_none_from_the_others(
    tmp_path: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch, command: Command
) -> None:
    home = tmp_path / "home"
    for name, text in (("albums", "x" * 3_000_000), ("letters", "ebb"), ("songs", "flow")):
        (home / "Documents" / name).mkdir(parents=True)
        (home / "Documents" / name / "one.txt").write_text(text)
        assert command("archive", home / "Documents" / name, "--to", chest.folder).status == 0
    new = tmp_path / "homes" / "plover"
    (new / "Documents").mkdir(parents=True)
    monkeypatch.setenv("HOME", str(new))
    monkeypatch.setenv("DUNECHEST_HOME", str(tmp_path / "other state"))
    monkeypatch.setattr(drives, "pretend", lambda found: replace(found, free=1_000_000))
    ran = command("restore", chest.folder, "--all", "--yes", "--json")
    assert ran.status == 1, ran.err
    assert sorted(library["name"] for library in ran.json["libraries"]) == ["letters", "songs"]
    (left,) = ran.json["left_behind"]
    assert left["name"] == "albums" and "bytes are missing" in left["why"]
