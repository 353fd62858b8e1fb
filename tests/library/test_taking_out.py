"""What belongs to a part alone is taken out of a catalogue: the inverse of joining, for any parts that share things."""

from __future__ import annotations

import json
import sqlite3
import tempfile
from collections.abc import Mapping
from contextlib import closing
from pathlib import Path

import hypothesis.strategies as st
import pytest
from hypothesis import given

from dunechest.demo.world import World
from dunechest.jobs.known.named import library_at
from dunechest.jobs.study.contents import study
from dunechest.jobs.study.take_out import parts_of, take_out
from dunechest.library.join.files import NotMergedError, join, joins_of, without_parts
from dunechest.library.kinds.load import load_kinds
from dunechest.library.kinds.schema import Kind
from tests.support.homes import libraries_of
from tests.support.trees import facts

ALBUMS = ("Terns", "Fences", "Storm")
PICTURES = ("a.jpg", "b.jpg", "c.jpg", "d.jpg")
#: For each album, which pictures are in it; a picture may be in several, or in none.
SHARED = st.fixed_dictionaries({album: st.sets(st.sampled_from(PICTURES)) for album in ALBUMS})


@pytest.fixture(scope="module")
def kinds() -> dict[str, Kind]:
    return dict(load_kinds())


def catalogue(path: Path, albums: Mapping[str, set[str]], loose: set[str]) -> None:
    """Make a catalogue of pictures: those of the albums, and others."""
    with closing(sqlite3.connect(path)) as database, database:
        database.executescript(
            "CREATE TABLE folder (id INTEGER PRIMARY KEY, path TEXT);"
            "CREATE TABLE picture (id INTEGER PRIMARY KEY, folder INTEGER, name TEXT, caption TEXT);"
            "CREATE TABLE album (id INTEGER PRIMARY KEY, title TEXT);"
            "CREATE TABLE album_picture (album INTEGER, picture INTEGER);"
            "CREATE TABLE remark (key TEXT, value TEXT);"
            "INSERT INTO remark VALUES ('home', '/home/tern');"
        )
        numbers = {}
        for name in sorted(set().union(loose, *albums.values())):
            folder = f"originals/{name[0]}"
            number = database.execute("INSERT INTO folder (path) VALUES (?)", (folder,)).lastrowid
            added = database.execute(
                "INSERT INTO picture (folder, name, caption) VALUES (?, ?, ?)", (number, name, f"of {name}")
            )
            numbers[name] = added.lastrowid
        for title, pictures in albums.items():
            album = database.execute("INSERT INTO album (title) VALUES (?)", (title,)).lastrowid
            database.executemany(
                "INSERT INTO album_picture VALUES (?, ?)", [(album, numbers[name]) for name in sorted(pictures)]
            )


def held(path: Path) -> tuple[dict[str, set[str]], set[str], set[str]]:
    """Return albums with their pictures, all pictures, and all folders of a catalogue."""
    with closing(sqlite3.connect(path)) as database:
        albums: dict[str, set[str]] = {title: set() for (title,) in database.execute("SELECT title FROM album")}
        rows = database.execute(
            "SELECT album.title, picture.name FROM album_picture JOIN album ON album.id = album_picture.album "
            "JOIN picture ON picture.id = album_picture.picture"
        )
        for title, name in rows:
            albums[title].add(name)
        pictures = {name for (name,) in database.execute("SELECT name FROM picture")}
        folders = {name for (name,) in database.execute("SELECT path FROM folder")}
        (links,) = database.execute("SELECT count(*) FROM album_picture").fetchone()
        assert links == sum(map(len, albums.values())), "no row leads to nothing"
        assert database.execute("SELECT value FROM remark").fetchall() == [("/home/tern",)]
    return albums, pictures, folders


@given(SHARED, st.sets(st.sampled_from(PICTURES)), st.sets(st.sampled_from(ALBUMS), min_size=1))
def test_an_album_goes_with_the_pictures_that_only_it_has(
    albums: dict[str, set[str]], loose: set[str], chosen: set[str]
) -> None:
    kind = load_kinds()["glasswort"]
    spec = joins_of(kind, "catalogue.glw")
    assert spec is not None
    with tempfile.TemporaryDirectory() as name:
        path, whole = Path(name) / "catalogue.glw", Path(name) / "whole.glw"
        for place in (path, whole):
            catalogue(place, albums, loose)
        every = set().union(loose, *albums.values())
        rest = {title: pictures for title, pictures in albums.items() if title not in chosen}
        theirs = set().union(*(albums[title] for title in chosen))
        others = set().union(*rest.values()) if rest else set()
        # A picture that is in no other album goes, unless its file stays for another reason.
        stays = {name for name in loose & theirs if name not in others}
        numbers = _numbers(path)
        spots = {f"picture {numbers[name]}" for name in stays}
        gone = without_parts(kind, spec, path, sorted(chosen), [], spots)
        kept = every - (theirs - others - stays)
        assert held(path) == (rest, kept, {f"originals/{name[0]}" for name in kept})
        assert gone > 0
        # And joined again from the whole one, all of it is back.
        join(kind, spec, path, whole, sorted(chosen), [], theirs=False)
        assert held(path)[:2] == (albums, every)


