"""Marram Point: made the same each time, opened by its applications, found, looked at, archived, restored."""

from __future__ import annotations

import os
import shutil
import signal
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

import dunechest
from dunechest.demo.applications import APPLICATIONS
from dunechest.demo.applications.base import RefusalError
from dunechest.demo.applications.tidewrack import Tidewrack
from dunechest.demo.world import World, damage, make_world, wipe
from dunechest.document import moment
from tests.support.runs import Command
from tests.support.trees import facts, flip
from tests.support.worlds import LIBRARIES, NAMES, Move, place_of


def test_the_same_seed_gives_the_same_world(tmp_path: Path, painted: dict[object, object]) -> None:
    item = make_world(tmp_path / "one" / "w", size=0.1)
    # The catalogue holds absolute paths, so the second is made in the very same place.
    first = facts(item.folder)
    shutil.rmtree(item.folder)
    painted.clear()
    assert facts(make_world(tmp_path / "one" / "w", size=0.1).folder) == first
    assert facts(make_world(tmp_path / "one" / "w", size=0.1, seed=7).folder) != first


def test_a_world_is_not_made_over_something_else(tmp_path: Path, command: Command) -> None:
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine" / "thesis.txt").write_text("years of work")
    ran = command("demo", tmp_path / "mine")
    assert ran.status == 2
    assert (tmp_path / "mine" / "thesis.txt").exists()
    assert command("demo", tmp_path / "x", "--size", "-1").status == 2


@pytest.mark.parametrize("name", sorted(APPLICATIONS))
def test_each_application_opens_its_library_and_locks_it(name: str, world: World) -> None:
    application = APPLICATIONS[name](world.office_home)
    with application.open() as opened:
        assert opened.things
        assert opened.missing == ()
        assert (place_of(world, name) / application.lock_mark).exists()
        with pytest.raises(RefusalError, match="already open"), application.open():
            pass
    assert not (place_of(world, name) / application.lock_mark).exists()


@pytest.mark.parametrize(
    ("name", "gone"),
    [("glasswort", "originals"), ("glasswort", "catalogue.glw"), ("tidewrack", "notes.tide"),
     ("seaholly", "papers.files"), ("seaholly", "papers.bib"), ("cuttlebone", "titles"),
     ("redshank", "sounds"), ("spindrift", "projects"), ("saltpan", "index.json")],
)  # fmt: skip
def test_half_a_library_is_refused(name: str, gone: str, world: World) -> None:
    path = place_of(world, name) / gone
    if path.is_dir():
        shutil.rmtree(path)
    else:
        path.unlink()
    with pytest.raises(RefusalError), APPLICATIONS[name](world.office_home).open():
        pass


@pytest.mark.parametrize(("name", "file"), [("glasswort", "catalogue.glw"), ("tidewrack", "notes.tide")])
def test_a_broken_database_is_refused(name: str, file: str, world: World) -> None:
    path = place_of(world, name) / file
    content = bytearray(path.read_bytes())
    content[4096 + 8 : 4096 + 600] = os.urandom(592)
    content[100:140] = os.urandom(40)
    path.write_bytes(bytes(content))
    with pytest.raises(RefusalError, match="broken"), APPLICATIONS[name](world.office_home).open():
        pass


def test_missing_things_are_listed_and_rebuildable_ones_made_again(world: World) -> None:
    (victim,) = sorted(world.photos.rglob("originals/**/*.jpg"))[:1]
    victim.unlink()
    shutil.rmtree(world.photos / "previews")
    with APPLICATIONS["glasswort"](world.office_home).open() as opened:
        assert opened.missing == (str(victim),)
        assert any("previews made again" in line for line in opened.done)
    (paper,) = sorted(world.papers.rglob("*.pdf"))[:1]
    paper.unlink()
    with APPLICATIONS["seaholly"](world.office_home).open() as opened:
        assert opened.missing == (f"papers.files/{paper.name}",)


def test_a_title_is_adopted_only_when_folder_and_descriptor_agree(world: World) -> None:
    launcher = APPLICATIONS["cuttlebone"](world.office_home)
    next((world.games / "titles" / "lanternfish").rglob("*.pak")).unlink()
    with launcher.open() as opened:
        assert opened.missing == ("Lanternfish",)
        assert opened.counts == {"titles": 3}
        assert any("began to download Lanternfish" in line for line in opened.done)
    assert (world.games / "downloads" / "lanternfish.part").exists()
    with APPLICATIONS["cuttlebone"](world.laptop_home).open() as opened:
        assert any("new, empty library" in line for line in opened.done)


def test_find_recognises_the_eight_kinds_hidden_ones_too(pristine: World, command: Command) -> None:
    ran = command("find", pristine.office_home, pristine.office_drive, "--json")
    found = {item["name"]: item for item in ran.json["libraries"]}
    expected = {name: kind for kind, name in NAMES.items()} | {"old-dune-survey": "glasswort"}
    assert {name: item["kind"] for name, item in found.items()} == expected
    photos = [p for p in pristine.photos.rglob("*") if p.is_file()]
    assert found["dune-survey"]["file_count"] == len(photos)
    assert found["dune-survey"]["size_bytes"] == sum(p.stat().st_size for p in photos)
    assert found["dune-survey"]["changed_at"] == moment(max(p.stat().st_mtime for p in photos))
    assert found["tidewrack"]["evidence"]
    only = command("find", pristine.office_home, "--kind", "seaholly", "--json").json["libraries"]
    assert [item["name"] for item in only] == ["marram-papers"]
    frame = dunechest.find_libraries([pristine.office_home]).to_frame()
    assert len(frame) == 8


