"""Things go wrong: files change, drives fill up, processes die, and nothing is lost."""

from __future__ import annotations

import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

import msgspec
import pytest

import dunechest
from dunechest.chest import journal
from dunechest.chest.journal import Rename
from dunechest.jobs.archive.doing.archiving import carry_out
from dunechest.jobs.archive.planning.plan_archive import plan_archive
from dunechest.machine import drives
from dunechest.transfer import copying, medium
from dunechest.transfer.tasks import CopyJob, CopyTask
from tests.support.runs import Command
from tests.support.trees import bag_of, facts, sha512sum


def copy_one(source: Path, target: Path, **more: object) -> copying.CopyOutcome:
    info = source.stat()
    task = CopyTask(os.fsencode(source), os.fsencode(target), info.st_size, info.st_mtime_ns, 0o644, **more)  # type: ignore[arg-type]
    (outcome,) = copying.copy_files(CopyJob([task], True, True), lambda count: None)
    return outcome


@pytest.mark.parametrize("size", [1000, 200_000, 9_000_000])
def test_a_file_that_changes_once_is_read_again(size: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    source = tmp_path / "source"
    source.write_bytes(b"a" * size)
    os.utime(source, ns=(10**18, 10**18))
    real, calls = copying.still, []

    def meddle(fd: int, *rest: object) -> None:
        if not calls:
            calls.append(1)
            source.write_bytes(b"b" * size)
        real(fd, *rest)  # type: ignore[arg-type]

    monkeypatch.setattr(copying, "still", meddle)
    outcome = copy_one(source, tmp_path / "target")
    assert (outcome.state, outcome.again >= 1) == ("ok", True)
    assert (tmp_path / "target").read_bytes() == b"b" * size


def test_a_file_that_will_not_hold_still_is_reported(
    library: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(copying, "PAUSES", (0.01, 0.01))
    busy, ended = library / "rope.txt", threading.Event()

    def scribble() -> None:
        while not ended.is_set():
            busy.write_text(str(time.monotonic_ns()))

    writer = threading.Thread(target=scribble)
    writer.start()
    try:
        (account,) = dunechest.archive([library], chest)
    finally:
        ended.set()
        writer.join()
    assert not account.ok
    (left,) = account.left_out
    assert (left.path, left.fault) == ("rope.txt", True)
    assert "changed each of the 3 times" in left.why
    assert dunechest.verify(chest).ok


def test_a_file_that_vanishes_and_one_that_appears(library: Path, chest: dunechest.Chest, command: Command) -> None:
    (plan,) = plan_archive([dunechest.library_at(library)], chest)
    (library / "rope.txt").unlink()
    (library / "late.txt").write_text("late")
    account = carry_out(plan)
    assert [(o.path, o.fault) for o in account.left_out] == [("rope.txt", True)]
    assert account.appeared_paths == ("late.txt",)
    assert not account.ok


@pytest.mark.parametrize("size", [500, 300_000, 9_000_000])
def test_a_drive_that_gives_back_other_bytes_is_not_believed(
    size: int, tmp_path: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    library = tmp_path / "lib"
    library.mkdir()
    (library / "f").write_bytes(os.urandom(size))
    real = medium.forget

    def rot(fd: int, offset: int = 0, length: int = 0) -> None:
        path = os.readlink(f"/proc/self/fd/{fd}")
        if "dune-chest" in path and path.endswith("library/f"):
            with open(path, "r+b") as file:
                file.seek(size // 2)
                byte = file.read(1)
                file.seek(size // 2)
                file.write(bytes([byte[0] ^ 1]))
                file.flush()
                os.fsync(file.fileno())
        real(fd, offset, length)

    monkeypatch.setattr(medium, "forget", rot)
    with pytest.raises(dunechest.CutOffError, match="gave back differs"):
        dunechest.archive([library], chest)
    assert chest.bags()[0].state == "unfinished"
    monkeypatch.setattr(medium, "forget", real)
    (account,) = dunechest.archive([library], chest)
    assert account.ok
    assert dunechest.verify(chest).ok


@pytest.mark.skipif(getattr(os, "geteuid", int)() == 0, reason="root may read everything")
def test_an_unreadable_file_for_an_ordinary_person(library: Path, chest: dunechest.Chest) -> None:
    (library / "rope.txt").chmod(0)
    (account,) = dunechest.archive([library], chest)
    assert [(o.path, o.fault) for o in account.left_out] == [("rope.txt", True)]


def test_too_little_room_is_counted_before(
    library: Path, chest: dunechest.Chest, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(drives, "pretend", lambda found: msgspec.structs.replace(found, free=100_000))
    ran = command("archive", library, "--to", chest.folder, "--ignore", "no-room")
    assert ran.status == 3
    assert "no-room" in ran.err
    assert " short." in ran.err
    assert chest.bags() == ()


def test_a_chest_is_not_archived_into_itself(library: Path, command: Command) -> None:
    chest = dunechest.Chest.create(library, "inner")
    assert "chest-inside" in command("archive", library, "--to", chest.folder).err
    assert "inside-chest" in command("archive", chest.folder / "bags", "--to", chest.folder).err


def test_a_library_in_use_is_refused_and_despite_goes_on(
    library: Path, chest: dunechest.Chest, command: Command, holder: Callable[[Path], object]
) -> None:
    holder(library / "rope.txt")
    ran = command("archive", library, "--to", chest.folder)
    assert ran.status == 3
    assert "in-use" in ran.err
    assert chest.bags() == ()
    assert command("look", library).status == 3
    assert command("archive", library, "--to", chest.folder, "--ignore", "in-use").status == 0


def test_a_second_process_is_refused_with_the_first_one_named(
    library: Path, chest: dunechest.Chest, command: Command
) -> None:
    with chest.changing("the-other-machine"):
        ran = command("archive", library, "--to", chest.folder)
    assert ran.status == 3
    assert f"process {os.getpid()} on the-other-machine" in ran.err
    assert command("archive", library, "--to", chest.folder).status == 0


@pytest.mark.parametrize("after", range(12))
def test_a_decided_change_is_finished_by_whoever_opens_next(
    after: int, library: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch, command: Command
) -> None:
    """Cut off after so many renames: the next opening of the chest does the rest."""
    real, count = os.replace, [0]

    def replace(old: object, new: object) -> None:
        if "pending" in str(old) and not str(old).endswith(".being-written"):
            count[0] += 1
            if count[0] > after:
                raise KeyboardInterrupt
        real(old, new)  # type: ignore[arg-type]

    monkeypatch.setattr(os, "replace", replace)
    try:
        dunechest.archive([library], chest)
    except KeyboardInterrupt:
        pass
    monkeypatch.setattr(os, "replace", real)
    ran = command("verify", chest.folder)
    assert ran.status == 0, ran.out
    assert [e.state for e in chest.bags()] == ["whole"]
    assert sha512sum(bag_of(chest, "shed")).returncode == 0
    assert not (bag_of(chest, "shed") / "dune" / "pending").exists()


def test_a_torn_journal_decides_nothing(
    library: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(journal, "carry_out", lambda bag, steps: (_ for _ in ()).throw(KeyboardInterrupt))
    with pytest.raises(KeyboardInterrupt):
        dunechest.archive([library], chest)
    monkeypatch.undo()
    path = bag_of(chest, "shed") / "dune" / "pending" / "journal.json"
    whole = path.read_bytes()
    for torn in (whole[:-10], whole.replace(b"data", b"tada"), b"", b"[]"):
        path.write_bytes(torn)
        assert dunechest.Chest.open(chest.folder).recovered == ()
        assert [e.state for e in chest.bags()] == ["unfinished"]
    path.write_bytes(whole)
    assert dunechest.Chest.open(chest.folder).recovered == ("shed",)


def test_a_change_decided_while_another_waited_is_finished_and_not_cleared(
    library: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    (waiting,) = plan_archive([dunechest.library_at(library)], chest)
    monkeypatch.setattr(journal, "carry_out", lambda bag, steps: (_ for _ in ()).throw(KeyboardInterrupt))
    with pytest.raises(KeyboardInterrupt):
        dunechest.archive([library], chest)
    monkeypatch.undo()
    with pytest.raises(dunechest.RefusedError, match="The chest now has"):
        carry_out(waiting)
    assert [e.state for e in chest.bags()] == ["whole"]
    assert dunechest.verify(chest).ok


@pytest.mark.parametrize(
    "step", [("../../x", "data"), ("dune/pending/payload", "/etc/x"), ("data", "bags"), ("dune/pending/a", "../b")]
)
def test_a_strange_journal_is_not_carried_out(step: tuple[str, str], chest: dunechest.Chest) -> None:
    bag = chest.folder / "bags" / "shed"
    (bag / "dune" / "pending").mkdir(parents=True)
    journal.write(bag, ((Rename(*step),),))
    before = facts(chest.folder)
    assert "nothing was touched" in dunechest.Chest.open(chest.folder).unfinished["shed"]
    assert {k for k in facts(chest.folder) if b"in-use" not in k} == {k for k in before if b"in-use" not in k}


def test_what_was_proven_is_taken_up_by_the_next_run(
    tmp_path: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    library = tmp_path / "lib"
    library.mkdir()
    for number in range(500):
        (library / f"{number:03}").write_bytes(os.urandom(100))
        os.utime(library / f"{number:03}", ns=(10**18, 10**18))
    real, jobs = copying.perform, []

    def perform(number: int, job: object, tell: object) -> object:
        jobs.append(number)
        if len(jobs) == 2:
            raise KeyboardInterrupt
        return real(number, job, tell)  # type: ignore[arg-type]

    monkeypatch.setattr(copying, "perform", perform)
    monkeypatch.setattr(
        "dunechest.transfer.workers.Workers.for_job",
        lambda f, t, p, tell: __import__("dunechest.transfer.workers", fromlist=["Workers"]).Workers(0, tell),
    )
    with pytest.raises(KeyboardInterrupt):
        dunechest.archive([library], chest)
    assert [e.state for e in chest.bags()] == ["unfinished"]
    (library / "000").write_bytes(b"changed meanwhile")
    (library / "001").unlink()
    (account,) = dunechest.archive([library], chest)
    assert account.resumed_count == 190
    assert account.ok
    assert account.archived_count == 499
    assert dunechest.verify(chest).ok
    assert sha512sum(bag_of(chest, "lib")).returncode == 0


@pytest.mark.slow
def test_interrupting_ends_quickly_and_the_same_command_goes_on(tmp_path: Path, chest: dunechest.Chest) -> None:
    library = tmp_path / "lib"
    library.mkdir()
    for number in range(12):
        (library / f"{number}").write_bytes(os.urandom(8_000_000))
    words = [sys.executable, "-m", "dunechest", "archive", str(library), "--to", str(chest.folder)]
    # A slow drive: on a fast one, a busy computer looks here only when all is copied.
    slow = (
        # Tests that a shell runs in the background have Ctrl-C switched off, and so would this process.
        "import signal; signal.signal(signal.SIGINT, signal.default_int_handler); import sys, time; from dunechest.transfer import disk; from dunechest.cli.app import run; "
        "disk.gate = lambda operation, *what: time.sleep(0.1 if operation == 'write' else 0); sys.exit(run(sys.argv[1:]))"
    )
    process = subprocess.Popen(
        [sys.executable, "-c", slow, *words[3:]],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        start_new_session=True,
    )
    pending = bag_of(chest, "lib") / "dune" / "pending" / "proven.jsonl"
    while not (pending.exists() and list(pending.parent.rglob("payload/library/*"))) and process.poll() is None:
        time.sleep(0.01)
    begun = time.monotonic()
    os.killpg(process.pid, signal.SIGINT)
    _, err = process.communicate(timeout=20)
    assert process.returncode == 130, err
    assert b"again to continue" in err
    assert time.monotonic() - begun < 15
    assert subprocess.run(words, capture_output=True, check=False).returncode == 0
    assert sha512sum(bag_of(chest, "lib")).returncode == 0


@pytest.mark.slow
def test_killed_at_any_moment_the_chest_is_sound(tmp_path: Path, chest: dunechest.Chest, library: Path) -> None:
    dunechest.archive([library], chest)
    other = tmp_path / "other"
    other.mkdir()
    for number in range(300):
        (other / f"{number}").write_bytes(os.urandom(2_000))
    words = [sys.executable, "-m", "dunechest", "archive", str(other), "--to", str(chest.folder)]
    for pause in (0.15, 0.25, 0.3, 0.35, 0.4, 0.5, 0.6):
        process = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(pause)
        process.kill()
        process.wait()
        checks = {check.name: check for check in dunechest.verify(dunechest.Chest.open(chest.folder)).libraries}
        assert checks.pop("shed").ok
        # What was cut off is told to be unfinished, and nothing else is said of anything.
        assert {state.state for check in checks.values() for state in check.problems} <= {"unfinished"}
        assert checks.keys() <= {"other", "the chest"}
    assert subprocess.run(words, capture_output=True, check=False).returncode == 0
    assert dunechest.verify(chest).ok
    assert {e.name: e.state for e in chest.bags()} == {"shed": "whole", "other": "whole"}


def test_a_restore_that_fails_leaves_nothing(
    library: Path, chest: dunechest.Chest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    dunechest.archive([library], chest)

    def full(fd: int) -> bool:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(medium, "flush_filesystem", full)
    monkeypatch.setattr(medium, "flush_file", full)
    with pytest.raises(dunechest.CutOffError, match="No space left"):
        dunechest.restore(chest, "shed", dunechest.RestoreOptions(into=str(tmp_path / "new" / "back")))
    assert not (tmp_path / "new").exists()
    monkeypatch.undo()
    assert dunechest.restore(chest, "shed", dunechest.RestoreOptions(into=str(tmp_path / "new" / "back"))).ok


def test_nothing_existing_is_overwritten(
    library: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    dunechest.archive([library], chest)
    (tmp_path / "file").write_text("mine")
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "mine").write_text("mine")
    (tmp_path / "dangling").symlink_to("nowhere")
    (tmp_path / "empty").mkdir()
    for place in ("file", "full", "dangling", "file/below"):
        ran = command("restore", chest.folder, "shed", "--into", tmp_path / place)
        assert ran.status == 3
        assert "occupied" in ran.err
    assert (tmp_path / "full" / "mine").read_text() == "mine"
    assert command("restore", chest.folder, "shed", "--into", tmp_path / "empty").status == 0
    assert (tmp_path / "empty" / "rope.txt").exists()


def test_an_open_database_is_captured_with_its_log(tmp_path: Path, chest: dunechest.Chest) -> None:
    library = tmp_path / "lib"
    library.mkdir()
    database = sqlite3.connect(library / "d.db")
    database.execute("PRAGMA journal_mode = WAL")
    database.execute("CREATE TABLE t (x)")
    database.commit()
    database.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    database.executemany("INSERT INTO t VALUES (?)", [(n,) for n in range(5000)])
    database.commit()
    before = {p.name: p.read_bytes() for p in library.iterdir() if not p.name.endswith("-shm")}
    (account,) = dunechest.archive([library], chest)
    assert {p.name: p.read_bytes() for p in library.iterdir() if not p.name.endswith("-shm")} == before
    database.close()
    assert account.database_count == 1
    assert {o.path for o in account.left_out} == {"d.db-wal", "d.db-shm"}
    assert account.ok
    dunechest.restore(chest, "lib", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    back = sqlite3.connect(tmp_path / "back" / "d.db")
    assert back.execute("SELECT count(*) FROM t").fetchone() == (5000,)
    assert back.execute("PRAGMA integrity_check").fetchone() == ("ok",)
    back.close()


@pytest.mark.parametrize("beside", ["-wal", "-journal"])
def test_a_log_left_by_a_crash_is_captured_and_the_source_untouched(
    beside: str, tmp_path: Path, chest: dunechest.Chest
) -> None:
    crashed, library = tmp_path / "crashed", tmp_path / "lib"
    crashed.mkdir()
    library.mkdir()
    database = sqlite3.connect(crashed / "d.db")
    database.execute(f"PRAGMA journal_mode = {'WAL' if beside == '-wal' else 'DELETE'}")
    database.execute("CREATE TABLE t (x)")
    database.executemany("INSERT INTO t VALUES (?)", [("kept" * 50,) for _ in range(200)])
    database.commit()
    if beside == "-journal":
        database.execute("PRAGMA cache_size = 1")
        database.execute("UPDATE t SET x = 'not committed'")
    for path in crashed.iterdir():
        if not path.name.endswith("-shm"):
            shutil.copy(path, library)
    database.close()
    assert (library / f"d.db{beside}").stat().st_size > 0
    before = facts(library)
    (account,) = dunechest.archive([library], chest)
    assert facts(library) == before
    assert account.database_count == 1
    dunechest.restore(chest, "lib", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    back = sqlite3.connect(tmp_path / "back" / "d.db")
    assert back.execute("SELECT DISTINCT x FROM t").fetchall() == [("kept" * 50,)]
    assert back.execute("SELECT count(*) FROM t").fetchone() == (200,)
    back.close()
    assert dunechest.archive([library], chest)[0].state == "unchanged"


def test_a_broken_database_is_kept_and_reported(tmp_path: Path, chest: dunechest.Chest) -> None:
    library = tmp_path / "lib"
    library.mkdir()
    (library / "d.db").write_bytes(b"SQLite format 3\0" + os.urandom(5000))
    (library / "d.db-wal").write_bytes(os.urandom(500))
    (library / "diary").write_text("no database")
    (library / "diary-journal").write_text("nor this")
    (account,) = dunechest.archive([library], chest)
    assert account.archived_count == 4
    assert [path for path, _ in account.damaged_databases] == ["d.db"]
    dunechest.restore(chest, "lib", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert facts(tmp_path / "back") == facts(library)
