"""An archive says what it could not take, waits for nobody for ever, and counts all that it needs."""

from __future__ import annotations

import json
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from contextlib import closing
from pathlib import Path

import pytest

import dunechest
from dunechest.cli.bar import Display, bar
from dunechest.library import capture as capturing
from dunechest.model.restore import RestoreOptions
from dunechest.progress import Step
from tests.support.burrow import make, refer
from tests.support.runs import Command
from tests.support.sealing import reseal
from tests.support.trees import bag_of, facts

HOLDER = (
    "import sqlite3, sys, time\n"
    "c = sqlite3.connect(sys.argv[1], isolation_level=None)\n"
    "c.execute('PRAGMA locking_mode = EXCLUSIVE')\n"
    "c.execute('BEGIN EXCLUSIVE')\n"
    "print('held', flush=True)\n"
    "time.sleep(120)\n"
)


@pytest.fixture
def held(tmp_path: Path) -> Path:
    """A library with a database that its application holds for itself."""
    return make(tmp_path)


def hold(library: Path) -> subprocess.Popen[str]:
    process = subprocess.Popen(
        [sys.executable, "-c", HOLDER, str(library / "index.bur")], stdout=subprocess.PIPE, text=True
    )
    assert process.stdout is not None
    process.stdout.readline()
    return process


def test_a_database_held_for_itself_is_left_out_by_name(
    held: Path, chest: dunechest.Chest, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(capturing, "PATIENCE", 0.5)
    process = hold(held)
    try:
        ran = command("archive", held, "--to", chest.folder)
        assert ran.status == 3, "somebody has it open"
        begun = time.monotonic()
        ran = command("archive", held, "--to", chest.folder, "--ignore", "in-use", "--json")
        assert time.monotonic() - begun < 20
        assert ran.status == 1, ran.err
        (account,) = ran.json["libraries"]
        assert [item["path"] for item in account["left_out"] if item["fault"]] == ["index.bur"]
        assert not (bag_of(chest, "burrow") / "data/library/index.bur").exists()
    finally:
        process.kill()
        process.communicate()
    assert command("archive", held, "--to", chest.folder).status == 0
    assert (bag_of(chest, "burrow") / "data/library/index.bur").exists()


def test_waiting_for_a_database_can_be_interrupted(held: Path, chest: dunechest.Chest) -> None:
    process = hold(held)
    words = ["archive", str(held), "--to", str(chest.folder), "--ignore", "in-use"]
    archive = subprocess.Popen([sys.executable, "-m", "dunechest", *words], stderr=subprocess.PIPE)
    try:
        time.sleep(2.5)
        archive.send_signal(signal.SIGTERM)
        begun = time.monotonic()
        _, err = archive.communicate(timeout=20)
        assert (archive.returncode, time.monotonic() - begun < 8) == (130, True), err
    finally:
        process.kill()
        process.communicate()


def test_the_records_of_a_next_edition_need_room_too(tmp_path: Path, chest: dunechest.Chest) -> None:
    library = tmp_path / "many"
    library.mkdir()
    for number in range(3000):
        (library / f"a rather long name of a small file, number {number:05}").write_bytes(b"x")
    dunechest.archive([library], chest)
    (library / "one more").write_bytes(b"x")
    (plan,) = dunechest.plan_archive([dunechest.library_at(library)], chest)
    records = sum(
        (bag_of(chest, "many") / name).stat().st_size for name in ("dune/files.jsonl", "manifest-sha512.txt")
    )
    assert plan.room.need > records


def test_a_drive_with_room_for_bytes_but_not_for_files(tmp_path: Path, command: Command) -> None:
    place = tmp_path / "few"
    place.mkdir()
    done = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=64m,nr_inodes=60", "tmpfs", str(place)], capture_output=True, check=False
    )
    if done.returncode:
        pytest.skip("a small tmpfs cannot be mounted here")
    try:
        chest = dunechest.Chest.create(place, "few")
        library = tmp_path / "many"
        library.mkdir()
        for number in range(100):
            (library / str(number)).write_bytes(b"x")
        ran = command("archive", library, "--to", chest.folder)
        assert (ran.status, "no-room" in ran.err, "whatever their size" in ran.err) == (3, True, True)
    finally:
        subprocess.run(["umount", "-l", str(place)], check=True)