def test_find_without_a_place_searches_the_home(world: World, on_machine: Move, command: Command) -> None:
    on_machine("office-pc")
    names = {item["name"] for item in command("find", "--json").json["libraries"]}
    assert names == {*NAMES.values(), "old-dune-survey"} - {"winter-games"}
    on_machine("new-laptop")
    ran = command("find")
    assert ran.status == 0
    assert "No library of a known kind" in ran.out


def test_find_goes_neither_into_chests_nor_round_loops(world: World, command: Command) -> None:
    chest = dunechest.Chest.create(world.office_home / "Documents", "inside")
    dunechest.archive([world.photos], chest)
    (world.office_home / "round").symlink_to(world.office_home)
    assert len(command("find", world.office_home, "--json").json["libraries"]) == 8


def test_two_libraries_of_one_name_are_told_apart(world: World, command: Command) -> None:
    shutil.copytree(world.papers, world.office_home / "Desktop" / "Marram Papers")
    names = {
        item["name"] for item in command("find", world.office_home, "--kind", "seaholly", "--json").json["libraries"]
    }
    assert names == {"marram-papers-desktop", "marram-papers-documents"}
    assert command("look", "marram-papers-desktop").status == 0
    ran = command("look", "marram-papers")
    assert ran.status == 2


@pytest.mark.parametrize("words", [("find", "/no/such"), ("look", "no-such"), ("find", "--kind", "no-such")])
def test_words_that_mean_nothing_end_with_status_2(words: tuple[str, ...], command: Command) -> None:
    assert command(*words).status == 2
    assert command(*words, "--json").json["exit_status"] == 2


def test_look_counts_roles_and_the_biggest_things(pristine: World, command: Command) -> None:
    ran = command("look", pristine.photos, "--json")
    assert ran.status == 0
    roles = {role["role"]: role for role in ran.library["roles"]}
    previews = [p for p in (pristine.photos / "previews").rglob("*") if p.is_file()]
    assert roles["rebuildable"]["file_count"] == len(previews)
    assert roles["rebuildable"]["size_bytes"] == sum(p.stat().st_size for p in previews)
    assert roles["essential"]["file_count"] + len(previews) == ran.library["file_count"]
    assert ran.library["largest_items"][0]["path"] == "originals/"
    assert dunechest.look(pristine.photos).to_frame()["file_count"].sum() == ran.library["file_count"]


def test_a_lock_mark_counts_while_its_process_lives(
    world: World, command: Command, holder: Callable[[Path], subprocess.Popen[str]]
) -> None:
    mark = world.photos / ".glasswort-open"
    living = holder(world.folder / "marram-point.json")
    mark.write_text(f"{living.pid}\n")
    ran = command("look", world.photos, "--json")
    assert ran.status == 3
    assert ran.json["findings"][0]["code"] == "in-use"
    assert ran.library["uses"][0]["process_id"] == living.pid
    living.send_signal(signal.SIGKILL)
    living.wait()
    assert command("look", world.photos).status == 0
    mark.write_text("nonsense")
    assert command("look", world.photos).status == 0


def test_half_a_library_and_saves_elsewhere_are_findings(world: World, on_machine: Move, command: Command) -> None:
    on_machine("office-pc")
    codes = [f["code"] for f in command("look", world.games, "--json").json["findings"]]
    assert codes == ["elsewhere", "rebuildable"]
    shutil.rmtree(world.papers / "papers.files")
    ran = command("look", world.papers, "--json")
    assert (ran.status, ran.json["findings"][0]["code"]) == (3, "half-library")
    (world.folder / "nothing").mkdir()
    assert command("look", world.folder / "nothing", "--json").json["findings"][0]["code"] == "empty"


