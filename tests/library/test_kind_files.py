"""Kind files: each mistake with its line, the page that explains them, and drafts for what nobody described."""

from __future__ import annotations

import os
import random
import re
import shutil
import sqlite3
import subprocess
import time
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
from dunechest.library.kinds import load, patterns
from dunechest.library.kinds.check import mistakes
from dunechest.library.kinds.load import load_kinds, parse_kind
from dunechest.library.kinds.patterns import Patterns
from dunechest.library.kinds.schema import Kind
from dunechest.library.references.reading import read_references
from dunechest.library.roles import role_of
from dunechest.machine import processes
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
    ("{documents}/*", "{papers}/*", "{papers}", "is not a standard folder"),
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


def test_the_document_of_all_shipped_kinds_is_what_their_files_say() -> None:
    assert (load.SHIPPED / "all.json").read_bytes() == load.kinds_document()


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
        drafted = dunechest.kinds.draft_kind(place, home=pristine.office_home)
        listing = walk(str(place))

        def leads(kind: Kind, place: Path = place) -> set[tuple[str, str]]:
            found = read_references(kind, place, walk(str(place)), pristine.office_home).references
            return {(r.source, r.target) for r in found if r.state in ("inside", "outside")}

        wanted = leads(true)
        assert len(wanted & leads(drafted.kind)) >= 0.9 * len(wanted), name
        sizes = {"true": 0, "drafted": 0}
        for file in listing.files:
            is_so, called_so = (role_of(k, file.path) == "rebuildable" for k in (true, drafted.kind))
            assert is_so or not called_so, f"{file.path} of {name} is essential"
            sizes["true"] += file.size * is_so
            sizes["drafted"] += file.size * called_so
        assert sizes["drafted"] >= 0.9 * sizes["true"], name
        assert {o.sureness for o in drafted.lines} <= {"sure", "likely", "guess"}


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
    seen = command("look", world.sounds, "--json").library
    assert seen["kind"] == "audio"
    assert seen["reference_total"]["outside_count"] == 3
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
    kind = dunechest.kinds.draft_kind(library).kind
    assert [role_of(kind, p) for p in ("cache/everything.db", "indexes/list.m3u8")] == ["essential"] * 2
    assert role_of(kind, "smaller/1.png") == "essential", "older than the others: no copies of them"
    for path in (library / "smaller").iterdir():
        os.utime(path, (2_100_000_000, 2_100_000_000))
    kind = dunechest.kinds.draft_kind(library).kind
    assert role_of(kind, "smaller/1.png") == "rebuildable"
    assert role_of(kind, "originals/1.png") == "essential"


def test_odd_names_and_placeholders_do_not_spoil_a_draft(tmp_path: Path) -> None:
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
    draft = dunechest.kinds.draft_kind(library, name="odd")
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
    kind = dunechest.kinds.draft_kind(library).kind
    found = read_references(kind, library, walk(str(library)), tmp_path).references
    assert sorted(r.target for r in found if r.state == "inside") == ["pdf/a.pdf", "pdf/b.pdf", "pdf/c.pdf"]
    shutil.rmtree(library / "pdf")
    assert all(
        r.state == "missing"
        for r in read_references(kind, library, walk(str(library)), tmp_path).references
        if r.state != "away"
    )


@pytest.fixture
def pager(tmp_path: Path) -> Path:
    """A library of an application that keeps a profile per set-up, with many cached files before its database."""
    library = tmp_path / "home-wren" / "pager"
    inner = library / "profiles" / "x8f3k2ab.usual"
    for folder in ("caches", "pages"):
        (inner / folder).mkdir(parents=True)
    for number in range(300):
        (inner / "caches" / f"{number}.db").write_bytes(b"\x01" * 512)
    (inner / "pages" / "tide.txt").write_text("spring tide")
    with closing(sqlite3.connect(inner / "pages.db")) as made:
        made.executescript("CREATE TABLE pages (file TEXT); INSERT INTO pages VALUES ('pages/tide.txt');")
    (library / "lists").mkdir()
    (library / "lists" / "rain of wren.m3u").write_text("../profiles/x8f3k2ab.usual/pages/tide.txt\n")
    for name, text in (("counter", "12345\n"), ("year.txt", "2026"), ("app.lock", "4242\n")):
        (library / name).write_text(text)
    (library / "state.json").write_text(
        '{"of": {"wren": {"last": "profiles/x8f3k2ab.usual/pages/tide.txt"}, "other": {"size": "3"}}}'
    )
    return library


def test_a_draft_names_nobody_and_speaks_for_what_comes_later(pager: Path, tmp_path: Path) -> None:
    home = tmp_path / "wren"
    home.mkdir()
    draft = dunechest.kinds.draft_kind(pager, name="pager", home=home)
    assert "wren" not in draft.text
    assert "x8f3k2ab" not in draft.text
    assert draft.kind.databases == ("profiles/*.usual/pages.db",), "seen behind all the caches"
    assert draft.kind.in_use.lock_marks == ("app.lock",), "a number alone is no lock mark"
    assert draft.kind.roles.rebuildable == ("profiles/*.usual/caches/**",)
    by_form = {spec.form: spec for spec in draft.kind.references}
    assert by_form["m3u8"].files == ("lists/*.m3u",), "one example speaks for its sort"
    assert by_form["json"].keys == ("of.*.last",)


def test_the_number_of_a_process_that_has_the_library_open_is_a_lock_mark(pager: Path) -> None:
    other = subprocess.Popen(["tail", "-f", pager / "year.txt"], stdout=subprocess.DEVNULL)
    try:
        (pager / "counter").write_text(f"{other.pid}\n")
        while not processes.openers(pager):
            time.sleep(0.01)
        assert "counter" in dunechest.kinds.draft_kind(pager).kind.in_use.lock_marks
    finally:
        other.kill()
        other.wait()
    assert "counter" not in dunechest.kinds.draft_kind(pager).kind.in_use.lock_marks, "it is a number like others"


