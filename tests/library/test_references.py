"""References: each open format read, each resolved to where it leads, and no text can do harm."""

from __future__ import annotations

import json
import os
import sqlite3
import time
from contextlib import closing
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dunechest.library.formats.base import MOST, Raw, UnreadableError
from dunechest.library.formats.bibliographies import attachments, bibtex_entries
from dunechest.library.kinds.schema import References
from dunechest.library.references.reading import READERS
from dunechest.library.references.resolve import Resolver, drive_of, not_taken
from dunechest.paths import slashed


def read(form: str, path: Path, **rest: object) -> list[Raw]:
    return list(READERS[form](path, References(form, (path.name,), **rest)))  # type: ignore[arg-type]


TEXTS: list[tuple[str, str, dict[str, object], list[str]]] = [
    ("m3u8", "\ufeff#EXTM3U\n#EXTINF:3,Tern\nsounds/tern.wav\r\n\n  ../far.wav  \nhttps://marram.example/x\n", {},
     ["sounds/tern.wav", "../far.wav", "https://marram.example/x"]),
    ("xspf", '<playlist version="1" xmlns="http://xspf.org/ns/0/"><trackList><track><location>a%20b.wav</location>'
     "<image>c.png</image></track><track><location>file:///x/y.wav</location></track></trackList></playlist>", {},
     ["a%20b.wav", "c.png", "file:///x/y.wav"]),
    ("bibtex", '@string{x = "no"}\n@article{a, title={An {odd} one}, file = {Scan:papers/a.pdf:PDF;b.pdf}}\n'
     '@book{b, FILE = "C:\\\\x\\\\c.pdf" # "", year = 1999}\n@comment{@article{z, file={no.pdf}}}', {},
     ["papers/a.pdf", "b.pdf", "C:\\\\x\\\\c.pdf"]),
    ("bibtex", "@article{a, scan={s.pdf}, file={f.pdf}}", {"fields": ("scan",)}, ["s.pdf"]),
    ("ris", "TY  - JOUR\nL1  - a.pdf\nL1  - file:///b.pdf; c.pdf\nUR  - https://marram.example\nER  - \n", {},
     ["a.pdf", "file:///b.pdf", "c.pdf"]),
    ("csl-json", json.dumps([{"id": "a", "type": "book", "file": "a.pdf"}, {"id": 2, "attachments": [{"path": "b.pdf"}]},
     "odd", {"note": "no.pdf"}]), {}, ["a.pdf", "b.pdf"]),
    ("xmp", '<x xmlns:r="r#" xmlns:m="m#"><d r:filePath="a.jpg"/><m:reference> b.jpg </m:reference></x>', {},
     ["a.jpg", "b.jpg"]),
    ("markdown", "[a](x/a.md)\n\n![b](<b c.png> \"t\") and [r]\n\n[r]: r.pdf\n\n```\n[no](no.md)\n```\n\n<img src='d.png'>\n"
     "`[no](no)` [self](#here)", {}, ["x/a.md", "b%20c.png", "r.pdf", "d.png"]),
    ("html", '<a href="a%20b.html#x">x</a><img SRC=c.png><!-- <a href="no"> --><image xlink:href="d&amp;e.png"/><a href="#y">', {},
     ["a%20b.html#x", "c.png", "d&e.png"]),
    ("json", '{"clips": [{"path": "a"}, {"path": "b"}, {"other": "no"}], "x": 1}', {"keys": ("clips.*.path",)}, ["a", "b"]),
    ("json", '{"files": ["a", "b", 3, null]}', {"keys": ("files",)}, ["a", "b"]),
    ("toml", 'root = "a"\n[t.one]\np = "b"\n[t.two]\np = "c"\n', {"keys": ("root", "t.*.p", "none.at.all")}, ["a", "b", "c"]),
    ("ini", "[covers]\nOne = a.png\nTwo=b.png\nempty=\nalone\n", {"keys": ("covers.*",)}, ["a.png", "b.png"]),
]  # fmt: skip


@pytest.mark.parametrize(
    ("form", "text", "rest", "expected"), TEXTS, ids=[f"{t[0]}-{i}" for i, t in enumerate(TEXTS)]
)
def test_each_format_is_read(
    form: str, text: str, rest: dict[str, object], expected: list[str], tmp_path: Path
) -> None:
    path = tmp_path / "file"
    path.write_text(text, newline="")
    assert sorted(raw.text for raw in read(form, path, **rest)) == sorted(expected)
    assert all(raw.spot for raw in read(form, path, **rest))


