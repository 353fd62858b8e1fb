"""Kind files: each mistake with its line, the page that explains them, and drafts for what nobody described."""

from __future__ import annotations

import os
import random
import re
import shutil
import sqlite3
import tomllib
from contextlib import closing
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import dunechest
from dunechest.demo.world import World
from dunechest.library.draft.documents import toml_text
from dunechest.library.draft.observing import pattern_of
from dunechest.library.draft.rebuildable import picture_shape
from dunechest.library.kinds.check import mistakes
from dunechest.library.kinds.load import load_kinds, parse_kind
from dunechest.library.kinds.patterns import Patterns
from dunechest.library.kinds.schema import Kind
from dunechest.library.references.reading import read_references
from dunechest.library.roles import role_of
from dunechest.transfer.walk import walk
from tests.support.burrow import KIND
from tests.support.runs import Command
from tests.support.trees import facts
from tests.support.worlds import LIBRARIES, place_of

MISTAKES = [
    ('title = "Burrow maps"\n', "", 'title = "Burrow maps"', "the key 'title' is missing"),
    ('"Burrow maps"', "7", "title = 7", "this must be text"),
    ("databases = ", "datebases = ", "datebases", "there is no such key"),
    ('"index.bur"]\nsidecars', '"index.bur", 3]\nsidecars', "databases", "this must be text"),
    ("[[parts]]", "[parts]", "[parts]", "this must be a list"),
    ('tables = ["map"]', "tables = 5", "tables = 5", "this must be a list"),
    ('from = "m3u8"', 'from = "mp3u"', "mp3u", "one of sqlite"),
    ('from = "m3u8"\n', "", 'files = ["walks', "the key 'from' is missing"),
    ('table = "map"', "", 'from = "sqlite"', "needs the key 'table'"),
    ('base = "."', 'base = "../x"', 'base = "../x"', "inside the library"),
    ('base = "."', 'join = "map.x"', "join = ", "table.column = table.column"),
    ('base = "."', 'folder = "folder.path"', "folder = ", "needs the key 'join'"),
    ('from = "m3u8"', 'from = "m3u8"\nkeys = ["a"]', "keys = ", "belong to json"),
    ('from = "m3u8"', 'from = "ini"', 'from = "ini"', "needs the key 'keys'"),
    ('from = "m3u8"', 'from = "m3u8"\ntable = "t"', 'from = "m3u8"', "belong to sqlite"),
    ('from = "m3u8"', 'from = "m3u8"\nfields = ["t"]', "fields = ", "belong to bibtex"),
    ('from = "files"', 'from = "files"\nfield = "k"', 'from = "files"', "bibtex, and nothing else"),
    ('from = "files"', 'from = "sqlite"', 'from = "sqlite"\npaths', "needs the key"),
    ('from = "files"', 'from = "folders"\nnamed-in = "x"', 'from = "folders"', "go together"),
    ("{documents}/*", "{papers}/*", "{papers}", "is no standard folder"),
    ("{documents}/*", "/documents/*", "/documents", "must begin with a standard folder"),
    ("{documents}/*", "{documents}/../x", "{documents}/..", "must begin with a standard folder"),
    ("linux = ", "amphora = ", "amphora", "is not linux"),
    ("settings.json", "settings.db", "settings.db", "only .json"),
    ('path = "index.bur"', 'path = "../index.bur"', 'path = "..', "inside the library"),
    ('path = "index.bur"', 'path = "maps/"', 'path = "maps/"', "only a file can begin"),
    ("{configuration}/warren-colours", "warren-colours", 'place = "warren-colours"', "must begin with"),
    ("format = 1", "format = 2", "format = 2", "newer"),
    ("format = 1", "format = 0", "format = 0", "it must be 1"),
    ('name = "burrow"', 'name = "Burrow!"', "Burrow!", "small letters"),
    ('title = "Burrow maps"', 'title = "Burrow maps', 'title = "Burrow maps', "not TOML"),
]


@pytest.mark.parametrize(
    ("old", "new", "line", "words"), MISTAKES, ids=[m[3] + f" {i}" for i, m in enumerate(MISTAKES)]
)
def test_each_mistake_is_explained_with_its_line(
    old: str, new: str, line: str, words: str, tmp_path: Path, command: Command
) -> None:
    text = KIND.replace(old, new, 1)
    assert text != KIND
    path = tmp_path / "k.toml"
    path.write_text(text)
    (first, *_) = mistakes(text, Kind)
    assert words in first.what
    if "is missing" in words:  # it has no line: the table's own, or the first
        assert text.split("\n")[first.line - 1] == ("format = 1" if "title" in words else "[[references]]")
    else:
        assert first.line == text[: text.index(line)].count("\n") + 1
    ran = command("kinds", "check", path)
    assert ran.status == 1
    assert f"line {first.line}:" in ran.err


def test_one_mistake_does_not_hide_the_next(tmp_path: Path, command: Command) -> None:
    text = KIND.replace('"burrow"', "1").replace("lock-marks", "lockmarks").replace('"m3u8"', '"mp3u"')
    (tmp_path / "k.toml").write_text(text)
    ran = command("kinds", "check", tmp_path / "k.toml", "--json")
    assert (ran.status, len(ran.json["mistakes"])) == (1, 3)


