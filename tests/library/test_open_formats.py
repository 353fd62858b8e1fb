"""References in any folder: files of open formats bring along what they name, and are updated at another place."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import dunechest
from dunechest.library.formats.markup import markdown_links, plain_links
from dunechest.library.kinds.schema import PLAIN_KIND
from dunechest.library.references.open_formats import with_open_formats
from dunechest.library.references.reading import read_references
from dunechest.transfer.walk import walk

Write = Callable[[Path, str], None]


def _text(template: str) -> Write:
    def write(path: Path, target: str) -> None:
        path.write_text(template.replace("TARGET", target), encoding="utf-8")

    return write


def _notebook(path: Path, target: str) -> None:
    cells = [
        {"cell_type": "markdown", "source": [f"![the terns](<{target}>)\n", "and the shore"]},
        {"cell_type": "code", "source": f'print("terns")\ntable = read("{target}")\n', "outputs": []},
    ]
    path.write_text(json.dumps({"cells": cells, "nbformat": 4, "nbformat_minor": 5, "metadata": {}}, indent=1))


def _table(kind: str) -> Write:
    def write(path: Path, target: str) -> None:
        with sqlite3.connect(path) as connection:
            connection.execute("CREATE TABLE shot (id INTEGER PRIMARY KEY, file, note TEXT)")
            value = os.fsencode(target) if kind == "bytes" else target
            connection.execute("INSERT INTO shot (file, note) VALUES (?, 'at the point')", (value,))
        connection.close()

    return write


#: Name of the file, what is written into it, and whether the path in it is percent-encoded.
FORMS: dict[str, tuple[str, Write]] = {
    "m3u": ("list.m3u", _text("TARGET\n")),
    "m3u8 without an ending": ("evening list", _text("#EXTM3U\n#EXTINF:5,Tern\nTARGET\n")),
    "pls": ("radio.pls", _text("[playlist]\nNumberOfEntries=1\nFile1=TARGET\nTitle1=Tern\n")),
    "xspf": ("list.xspf", _text('<?xml version="1.0"?><playlist version="1" xmlns="http://xspf.org/ns/0/"><trackList>'
                                "<track><location>URI</location></track></trackList></playlist>")),
    "bibtex": ("papers.bib", _text("@article{tern, title={Terns}, file={:TARGET:PDF}}\n")),
    "ris": ("papers.ris", _text("TY  - JOUR\nTI  - Terns\nL1  - TARGET\nER  - \n")),
    "csl-json": ("papers.json", _text('[{"id": "tern", "type": "book", "issued": {}, "file": "TARGET"}]')),
    "xmp": ("a.xmp", _text('<x:xmpmeta xmlns:x="marram:ns:meta/"><filePath>TARGET</filePath></x:xmpmeta>')),
    "markdown": ("page.md", _text("# Terns\n\nSee ![the terns](<TARGET>) here.\n")),
    "link by name": ("page.md", _text("# Terns\n\nSee ![[TARGET|the terns]] here.\n")),
    "html": ("page.html", _text('<!DOCTYPE html><img src="URI">')),
    "svg": ("map.svg", _text('<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink">'
                             '<image xlink:href="URI"/></svg>')),
    "svg style": ("map.svg", _text("<svg xmlns='http://www.w3.org/2000/svg'><rect style=\"fill: url('URI')\"/></svg>")),
    "css": ("look.css", _text('body { background: url("URI"); }\n')),
    "latex": ("thesis.tex", _text("\\documentclass{book}\n\\includegraphics[width=3cm]{TARGET}\n")),
    "notebook": ("terns.ipynb", _notebook),
    "ini": ("project.ini", _text("[sound]\nfile = TARGET\n")),
    "toml": ("project.toml", _text('[sound]\nfile = "TARGET"\n')),
    "json": ("project.json", _text('{\n  "clips": [{"file": "TARGET"}]\n}\n')),
    "include": ("main.journal", _text("include TARGET\n2026-01-01 opening\n")),
    "sqlite": ("catalogue.db", _table("text")),
    "sqlite bytes": ("things", _table("bytes")),
}  # fmt: skip


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize("written", ["absolute", "relative"])
def test_what_a_file_of_any_folder_names_comes_along_and_is_found_at_the_new_place(
    form: str, written: str, tmp_path: Path, chest: dunechest.Chest
) -> None:
    name, write = FORMS[form]
    home = tmp_path / "home" / "tern"
    library, desktop = home / "things", home / "Desktop"
    library.mkdir(parents=True)
    desktop.mkdir()
    outside = desktop / "tern.dat"
    outside.write_bytes(b"kree-ar")
    target = str(outside) if written == "absolute" else os.path.relpath(outside, library)
    uri = outside.as_uri() if written == "absolute" else target.replace(os.sep, "/")
    if form in ("csl-json", "toml", "json"):
        target = json.dumps(target)[1:-1]
    elif form in ("markdown", "link by name", "latex", "notebook"):  # a backslash is no separator in any of them
        target = target.replace(os.sep, "/")

    def put(path: Path) -> None:
        write(path, target)
        if name.endswith((".xspf", ".html", ".svg", ".css")):
            path.write_text(path.read_text().replace("URI", uri))

    put(library / name)
    found = dunechest.look(library)
    assert {(r.state, r.target) for r in found.references} == {("outside", str(outside))}
    (result,) = dunechest.archive(library, chest)
    assert result.ok
    shutil.rmtree(home)
    other = tmp_path / "new" / "plover"
    (other / "moved" / "deep").mkdir(parents=True)
    back = dunechest.restore(chest, "things", dunechest.RestoreOptions(into=str(other / "moved" / "deep" / "things")))
    assert back.ok, (back.proof.lines, back.to_dict())
    after = dunechest.look(other / "moved" / "deep" / "things")
    (reference,) = {(r.state, r.target) for r in after.references}
    assert reference[0] == "outside"
    assert Path(reference[1]).read_bytes() == b"kree-ar"
    assert str(home) not in (other / "moved" / "deep" / "things" / name).read_bytes().decode("utf-8", "replace")


def test_a_path_inside_the_folder_is_updated_and_the_rest_stays_to_the_byte(
    tmp_path: Path, chest: dunechest.Chest
) -> None:
    library = tmp_path / "site"
    (library / "songs").mkdir(parents=True)
    (library / "songs" / "tern song.ogg").write_bytes(b"song")
    lines = f"#EXTM3U\r\n{library}/songs/tern song.ogg\r\nsongs/tern song.ogg\r\n"
    (library / "list.m3u8").write_bytes(lines.encode())
    (library / "readme.md").write_text(
        f"It is in {library}/songs/tern song.ogg, and [here](<songs/tern song.ogg>).\n"
    )
    dunechest.archive(library, chest)
    place = tmp_path / "elsewhere"
    assert dunechest.restore(chest, "site", dunechest.RestoreOptions(into=str(place))).ok
    assert (place / "list.m3u8").read_bytes() == (
        f"#EXTM3U\r\n{place}/songs/tern song.ogg\r\nsongs/tern song.ogg\r\n".encode()
    )
    assert (place / "readme.md").read_bytes() == (library / "readme.md").read_bytes()


def test_what_another_system_wrote_with_doubled_backslashes_is_seen(tmp_path: Path) -> None:
    (tmp_path / "things").mkdir()
    (tmp_path / "Desktop").mkdir()
    (tmp_path / "Desktop" / "tern.dat").write_bytes(b"kree-ar")
    (tmp_path / "things" / "project.json").write_text('{"clips": [{"file": "..\\\\Desktop\\\\tern.dat"}]}')
    found = dunechest.look(tmp_path / "things").references
    assert {(r.state, r.target) for r in found} == {("outside", str(tmp_path / "Desktop" / "tern.dat"))}


def test_a_notebook_with_line_ends_of_another_system_keeps_them(tmp_path: Path, chest: dunechest.Chest) -> None:
    library, outside = tmp_path / "old" / "things", tmp_path / "old" / "Desktop" / "tern.dat"
    for folder in (library, outside.parent):
        folder.mkdir(parents=True)
    outside.write_bytes(b"kree-ar")
    _notebook(library / "terns.ipynb", outside.as_posix())
    text = (library / "terns.ipynb").read_bytes().replace(b"\r\n", b"\n").replace(b"\n", b"\r\n")
    (library / "terns.ipynb").write_bytes(text)
    dunechest.archive(library, chest)
    shutil.rmtree(tmp_path / "old")
    place = tmp_path / "new" / "my things"
    place.parent.mkdir()
    assert dunechest.restore(chest, "things", dunechest.RestoreOptions(into=str(place))).ok
    now = (place / "terns.ipynb").read_bytes()
    assert now.count(b"\r\n") == text.count(b"\r\n") == now.count(b"\n")
    assert b"my%20things outside" not in now and b"my%20things%20outside" in now and b"my things outside" in now


def test_dead_paths_are_named_and_doubtful_ones_are_not(tmp_path: Path) -> None:
    (tmp_path / "list.m3u").write_text("gone.ogg\n/media/tern/REED CARD/a.ogg\nhttps://marram.example/a.ogg\n")
    (tmp_path / "settings.json").write_text(
        json.dumps({"a": "x/y.txt", "b": "/usr/bin/env", "c": "/home/tern/lost.mov"})
    )
    (tmp_path / "page.md").write_text("[a](not-yet) [b](lost.png) [c](/tags/terns) [d](https://marram.example)\n")
    (tmp_path / "page.html").write_text('<html><a href="/about.html">x</a><a href="sub/page.html">y</a></html>')
    found = {(r.source, r.text, r.state) for r in dunechest.look(tmp_path).references if r.state != "away"}
    assert found == {
        ("list.m3u", "gone.ogg", "missing"),
        ("list.m3u", "/media/tern/REED CARD/a.ogg", "missing"),
        ("settings.json", "/home/tern/lost.mov", "missing"),
        ("page.md", "lost.png", "missing"),
    }


def test_latex_finds_what_is_written_without_ending_and_from_the_main_document(
    tmp_path: Path, chest: dunechest.Chest
) -> None:
    library = tmp_path / "thesis"
    for name in ("chapters/one.tex", "figures/map.png", "refs.bib"):
        (library / name).parent.mkdir(parents=True, exist_ok=True)
        (library / name).write_bytes(b"x")
    picture = tmp_path / "Desktop" / "shore.pdf"
    picture.parent.mkdir()
    picture.write_bytes(b"%PDF")
    (library / "chapters" / "one.tex").write_text(
        f"\\includegraphics{{figures/map}}\n\\includegraphics{{{picture.with_suffix('')}}} % \\input{{never}}\n"
    )
    (library / "main.tex").write_text("\\documentclass{book}\\include{chapters/one}\\bibliography{refs}\n")
    found = {(r.text, r.state) for r in dunechest.look(library).references}
    assert found == {
        ("figures/map", "inside"),
        (str(picture.with_suffix("")), "outside"),
        ("chapters/one", "inside"),
        ("refs", "inside"),
    }
    dunechest.archive(library, chest)
    shutil.rmtree(picture.parent)
    home = tmp_path / "new"
    home.mkdir()
    back = dunechest.restore(chest, "thesis", dunechest.RestoreOptions(into=str(home / "thesis")))
    assert back.ok
    text = (home / "thesis" / "chapters" / "one.tex").read_text()
    assert str(tmp_path / "Desktop") not in text
    assert {r.state for r in dunechest.look(home / "thesis").references} == {"inside", "outside"}


def test_links_that_lead_on_are_not_missing(tmp_path: Path) -> None:
    (tmp_path / "a.txt").write_text("a")
    (tmp_path / "b").symlink_to("a.txt")
    (tmp_path / "c").symlink_to("b")
    (tmp_path / "d").symlink_to("nowhere")
    found = {(r.source, r.text, r.state, r.target) for r in dunechest.look(tmp_path).references}
    assert found == {
        ("b", "a.txt", "inside", "a.txt"),
        ("c", "b", "inside", "a.txt"),
        ("d", "nowhere", "missing", "nowhere"),
    }


@pytest.mark.parametrize(
    "content",
    [
        b"", b"\0" * 4096, b"#EXTM3U\n" + b"\xff\xfe" * 50, b"<svg" + b"<" * 5000, b"{" * 3000, b"\\input{" * 3000,
        b"[playlist]\nFile1=" + b"x" * 200_000, b"SQLite format 3\0" + b"\xff" * 4000, b'{"cells": 5}',
        b'{"cells": [{"cell_type": "code", "source": 7}]}', b"@article{" * 2000, b"url(" * 20_000, b"\xff\xfe",
    ],
)  # fmt: skip
def test_whatever_a_file_is_called_nonsense_in_it_does_no_harm(content: bytes, tmp_path: Path) -> None:
    for name in (
        "a.m3u",
        "b.pls",
        "c.svg",
        "d.json",
        "e.tex",
        "f.db",
        "g.ipynb",
        "h.bib",
        "i.css",
        "j",
        "k.md",
        "l.xmp",
    ):
        (tmp_path / name).write_bytes(content)
    result = dunechest.look(tmp_path)
    assert result.contents.references.unread == ()


def test_what_programs_keep_for_themselves_is_not_looked_through(tmp_path: Path) -> None:
    for folder in ("node_modules/x", ".git/refs", "plain"):
        (tmp_path / folder).mkdir(parents=True)
        (tmp_path / folder / "list.m3u").write_text("a.ogg\n")
    kind = with_open_formats(PLAIN_KIND, tmp_path, walk(str(tmp_path)).files)
    assert [spec.files for spec in kind.references] == [("plain/list.m3u",)]


def test_links_by_name_lead_wherever_the_page_lies(tmp_path: Path) -> None:
    """``[[Page]]`` and ``![[picture.png]]``: a page that is not written yet is no dead path, an attachment that is gone is one."""
    library = tmp_path / "notes"
    (library / "deep" / "pictures").mkdir(parents=True)
    outside = tmp_path / "Desktop" / "chart.png"
    outside.parent.mkdir()
    outside.write_bytes(b"png")
    (library / "deep" / "Low Tide.md").write_text("x")
    (library / "deep" / "pictures" / "Crab.png").write_bytes(b"png")
    (library / "plain.md").write_text(
        f"[[low tide]] [[Low Tide#when|then]] ![[crab.png|300]] [[pictures/Crab.png]] [[Not Yet]] [[gone.png]] [[{outside}]]\n"
        "`[[no.png]]`\n```\n[[no.png]]\n```\n"
    )
    (library / "linked.md").write_text("[[low tide]] [web](https://marram.example) ![[gone.png]]\n`[[no.png]]`\n")
    listing = walk(str(library))
    kind = with_open_formats(PLAIN_KIND, library, listing.files)
    found = [(r.source, r.text, r.state) for r in read_references(kind, library, listing, tmp_path).references]
    assert sorted(found) == sorted(
        [
            ("linked.md", "https://marram.example", "away"),
            ("linked.md", "gone.png", "missing"),
            ("linked.md", "low tide", "inside"),
            ("plain.md", str(outside), "outside"),
            ("plain.md", "Low Tide", "inside"),
            ("plain.md", "crab.png", "inside"),
            ("plain.md", "gone.png", "missing"),
            ("plain.md", "low tide", "inside"),
            ("plain.md", "pictures/Crab.png", "inside"),
        ]
    )


_PIECES = st.sampled_from(
    ["[a](b.md)", "![p](<x y.png>)", "[t](c.md \"title\")", "[[Low tide]]", "![[p.png|3]]", "word", " ", "\n", "\n\n", "- ", "# ",
     "    ", "`", "\\", "](", "[", "]", "(", ")", "<b>", "&amp;", "[x]: y.md\n", "[a(b)](c(d).md)", "[\u00e4](\u00f6 1.md)", "*", "_", "|",
     "> ", "---\n", "~~~\n", "[[a](b)](c)", "![[", "'", '"', "http://marram.example", "\t", "1. "]
)  # fmt: skip


@given(st.lists(_PIECES, max_size=12).map("".join))
def test_plain_links_are_those_that_the_parser_finds(text: str) -> None:
    """Thousands of notes are read without a parser; what it would find in them is found all the same."""
    plain = plain_links(text)
    if plain is not None:
        assert sorted((r.text, r.uri) for r in plain) == sorted((r.text, r.uri) for r in markdown_links(text))
