"""The day it is all for: eight libraries of an old computer come home to a new one, whatever is in the way."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

import dunechest
from dunechest.demo.applications import APPLICATIONS
from tests.support.runs import Command
from tests.support.trees import facts
from tests.support.worlds import LOST, NAMES, USER_DIRS, Departed, depart, opens, place_in, second_drive


def clean_again(home: Path) -> None:
    (home / ".config").mkdir(parents=True)
    for name in USER_DIRS.values():
        (home / name).mkdir()
    lines = [f'XDG_{name}_DIR="$HOME/{below}"' for name, below in USER_DIRS.items()]
    (home / ".config" / "user-dirs.dirs").write_text("\n".join(lines) + "\n")


def counterpart(departed: Departed, new_home: Path) -> tuple[str, str]:
    old = departed.places["cuttlebone"].parent
    return "--map", f"{old}={second_drive(new_home)}"


def test_all_of_them_with_one_command_and_back_again(departed: Departed, new_home: Path, command: Command) -> None:
    before = facts(new_home, times=False)
    listed = command("restore", departed.chest.folder, "--json").json["libraries"]
    assert {item["name"] for item in listed} == set(NAMES.values())
    unknown = [item["name"] for item in listed if item["destination"] is None]
    assert unknown == ["winter-games"]
    ran = command("restore", departed.chest.folder, "--all", "--plan", "--json")
    assert (ran.status, ran.json["would_run"]) == (1, True), "what blocks one library holds up no other"
    assert [item["name"] for item in ran.json["left_behind"]] == ["winter-games"]
    ran = command("restore", departed.chest.folder, "--all", *counterpart(departed, new_home), "--json")
    assert (ran.status, ran.json["ok"]) == (0, True)
    for item in ran.json["libraries"]:
        assert item["references_by_hand"] == []
        assert all(line["passed"] for line in item["checks"])
        assert item["file_count"] == item["listed_count"]
    for name in APPLICATIONS:
        assert opens(name, new_home, departed).is_relative_to(new_home.parent)
    shutil.rmtree(new_home)
    shutil.rmtree(second_drive(new_home))
    clean_again(new_home)
    assert command("restore", departed.chest.folder, "--all", *counterpart(departed, new_home)).status == 0
    assert command("undo", "--json").status == 0, "one command is one change"
    assert facts(new_home, times=False) == before
    assert os.listdir(second_drive(new_home)) == []


def test_what_somebody_changed_since_is_not_taken_back(departed: Departed, new_home: Path, command: Command) -> None:
    assert command("restore", departed.chest.folder, "marram-papers").status == 0
    place = new_home / "Papers" / "Marram Papers"
    (place / "new notes.txt").write_text("not to be lost")
    with (place / "papers.bib").open("a") as bibliography:
        bibliography.write("% read\n")
    ran = command("undo", "--json")
    assert (ran.status, "new notes.txt is new" in ran.out, "papers.bib was changed" in ran.out) == (3, True, True)
    assert command("undo", "--plan").status == 3
    assert (place / "new notes.txt").exists()
    assert (new_home / ".config" / "seaholly" / "settings.json").exists()


def test_the_folder_for_a_drive_is_asked_for_once(departed: Departed, new_home: Path, command: Command) -> None:
    ran = command("restore", departed.chest.folder, "winter-games", "--json")
    assert (ran.status, [f["code"] for f in ran.json["findings"]]) == (3, ["no-place"])
    assert str(departed.places["cuttlebone"].parent) in ran.json["findings"][0]["action"]
    words = counterpart(departed, new_home)
    plan = command("restore", departed.chest.folder, "winter-games", *words, "--plan", "--json").json["libraries"][0]
    assert plan["path"] == str(second_drive(new_home) / "Winter Games")
    again = command("restore", departed.chest.folder, "winter-games", "--plan", "--json").json["libraries"][0]
    assert again["path"] is None, "a plan remembers nothing"
    assert command("restore", departed.chest.folder, "winter-games", *words).status == 0
    assert command("undo").status == 0
    again = command("restore", departed.chest.folder, "winter-games", "--plan", "--json").json["libraries"][0]
    assert (again["path"], again["path_known_by"]) == (plan["path"], "map")
    for words in (("--map", "no-sign"), ("--map", "not/full=/tmp")):
        assert command("restore", departed.chest.folder, "winter-games", *words).status == 2


@pytest.mark.parametrize("name", sorted(APPLICATIONS))
def test_something_in_the_way_is_refused_or_set_aside(
    name: str, departed: Departed, new_home: Path, command: Command
) -> None:
    place = place_in(name, departed, new_home)
    place.mkdir(parents=True)
    (place / "what was here.txt").write_text("somebody's")
    words = ("restore", departed.chest.folder, NAMES[name], *counterpart(departed, new_home))
    before = facts(new_home.parent)
    ran = command(*words, "--json")
    assert (ran.status, [f["code"] for f in ran.json["findings"]]) == (3, ["occupied"])
    kept = {
        path: fact for path, fact in facts(new_home.parent).items() if not path.startswith(b"state") and path != b"."
    }
    assert kept == {path: fact for path, fact in before.items() if path != b"."}
    ran = command(*words, "--if-exists", "set-aside", "--json")
    assert ran.status == 0
    (aside,) = ran.json["libraries"][0]["set_aside"]
    assert Path(aside["path"]) == place
    assert (Path(aside["new_path"]) / "what was here.txt").read_text() == "somebody's"
    assert opens(name, new_home, departed) == place


@pytest.mark.parametrize("name", sorted(APPLICATIONS))
def test_only_what_is_missing_is_joined(name: str, departed: Departed, new_home: Path, command: Command) -> None:
    words = ("restore", departed.chest.folder, NAMES[name], *counterpart(departed, new_home))
    assert command(*words).status == 0
    place = place_in(name, departed, new_home)
    lost = sorted(path for path in (place / LOST[name]).rglob("*") if path.is_file() and path.suffix != ".limpet")
    lost = [path for path in lost if path.name != "device.toml"][:3]
    for path in lost:
        path.unlink()
    (place / "mine.txt").write_text("not in the chest")
    APPLICATIONS[name](new_home).settings_file.unlink()
    ran = command(*words, "--if-exists", "merge", "--json")
    assert ran.status == 0, ran.out
    (account,) = ran.json["libraries"]
    outside_files = len(account["outside_files"])
    assert account["existing_count"] in (account["file_count"] - len(lost), account["file_count"] - len(lost) - 1)
    assert account["renamed_conflicts"] == account["replaced_paths"] == []
    assert account["file_count"] >= len(lost) + outside_files
    assert (place / "mine.txt").read_text() == "not in the chest"
    assert opens(name, new_home, departed) == place


def test_by_way_of_a_real_drive(
    mounted: Path,
    new_home: Path,
    tmp_path: Path,
    command: Command,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    own = {name: os.environ[name] for name in ("HOME", "DUNECHEST_HOME")}
    departed = depart(tmp_path / "marram-point", mounted, monkeypatch)
    for name, value in own.items():
        monkeypatch.setenv(name, value)
    ran = command("restore", mounted, "--all", *counterpart(departed, new_home), "--json")
    assert (ran.status, ran.json["ok"]) == (0, True)
    for name in APPLICATIONS:
        opens(name, new_home, departed)


def test_the_launcher_adopts_the_games_whether_it_had_begun_a_download_or_not(
    departed: Departed, new_home: Path, command: Command
) -> None:
    """It had descriptors without their folders, and half a folder: it has begun to download them."""
    place = place_in("cuttlebone", departed, new_home)
    data = departed.chest.folder / "bags" / "winter-games" / "data" / "library"
    (place / "descriptors").mkdir(parents=True)
    for path in (data / "descriptors").iterdir():
        shutil.copy(path, place / "descriptors")
    (place / "titles" / "lanternfish").mkdir(parents=True)
    (place / "titles" / "lanternfish" / "lanternfish.run").write_bytes(b"#!made-up")
    launcher = APPLICATIONS["cuttlebone"](new_home)
    launcher.point_to(place)
    with launcher.open() as opened:
        assert len(opened.missing) == 4
    assert len(list((place / "downloads").iterdir())) == 4
    words = ("restore", departed.chest.folder, "winter-games", *counterpart(departed, new_home))
    ran = command(*words, "--if-exists", "merge", "--json")
    assert ran.status == 0, ran.out
    aside = {Path(item["path"]).name: Path(item["new_path"]) for item in ran.json["libraries"][0]["set_aside"]}
    assert sorted(aside)[:2] == ["gull-parliament.part", "lanternfish"]
    assert (aside["lanternfish"] / "lanternfish.run").read_bytes() == b"#!made-up"
    assert opens("cuttlebone", new_home, departed) == place
    shutil.rmtree(place)
    launcher.settings_file.unlink()
    assert command(*words).status == 0
    opens("cuttlebone", new_home, departed)


PARTS = {
    "glasswort": ("north ridge", "slack pond"),
    "redshank": None,
    "seaholly": None,
    "cuttlebone": ("lanternfish", "ninth-groyne"),
    "saltpan": None,
    "spindrift": None,
}


@pytest.mark.parametrize("name", sorted(PARTS))
def test_a_part_alone_and_another_joined_to_it(
    name: str, departed: Departed, new_home: Path, command: Command
) -> None:
    """Of one part first, then of another: albums, playlists, keywords, descriptors and designs are included."""
    plan = dunechest.plan_restore(
        departed.chest, NAMES[name], dunechest.RestoreOptions(into=str(new_home / "nowhere"))
    )
    from dunechest.jobs.restore.planning.bag_tree import bag_tree

    entry = departed.chest.bag(NAMES[name])
    with bag_tree(entry.folder, plan.record, plan.kind, plan.files, new_home) as tree:
        parts = [part for part in tree.parts if part.files]
    first, second = parts[0], parts[1]
    words = ("restore", departed.chest.folder, NAMES[name], *counterpart(departed, new_home), "--json")
    ran = command(*words, "--part", first.name)
    assert ran.status == 0, ran.out
    place = Path(ran.json["libraries"][0]["path"])
    with APPLICATIONS[name](new_home).open() as opened:
        alone = opened.counts
        assert opened.missing == ()
    files = {path.relative_to(place).as_posix() for path in place.rglob("*") if path.is_file()}
    assert set(first.files) <= files
    assert not set(second.files) - set(first.files) - set(second.needed_paths) <= files
    ran = command(*words, "--part", second.name, "--if-exists", "merge")
    assert ran.status == 0, ran.out
    with APPLICATIONS[name](new_home).open() as opened:
        assert opened.missing == ()
        both = opened.counts
    assert all(both[what] >= count for what, count in alone.items())
    assert sum(both.values()) > sum(alone.values())
    files = {path.relative_to(place).as_posix() for path in place.rglob("*") if path.is_file()}
    assert set(first.files) | set(second.files) <= files
    assert command(*words, "--part", "no such part").status == 2


def test_an_album_joins_a_catalogue_that_has_pictures_of_its_own(
    departed: Departed, new_home: Path, command: Command
) -> None:
    """Rows that arrive get numbers of their own; what was there stays as it was."""
    place = new_home / "Images" / "Dune Survey"
    (place / "originals" / "mine").mkdir(parents=True)
    (place / "originals" / "mine" / "my own.jpg").write_bytes(b"a picture")
    bag = departed.chest.folder / "bags" / "dune-survey" / "data" / "library" / "catalogue.glw"
    shutil.copy(bag, place / "catalogue.glw")
    with closing(sqlite3.connect(place / "catalogue.glw")) as mine:
        for table in ("album_picture", "album", "picture", "folder", "remark"):
            mine.execute(f"DELETE FROM {table}")
        mine.execute("INSERT INTO folder VALUES (1, ?)", (str(place / "originals" / "mine"),))
        mine.execute("INSERT INTO picture VALUES (1, 1, 'my own.jpg', 'mine', 5)")
        mine.execute("INSERT INTO album VALUES (1, 'my album')")
        mine.execute("INSERT INTO album_picture VALUES (1, 1)")
        mine.commit()
    with closing(sqlite3.connect(bag)) as theirs:
        (title,) = theirs.execute("SELECT title FROM album ORDER BY id LIMIT 1").fetchone()
        wanted = theirs.execute(
            "SELECT count(DISTINCT picture) FROM album JOIN album_picture ON album = album.id WHERE title = ?",
            (title,),
        ).fetchone()[0]
    words = ("restore", departed.chest.folder, "dune-survey", "--part", title, "--if-exists", "merge", "--json")
    ran = command(*words)
    assert ran.status == 0, ran.out
    with closing(sqlite3.connect(place / "catalogue.glw")) as now:
        assert now.execute("SELECT title FROM album ORDER BY id").fetchall() == [("my album",), (title,)]
        assert now.execute("SELECT count(*) FROM picture").fetchone() == (1 + wanted,)
        assert now.execute("SELECT name, folder FROM picture WHERE id = 1").fetchone() == ("my own.jpg", 1)
        paths = now.execute("SELECT path, name FROM picture JOIN folder ON folder = folder.id").fetchall()
    assert all((Path(folder) / name).is_file() for folder, name in paths)
    again = command(*words).json["libraries"][0]
    assert [item["added_count"] for item in again["merged_files"]] == [0]
    assert command("undo", "--plan", "--json").library["name"] == "dune-survey"
    assert command("undo").status == 0
    with closing(sqlite3.connect(place / "catalogue.glw")) as now:
        assert now.execute("SELECT title FROM album").fetchall() == [("my album",)]
    assert (place / "originals" / "mine" / "my own.jpg").read_bytes() == b"a picture"


def test_two_notebooks_are_not_joined_without_a_word_how(
    departed: Departed, new_home: Path, command: Command
) -> None:
    words = ("restore", departed.chest.folder, "tidewrack")
    assert command(*words).status == 0
    notes = new_home / ".tidewrack" / "notes.tide"
    with closing(sqlite3.connect(notes)) as database, database:
        database.execute("INSERT INTO note (notebook, title, body) VALUES (1, 'written since', '')")
    written = notes.read_bytes()
    ran = command(*words, "--if-exists", "merge", "--json")
    assert (ran.status, [f["code"] for f in ran.json["findings"]]) == (3, ["not-joinable"])
    assert notes.read_bytes() == written
    assert command(*words, "--if-exists", "merge", "--on-conflict", "keep-mine", "--json").status == 0
    assert notes.read_bytes() == written
    Path(f"{notes}-wal").write_bytes(b"what an application left behind")
    assert command(*words, "--if-exists", "merge", "--on-conflict", "keep-archived", "--json").status == 0
    with APPLICATIONS["tidewrack"](new_home).open() as opened:
        assert opened.counts == departed.counts["tidewrack"]
    assert command("undo").status == 0
    assert notes.read_bytes() == written
    assert Path(f"{notes}-wal").read_bytes() == b"what an application left behind"


def test_a_kept_plan_is_followed_exactly_or_not_at_all(
    departed: Departed, new_home: Path, tmp_path: Path, command: Command
) -> None:
    chest = departed.chest.folder
    kept = tmp_path / "plan.json"
    kept.write_text(command("restore", chest, "marram-papers", "shore-recordings", "--plan", "--json").out)
    place = new_home / "Papers" / "Marram Papers"
    place.mkdir()
    (place / "in the way").write_text("")
    ran = command("restore", chest, "--apply-plan", kept)
    assert (ran.status, "in the way" in ran.err) == (3, True)
    assert os.listdir(place) == ["in the way"]
    shutil.rmtree(place)
    assert command("restore", chest, "--apply-plan", kept).status == 0
    for name in ("seaholly", "redshank"):
        opens(name, new_home, departed)
    document = json.loads(kept.read_text())
    document["saved_plan"]["machine"] = "0" * 32
    for content in (json.dumps(document), "{}", "no JSON", '{"kept": {"format": 1}}', "[" * 100_000):
        kept.write_text(content)
        assert command("restore", chest, "--apply-plan", kept).status in (2, 3)
    assert command("restore", chest, "--apply-plan", tmp_path / "nothing").status == 2
    for words in (
        ("--all", "marram-papers"),
        ("--apply-plan", kept, "--plan"),
        ("marram-papers", "--on-conflict", "keep-mine"),
    ):
        assert command("restore", chest, *words).status == 2
    assert command("restore", chest, "marram-papers", "tidewrack", "--into", tmp_path / "x").status == 2


def test_a_drill_proves_a_copy_and_leaves_nothing(
    departed: Departed, new_home: Path, tmp_path: Path, command: Command
) -> None:
    before = facts(new_home, times=False)
    scratch = tmp_path / "scratch"
    scratch.mkdir()
    shown = command("chest", "show", departed.chest.folder, "--json").json["libraries"]
    assert not any(item["proven"] for item in shown)
    ran = command("drill", departed.chest.folder, "dune-survey", "winter-games", "--scratch", scratch, "--json")
    assert (ran.status, [item["passed"] for item in ran.json["libraries"]]) == (0, [True, True])
    assert ran.json["libraries"][0]["result"]["ok"]
    assert (os.listdir(scratch), facts(new_home, times=False)) == ([], before)
    shown = command("chest", "show", departed.chest.folder, "--json").json["libraries"]
    assert {item["name"] for item in shown if item["proven"]} == {"dune-survey", "winter-games"}
    assert command("undo").status == 2, "a drill is nothing to undo"
    assert command("drill", departed.chest.folder, "nothing").status == 2
    assert command("drill", departed.chest.folder, "--scratch", tmp_path / "no folder").status == 2