@given(st.text(st.sampled_from("[]{}=\"'\n#.,\\ abfnt1"), max_size=60))
def test_no_text_breaks_the_check(text: str) -> None:
    for whole in (text, KIND + text, KIND.replace("[[parts]]", text, 1)):
        try:
            parse_kind(whole, "k.toml")
        except dunechest.UsageError as error:
            assert re.search(r"k\.toml, line \d+:", str(error))


def test_an_escape_code_in_a_kind_file_is_not_passed_on(tmp_path: Path, command: Command) -> None:
    (tmp_path / "k.toml").write_text(KIND.replace('path = "index.bur"', 'path = "/\\u001b[31m"', 1))
    ran = command("kinds", "check", tmp_path / "k.toml")
    assert ran.status == 1
    assert "\x1b" not in ran.err + ran.out


def test_every_shipped_kind_says_all_that_matters() -> None:
    for kind in load_kinds().values():
        assert kind.title and kind.about and kind.signs, kind.name
        if kind.open:  # no application, so none of its habits
            assert not (kind.application or kind.places or kind.settings or kind.in_use.processes), kind.name
            continue
        assert set(kind.places) == {"linux", "macos", "windows"}, kind.name
        assert kind.signs and kind.roles.rebuildable and kind.in_use.lock_marks and kind.in_use.processes, kind.name
        assert kind.settings, kind.name
        assert kind.references or kind.name == "tidewrack"
        assert kind.parts or kind.name == "tidewrack"


# Drafts.


def test_drafts_of_the_sample_libraries_find_what_matters(pristine: World) -> None:
    """With the kinds hidden: of references and rebuildable bytes nine in ten, and no essential file given away."""
    for name in [*LIBRARIES, "old"]:
        place = pristine.old_photos if name == "old" else place_of(pristine, name)
        true = dunechest.library_at(place).kind
        drafted = dunechest.draft_kind(place, home=pristine.office_home)
        listing = walk(str(place))

        def leads(kind: Kind, place: Path = place) -> set[tuple[str, str]]:
            found = read_references(kind, place, walk(str(place)), pristine.office_home).references
            return {(r.source, r.target) for r in found if r.state in ("inside", "stray")}

        wanted = leads(true)
        assert len(wanted & leads(drafted.kind)) >= 0.9 * len(wanted), name
        sizes = {"true": 0, "drafted": 0}
        for file in listing.files:
            is_so, called_so = (role_of(k, file.path) == "rebuildable" for k in (true, drafted.kind))
            assert is_so or not called_so, f"{file.path} of {name} is essential"
            sizes["true"] += file.size * is_so
            sizes["drafted"] += file.size * called_so
        assert sizes["drafted"] >= 0.9 * sizes["true"], name
        assert {o.sureness for o in drafted.observations} <= {"sure", "likely", "guess"}


def test_a_draft_changes_nothing_and_describes_the_library(world: World, tmp_path: Path, command: Command) -> None:
    before = facts(world.photos)
    target = tmp_path / "mine.toml"
    ran = command("kinds", "draft", world.photos, "--name", "my pictures", "--write", target)
    assert ran.status == 0
    assert "sure" in ran.out
    assert command("kinds", "check", target).status == 0
    kind = parse_kind(target.read_text(), "mine")
    assert (kind.name, kind.database_patterns.match("catalogue.glw")) == ("my-pictures", True)
    comments = [line for line in target.read_text().split("\n") if "#" in line]
    assert len(comments) > 8
    assert facts(world.photos) == before
    again = command("kinds", "draft", world.photos, "--write", target)
    assert again.status == 3, "an existing file is never written over"
    spoken = command("kinds", "draft", world.photos)
    assert tomllib.loads(spoken.out)["name"] == "dune-survey"
    assert command("kinds", "draft", world.photos, "--json").json["lines"]