def test_very_long_names_of_hard_links_and_large_files_come_and_go(tmp_path: Path, chest: dunechest.Chest) -> None:
    library = tmp_path / "long"
    library.mkdir()
    name = "\u00fc" * 127
    (library / name).write_bytes(b"x" * 100)
    os.link(library / name, library / ("\u00f6" * 127))
    large = library / ("l" * 250 + ".bin")
    large.write_bytes(os.urandom(9 << 20))
    truth = {}
    for edition in range(1, 4):
        (account,) = dunechest.archive([library], chest)
        assert (account.edition, account.ok) == (edition, True)
        truth[edition] = facts(library)
        content = bytearray(large.read_bytes())
        content[100:200] = os.urandom(100)
        large.write_bytes(content)
    assert dunechest.verify(chest).ok
    for edition, wanted in truth.items():
        result = dunechest.restore(
            chest, "long", dunechest.RestoreOptions(into=str(tmp_path / f"back {edition}"), edition=edition)
        )
        assert (result.ok, facts(tmp_path / f"back {edition}") == wanted) == (True, True)


def test_a_file_that_its_owner_may_not_read_is_restored_by_anyone(
    tmp_path: Path, chest: dunechest.Chest, library: Path
) -> None:
    dunechest.archive([library], chest)
    bag = bag_of(chest, "shed")
    lines = [json.loads(line) for line in (bag / "dune/files.jsonl").read_text().splitlines()]
    for line, mode in zip(lines, (0o000, 0o200, 0o100), strict=True):
        line["mode"] = mode
    (bag / "dune/files.jsonl").write_text("".join(json.dumps(line, separators=(",", ":")) + "\n" for line in lines))
    reseal(bag)
    result = dunechest.restore(chest, "shed", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert result.ok, result.not_restored
    back = tmp_path / "back"
    assert {line["mode"] for line in lines} == {
        (back / line["path"].removeprefix("library/")).stat().st_mode & 0o777 for line in lines
    }
    dunechest.undo()


def test_a_name_that_is_a_file_here_and_a_folder_there_is_no_end(tmp_path: Path, chest: dunechest.Chest) -> None:
    library = tmp_path / "both ways"
    (library / "folder there").mkdir(parents=True)
    (library / "folder there" / "x").write_text("x")
    (library / "folder there" / "y").write_text("y")
    (library / "file there").write_text("file")
    dunechest.archive([library], chest)
    place = tmp_path / "place"
    (place / "file there").mkdir(parents=True)
    (place / "file there" / "mine").write_text("mine")
    (place / "folder there").write_text("mine too")
    before = facts(place, times=False)
    result = dunechest.restore(chest, "both-ways", RestoreOptions(into=str(place), if_exists="merge"))
    assert result.ok, result.not_restored
    assert (place / "folder there").read_text() == "mine too"
    assert (place / "file there" / "mine").read_text() == "mine"
    assert (place / "folder there (from blue)" / "x").read_text() == "x"
    assert (place / "folder there (from blue)" / "y").read_text() == "y"
    assert (place / "file there (from blue)").read_text() == "file"
    dunechest.undo()
    assert facts(place, times=False) == before
    kept = dunechest.restore(
        chest, "both-ways", RestoreOptions(into=str(place), if_exists="merge", on_conflict="keep-mine")
    )
    assert len(kept.kept_paths) == 3
    assert facts(place, times=False) == before


def test_with_a_chest_that_is_not_there_nothing_is_archived(
    library: Path, chest: dunechest.Chest, command: Command
) -> None:
    ran = command("archive", library, "--to", chest.folder, "--to", "other")
    assert (ran.status, "No chest is called 'other'" in ran.err) == (2, True)
    assert chest.bags() == ()


@pytest.mark.parametrize("count", [3, 19])
def test_a_small_library_that_is_gone_is_noticed(
    count: int, tmp_path: Path, chest: dunechest.Chest, command: Command
) -> None:
    library = tmp_path / "small"
    library.mkdir()
    for number in range(count):
        (library / str(number)).write_text(str(number))
    dunechest.archive([library], chest)
    (library / "0").write_text("changed, as on any day")
    assert command("archive", library, "--to", chest.folder).status == 0
    for path in library.iterdir():
        path.unlink()
    ran = command("archive", library, "--to", chest.folder)
    assert (ran.status, "mass-change" in ran.err) == (3, True)
    assert command("archive", library, "--to", chest.folder, "--ignore", "mass-change").status == 0


def test_compare_straight_after_archiving_finds_no_difference(
    tmp_path: Path, own_machine: Path, chest: dunechest.Chest, command: Command
) -> None:
    outside = own_machine / "Pictures" / "dune.map"
    outside.parent.mkdir()
    outside.write_bytes(b"outside")
    library = make(tmp_path)
    refer(library, outside)
    held = sqlite3.connect(library / "index.bur")
    held.execute("PRAGMA journal_mode = WAL")
    held.execute("PRAGMA wal_autocheckpoint = 0")
    held.execute("INSERT INTO map VALUES ('maps/south.map')")
    held.commit()
    (library / "open.mark").write_text("a lock of long ago")
    (library / "bought").mkdir()
    (library / "bought" / "song").write_text("licensed")
    ran = command("archive", library, "--to", chest.folder, "--ignore", "in-use")
    ran = command("compare", library, f"{chest.folder}/burrow", "--json")
    assert (ran.status, ran.json["differences"]) == (0, []), ran.out
    assert {item["path"] for item in ran.json["left_out"]} >= {"bought/song"}
    outside.write_bytes(b"changed")
    ran = command("compare", library, f"{chest.folder}/burrow", "--json")
    assert [item["path"] for item in ran.json["differences"]] == [str(outside)]
    held.execute("INSERT INTO map VALUES ('maps/other.map')")
    held.commit()
    ran = command("compare", library, f"{chest.folder}/burrow", "--json")
    assert {item["path"] for item in ran.json["differences"]} == {str(outside), "index.bur"}
    assert "map" in next(item["why"] for item in ran.json["differences"] if item["path"] == "index.bur")
    held.close()


def test_an_application_s_own_sort_order_is_no_damage(
    tmp_path: Path, chest: dunechest.Chest, command: Command
) -> None:
    library = tmp_path / "sorted"
    library.mkdir()
    with closing(sqlite3.connect(library / "own.db")) as connection:
        connection.create_collation("by_wing", lambda a, b: (a[::-1] > b[::-1]) - (a[::-1] < b[::-1]))
        connection.execute("CREATE TABLE birds (name TEXT COLLATE by_wing UNIQUE)")
        connection.execute("CREATE INDEX wings ON birds (name COLLATE by_wing)")
        connection.executemany("INSERT INTO birds VALUES (?)", [(f"bird {n * 7919 % 1000}",) for n in range(500)])
        connection.commit()
    assert command("archive", library, "--to", chest.folder).status == 0
    assert command("drill", chest.folder, "sorted").status == 0
    ran = command("restore", chest.folder, "sorted", "--into", tmp_path / "back")
    assert (ran.status, "NOT AS IT WAS" in ran.out) == (0, False)


def test_quiet_is_not_silent_about_damage(
    library: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    dunechest.archive([library], chest)
    assert command("verify", chest.folder, "--quiet").err == ""
    path = bag_of(chest, "shed") / "data/library/rope.txt"
    path.write_text("other")
    for words in (("verify",), ("restore", "shed", "--into", tmp_path / "b"), ("drill",)):
        ran = command(words[0], chest.folder, *words[1:], "--quiet")
        assert (ran.status, ran.out) == (1, "")
        assert "rope.txt" in ran.err, words
    ran = command("compare", library, f"{chest.folder}/shed", "--quiet")
    assert (ran.status, "rope.txt" in ran.err) == (1, True)
    (bag_of(chest, "shed") / "dune/library.json").write_text("{}")
    ran = command("chest", "show", chest.folder, "--quiet")
    assert (ran.status, "library.json" in ran.err) == (1, True)


def run(*words: str, **more: object) -> subprocess.CompletedProcess[bytes]:
    return subprocess.run([sys.executable, "-m", "dunechest", *words], capture_output=True, check=False, **more)  # type: ignore[call-overload]


def test_a_fault_of_the_program_has_a_status_of_its_own(
    command: Command, monkeypatch: pytest.MonkeyPatch, chest: dunechest.Chest
) -> None:
    def fault(*words: object) -> None:
        raise ZeroDivisionError("one of ours")

    monkeypatch.setattr("dunechest.jobs.known.chests.list_chests", fault)
    ran = command("chest", "list")
    assert (ran.status, "fault in Dune Chest itself" in ran.err, "ZeroDivisionError" in ran.err) == (70, True, True)


def test_a_closed_pipe_does_not_lose_the_rest_of_the_work(
    library: Path, chest: dunechest.Chest, tmp_path: Path
) -> None:
    others = []
    for number in range(3):
        other = tmp_path / f"other {number}"
        shutil.copytree(library, other)
        others.append(str(other))
    process = subprocess.Popen(
        [sys.executable, "-m", "dunechest", "archive", *others, "--to", str(chest.folder)],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    )
    assert process.stdout is not None
    process.stdout.close()
    assert process.stderr is not None
    assert (process.wait(), process.stderr.read()) == (0, b"")
    process.stderr.close()
    assert [entry.name for entry in chest.bags()] == ["other-0", "other-1", "other-2"]


def test_names_that_the_output_cannot_hold_never_crash(tmp_path: Path, chest: dunechest.Chest) -> None:
    library = tmp_path / "names"
    library.mkdir()
    (library / "d\u00fcne \u2603 \u6c99.txt").write_text("x")
    os.mkfifo(library / "p\u00efpe \u2603")
    environment = {**os.environ, "PYTHONIOENCODING": "ascii"}
    for words in (("archive", str(library), "--to", str(chest.folder)), ("verify", str(chest.folder))):
        ran = run(*words, env=environment)
        assert ran.returncode == 0, ran.stderr
    (bag_of(chest, "names") / "data/library" / "d\u00fcne \u2603 \u6c99.txt").write_text("other")
    ran = run("verify", str(chest.folder), env=environment)
    assert (ran.returncode, b"\\xfc" in ran.stdout) == (1, True)


def test_progress_counts_what_it_says(capsys: pytest.CaptureFixture[str]) -> None:
    from rich.console import Console

    console = Console(force_terminal=True, width=200, stderr=True)
    progress = Display()
    with bar(console, progress):
        progress(Step("checking", 3, 700, 0, 0, "shed"))
        time.sleep(0.3)
        progress(Step("checking", 600, 700, 0, 0, "shed"))
        time.sleep(0.3)
    err = capsys.readouterr().err
    assert "600 of 700 files" in err
    assert "bytes" not in err.replace("0 bytes", "bytes") or " B" not in err
    progress = Display()
    with bar(console, progress):
        progress(Step("copying", 1, 1, 1000, 1000, "shed"))
        time.sleep(1.3)
        progress(Step("copying", 1, 1, 1000, 1000, "shed"))
        time.sleep(0.2)
    assert "0:00:01 left" not in capsys.readouterr().err
