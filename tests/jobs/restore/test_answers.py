"""Questions a restore asks on a terminal; parts of earlier editions; single files; readers that are asked in any order."""

from __future__ import annotations

import os
import select
import shutil
import sqlite3
import subprocess
import sys
import time
from contextlib import closing
from pathlib import Path

import pytest

import dunechest
from dunechest.demo.applications import APPLICATIONS
from dunechest.demo.world import World
from dunechest.machine import drives
from dunechest.model.restore import RestoreOptions
from tests.support.runs import Command
from tests.support.trees import facts
from tests.support.worlds import Departed, Move, opens, second_drive


def talk(words: list[str], answers: dict[bytes, bytes]) -> tuple[int, str]:
    """Run a command on a terminal, and answer its questions."""
    import pty

    inner, outer = pty.openpty()
    process = subprocess.Popen(
        [sys.executable, "-m", "dunechest", *words],
        stdin=outer, stdout=outer, stderr=outer, close_fds=True,
        env={**os.environ, "TERM": "dumb", "COLUMNS": "200", "NO_COLOR": "1"},
    )  # fmt: skip
    os.close(outer)
    seen = b""
    answers = {b"Is it yours? (yes, no, later) [later]": b"\n"} | answers
    begun = time.monotonic()
    while time.monotonic() - begun < 60:
        if select.select([inner], [], [], 0.1)[0]:
            try:
                seen += os.read(inner, 65536)
            except OSError:
                break
        elif process.poll() is not None:
            break
        for question, answer in list(answers.items()):
            if question in seen:
                os.write(inner, answer)
                del answers[question]
    status = process.wait(timeout=30)
    os.close(inner)
    answers.pop(
        b"Is it yours? (yes, no, later) [later]", None
    )  # asked where another computer is met for the first time
    assert not answers, f"never asked: {answers}; {seen.decode(errors='replace')}"
    return status, seen.decode(errors="replace")


def test_a_plan_is_read_and_answered(departed: Departed, new_home: Path) -> None:
    before = facts(new_home, times=False)
    words = ["restore", str(departed.chest.folder), "marram-papers"]
    status, seen = talk(words, {b"Do this? [y/N]": b"n\n"})
    assert (status, "Nothing was changed" in seen) == (3, True)
    assert facts(new_home, times=False) == before
    status, seen = talk(words, {b"Do this? [y/N]": b"y\n"})
    assert (status, "each one checked" in seen) == (0, True)
    opens("seaholly", new_home, departed)
    place = new_home / "Papers" / "Marram Papers"
    status, seen = talk(["undo"], {b"Do this? [y/N]": b"n\n"})
    assert (status, "To be undone" in seen, place.exists()) == (3, True, True)
    status, seen = talk(["undo"], {b"Do this? [y/N]": b"y\n"})
    assert (status, "Undone" in seen) == (0, True)
    assert facts(new_home, times=False) == before


def test_one_command_lists_asks_where_and_restores_all(departed: Departed, new_home: Path) -> None:
    """A person plugs the drive in, types one command, reads, and says yes."""
    place = second_drive(new_home)
    answers = {
        b"Plan to restore all of these? [y/N]": b"y\n",
        b"Which folder of this computer stands for that one": f"{place}\n".encode(),
        b"Do this? [y/N]": b"y\n",
    }
    status, seen = talk(["restore", str(departed.chest.folder)], answers)
    assert status == 0
    assert "8 libraries, " in seen
    for name in APPLICATIONS:
        opens(name, new_home, departed)


def test_a_part_of_an_earlier_edition(world: World, on_machine: Move, tmp_path: Path, command: Command) -> None:
    """The catalogue of that edition lies among the earlier ones; its album comes back as it was."""
    on_machine("office-pc")
    chest = dunechest.Chest.create(world.blue, "blue")
    dunechest.archive([world.photos], chest)
    with closing(sqlite3.connect(world.photos / "catalogue.glw")) as catalogue:
        (first,) = catalogue.execute(
            "SELECT title FROM album JOIN album_picture ON album = album.id JOIN picture ON picture = picture.id "
            "JOIN folder ON folder.id = picture.folder WHERE path LIKE '%/originals/%' LIMIT 1"
        ).fetchone()
        query = "SELECT picture.name FROM picture JOIN album_picture ON picture = picture.id JOIN album ON album = album.id"
        then = {name for (name,) in catalogue.execute(f"{query} WHERE title = ?", (first,))}
        catalogue.execute("DELETE FROM album_picture WHERE album = (SELECT id FROM album WHERE title = ?)", (first,))
        catalogue.execute("DELETE FROM album WHERE title = ?", (first,))
        catalogue.commit()
    (account,) = dunechest.archive([world.photos], chest)
    assert account.edition == 2
    words = ("restore", "blue", "dune-survey", "--part", first, "--into", tmp_path / "back", "--json")
    assert command(*words).status == 2, "the present edition has no such album"
    ran = command(*words, "--edition", "1")
    assert ran.status == 0, ran.out
    assert (ran.json["libraries"][0]["edition"], ran.json["libraries"][0]["parts"]) == (1, [first])
    by_hand = ran.library["references_by_hand"]
    assert all("not part of what is restored" in item["action"] for item in by_hand)
    with closing(sqlite3.connect(tmp_path / "back" / "catalogue.glw")) as catalogue:
        rows = catalogue.execute(
            "SELECT path, name FROM picture JOIN folder ON folder.id = picture.folder"
        ).fetchall()
        assert {name for _, name in rows} == then
        assert catalogue.execute("SELECT title FROM album").fetchall() == [(first,)]
    assert all((Path(folder) / name).is_file() for folder, name in rows)
    # Before it was updated it was a catalogue of that part already.
    assert command("undo", "--only-references").status == 0
    with closing(sqlite3.connect(tmp_path / "back" / "catalogue.glw")) as catalogue:
        assert {name for (name,) in catalogue.execute("SELECT name FROM picture")} == then
    assert command("undo").status == 0
    assert not (tmp_path / "back").exists()
    kept = [path.name for path in (world.state("office-pc") / "deeds").iterdir()]
    assert kept == ["000001.jsonl"], "nothing is kept of what was undone"
    whole = command("restore", "blue", "dune-survey", "--edition", "1", "--into", tmp_path / "whole", "--json")
    assert whole.status == 0
    assert all(line["passed"] for line in whole.library["checks"])