def test_columns_of_a_database_are_read(tmp_path: Path) -> None:
    path = tmp_path / 'd "b".db'
    with closing(sqlite3.connect(path)) as made:
        made.executescript(
            'CREATE TABLE "odd ""t" (id INTEGER PRIMARY KEY, "the path" TEXT);'
            "INSERT INTO \"odd \"\"t\" VALUES (1, 'a.jpg'), (2, NULL), (3, ''), (4, x'ff00');"
            "CREATE TABLE folder (id INTEGER PRIMARY KEY, path TEXT); INSERT INTO folder VALUES (7, '/x'), (8, 'C:\\p');"
            "CREATE TABLE pic (folder INTEGER, name TEXT, dir TEXT);"
            "INSERT INTO pic VALUES (7, 'b.jpg', 'here/'), (8, 'c.jpg', ''), (9, 'd.jpg', NULL);"
        )
    whole = read("sqlite", path, table='odd "t', column="the path")
    assert [(raw.spot, raw.text) for raw in whole] == [('odd "t 1', "a.jpg")]
    joined = read("sqlite", path, table="pic", column="name", folder="folder.path", join="pic.folder = folder.id")
    assert [raw.text for raw in joined] == ["/x/b.jpg", "C:\\p\\c.jpg"]
    beside = read("sqlite", path, table="pic", column="name", folder="dir")
    assert [raw.text for raw in beside] == ["here/b.jpg", "c.jpg"]
    assert list(tmp_path.glob("d *")) == [path], "no trace beside it"
    for off in ({"table": "no", "column": "x"}, {"table": "pic", "column": "no such"}):
        with pytest.raises(UnreadableError, match="SQLite"):
            read("sqlite", path, **off)