@pytest.mark.slow
def test_the_old_machine_dies_and_the_new_one_has_it_all(world: World, on_machine: Move, command: Command) -> None:
    on_machine("office-pc")
    command("find", world.office_home, world.office_drive)
    counts = {}
    for name, make in APPLICATIONS.items():
        with make(world.office_home).open() as opened:
            counts[name] = opened.counts
    assert command("chest", "new", world.blue, "--label", "blue").status == 0
    ran = command("archive", *NAMES.values(), "--to", "blue", "--json")
    assert ran.status == 0
    for account in ran.json["libraries"]:
        assert account["found_count"] == account["archived_count"] + len(account["left_out"])
        assert account["found_bytes"] == account["archived_bytes"] + sum(o["size_bytes"] for o in account["left_out"])
    wipe(world, "office-pc")
    on_machine("new-laptop")
    shown = command("chest", "show", world.blue, "--json").json
    assert shown["known_before"] is False
    assert [chest["label"] for chest in command("chest", "list", "--json").json["chests"]] == ["blue"]
    for kind in sorted(set(NAMES) - {"cuttlebone"}):
        assert command("restore", "blue", NAMES[kind]).status == 0, kind
    ran = command("restore", "blue", "winter-games")
    assert (ran.status, "no-place" in ran.err) == (3, True)
    games = world.laptop_drive / "Games"
    assert command("restore", "blue", "winter-games", "--into", games).status == 0
    home = world.laptop_home
    for name in LIBRARIES:
        was = place_of(world, name)
        now = games if name == "cuttlebone" else home / was.relative_to(world.office_home)
        APPLICATIONS[name](home).point_to(now)
    for name, make in APPLICATIONS.items():
        with make(home).open() as opened:
            assert (opened.counts, opened.missing) == (counts[name], ()), name
            assert not any("download" in line for line in opened.done)


@pytest.mark.parametrize("name", sorted(APPLICATIONS))
def test_wiped_and_restored_in_its_place_nothing_is_missing(name: str, world: World, on_machine: Move) -> None:
    """Library and outside files are gone from the same computer; the application then finds all of them again."""
    on_machine("office-pc")
    with APPLICATIONS[name](world.office_home).open() as opened:
        before = opened.counts
    place = place_of(world, name)
    chest = dunechest.Chest.create(world.blue, "blue")
    outside_files = [s.entry.path for s in dunechest.look(place).selection.outside_files]
    (account,) = dunechest.archive([place], chest)
    assert (account.ok, account.outside_count) == (True, len(outside_files))
    shutil.rmtree(place)
    for outside_file in outside_files:
        Path(outside_file).unlink()
    result = dunechest.restore(
        chest, account.archived_as, dunechest.RestoreOptions(into=str(place) if name == "cuttlebone" else None)
    )
    assert result.ok
    if name != "cuttlebone":
        assert sorted(str(now) for _, now in result.outside_files) == outside_files
    with APPLICATIONS[name](world.office_home).open() as opened:
        assert (opened.counts, opened.missing) == (before, ())


def test_notes_in_the_log_of_an_open_application_come_along(
    world: World, chest: dunechest.Chest, tmp_path: Path
) -> None:
    notes = Tidewrack(world.office_home)
    with notes.open() as opened:
        before = opened.counts["notes"]
        notes.write("while it was open", "and not yet folded in")
        with pytest.raises(dunechest.RefusedError):
            dunechest.archive([world.notes], chest)
        (account,) = dunechest.archive([world.notes], chest, dunechest.ArchiveOptions(ignore=("in-use",)))
    assert account.database_count == 1
    dunechest.restore(chest, "tidewrack", dunechest.RestoreOptions(into=str(tmp_path / "home" / ".tidewrack")))
    with Tidewrack(tmp_path / "home").open() as opened:
        assert opened.counts["notes"] == before + 1
    assert not (tmp_path / "home" / ".tidewrack" / "notes.open").exists(), "the lock mark stays behind"


def test_damage_is_found_whatever_the_library(world: World, chest: dunechest.Chest) -> None:
    dunechest.archive([world.photos, world.papers], chest)
    victim = next((chest.folder / "bags" / "marram-papers" / "data").rglob("*.pdf"))
    before = victim.stat()
    damage(victim)
    assert (victim.stat().st_size, victim.stat().st_mtime_ns) == (before.st_size, before.st_mtime_ns)
    bad = [(c.name, s.state) for c in dunechest.verify(chest).libraries for s in c.problems]
    assert bad == [("marram-papers", "changed")]


def test_applications_start_from_the_command_line(world: World) -> None:
    words = [sys.executable, "-m", "dunechest.demo.applications"]
    home = ["--home", str(world.office_home)]
    ran = subprocess.run([*words, "seaholly", "list", *home], capture_output=True, text=True, check=False)
    assert ran.returncode == 0
    assert "paper0001" in ran.stdout
    (world.papers / "papers.bib").write_text("% Seaholly references\n@article{torn,")
    ran = subprocess.run([*words, "seaholly", "open", *home], capture_output=True, text=True, check=False)
    assert ran.returncode == 1
    assert "refused" in ran.stderr


def test_the_log_of_the_sample_notes_is_a_true_one(pristine: World, tmp_path: Path) -> None:
    shutil.copytree(pristine.notes, tmp_path / "n")
    with_log = sqlite3.connect(tmp_path / "n" / "notes.tide")
    total = with_log.execute("SELECT count(*) FROM note").fetchone()[0]
    with_log.close()
    shutil.copy(pristine.notes / "notes.tide", tmp_path / "alone.tide")
    alone = sqlite3.connect(tmp_path / "alone.tide")
    assert alone.execute("SELECT count(*) FROM note").fetchone()[0] < total
    alone.close()


def test_flip_changes_one_bit(tmp_path: Path) -> None:
    path = tmp_path / "x"
    path.write_bytes(b"\0" * 9)
    flip(path)
    assert path.read_bytes() == b"\0" * 4 + b"\1" + b"\0" * 4