@pytest.mark.parametrize(
    ("choice", "now"),
    [
        ({"if_exists": "merge"}, {"log.txt": "mine", "log (from blue).txt": "archived"}),
        ({"if_exists": "merge", "on_conflict": "keep-mine"}, {"log.txt": "mine"}),
        ({"if_exists": "merge", "on_conflict": "keep-archived"}, {"log.txt": "archived"}),
        ({"if_exists": "set-aside"}, {"log.txt": "archived", "log (set aside 2026-01-02).txt": "mine"}),
    ],
)
def test_a_single_file_that_is_in_the_way(
    choice: dict[str, str], now: dict[str, str], chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    shelf = tmp_path / "home" / "Documents"
    shelf.mkdir()
    (shelf / "log.txt").write_text("archived")
    dunechest.archive([shelf / "log.txt"], chest)
    (shelf / "log.txt").write_text("mine")
    before = facts(shelf, times=False)
    result = dunechest.restore(chest, "log-txt", RestoreOptions(day="2026-01-02", **choice))  # type: ignore[arg-type]
    assert result.ok, result.proof
    assert {path.name: path.read_text() for path in shelf.iterdir()} == now
    if choice.get("on_conflict") != "keep-mine":
        dunechest.undo()
    assert facts(shelf, times=False) == before


def test_a_library_goes_onto_the_top_of_an_empty_drive(
    departed: Departed,
    new_home: Path,
    tmp_path: Path,
    command: Command,
) -> None:
    """A mount point cannot be renamed; its content can."""
    place = tmp_path / "big drive"
    place.mkdir()
    mounting = ["mount", "-t", "tmpfs", "-o", "size=64m", "tmpfs", str(place)]
    if subprocess.run(mounting, capture_output=True, check=False).returncode:
        pytest.skip("a tmpfs cannot be mounted here")
    try:
        ran = command("restore", departed.chest.folder, "winter-games", "--into", place, "--json")
        assert ran.status == 0, ran.out
        assert opens("cuttlebone", new_home, departed) == place
        shutil.rmtree(place / "titles" / "lanternfish")
        ran = command("restore", departed.chest.folder, "winter-games", "--into", place, "--if-exists", "set-aside")
        assert (ran.status, "a drive is mounted in" in ran.err) == (3, True)
        ran = command("restore", departed.chest.folder, "winter-games", "--into", place, "--if-exists", "merge")
        assert ran.status == 0
        opens("cuttlebone", new_home, departed)
        assert command("undo").status == 0
        assert not (place / "titles" / "lanternfish").exists()
    finally:
        subprocess.run(["umount", "-l", str(place)], check=True)


def test_too_little_room_for_all_of_them_together_is_seen_before(
    departed: Departed,
    new_home: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    from msgspec.structs import replace

    from dunechest.jobs.restore import plan_restores

    names = ["dune-survey", "storm-film"]
    needs = [dunechest.plan_restore(departed.chest, name).room.need for name in names]

    monkeypatch.setattr(drives, "pretend", lambda found: replace(found, free=max(needs) + 1000))
    first, second = plan_restores(departed.chest, names, RestoreOptions())
    assert "no-room" not in {finding.code for finding in first.findings}
    assert "no-room" in {finding.code for finding in second.findings}


def test_a_move_with_deletion_asks_one_question(
    library: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What is read before it is the truth of what yes does, and warns of what will be the only copy."""
    drive = tmp_path / "media" / "sand"
    drive.mkdir(parents=True)
    monkeypatch.setenv("DUNECHEST_DRIVES", str(drive))
    before = facts(library)
    words = ["rehome", str(library), "--to", str(drive), "--reclaim"]
    question = b"once the copy is proven? [y/N]"
    status, seen = talk(words, {question: b"n\n"})
    assert (status, "Nothing was changed" in seen, "only-copy" in seen) == (3, True, True)
    assert "set aside" not in seen and "This is a plan" not in seen
    assert facts(library) == before and not any(drive.iterdir())
    status, seen = talk(words, {question: b"y\n"})
    assert (status, seen.count("[y/N]"), seen.count("only-copy:")) == (0, 1, 1), seen
    assert library.is_symlink() and facts(drive / library.name) == before
    assert not list(library.parent.glob("*set aside*"))
    assert dunechest.rehome_back(library).set_aside_path is not None
    status, seen = talk(["reclaim", str(library)], {b"[y/N]": b"n\n"})
    assert (status, "This is a plan" in seen, len(list(drive.glob("shed (set aside*")))) == (3, False, 1)
    status, seen = talk(["reclaim", str(library)], {b"[y/N]": b"y\n"})
    assert (status, "Deleted: the original" in seen, list(drive.glob("*set aside*"))) == (0, True, []), seen
    assert facts(library) == before