def test_no_role_is_drafted_wider_than_what_was_seen(tmp_path: Path) -> None:
    """A name that was drawn would become a star, and the star match what is essential."""
    library = tmp_path / "lib"
    for folder in ("cache 81f3a2b4c", "cache of letters"):
        (library / folder).mkdir(parents=True)
        (library / folder / "a.txt").write_text("x")
    (library / "cache of letters" / "lists.m3u").write_text("a.txt\n")
    kind = dunechest.kinds.draft_kind(library).kind
    assert role_of(kind, "cache of letters/a.txt") == "essential"


def test_trying_a_kind_file_says_what_each_line_matches(pager: Path, tmp_path: Path, command: Command) -> None:
    file = tmp_path / "pager.toml"
    assert command("kinds", "draft", pager, "--name", "pager", "--write", file).status == 0
    file.write_text(file.read_text().replace('"app.lock",', '"app.lock", "*.pid",'))
    tried = dunechest.kinds.try_kind(file, pager)
    assert tried.recognised
    assert [(line.table, line.key, line.value) for line in tried.idle] == [("in-use", "lock-marks", "*.pid")]
    said = {(line.table, line.key): line for line in tried.lines}
    assert said["roles", "rebuildable"].says == "300 files, 154 kB"
    assert said["references", "sqlite"].examples == ("pages/tide.txt",)
    assert said["references", "m3u8"].says == "1 file, 1 reference: 1 inside"
    assert {end for end, _, _ in tried.unnamed_files} == {"", ".txt"}
    ran = command("kinds", "try", file, pager)
    assert ran.status == 0
    assert f"1 of {len(tried.lines)} line matches nothing here" in ran.out
    before = facts(pager)
    shutil.rmtree(pager / "profiles")
    ran = command("kinds", "try", file, pager)
    assert (ran.status, "NOT recognised" in ran.out) == (1, True)
    assert set(facts(pager)) < set(before), "nothing was left there"
    assert command("kinds", "try", file, tmp_path / "no-such").status == 2


def test_adding_a_kind_file_makes_it_known(pager: Path, tmp_path: Path, command: Command) -> None:
    file = tmp_path / "any name.toml"
    assert command("kinds", "draft", pager, "--name", "pager", "--write", file).status == 0
    assert command("kinds", "add", file, "--json").json["instead_of"] == ""
    assert command("look", pager, "--json").library["kind"] == "pager"
    assert command("kinds", "draft", "pager").status == 2, "no such name yet"
    command("find", pager.parent)
    assert tomllib.loads(command("kinds", "draft", "pager").out)["name"] == "pager"
    assert "nothing to do" in command("kinds", "add", file).out
    changed = file.read_text().replace('"lists/*.m3u"', '"lists/**"')
    file.write_text(changed)
    refused = command("kinds", "add", file)
    assert (refused.status, "--replace" in refused.err) == (3, True)
    added = dunechest.kinds.add_kind(file, replace=True)
    assert (added.instead_of, added.file.read_text()) == ("own", changed)
    file.write_text(changed.replace('name = "pager"', 'name = "pictures"'))
    assert dunechest.kinds.add_kind(file).instead_of == "shipped"
    for wrong in ("format = 1", changed.replace('name = "pager"', 'name = "../../escape"')):
        file.write_text(wrong)
        assert command("kinds", "add", file).err


def test_a_lock_mark_is_left_out_only_where_it_is_certain(pager: Path, tmp_path: Path, command: Command) -> None:
    file = tmp_path / "pager.toml"
    command("kinds", "draft", pager, "--name", "pager", "--write", file)
    file.write_text(file.read_text().replace('"app.lock",', '"*.lock", "diary",'))
    command("kinds", "add", file)
    (pager / "diary").write_text("On the 3rd the tide came up to the door.\n" * 40)
    (pager / "empty.lock").write_text("")
    (pager / "recipe.lock").write_bytes(bytes(range(256)))
    (tmp_path / "chest").mkdir()
    chest = dunechest.create_chest(tmp_path / "chest", "lock")
    dunechest.archive(pager, chest)
    (bag,) = chest.bags()
    assert bag.library is not None
    assert {left.path for left in bag.library.left_out if "lock mark" in left.why} == {"app.lock", "empty.lock"}
    stored = {path.name for path in (tmp_path / "chest").rglob("*")}
    assert {"diary", "recipe.lock", "counter"} <= stored


@given(st.lists(st.sampled_from(["*", "**", "**/", "?", "a", "b", "/"]), max_size=7), st.text("ab/x", max_size=8))
def test_patterns_with_many_stars_match_as_others_do(pieces: list[str], path: str) -> None:
    """What a regular expression could be made to take for ever with goes another way, to the same answer."""
    pattern = "".join(pieces)
    whole = re.compile(patterns._regex(pattern), re.DOTALL).fullmatch(path) is not None
    assert patterns._matches(patterns._tokens(pattern), path) == whole
    assert Patterns([pattern]).match(path) == whole


@pytest.mark.parametrize(
    ("pattern", "path"),
    [("*a" * 100 + "b", "a" * 255), ("**a**a**a**b", "a/" * 2000), ("**/*a*a*a*a*b", "a" * 200 + "/")],
)
def test_no_pattern_takes_for_ever(pattern: str, path: str) -> None:
    begun = time.process_time()
    assert not Patterns([pattern]).match(path)
    assert time.process_time() - begun < 5
