"""A library: patterns, recognition, roles, captured databases, unchanged or not."""

from __future__ import annotations

import os
import re
import sqlite3
import threading
import time
from contextlib import closing
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import dunechest
from dunechest.jobs.archive.planning.plan_archive import plan_archive
from dunechest.library import recognise, roles
from dunechest.library.capture import NotCapturedError, capture
from dunechest.library.kinds.load import load_kinds, parse_kind
from dunechest.library.kinds.patterns import Patterns
from dunechest.library.kinds.schema import PLAIN_KIND, Kind
from dunechest.library.search import search
from tests.support.trees import facts

KINDS = load_kinds()


@pytest.mark.parametrize(
    ("pattern", "yes", "no"),
    [
        ("previews/**", ["previews/a", "previews/a/b"], ["previews", "x/previews/a", "previewsx/a"]),
        ("**/*.cache", ["a.cache", "x/y/a.cache", ".cache"], ["a.cached", "a.cache/b"]),
        ("*.db", ["a.db", ".db"], ["a/b.db", "adb"]),
        ("a?c", ["abc", "a\nc"], ["a/c", "ac"]),
        ("a.b", ["a.b"], ["axb"]),
        ("[x]", ["[x]"], ["x"]),
        ("x/**/y", ["x/y", "x/a/y", "x/a/b/y"], ["xy", "x/ya"]),
    ],
)
def test_patterns(pattern: str, yes: list[str], no: list[str]) -> None:
    item = Patterns([pattern])
    assert [path for path in yes if not item.match(path)] == []
    assert [path for path in no if item.match(path)] == []


@given(st.lists(st.text(max_size=12), max_size=4), st.text(max_size=20))
def test_no_pattern_breaks_the_matcher(patterns: list[str], path: str) -> None:
    item = Patterns(patterns)
    assert item.match(path) in (True, False)
    assert Patterns([path]).match(path) == (re.search(r"[*?]", path) is None) or item is not None
    assert not Patterns([]).match(path)


def make_glasswort(place: Path, tables: tuple[str, ...] = ("album", "folder", "picture")) -> Path:
    (place / "originals").mkdir(parents=True)
    with closing(sqlite3.connect(place / "catalogue.glw")) as database:
        for table in tables:
            database.execute(f"CREATE TABLE {table} (x)")
        database.commit()
    return place


def test_every_sign_must_be_there(tmp_path: Path) -> None:
    whole = make_glasswort(tmp_path / "whole")
    found = recognise.recognise(whole, KINDS.values())
    assert found is not None
    assert found.kind.name == "glasswort"
    assert any("catalogue.glw" in line for line in found.evidence)
    assert recognise.recognise(make_glasswort(tmp_path / "other", ("stamps",)), KINDS.values()) is None
    half = make_glasswort(tmp_path / "half")
    (half / "originals").rmdir()
    assert recognise.recognise(half, KINDS.values()) is None
    text = tmp_path / "text"
    (text / "originals").mkdir(parents=True)
    (text / "catalogue.glw").write_text("not a database")
    assert recognise.recognise(text, KINDS.values()) is None
    assert recognise.recognise(tmp_path / "none", KINDS.values()) is None


def test_recognising_leaves_no_trace(tmp_path: Path) -> None:
    place = make_glasswort(tmp_path / "lib")
    with closing(sqlite3.connect(place / "catalogue.glw")) as database:
        database.execute("PRAGMA journal_mode = WAL")
    before = facts(place)
    assert recognise.recognise(place, KINDS.values()) is not None
    assert facts(place) == before


def test_a_file_may_begin_with_a_byte_order_mark(tmp_path: Path) -> None:
    (tmp_path / "papers.bib").write_bytes(b"\xef\xbb\xbf% Seaholly references\n")
    found = recognise.recognise(tmp_path, KINDS.values())
    assert found is not None
    assert found.kind.name == "seaholly"


def test_the_kind_with_most_signs_wins(tmp_path: Path) -> None:
    def kind(name: str, *paths: str) -> Kind:
        signs = "".join(f'[[signs]]\npath = "{path}"\n' for path in paths)
        return parse_kind(f'format = 1\nname = "{name}"\ntitle = "x"\n{signs}', name)

    (tmp_path / "a").touch()
    (tmp_path / "b").touch()
    few, many = kind("aa-few", "a"), kind("zz-many", "a", "b")
    found = recognise.recognise(tmp_path, [few, many])
    assert found is not None
    assert found.kind.name == "zz-many"


def test_a_search_goes_everywhere_but_into_what_it_found(tmp_path: Path) -> None:
    outer = make_glasswort(tmp_path / ".hidden" / "deep" / "outer")
    make_glasswort(outer / "originals" / "inner")
    make_glasswort(tmp_path / "drive" / "dune-chest" / "bags" / "x" / "data" / "library")
    (tmp_path / "drive" / "dune-chest" / "chest.json").write_text("{}")
    (tmp_path / "loop").symlink_to(tmp_path)
    assert [found.path for found in search(tmp_path, KINDS.values()).libraries] == [outer]


def test_places_expand_within_their_standard_folder(tmp_path: Path) -> None:
    for name in ("one", ".two", "three"):
        (tmp_path / "Pictures" / name).mkdir(parents=True)
    standard = {"pictures": tmp_path / "Pictures"}
    assert {p.name for p in recognise.expand("{pictures}/*", standard)} == {"one", ".two", "three"}
    assert recognise.expand("{pictures}", standard) == [tmp_path / "Pictures"]
    assert recognise.expand("{music}/*", standard) == []


