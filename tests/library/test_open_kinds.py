"""Kinds by open formats: libraries of whatever application are known by their content, with the evidence, none invented."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest

import dunechest
from dunechest.demo.world import World
from dunechest.library.kinds.load import load_kinds
from dunechest.library.search import search
from tests.support.open_libraries import JPEG, MADE, bundle, databases, notes, repository


@pytest.mark.parametrize("kind", MADE)
def test_a_library_of_an_open_format_is_known_by_its_content(kind: str, tmp_path: Path) -> None:
    MADE[kind](tmp_path)
    library = dunechest.library_at(tmp_path)
    assert library.kind.name == kind
    assert library.evidence


def test_a_bundle_is_known_by_its_name_and_what_is_in_it(tmp_path: Path) -> None:
    assert dunechest.library_at(bundle(tmp_path)).kind.name == "bundle"
    assert dunechest.library_at(tmp_path).kind.name == "folder"


def test_every_open_kind_is_tried_here() -> None:
    assert {name for name, kind in load_kinds().items() if kind.open} == {*MADE, "bundle"}


def test_names_alone_are_no_proof(tmp_path: Path) -> None:
    for number in range(30):
        (tmp_path / f"{number}.jpg").write_text("no picture")
    (tmp_path / "a.db").write_text("no database")
    (tmp_path / "thesis.tex").write_text("no document")
    (tmp_path / "a.ipynb").write_text("no notebook")
    (tmp_path / "mbox").write_text("Dear tern")
    assert dunechest.library_at(tmp_path).kind.name == "folder"


def test_a_home_with_all_of_them_is_searched_and_none_is_invented(tmp_path: Path) -> None:
    home = tmp_path / "tern"
    for number, (kind, make) in enumerate(MADE.items()):
        place = home / ("Documents", "Pictures", "Music", ".local/share")[number % 4] / f"my {kind}"
        place.mkdir(parents=True)
        make(place)
    bundle(home / "Documents")
    (home / ".cache" / "app").mkdir(parents=True)
    databases(home / ".cache" / "app")
    for number in range(100):  # more pictures than all else: a home is no library of pictures all the same
        (home / f"{number}.jpg").write_bytes(JPEG)
    plain = home / "Documents" / "letters"
    plain.mkdir()
    for number in range(600):
        (plain / f"{number}.odt").write_bytes(b"PK")
    found = search(home, load_kinds().values(), whole=False)
    assert {(here.kind.name, here.path.name) for here in found.libraries} == {
        *((kind, f"my {kind}") for kind in MADE),
        ("bundle", "Shore.draftbook"),
    }
    (unknown,) = found.unknown
    assert (unknown.path, unknown.file_count) == (plain, 600)
    assert "600 of 600 files are .odt" in unknown.evidence


def test_what_lies_in_a_library_is_not_listed_twice(tmp_path: Path) -> None:
    repository(tmp_path)
    (tmp_path / "docs").mkdir()
    notes(tmp_path / "docs")
    found = search(tmp_path, load_kinds().values())
    assert [(here.kind.name, here.path) for here in found.libraries] == [("repository", tmp_path)]


def test_the_library_of_an_application_goes_before_its_formats(pristine: World) -> None:
    assert dunechest.library_at(pristine.photos).kind.name == "glasswort"


def test_caches_and_what_dune_chest_itself_remembers_are_never_found(tmp_path: Path) -> None:
    """Of another person too, or of another set-up; and a library does not contain what can be made again in it."""
    home = tmp_path / "tern"
    for place in ("shore/.mypy_cache/3.11", "shore/__pycache__/x", "shore/notes", ".local/share/dunechest", "made"):
        (home / place).mkdir(parents=True)
        databases(home / place)
    repository(home / "shore")
    notes(home / "shore" / "notes")
    (home / "made" / "CACHEDIR.TAG").write_text("Signature: 8a477f597d28d172789f06886806bc55\n")
    for name in ("ledger.sqlite", "ledger.lock"):
        (home / ".local/share/dunechest" / name).write_bytes(b"")
    (found,) = dunechest.find_libraries(home).libraries
    assert (found.library.kind.name, [inner.path.name for inner in found.inner]) == ("repository", ["notes"])


def test_what_people_take_alone_of_a_library_of_an_open_format(tmp_path: Path) -> None:
    """A folder of pictures, a playlist, a mailbox, a keyword, a document: parts of whatever application's library."""
    wanted = {
        "pictures": {("folder", "2025")},
        "music": {("playlist", "evening")},
        "mailboxes": {("mailbox", "inbox"), ("mailbox", "sent")},
        "mbox": {("mailbox", "Inbox")},
        "typeset": {("document", "thesis")},
        "drawings": {("drawing", str(number)) for number in range(4)},
        "notebooks": {("notebook", "terns")},
    }
    for kind, parts in wanted.items():
        (tmp_path / kind).mkdir()
        MADE[kind](tmp_path / kind)
        found = {(part.what, part.name.removesuffix(".tex")) for part in dunechest.look(tmp_path / kind).parts}
        assert {(what, name.rpartition("/")[2].partition(".")[0]) for what, name in found} == parts, kind
    (tmp_path / "drive").mkdir()
    chest = dunechest.create_chest(tmp_path / "drive", "parts")
    options = dunechest.ArchiveOptions(choice=dunechest.Choice(parts=("inbox",)))
    (account,) = dunechest.archive(tmp_path / "mailboxes", chest, options)
    assert account.archived_count == 1


def test_what_runs_inside_a_library_of_another_kind_stops_it(tmp_path: Path) -> None:
    """A server's data folder among documents: the mark of its process counts, though the whole is a plain folder."""
    (tmp_path / "Work" / "data").mkdir(parents=True)
    MADE["database-server"](tmp_path / "Work" / "data")
    (tmp_path / "Work" / "a.txt").write_text("x")
    with subprocess.Popen(["sleep", "60"]) as other:
        (tmp_path / "Work" / "data" / "postmaster.pid").write_text(f"{other.pid}\n")
        (use,) = dunechest.look(tmp_path / "Work").uses
        other.kill()
    assert (use.process_id, use.how) == (other.pid, "its lock mark is postmaster.pid")
    assert dunechest.look(tmp_path / "Work").uses == ()
