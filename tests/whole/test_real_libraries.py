"""Libraries of real programs: archived, drilled, restored under another home, accepted by the program, archived again."""

from __future__ import annotations

import os
import shutil
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Mapping
from contextlib import closing
from pathlib import Path

import pytest

import dunechest
from dunechest.library.capture import capture, one_moment
from dunechest.machine.drives import filesystem
from tests.support.open_libraries import MADE, bundle, git
from tests.support.runs import Command

pytestmark = pytest.mark.slow


@pytest.fixture
def home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    home = tmp_path / "old" / "tern"
    home.mkdir(parents=True)
    monkeypatch.setenv("HOME", str(home))
    monkeypatch.setenv("GIT_CONFIG_GLOBAL", os.devnull)
    monkeypatch.setenv("GIT_CONFIG_NOSYSTEM", "1")
    return home


def elsewhere(tmp_path: Path, home: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Leave the old home, for a new one of another name on a computer that knows nothing."""
    shutil.move(home.parent, tmp_path / "gone")
    new = tmp_path / "new" / "plover"
    new.mkdir(parents=True)
    monkeypatch.setenv("HOME", str(new))
    monkeypatch.setenv("DUNECHEST_HOME", str(tmp_path / "new" / "state"))
    return new


def there_and_back(
    what: Path, chest: dunechest.Chest, tmp_path: Path, home: Path, monkeypatch: pytest.MonkeyPatch
) -> tuple[Path, dunechest.model.RestoreResult]:
    """Archive, test, and restore under another home."""
    (account,) = dunechest.archive(what, chest)
    assert account.ok, account.left_out
    assert all(drill.passed for drill in dunechest.drill(chest))
    inner = what.relative_to(home)
    new = elsewhere(tmp_path, home, monkeypatch)
    result = dunechest.restore(chest.folder, account.archived_as, dunechest.RestoreOptions(into=str(new / inner)))
    assert result.ok, [line for line in result.proof.lines if not line.passed]
    return new / inner, result


def test_repositories_with_worktree_submodule_and_stash(
    tmp_path: Path, home: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    projects = home / "Projects"
    for name in ("shore", "lib"):
        (projects / name).mkdir(parents=True)
        git(projects / name, "init", "-q", "-b", "main")
        (projects / name / "terns.txt").write_text(name)
        git(projects / name, "add", ".")
        git(projects / name, "commit", "-qm", name)
    shore = projects / "shore"
    git(shore, "submodule", "--quiet", "add", str(projects / "lib"), "lib")
    git(shore, "commit", "-qm", "with lib")
    (shore / "terns.txt").write_text("changed")
    git(shore, "stash", "-q")
    git(shore, "worktree", "add", "-q", "../beside", "-b", "side")
    found = {library.library.kind.name for library in dunechest.find_libraries(home).libraries}
    assert found == {"repository"}
    place, result = there_and_back(projects, chest, tmp_path, home, monkeypatch)
    assert git(place / "shore", "fsck", "--full", "--strict").strip() in (
        "",
        "notice: HEAD points to an unborn branch",
    )
    assert str(place / "beside") in git(place / "shore", "worktree", "list")
    assert "stash@{0}" in git(place / "shore", "stash", "list")
    assert git(place / "beside", "status", "--short") == ""
    assert git(place / "shore", "submodule", "status").startswith(" ")
    # The history of what was cloned from where is nobody's reference; it is named.
    named = {item.path for item in result.old_place.files}
    assert named == {path for path in named if "/logs/" in path or path.endswith(".gitmodules")}
    assert str(place / "lib") in git(place / "shore", "config", "submodule.lib.url")
    holding = {
        str(path.relative_to(place))
        for path in place.rglob("*")
        if path.is_file() and str(home).encode() in path.read_bytes()
    }
    assert holding == named
    (finding,) = [finding for finding in result.findings if finding.code == "old-place"]
    assert finding.severity == "warning"


def test_a_mailbox_that_changes_while_it_is_archived(tmp_path: Path, home: Path, chest: dunechest.Chest) -> None:
    box = home / "Mail"
    for name in ("cur", "new", "tmp"):
        (box / name).mkdir(parents=True)
    for number in range(400):
        (box / "new" / f"{number:04}.marram").write_text(f"Subject: {number}\n\n" + "kree-ar\n" * 200)
    moving = threading.Event()

    def read_them() -> None:
        for path in sorted((box / "new").iterdir()):
            if moving.wait(0.001):
                return
            path.rename(box / "cur" / f"{path.name}:2,S")

    reader = threading.Thread(target=read_them)
    reader.start()
    try:
        dunechest.archive(box, chest)
    finally:
        moving.set()
        reader.join()
    # Whatever moved on meanwhile comes with the next archive, and nothing is lost from then on.
    (account,) = dunechest.archive(box, chest)
    assert account.ok
    assert dunechest.verify(chest).ok
    back = dunechest.restore(chest, account.archived_as, dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert back.ok
    assert {p.name[:4] for p in (tmp_path / "back").rglob("*.marram*")} == {f"{n:04}" for n in range(400)}


def test_a_python_environment_is_made_again_and_not_copied(
    tmp_path: Path, home: Path, chest: dunechest.Chest, command: Command
) -> None:
    place = home / "Projects" / "env"
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", place], check=True)
    library = dunechest.library_at(place)
    assert library.kind.title == "Python environment"
    (account,) = dunechest.archive(library, chest)
    assert account.ok
    stored = {
        path.name for path in (chest.folder / "bags" / account.archived_as / "data").rglob("*") if path.is_file()
    }
    # What says of which version it is, and what newer ones put there for version control.
    assert stored - {".gitignore"} == {"pyvenv.cfg"}
    assert "python -m venv" in library.kind.about


def test_notes_with_pictures_outside_and_the_next_edition_there(
    tmp_path: Path, home: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    notes, desktop = home / "Documents" / "Notes", home / "Desktop"
    notes.mkdir(parents=True)
    desktop.mkdir()
    (desktop / "tern 1.png").write_bytes(b"\x89PNG\r\n\x1a\n")
    for number in range(8):
        (notes / f"day {number}.md").write_text(
            f"# Day {number}\n![a tern](<{desktop}/tern 1.png>) and [[day {number + 1}]]\nI wrote this in {home}.\n"
        )
    place, result = there_and_back(notes, chest, tmp_path, home, monkeypatch)
    assert {item.path: item.mention_count for item in result.old_place.files} == {f"day {n}.md": 1 for n in range(8)}
    for path in place.glob("*.md"):
        target = path.read_text().split("<")[1].split(">")[0]
        assert (path.parent / target).read_bytes().startswith(b"\x89PNG")


def test_a_database_under_a_live_writer_is_captured_whole(tmp_path: Path, home: Path, chest: dunechest.Chest) -> None:
    place = home / ".local" / "share" / "app"
    place.mkdir(parents=True)
    program = (
        "import sqlite3, sys, time\n"
        "c = sqlite3.connect(sys.argv[1]); c.execute('PRAGMA journal_mode=WAL'); c.execute('CREATE TABLE a (n, m)')\n"
        "print('ready', flush=True)\n"
        "n = 0\n"
        "while True:\n"
        "    n += 1\n"
        "    with c: c.execute('INSERT INTO a VALUES (?, ?)', (n, n)); c.execute('UPDATE a SET m = ? WHERE n = 1', (n,))\n"
        "    time.sleep(0.001)\n"
    )
    with subprocess.Popen([sys.executable, "-c", program, place / "app.db"], stdout=subprocess.PIPE) as writer:
        assert writer.stdout is not None
        writer.stdout.readline()
        time.sleep(0.2)
        with pytest.raises(dunechest.RefusedError, match="in use"):
            dunechest.archive(place, chest)
        writer.kill()
    (account,) = dunechest.archive(place, chest)
    assert account.ok
    back = dunechest.restore(chest, account.archived_as, dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert back.ok


def test_every_kind_there_and_back_and_its_next_edition(
    tmp_path: Path, home: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Found, looked at, archived, drilled, restored under another home on a new computer, changed and archived again."""
    _each_there_and_back(MADE, tmp_path, home, chest, monkeypatch)


@pytest.mark.mounted
def test_kinds_by_way_of_a_drive_that_holds_less(
    tmp_path: Path, home: Path, mounted: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Those whose names, links or modes it cannot hold."""
    if not filesystem(mounted).limits.forbidden:
        pytest.skip("this filesystem holds every name")
    some = {kind: MADE[kind] for kind in ("maildir", "repository", "environment", "databases", "database-server")}
    _each_there_and_back(some, tmp_path, home, dunechest.Chest.create(mounted, "real"), monkeypatch)


def _each_there_and_back(
    makers: Mapping[str, Callable[[Path], None]],
    tmp_path: Path,
    home: Path,
    chest: dunechest.Chest,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    made = {kind: home / "Things" / f"My {kind}" for kind in makers}
    for kind, place in made.items():
        place.mkdir(parents=True)
        makers[kind](place)
    made["bundle"] = bundle(home / "Things")
    found = {library.library.path: library.library.kind.name for library in dunechest.find_libraries(home).libraries}
    assert {kind: found.get(place) for kind, place in made.items()} == {kind: kind for kind in made}
    accounts = dunechest.archive(list(made.values()), chest)
    assert [account.archived_as for account in accounts if not account.ok] == []
    bags = dict(zip(made, (account.archived_as for account in accounts), strict=True))
    assert all(drill.passed for drill in dunechest.drill(chest))
    new = elsewhere(tmp_path, home, monkeypatch)
    for kind, bag in bags.items():
        place = new / made[kind].relative_to(home)
        result = dunechest.restore(chest.folder, bag, dunechest.RestoreOptions(into=str(place)))
        assert result.ok, (kind, [line for line in result.proof.lines if not line.passed])
        assert kind == "environment" or result.old_place.files == (), kind
        assert dunechest.library_at(place).kind.name == kind
        (place / "later.txt").write_text("written on the new computer")
        (account,) = dunechest.archive(place, chest.folder)
        assert (account.archived_as, account.edition, account.ok) == (bag, 2, True), kind
    assert dunechest.verify(chest.folder).ok


def test_a_repository_that_lost_an_object_says_so_itself(
    tmp_path: Path, home: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    shore = home / "shore"
    shore.mkdir()
    MADE["repository"](shore)
    (lost,) = [path for path in (shore / ".git" / "objects").rglob("*") if path.is_file()][:1]
    lost.unlink()
    dunechest.archive(shore, chest)
    result = dunechest.restore(chest, "shore", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    (line,) = [line for line in result.proof.lines if line.what == "repositories intact"]
    assert not line.passed
    assert ".git: " in line.details[0]


def test_databases_that_are_attached_to_each_other_are_captured_as_of_one_moment(tmp_path: Path) -> None:
    """What is written into both at once is in both captures, or in neither; each tells how far it is."""
    program = (
        "import sqlite3, sys, time\n"
        "c = sqlite3.connect(sys.argv[1] + '/a.db', timeout=60, isolation_level=None)\n"
        "c.execute('ATTACH ? AS b', (sys.argv[1] + '/b.db',))\n"
        "c.execute('CREATE TABLE main.t (n, filler)'); c.execute('CREATE TABLE b.t (n, filler)')\n"
        "n = 0\n"
        "while True:\n"
        "    n += 1\n"
        "    c.execute('BEGIN IMMEDIATE')\n"
        "    for name in ('main', 'b'): c.execute(f'INSERT INTO {name}.t VALUES (?, zeroblob(20000))', (n,))\n"
        "    c.execute('COMMIT')\n"
        "    if n == 5: print('ready', flush=True)\n"
        "    time.sleep(0.02)\n"
    )
    (tmp_path / "scratch").mkdir()
    places = [tmp_path / "a.db", tmp_path / "b.db"]
    writer = subprocess.Popen([sys.executable, "-c", program, tmp_path], stdout=subprocess.PIPE)
    try:
        assert writer.stdout is not None
        writer.stdout.readline()
        newest = set()
        told: list[int] = []
        with one_moment(places) as held:
            assert set(held) == set(places)
            for place in places:
                target = tmp_path / f"{place.stem}.captured"
                assert capture(place, target, tmp_path / "scratch", tell=told.append, held=held[place]).intact
                with closing(sqlite3.connect(target)) as copy:
                    newest.add(copy.execute("SELECT max(n) FROM t").fetchone()[0])
        assert len(newest) == 1
        assert sum(told) > 100_000
    finally:
        writer.kill()
        writer.communicate()