def test_a_database_cannot_make_anything_happen(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "d.db"
    with closing(sqlite3.connect(path)) as made:
        made.executescript(
            "CREATE VIEW endless (p) AS WITH RECURSIVE n(i) AS (VALUES(1) UNION ALL SELECT i + 1 FROM n) SELECT 'x' || i "
            "FROM n WHERE i < 0;"
            "CREATE VIEW reaching (p) AS SELECT load_extension('x');"
            "CREATE TABLE wide (p TEXT); INSERT INTO wide VALUES (zeroblob(9000000)), (printf('%.*c', 900000, 'x'));"
        )
    monkeypatch.setattr("dunechest.library.formats.tables.PATIENCE", 0.3)
    begun = time.monotonic()
    for table in ("endless", "reaching", "wide"):
        with pytest.raises(UnreadableError):
            read("sqlite", path, table=table, column="p")
    assert time.monotonic() - begun < 20


N = 40_000
BOMB = '<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;">]><x><location>&b;</location></x>'
REACHING = "<!DOCTYPE x [<!ENTITY a SYSTEM 'file:///etc/hostname'>]><x><location>&a;</location></x>"
HOSTILE = [
    *(("xspf", text) for text in (BOMB, REACHING, "<a>" * N, "<x", "\0", "<x>" + "y" * 2_000_000 + "</x>")),
    ("xmp", BOMB),
    *(("html", text * N) for text in ("<a ", "<!--", "<![CDATA[", "</", "<a href='", "<!DOCTYPE ", "&#", "<script>")),
    *(("markdown", text * N) for text in ("[", "![", "[a](", "[a][b", "_a", "**a ", "* a\n", "<!--", "`a``b```c", "> ")),
    *(("bibtex", text * N) for text in ("@comment{", "@a{b,", "@a{b,c={", '@a{b,c="', "@a{b,c=d#", "@")),
    *(("m3u8", text) for text in ("x" * 3_000_000, "\n" * N, "\0" * N)),
    ("ris", "L1  - " + "x" * 3_000_000),
    *((form, "[" * N) for form in ("json", "csl-json", "toml", "ini")),
    ("toml", "a." * N),
    ("json", '{"a":' * N),
    ("csl-json", '[{"file":' + "[" * 900 + "]" * 900 + "}]"),
    ("ini", "[a]\n" + " x\n" * N),
]  # fmt: skip


@pytest.mark.parametrize(("form", "text"), HOSTILE, ids=[f"{f}-{i}" for i, (f, _) in enumerate(HOSTILE)])
def test_a_hostile_text_ends_in_time_and_gives_nothing_away(
    form: str, text: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Without bounds some of these take hours; one that is not bounded holds up the whole run."""
    monkeypatch.setattr("dunechest.library.formats.markup.PATIENCE", 0.5)
    path = tmp_path / "file"
    path.write_text(text)
    try:
        found = read(form, path, keys=("a",))
    except UnreadableError as error:
        assert str(error)
        return
    assert not any(os.uname().nodename == raw.text.strip() or len(raw.text) > 70_000 for raw in found)


def test_reading_stops_when_it_takes_too_long(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("dunechest.library.formats.markup.PATIENCE", -1.0)
    path = tmp_path / "file"
    path.write_text("`code` [a](b)\n")
    for form in ("markdown", "html"):
        with pytest.raises(UnreadableError, match="too long"):
            read(form, path)


def test_a_long_text_is_read_whole_by_the_piece(tmp_path: Path) -> None:
    path = tmp_path / "log.md"
    paragraph = "Terns on the [ridge](day.md), wind west.\n" * 20
    fenced = "```\n\n[no](fenced.md)\n\n```\n"
    path.write_text("\n".join([paragraph, fenced] * 150))
    found = read("markdown", path)
    assert (len(found), {raw.text for raw in found}) == (150 * 20, {"day.md"})
    lines = path.read_text().split("\n")
    last = max(int(raw.spot.split()[1]) for raw in found)
    assert "ridge" in lines[last - 1]
    path.write_text("no blank line [x](y)\n" * 20_000)
    with pytest.raises(UnreadableError, match="no blank line"):
        read("markdown", path)


@pytest.mark.parametrize("form", sorted(READERS))
def test_what_cannot_be_read_is_said(form: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    rest = {"table": "t", "column": "c"} if form == "sqlite" else {}
    with pytest.raises(UnreadableError):
        read(form, tmp_path / "not there", **rest)
    (tmp_path / "secret").write_text("a.wav\n")
    (tmp_path / "link").symlink_to("secret")
    with pytest.raises(UnreadableError):
        read(form, tmp_path / "link", **rest)
    os.mkfifo(tmp_path / "pipe")
    with pytest.raises(UnreadableError):
        read(form, tmp_path / "pipe", **rest)


def test_what_is_far_too_large_is_not_read(tmp_path: Path) -> None:
    with (tmp_path / "x").open("wb") as file:
        file.truncate(MOST + 1)
    for form in ("html", "xspf", "json", "toml", "bibtex", "markdown"):
        with pytest.raises(UnreadableError, match=r"large|read"):
            read(form, tmp_path / "x")


@given(
    st.lists(
        st.text(st.characters(blacklist_categories=["Cs", "Cc"], blacklist_characters='{}"#%,\\;:@= '), min_size=1)
    )
)
def test_every_attachment_of_a_bibliography_is_found(names: list[str]) -> None:
    text = "".join(f"@misc{{k{i},\n title = {{T}},\n file = {{{name}}}}}\n" for i, name in enumerate(names))
    found = [attachments(entry.fields["file"]) for entry in bibtex_entries(text)]
    assert found == [[name.strip()] if name.strip() else [] for name in names]


@given(st.text())
def test_no_text_stops_the_reader_of_bibliographies(text: str) -> None:
    for entry in bibtex_entries(text):
        assert isinstance(entry.key, str)


# Where they lead.


@pytest.fixture
def resolver(tmp_path: Path) -> Resolver:
    library = tmp_path / "lib"
    (library / "a" / "caf\u00e9").mkdir(parents=True)
    for name in ("a/x.jpg", "a/caf\u00e9/y.jpg", "z 1.jpg", "50%.jpg"):
        (library / name).write_text("x")
    (tmp_path / "stray.jpg").write_text("x")
    (tmp_path / "home").mkdir(exist_ok=True)
    (tmp_path / "home" / "desk.jpg").write_text("x")
    files = [p.relative_to(library).as_posix() for p in library.rglob("*") if p.is_file()]
    return Resolver(library, files, ["a", "a/caf\u00e9"], tmp_path / "home")


RESOLVED = [
    ("a/x.jpg", "", False, "inside", "a/x.jpg"),
    ("x.jpg", "a", False, "inside", "a/x.jpg"),
    ("../z 1.jpg", "a", False, "inside", "z 1.jpg"),
    ("./a/../a//x.jpg", "", False, "inside", "a/x.jpg"),
    ("a/cafe\u0301/y.jpg", "", False, "inside", "a/caf\u00e9/y.jpg"),
    ("a\\x.jpg", "", False, "inside", "a/x.jpg"),
    ("{lib}/a/x.jpg", "", False, "inside", "a/x.jpg"),
    ("a", "", False, "inside", "a"),
    ("z%201.jpg", "", True, "inside", "z 1.jpg"),
    ("z 1.jpg?size=2#top", "", True, "inside", "z 1.jpg"),
    ("50%.jpg", "", False, "inside", "50%.jpg"),
    ("50%25.jpg", "", True, "inside", "50%.jpg"),
    ("file://{lib}/a/x.jpg", "", True, "inside", "a/x.jpg"),
    ("file:///D:/old/lib/a/x.jpg", "", True, "inside", "a/x.jpg"),
    ("D:\\old\\lib\\a\\x.jpg", "", False, "inside", "a/x.jpg"),
    ("/home/other/lib/a/x.jpg", "", False, "inside", "a/x.jpg"),
    ("/home/other/x.jpg", "", False, "missing", "/home/other/x.jpg"),
    ("../stray.jpg", "", False, "outside", "{tmp}/stray.jpg"),
    ("~/desk.jpg", "", False, "outside", "{tmp}/home/desk.jpg"),
    ("file://localhost{tmp}/stray.jpg", "", True, "outside", "{tmp}/stray.jpg"),
    ("..", "", False, "folder", "{tmp}"),
    ("no.jpg", "a", False, "missing", "a/no.jpg"),
    ("x\0y", "", False, "missing", "x\0y"),
    ("file:///a%00b", "", True, "missing", "file:///a%00b"),
    ("https://marram.example/a/x.jpg", "", False, "away", "https://marram.example/a/x.jpg"),
    ("//marram.example/x", "", True, "away", "//marram.example/x"),
    ("file://other-pc/a/x.jpg", "", True, "away", "file://other-pc/a/x.jpg"),
    ("mailto:tern@marram.example", "", True, "away", "mailto:tern@marram.example"),
    ("data:image/png;base64,AAAA", "", True, "away", "data:image/png;base64,AAAA"),
    ("file://[broken", "", True, "missing", "file://[broken"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "folder", "uri", "state", "path"), RESOLVED, ids=[repr(r[0]) for r in RESOLVED])
def test_where_a_reference_leads(
    text: str, folder: str, uri: bool, state: str, path: str, resolver: Resolver, tmp_path: Path
) -> None:
    def fill(text: str) -> str:
        for name, place in (("{lib}", tmp_path / "lib"), ("{tmp}", tmp_path)):
            uri = place.as_uri().removeprefix("file://")
            text = text.replace("://" + name, "://" + uri).replace("localhost" + name, "localhost" + uri)
            text = text.replace(name, str(place))
        return text

    found = resolver.resolve(Raw("", fill(text), uri), folder)
    assert found is not None
    assert found.state == state and slashed(found.path).endswith(slashed(fill(path)))


def test_what_is_no_reference(resolver: Resolver) -> None:
    assert resolver.resolve(Raw("", "#top", True), "") is None
    assert resolver.resolve(Raw("", "  "), "") is None


@given(st.text(), st.booleans())
def test_no_text_leads_out_of_its_folder_unseen(text: str, uri: bool) -> None:
    """Whatever is written, what is called inside is a file of the library."""
    files = ["a/x.jpg", "b.jpg"]
    found = Resolver(Path("/nowhere/lib"), files, ["a"], Path("/nowhere/home")).resolve(Raw("", text, uri), "a")
    assert found is None or found.state != "inside" or found.path in {*files, "a", ""}


def test_two_files_of_one_name_are_not_guessed_between(tmp_path: Path) -> None:
    several = Resolver(tmp_path, ["one/a/x.jpg", "two/a/x.jpg"], [], tmp_path)
    found = several.resolve(Raw("", "/gone/a/x.jpg"), "")
    assert found is not None
    assert found.state == "missing"


@pytest.mark.parametrize(
    ("path", "drive"),
    [("/media/tern/REED-CARD/a", "REED-CARD"), ("/run/media/tern/x y/a", "x y"), ("/Volumes/Blue/a", "Blue"),
     ("/mnt/sand/a", "sand"), ("E:\\a", "E:"), ("/home/tern/a", "")],
)  # fmt: skip
def test_the_drive_a_path_was_on(path: str, drive: str) -> None:
    assert drive_of(path) == drive


@pytest.mark.parametrize(
    ("path", "taken"),
    [("/home/tern/Desktop/a.jpg", True), ("/run/media/tern/card/a", True), ("/etc/shadow", False), ("/proc/1/mem", False),
     ("/home/tern/.ssh/key", False), ("/var/lib/x", False), ("/srv/a", True)],
)  # fmt: skip
def test_what_a_reference_may_bring_along(path: str, taken: bool) -> None:
    assert (not_taken(path) == "") == taken