def _numbers(path: Path) -> dict[str, int]:
    with closing(sqlite3.connect(path)) as database:
        return {name: number for number, name in database.execute("SELECT id, name FROM picture")}


@given(
    st.dictionaries(st.sampled_from(["one", "two", "three"]), st.sets(st.sampled_from(["Sand", "Birds", "Wind"]))),
    st.sets(st.sampled_from(["Sand", "Birds", "Wind"]), min_size=1),
)
def test_a_reference_goes_with_its_last_keyword(entries: dict[str, set[str]], chosen: set[str]) -> None:
    kind = load_kinds()["seaholly"]
    spec = joins_of(kind, "papers.bib")
    assert spec is not None
    written = {
        key: f"@article{{{key},\n  title = {{Of {key} {{nested}}}},\n  keywords = {{{', '.join(sorted(words))}}},\n}}\n"
        for key, words in entries.items()
    }
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "papers.bib"
        path.write_text("% Seaholly references\n\n" + "\n".join(written.values()) + "\n% the end\n")
        stays = {key for key, words in entries.items() if not words or not words <= chosen}
        assert without_parts(kind, spec, path, sorted(chosen), [], []) == len(entries) - len(stays)
        text = path.read_text()
        assert {key for key in entries if written[key] in text} == stays
        assert text.startswith("% Seaholly references\n") and text.rstrip().endswith("% the end")


@given(st.sets(st.sampled_from(["jobs/a.svg", "jobs/b.svg", "renders/a.png"])))
def test_an_index_loses_what_speaks_of_files_that_go(files: set[str]) -> None:
    kind = load_kinds()["saltpan"]
    spec = joins_of(kind, "index.json")
    assert spec is not None
    designs = {"a": {"file": "jobs/a.svg", "preview": "renders/a.png"}, "b": {"file": "jobs/b.svg"}, "c": {"n": 3}}
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "index.json"
        path.write_text(json.dumps({"made": "by hand", "designs": designs}, indent=2) + "\n")
        gone = {key for key, value in designs.items() if files & {str(text) for text in value.values()}}
        assert without_parts(kind, spec, path, ["x"], files, []) == len(gone)
        document = json.loads(path.read_text())
        assert (document["made"], set(document["designs"])) == ("by hand", set(designs) - gone)


def test_settings_lose_the_lines_of_files_that_go(kinds: dict[str, Kind], tmp_path: Path) -> None:
    spec = joins_of(kinds["redshank"], "redshank.ini")
    assert spec is not None
    path = tmp_path / "redshank.ini"
    path.write_text("; mine\n[library]\nname = covers/one.png\n[covers]\none = covers/one.png\ntwo: covers/two.png\n")
    assert without_parts(kinds["redshank"], spec, path, ["Evening"], ["covers/two.png"], []) == 1
    assert path.read_text() == "; mine\n[library]\nname = covers/one.png\n[covers]\none = covers/one.png\n"
    assert without_parts(kinds["redshank"], spec, path, ["Evening"], ["nothing"], []) == 0


def test_what_is_no_catalogue_is_left_as_it_is(kinds: dict[str, Kind], tmp_path: Path) -> None:
    for name, file, content in (
        ("glasswort", "catalogue.glw", b"no database"),
        ("saltpan", "index.json", b"{torn"),
        ("saltpan", "index.json", b'{"designs": [1]}'),
    ):
        spec = joins_of(kinds[name], file)
        assert spec is not None
        path = tmp_path / file
        path.write_bytes(content)
        with pytest.raises(NotMergedError):
            without_parts(kinds[name], spec, path, ["Terns"], ["a"], [])
        assert path.read_bytes() == content


@pytest.mark.parametrize(
    "name", ["glasswort", "redshank", "cuttlebone", "spindrift", "saltpan", "limpet", "seaholly"]
)
def test_what_goes_is_used_by_nothing_that_stays(name: str, pristine: World) -> None:
    """For each part of each sample library, and for pairs of them: planned only, nothing is changed."""
    place = libraries_of(pristine)[name]
    before = facts(place)
    contents = study(library_at(place))
    groups = [(part,) for part in contents.parts] + list(zip(contents.parts, contents.parts[1:], strict=False))
    for group in groups:
        taken = take_out(contents, parts_of(contents, [f"{part.what}:{part.name}" for part in group]))
        going = {file.path for file in taken.files}
        others = {path for part in contents.parts if part not in group for path in (*part.files, *part.needed_paths)}
        assert not going & others
        assert going | set(taken.shared) == {path for part in group for path in part.files}
        covered = {path for unit in taken.units for path in going if path == unit or path.startswith(f"{unit}/")}
        assert covered == going, "what is renamed is just what goes"
        for reference in contents.references.references:
            if reference.state == "inside" and reference.target in going and reference.source not in going:
                assert reference.source in taken.edits, reference
    assert facts(place) == before