def test_a_drafted_kind_is_of_use(
    world: World, tmp_path: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("HOME", str(world.office_home))
    kinds = Path(os.environ["DUNECHEST_HOME"]) / "kinds"
    kinds.mkdir(parents=True)
    (world.sounds / "redshank.ini").rename(world.sounds / "audio.ini")  # so that the shipped kind does not know it
    ran = command("kinds", "draft", world.sounds, "--name", "audio", "--write", kinds / "audio.toml")
    assert ran.status == 0
    seen = command("look", world.sounds, "--json").json
    assert seen["kind"] == "audio"
    assert seen["references"]["stray"] == 3
    assert {part["what"] for part in seen["parts"]} == {"playlist"}


@pytest.mark.parametrize("words", [("kinds", "draft", "/no/such"), ("kinds", "draft", "empty")])
def test_nothing_to_draft_from(
    words: tuple[str, ...], tmp_path: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "empty").mkdir()
    monkeypatch.chdir(tmp_path)
    assert command(*words).status == 2


def test_a_doubt_never_costs_a_file(tmp_path: Path) -> None:
    """Folders whose names sound rebuildable are left alone when something in them holds or is all there is of a picture."""
    from PIL import Image

    library = tmp_path / "lib"
    for folder in ("cache", "originals", "indexes", "smaller"):
        (library / folder).mkdir(parents=True)
    with closing(sqlite3.connect(library / "cache" / "everything.db")) as made:
        made.execute("CREATE TABLE t (p TEXT)")
        made.commit()
    (library / "indexes" / "list.m3u8").write_text("../originals/0.png\n")
    rng = random.Random(1)
    for number in range(6):
        Image.frombytes("RGB", (90, 60), rng.randbytes(90 * 60 * 3)).save(library / "originals" / f"{number}.png")
        Image.frombytes("RGB", (30, 20), rng.randbytes(30 * 20 * 3)).save(library / "smaller" / f"{number}.png")
        os.utime(library / "originals" / f"{number}.png", (2_000_000_000 - number, 2_000_000_000 - number))
        os.utime(library / "smaller" / f"{number}.png", (1_000_000_000, 1_000_000_000))
    kind = dunechest.draft_kind(library).kind
    assert [role_of(kind, p) for p in ("cache/everything.db", "indexes/list.m3u8")] == ["essential"] * 2
    assert role_of(kind, "smaller/1.png") == "essential", "older than the others: no copies of them"
    for path in (library / "smaller").iterdir():
        os.utime(path, (2_100_000_000, 2_100_000_000))
    kind = dunechest.draft_kind(library).kind
    assert role_of(kind, "smaller/1.png") == "rebuildable"
    assert role_of(kind, "originals/1.png") == "essential"


def test_odd_names_and_hollow_files_do_not_spoil_a_draft(tmp_path: Path) -> None:
    library = tmp_path / "li\x1bb\n\x7f"
    (library / "caches").mkdir(parents=True)
    (library / os.fsdecode(b"b\xff.db")).write_bytes(b"")
    with closing(sqlite3.connect(os.fsencode(library) + b"/b\xff.db")) as made:
        made.executescript('CREATE TABLE "t""" (p TEXT); INSERT INTO "t""" VALUES (\'a\u2603\U0001f426.txt\');')
    (library / "a\u2603\U0001f426.txt").write_text("x")
    (library / "caches" / os.fsdecode(b"\xfe")).write_text("x")
    (library / "keys.json").write_text(
        '{"\ud800": "a", "o\\u0000k": "caches"}', encoding="utf-8", errors="surrogatepass"
    )
    with (library / "big.xmp").open("wb") as file:
        file.truncate(9000)
    draft = dunechest.draft_kind(library, name="odd")
    assert draft.kind.database_patterns.match(os.fsdecode(b"b\xff.db"))
    assert "\x1b" not in draft.text
    found = read_references(draft.kind, library, walk(str(library)), tmp_path).references
    assert [(r.state, r.target) for r in found if r.source.endswith(".db")] == [("inside", "a\u2603\U0001f426.txt")]


@given(st.text(st.characters(blacklist_categories=["Cs"])))
def test_every_text_can_stand_in_a_draft(text: str) -> None:
    assert tomllib.loads(f"x = {toml_text([text])}")["x"] == [text]


@given(st.lists(st.lists(st.sampled_from(["a", "b.x", "c.x", ".d"]), min_size=1, max_size=4), min_size=1, max_size=6))
def test_a_pattern_matches_what_it_was_made_from(paths: list[list[str]]) -> None:
    every = ["/".join(pieces) for pieces in paths]
    assert all(Patterns([pattern_of(every)]).match(path) for path in every)


@given(st.binary(max_size=200))
def test_no_head_of_a_file_breaks_the_look_at_pictures(data: bytes) -> None:
    for head in (data, b"\xff\xd8" + data, b"\x89PNG\r\n\x1a\n" + data, b"GIF89a" + data):
        shape = picture_shape(head)
        assert shape is None or min(shape) > 0


def test_a_library_that_was_shown_to_hold_ris_and_csl_is_drafted_with_them(tmp_path: Path) -> None:
    library = tmp_path / "refs"
    (library / "pdf").mkdir(parents=True)
    for name in "abc":
        (library / "pdf" / f"{name}.pdf").write_bytes(b"%PDF")
    (library / "all.ris").write_text("TY  - JOUR\nL1  - pdf/a.pdf\nER  - \n")
    (library / "all.json").write_text('[{"id": "b", "type": "book", "file": "pdf/b.pdf"}]')
    (library / "readme.md").write_text("[c](pdf/c.pdf) [web](https://marram.example)\n")
    kind = dunechest.draft_kind(library).kind
    found = read_references(kind, library, walk(str(library)), tmp_path).references
    assert sorted(r.target for r in found if r.state == "inside") == ["pdf/a.pdf", "pdf/b.pdf", "pdf/c.pdf"]
    shutil.rmtree(library / "pdf")
    assert all(
        r.state == "missing"
        for r in read_references(kind, library, walk(str(library)), tmp_path).references
        if r.state != "away"
    )
