"""A stranger's drive: nothing is written outside the target, nothing is followed, nothing hangs, nothing acts."""

from __future__ import annotations

import json
import os
import shutil
import signal
import sqlite3
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path
from types import FrameType
from typing import Any

import pytest

import dunechest
from dunechest.jobs.restore.planning.paths import behind, leads_out
from dunechest.library.formats.sqlite import questions
from dunechest.machine.sensitive import is_secret, why_sensitive
from dunechest.names import quoted
from tests.support import sealing
from tests.support.burrow import make, refer
from tests.support.runs import Command
from tests.support.sealing import reseal
from tests.support.trees import bag_of, facts, flip


@pytest.fixture(autouse=True)
def never_for_ever() -> Iterator[None]:
    def too_long(number: int, frame: FrameType | None) -> None:
        raise TimeoutError("it hangs")

    if sys.platform == "win32":  # it has no such clock
        yield
        return
    before = signal.signal(signal.SIGALRM, too_long)
    signal.alarm(60)
    yield
    signal.alarm(0)
    signal.signal(signal.SIGALRM, before)


@pytest.fixture
def strange(tmp_path: Path, own_machine: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A bag that another computer made, with a file from outside the library; this computer is a new one."""
    (own_machine / "Pictures").mkdir()
    (own_machine / "Pictures" / "shared.map").write_bytes(b"shared" * 100)
    library = make(tmp_path)
    refer(library, own_machine / "Pictures" / "shared.map")
    dunechest.archive([library], chest)
    shutil.rmtree(own_machine)
    own_machine.mkdir()
    shutil.rmtree(library)
    kinds = (Path(os.environ["DUNECHEST_HOME"]) / "kinds" / "burrow.toml").read_text()
    monkeypatch.setenv("DUNECHEST_HOME", str(tmp_path / "new state"))
    (tmp_path / "new state" / "kinds").mkdir(parents=True)
    (tmp_path / "new state" / "kinds" / "burrow.toml").write_text(kinds)
    return bag_of(chest, "burrow")


def outside(record: dict[str, Any], standard: str, relative: str) -> None:
    record["outside_files"][0].update(standard=standard, relative=relative, path="/home/tern/" + relative)


def untouched(home: Path, library: Path) -> bool:
    """Whether a home holds nothing but a library."""
    return all(p == library or library in p.parents or p in library.parents for p in home.rglob("*"))


@pytest.mark.parametrize(
    "links",
    [
        {"l1": ".", "maps/l2": "../l1/..", "l3": "maps/l2/.."},
        {"a": "b", "b": "c", "c": "../.."},
        {"one": "maps/..", "maps/two": "../one/../.."},
        {"x": "/", "x/planted": "y"},
        {"self": "self"},
    ],
)
def test_links_that_lead_out_together_are_not_made_nor_gone_through(
    links: dict[str, str], strange: Path, own_machine: Path, command: Command
) -> None:
    def edit(record: dict[str, Any]) -> None:
        record["links"] = [{"path": p, "target": t, "mtime_ns": 0} for p, t in links.items()]
        outside(record, "documents", "burrow/l3/.profile")

    sealing.edit(strange, edit)
    into = own_machine / "Documents" / "burrow"
    command("restore", strange.parent.parent, "burrow", "--into", into)
    assert untouched(own_machine, into) or (own_machine / "Documents" / "burrow outside files").exists()
    assert not (own_machine / ".profile").exists()
    for path in into.rglob("*"):
        if path.is_symlink():
            real = Path(os.path.realpath(path))
            assert into in (real, *real.parents) or not os.path.exists(path)
    command("drill", strange.parent.parent)
    assert not (own_machine / ".profile").exists()
    assert command("undo").status == 0
    assert [p for p in own_machine.rglob("*") if not p.is_dir()] == [], "undo finds all of it"


def test_links_are_followed_as_a_system_would() -> None:
    links = {"l1": ".", "d/l2": "../l1/..", "in": "d/x", "deep": "in/../y"}
    assert leads_out("d/l2", "../l1/..", links)
    assert not leads_out("in", "d/x", links)
    assert not leads_out("deep", "in/../y", links)
    assert behind("in/x", links)
    assert not behind("d/x", links)


PLACES = [
    ("home", ".ssh/authorized_keys"),
    ("home", ".config/autostart/x.desktop"),
    ("configuration", "autostart/x"),
    ("home", "bin/ls"),
    ("home", "Library/LaunchAgents/x.plist"),
    ("home", "AppData/Roaming/x"),
    ("home", ".profile"),
    ("home", "Pictures/../.bashrc"),
    ("documents", "bin/x"),
    ("data", "applications/x"),
]


@pytest.mark.parametrize(("standard", "relative"), PLACES)
def test_nothing_goes_where_files_act_unless_the_person_names_it(
    standard: str, relative: str, strange: Path, own_machine: Path, command: Command
) -> None:
    def edit(record: dict[str, Any]) -> None:
        record["origin"].update(standard=standard, relative=relative, path="/home/tern/" + relative)
        outside(record, standard, relative)

    sealing.edit(strange, edit)
    ran = command("restore", strange.parent.parent, "burrow")
    assert ran.status == 3, ran.out
    assert list(own_machine.iterdir()) == []
    into = own_machine / "Documents" / "burrow"
    ran = command("restore", strange.parent.parent, "burrow", "--into", into)
    assert ran.status in (0, 1), ran.out
    names = {p.relative_to(own_machine).as_posix() for p in own_machine.rglob("*") if p.is_file()}
    # The kind that is known here says so, and no record of the chest.
    names -= {".config/warren/settings.json", "AppData/Roaming/warren/settings.json"}
    assert all(name.startswith(("Documents/burrow/", "Documents/burrow outside files/")) for name in names)


def test_a_place_that_the_person_names_is_theirs_to_name(strange: Path, own_machine: Path, command: Command) -> None:
    into = own_machine / "bin" / "burrow"
    assert command("restore", strange.parent.parent, "burrow", "--into", into).status == 0
    assert (into / "index.bur").exists()


def test_secrets_are_not_gathered(tmp_path: Path, own_machine: Path, chest: dunechest.Chest) -> None:
    keys = own_machine / "Documents" / "keys"
    keys.mkdir(parents=True)
    (keys / "door.pem").write_text("PRIVATE")
    (own_machine / ".ssh").mkdir()
    (own_machine / ".ssh" / "id_ed25519").write_text("PRIVATE")
    library = make(tmp_path)
    refer(library, keys / "door.pem")
    refer(library, own_machine / ".ssh" / "id_ed25519")
    dunechest.archive([library], chest)
    assert b"PRIVATE" not in b"".join(p.read_bytes() for p in bag_of(chest, "burrow").rglob("*") if p.is_file())
    assert is_secret("C:\\Users\\tern\\.ssh\\config")
    assert why_sensitive("Pictures/dune") == ""


@pytest.mark.parametrize("name", [".in-use-by", ".in-use"])
@pytest.mark.parametrize("what", ["link", "pipe", "folder"])
def test_a_lock_that_is_something_else_harms_nothing(
    name: str, what: str, strange: Path, library: Path, tmp_path: Path, command: Command
) -> None:
    chest = strange.parent.parent
    precious = tmp_path / "precious"
    precious.write_text("twenty years")
    (chest / name).unlink(missing_ok=True)
    if what == "link":
        (chest / name).symlink_to(precious)
    elif what == "pipe":
        os.mkfifo(chest / name)
    else:
        (chest / name).mkdir()
    assert command("archive", library, "--to", chest).status in (0, 3)
    assert command("restore", chest, "burrow", "--into", tmp_path / "back").status == 0
    assert precious.read_text() == "twenty years"


FILES = [
    "chest.json", "chest-sha512.txt", "bags/burrow/bag-info.txt",
    "bags/burrow/tagmanifest-sha512.txt", "bags/burrow/manifest-sha512.txt", "bags/burrow/dune/library.json",
    "bags/burrow/dune/files.jsonl", "bags/burrow/dune/tags.jsonl", "bags/burrow/dune/pending/journal.json",
    "bags/burrow/data/library/index.bur",
]  # fmt: skip


@pytest.mark.parametrize("name", FILES)
@pytest.mark.parametrize("what", ["pipe", "endless device", "link out"])
def test_whatever_stands_for_a_file_nothing_hangs_nor_is_followed(
    name: str, what: str, strange: Path, library: Path, tmp_path: Path, command: Command
) -> None:
    chest = strange.parent.parent
    secret = tmp_path / "secret"
    secret.write_text('{"format": 1, "secret": "not yours"}')
    path = chest / name
    path.parent.mkdir(parents=True, exist_ok=True)
    path.unlink(missing_ok=True)
    if what == "pipe":
        os.mkfifo(path)
    elif what == "endless device":
        try:
            os.mknod(path, 0o600 | 0o020000, os.makedev(1, 5))
        except PermissionError:
            pytest.skip("a device needs the administrator")
    else:
        path.symlink_to(secret)
    for words in (
        ("verify", chest), ("verify", chest, "--quick"), ("chest", "show", chest), ("restore", chest),
        ("restore", chest, "burrow", "--into", tmp_path / "back"), ("drill", chest), ("editions", "list", chest, "burrow"),
        ("archive", library, "--to", chest),
    ):  # fmt: skip
        ran = command(*words)
        assert ran.status != 70, ran.err
        assert "not yours" not in ran.out + ran.err
    for path in (tmp_path / "back").rglob("*"):
        assert not path.is_file() or "not yours" not in path.read_bytes().decode("latin-1")
    assert secret.read_text().endswith('"not yours"}')


NUMBERS = [2**64, -1, "12"]


@pytest.mark.parametrize("number", NUMBERS)
@pytest.mark.parametrize("field", ["size", "mtime_ns", "mode", "edition"])
def test_numbers_beyond_their_range_are_errors(
    field: str, number: object, strange: Path, tmp_path: Path, command: Command
) -> None:
    path = strange / "dune/files.jsonl"
    every = [json.loads(line) for line in path.read_text().splitlines()]
    every[0][field] = number
    path.write_text("".join(json.dumps(line) + "\n" for line in every))
    reseal(strange)
    for words in (
        ("verify",),
        ("restore", "burrow", "--into", tmp_path / "back"),
        ("drill",),
    ):
        ran = command(words[0], strange.parent.parent, *words[1:])
        assert ran.status in (0, 1, 3), ran.err
    assert command("editions", "list", strange.parent.parent, "burrow").status in (0, 1, 3)


@pytest.mark.parametrize("number", NUMBERS)
@pytest.mark.parametrize("where", ["folders", "links", "outside_files", "totals", "edition"])
def test_numbers_of_the_record_too(
    where: str, number: object, strange: Path, tmp_path: Path, command: Command
) -> None:
    def edit(record: dict[str, Any]) -> None:
        if where == "edition":
            record["edition"] = number
        elif where == "totals":
            record["totals"]["bytes_stored"] = number
        else:
            record[where] = [*record[where], {"path": "n", "target": "x", "stored": "outside/n", "size": number,
                                              "mtime_ns": number, "mode": number, "references": []}]  # fmt: skip

    sealing.edit(strange, edit)
    for words in (("verify",), ("chest", "show"), ("restore", "burrow", "--into", tmp_path / "back"), ("drill",)):
        at = 2 if words[0] == "chest" else 1
        ran = command(*words[:at], strange.parent.parent, *words[at:])
        assert ran.status in (0, 1, 3), ran.err


def test_a_record_of_folders_deeper_than_any_is_an_error(strange: Path, tmp_path: Path, command: Command) -> None:
    deep = "/".join(["d"] * 2500)
    sealing.edit(strange, lambda r: r["folders"].append({"path": deep, "mtime_ns": 0, "mode": 493, "empty": True}))
    ran = command("restore", strange.parent.parent, "burrow", "--into", tmp_path / "back")
    assert ran.status in (1, 4), ran.err


def test_joining_an_endless_view_ends(strange: Path, tmp_path: Path, own_machine: Path, command: Command) -> None:
    endless = "CREATE VIEW map AS WITH RECURSIVE n(path) AS (SELECT 'maps/a' UNION ALL SELECT path || 'a' FROM n) SELECT * FROM n"
    database = tmp_path / "endless.bur"
    with closing(sqlite3.connect(database)) as connection:
        connection.execute(endless)
    begun = time.monotonic()
    with pytest.raises(sqlite3.OperationalError), questions(database, seconds=0.5) as asked:
        asked.execute("SELECT count(*) FROM map").fetchall()
    with questions(database) as asked:
        for words in ("ATTACH 'x' AS y", "CREATE TABLE z (a)", "DELETE FROM map"):
            with pytest.raises(sqlite3.DatabaseError):
                asked.execute(words)
    assert time.monotonic() - begun < 30


def test_joining_refuses_a_view_that_stands_for_a_table(tmp_path: Path) -> None:
    from dunechest.library.formats.base import UnreadableError
    from dunechest.library.join.rows import join_rows
    from dunechest.library.kinds.load import load_kinds
    from dunechest.library.kinds.schema import Joins, JoinTable

    here, other = tmp_path / "here", tmp_path / "other"
    with closing(sqlite3.connect(here)) as connection:
        connection.execute("CREATE TABLE map (path TEXT)")
    with closing(sqlite3.connect(other)) as connection:
        connection.execute(
            "CREATE VIEW map AS WITH RECURSIVE n(path) AS (SELECT 'a' UNION ALL SELECT path FROM n) SELECT * FROM n"
        )
    spec = Joins(files=("x",), form="sqlite", tables=(JoinTable(name="map", same=("path",)),))
    kind = next(iter(load_kinds(tmp_path).values()))
    with pytest.raises(UnreadableError):
        join_rows(kind, spec, here, other, (), theirs=False)


def test_commands_that_are_suggested_are_quoted(
    tmp_path: Path, library: Path, own_machine: Path, command: Command
) -> None:
    drive = tmp_path / "drive; touch owned"
    drive.mkdir()
    chest = dunechest.Chest.create(drive, "x; rm -rf $HOME")
    dunechest.archive([library], chest)
    (chest.folder / "chest.json").write_text("torn")
    for words in (
        ("verify", drive),
        ("restore", drive),
        ("chest", "show", drive),
        ("archive", library, "--to", drive),
    ):
        ran = command(*words)
        for line in (ran.out + ran.err).splitlines():
            if "dunechest " in line and ("rm -rf" in line or "touch owned" in line):
                assert (
                    quoted(str(chest.folder)) in line
                    or quoted(str(drive)) in line
                    or quoted("x; rm -rf $HOME") in line
                ), line


def test_what_lies_in_the_library_that_is_joined_is_never_gone_through(
    strange: Path, own_machine: Path, tmp_path: Path, command: Command
) -> None:
    """A link in a person's own library: what comes does not land behind it."""
    target = tmp_path / "elsewhere"
    target.mkdir()
    place = own_machine / "Documents" / "burrow"
    place.mkdir(parents=True)
    (place / "maps").symlink_to(target)
    (place / "walks").mkdir()
    sealing.edit(
        strange, lambda r: r["folders"].append({"path": "maps/inner", "mtime_ns": 0, "mode": 493, "empty": True})
    )
    command("restore", strange.parent.parent, "burrow", "--into", place, "--if-exists", "merge")
    assert list(target.iterdir()) == []


def test_a_restore_writes_nothing_into_the_chest(strange: Path, tmp_path: Path, command: Command) -> None:
    chest = strange.parent.parent
    for word in ("drill", "verify"):  # what they find goes into the chest's log
        assert command(word, chest).status == 0
    before = facts(chest)
    assert command("restore", chest, "burrow", "--into", tmp_path / "b").status == 0
    assert command("editions", "list", chest, "burrow").status == 0
    assert command("chest", "show", chest).status == 0
    assert facts(chest) == before
    flip(strange / "dune/library.json")
    command("restore", chest, "burrow", "--into", tmp_path / "c")
    assert command("verify", chest).status == 1


CHANGES: list[Callable[[Path], object]] = [
    lambda bag: (bag / "dune/pending").symlink_to(bag.parents[3] / "elsewhere"),
    lambda bag: ((bag / "dune").rename(bag / "dune2"), (bag / "dune").symlink_to(bag / "dune2")),
    lambda bag: ((bag / "data").rename(bag / "data2"), (bag / "data").symlink_to(bag / "data2")),
]


@pytest.mark.parametrize("change", range(len(CHANGES)))
def test_archiving_goes_through_no_link_of_a_chest(
    change: int, library: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    dunechest.archive([library], chest)
    bag = bag_of(chest, "shed")
    elsewhere = bag.parents[3] / "elsewhere"
    elsewhere.mkdir()
    CHANGES[change](bag)
    (library / "rope.txt").write_text("changed")
    ran = command("archive", library, "--to", chest.folder)
    assert ran.status == 3, ran.out
    assert list(elsewhere.iterdir()) == []