def test_roles_add_up_and_a_doubt_is_essential() -> None:
    kind = KINDS["glasswort"]
    assert roles.role_of(kind, "previews/1/2.jpg") == "rebuildable"
    assert roles.role_of(kind, "Previews/1/2.jpg") == "essential"
    assert roles.role_of(kind, "originals/previews/x.jpg") == "essential"
    assert roles.role_of(PLAIN_KIND, "previews/1.jpg") == "essential"


@pytest.fixture
def database(tmp_path: Path) -> Path:
    path = tmp_path / "source" / "d.db"
    path.parent.mkdir()
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("CREATE TABLE t (x)")
        connection.executemany("INSERT INTO t VALUES (?)", [(n,) for n in range(1000)])
        connection.commit()
    (tmp_path / "scratch").mkdir()
    return path


def rows(path: Path) -> int:
    with closing(sqlite3.connect(path)) as connection:
        count: int = connection.execute("SELECT count(*) FROM t").fetchone()[0]
        return count


@pytest.mark.parametrize("mode", ["DELETE", "WAL", "TRUNCATE", "PERSIST"])
def test_a_closed_database_is_captured_without_a_trace(mode: str, database: Path, tmp_path: Path) -> None:
    with closing(sqlite3.connect(database)) as connection:
        connection.execute(f"PRAGMA journal_mode = {mode}")
        connection.execute("INSERT INTO t VALUES (1)")
        connection.commit()
    before = facts(database.parent)
    result = capture(database, tmp_path / "copy", tmp_path / "scratch")
    assert (result.intact, rows(tmp_path / "copy")) == (True, 1001)
    assert facts(database.parent) == before
    assert list((tmp_path / "scratch").iterdir()) == []
    assert [p.name for p in tmp_path.glob("copy*")] == ["copy"]


def test_a_busy_writer_never_spoils_the_capture(database: Path, tmp_path: Path) -> None:
    """Each transaction adds a pair; a capture in between would have an odd number of rows."""
    ended = threading.Event()

    def write() -> None:
        with closing(sqlite3.connect(database, timeout=30)) as connection:
            connection.execute("PRAGMA journal_mode = WAL")
            while not ended.is_set():
                connection.execute("INSERT INTO t VALUES (1)")
                connection.execute("INSERT INTO t VALUES (2)")
                connection.commit()

    writer = threading.Thread(target=write)
    writer.start()
    try:
        time.sleep(0.1)
        for number in range(5):
            result = capture(database, tmp_path / f"copy{number}", tmp_path / "scratch")
            assert result.intact
            assert rows(tmp_path / f"copy{number}") % 2 == 0
    finally:
        ended.set()
        writer.join()


@pytest.mark.parametrize(
    "content", [b"", b"SQLite format 3", b"something else", b"SQLite format 3\0" + b"\xff" * 4000]
)
def test_what_is_no_database_is_not_captured(content: bytes, tmp_path: Path) -> None:
    (tmp_path / "d.db").write_bytes(content)
    (tmp_path / "scratch").mkdir()
    with pytest.raises(NotCapturedError):
        capture(tmp_path / "d.db", tmp_path / "copy", tmp_path / "scratch")
    assert not (tmp_path / "copy").exists()


def test_damage_inside_is_told(database: Path, tmp_path: Path) -> None:
    content = bytearray(database.read_bytes())
    content[4096 + 200 : 4096 + 900] = os.urandom(700)
    content[4096 : 4096 + 12] = b"\xff" * 12
    database.write_bytes(bytes(content))
    try:
        result = capture(database, tmp_path / "copy", tmp_path / "scratch")
    except NotCapturedError:
        return
    assert not result.intact
    assert result.words


def test_names_that_are_not_text_work_too(database: Path, tmp_path: Path) -> None:
    odd = Path(os.fsdecode(os.fsencode(database.parent) + b"/\xff ?#%.db"))
    database.rename(odd)
    assert capture(odd, tmp_path / "copy", tmp_path / "scratch").intact


@pytest.mark.parametrize(
    ("change", "expected"),
    [
        (lambda d: None, []),
        (lambda d: (d / "search").mkdir(), ["search"]),
        (lambda d: (d / "notes.tide-wal").write_bytes(b""), []),
        (lambda d: (d / "notes.tide-shm").write_bytes(b"index"), []),
        (lambda d: (d / "notes.open").write_text("1"), []),
        (lambda d: (d / "notes.tide-wal").write_bytes(b"log"), ["notes.tide-wal"]),
        (lambda d: os.utime(d / "notes.tide"), ["notes.tide"]),
        (lambda d: (d / "notes.tide").unlink(), ["notes.tide"]),
        (lambda d: (d / "letter").write_text("1"), ["letter"]),
    ],
)
def test_what_counts_as_a_change(change: object, expected: list[str], tmp_path: Path, chest: dunechest.Chest) -> None:
    library = tmp_path / ".tidewrack"
    library.mkdir()
    with closing(sqlite3.connect(library / "notes.tide")) as connection:
        connection.executescript("CREATE TABLE note (x); CREATE TABLE notebook (x);")
    (library / "letter").write_text("dear gull")
    os.utime(library / "letter", ns=(10**18, 10**18))
    dunechest.archive([library], chest)
    assert callable(change)
    change(library)
    (plan,) = plan_archive([dunechest.library_at(library)], chest)
    assert plan.state == ("next" if expected else "unchanged")
    assert plan.previous is not None
    assert [p.removesuffix("-wal") for p in plan.previous.paths] == [p.removesuffix("-wal") for p in expected]
