"""A chest on a real server of each protocol: everything that can be done with one on a drive, and every harm it can come to."""

from __future__ import annotations

import hashlib
import os
import random
import re
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Any

import pytest

import dunechest
from dunechest.bag.manifest import decode_path
from dunechest.remote.address import address_of
from dunechest.remote.chest import ServerChest, close_all
from dunechest.remote.protocols import open_store
from tests.support.dav_server import SECRET, dav_server
from tests.support.postgres import certificate
from tests.support.runs import Command
from tests.support.servers import PART, PROTOCOLS, Between, Server, computer, server_of, trust

pytestmark = pytest.mark.slow

#: Bytes of a file that goes to a server in two parts.
LARGE = 6_000_000


@pytest.fixture(scope="module", params=PROTOCOLS)
def running(request: pytest.FixtureRequest) -> Iterator[Server]:
    with server_of(request.param) as server:
        yield server


@cache
def s3_session() -> Any:
    from aiobotocore.session import AioSession

    return AioSession()


@pytest.fixture
def server(running: Server, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Server]:
    """A folder of its own on the server, known to this computer."""
    own = running._replace(address=running.address.replace("chests", f"c{random.randrange(1 << 40):x}"))
    trust(own, tmp_path / "state")
    monkeypatch.setattr("dunechest.remote.place._PAUSES", (0.05, 0.1, 0.2))
    if own.protocol == "s3":
        monkeypatch.setattr("dunechest.remote.s3._PART", PART)
        # What it knows of all the services of the world takes a second to load; once is enough.
        kept = s3_session()
        monkeypatch.setattr("aiobotocore.session.AioSession", lambda **named: kept)
    yield own
    close_all()


@pytest.fixture
def blue(library: Path, tmp_path: Path) -> dunechest.Chest:
    """A chest on a drive that holds two editions of a library."""
    (tmp_path / "blue").mkdir()
    chest = dunechest.create_chest(tmp_path / "blue", "blue")
    for path, text in {
        "a b/ebb.txt": "low",
        "grün+ 100%#ü;&.txt": "odd",
        "wh?t:.txt": "forbidden",
        "sea/far/x.txt": "y",
    }.items():
        (library / path).parent.mkdir(parents=True, exist_ok=True)
        (library / path).write_text(text * 50)
    (library / "empty" / "folder").mkdir(parents=True)
    (library / "large.bin").write_bytes(random.Random(1).randbytes(LARGE))
    dunechest.archive(library, chest)
    return chest


def _change(library: Path) -> None:
    (library / "a b" / "ebb.txt").write_text("flood")
    (library / "sea" / "far" / "x.txt").rename(library / "sea" / "near.txt")
    (library / "new.txt").write_text("spring tide")
    shutil.rmtree(library / "empty")


def _same(one: Path, other: Path) -> None:
    found = [
        {p.relative_to(top).as_posix(): p.read_bytes() if p.is_file() else None for p in top.rglob("*")}
        for top in (one, other)
    ]
    assert found[0] == found[1]


def test_a_chest_on_a_server_is_a_chest(
    server: Server, blue: dunechest.Chest, library: Path, tmp_path: Path, command: Command
) -> None:
    """Copied to in two editions, verified, searched, shown, restored on a computer that knows nothing, and plain files there."""
    name = library.name
    assert command("chest", "new", server.address, "--label", "barn").status == 0
    assert command("chest", "new", server.address, "--label", "barn too").status == 3
    ran = command("copy", "blue", "barn", "--plan", "--json")
    assert ran.json["costs"]["now"]["received_bytes"] > LARGE, "all is read back"
    assert command("copy", "blue", server.address).status == 0
    _change(library)
    dunechest.archive(library, blue)
    assert command("copy", "blue", "barn", "--limit", "500").status == 0
    assert "unchanged" in command("copy", "blue", "barn").out
    ran = command("verify", "barn", "--json")
    assert ran.status == 0
    assert command("verify", "barn", "--quick").status == 0
    assert command("verify", "barn", "--time-limit", "1min").status == 0
    assert "barn" in command("search", "new.txt").out and "on a server" in command("chest", "list").out
    assert command("release", "barn").status == 2, "there is nothing to unplug"
    ran = command("routine", "add", "nightly", library, "--to", "barn", "--when", "every hour", "--scheduler", "none")
    assert ran.status == 2 and "is on a server" in ran.err
    shown = command("chest", "show", "barn")
    assert shown.status == 0 and server.address.partition("?")[0] in shown.out and "servers/" not in shown.out
    files = server.files()
    top = f"bags/{name}/"
    lines = files[top + "manifest-sha512.txt"].decode().splitlines()
    assert len(lines) > 5
    for line in lines:
        digest, path = line.split(None, 1)
        assert hashlib.sha512(files[top + decode_path(path)]).hexdigest() == digest, (
            "any program can fetch and compare single files"
        )
    assert not [path for path in files if "pending" in path or path.endswith((".being-sent", "in-use-lease"))]
    close_all()
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("DUNECHEST_HOME", str(tmp_path / "other"))
        trust(server, tmp_path / "other")
        ran = command("restore", server.address, name, "--into", tmp_path / "back")
        assert ran.status == 0, ran.err
        _same(library, tmp_path / "back")
        ran = command("restore", server.address, name, "--edition", "1", "--into", tmp_path / "first")
        assert ran.status == 0 and (tmp_path / "first" / "sea" / "far" / "x.txt").exists(), ran.err
        ran = command("restore", "barn", name, "--file", "a b/ebb.txt", "--into", tmp_path / "one")
        assert ran.status == 0 and next((tmp_path / "one").rglob("ebb.txt")).read_text() == "flood", ran.err
        assert command("drill", "barn", name).status == 0
        (tmp_path / "sand").mkdir()
        command("chest", "new", tmp_path / "sand", "--label", "sand")
        assert command("copy", "barn", "sand").status == 0 and command("verify", "sand").status == 0


def test_a_library_is_archived_straight_to_a_server(server: Server, library: Path, command: Command) -> None:
    assert command("chest", "new", server.address, "--label", "barn").status == 0
    ran = command("archive", library, "--to", "barn")
    assert ran.status == 0, ran.err
    (library / "later.txt").write_text("flood")
    assert command("archive", library, "--to", "barn").status == 0
    assert command("verify", "barn").status == 0 and command("editions", "list", "barn", library.name).status == 0
    ran = command("editions", "drop", "barn", library.name, "--retain", "the last 1", "--yes")
    assert ran.status == 0, ran.err
    close_all()
    assert command("verify", "barn").status == 0


def test_what_the_server_harms_is_found_and_mended_from_a_drive_and_the_other_way(
    server: Server, blue: dunechest.Chest, library: Path, command: Command
) -> None:
    """It flips a bit, drops an object, cuts one short, and shows something else where a record was."""
    name = library.name
    command("chest", "new", server.address, "--label", "barn")
    assert command("copy", "blue", "barn").status == 0
    close_all()
    top = f"bags/{name}/"
    files = server.files()
    large = bytearray(files[top + "data/library/large.bin"])
    large[LARGE // 2] ^= 1
    server.put(top + "data/library/large.bin", bytes(large))
    server.drop(top + "data/library/a b/ebb.txt")
    server.put(top + "dune/files.jsonl", files[top + "dune/files.jsonl"][:-9])
    ran = command("verify", "barn")
    assert ran.status == 1 and "large.bin" in ran.out and "ebb.txt" in ran.out and "files.jsonl" in ran.out
    assert command("status").status == 1
    ran = command("mend", "barn", "--from", "blue")
    assert ran.status == 0, ran.out + ran.err
    close_all()
    assert command("verify", "barn").status == 0
    now = server.files()
    assert {path: content for path, content in now.items() if "/data/" in path} == {
        path: content for path, content in files.items() if "/data/" in path
    }
    harmed = next((blue.folder / "bags" / name / "data" / "library").glob("large.bin"))
    harmed.write_bytes(bytes(large))
    assert command("mend", "blue", "--from", "barn").status == 0 and command("verify", "blue").status == 0


def test_killed_at_any_moment_nothing_is_lost_and_nothing_taken_for_whole(
    server: Server, blue: dunechest.Chest, library: Path, command: Command
) -> None:
    """The first copy and the next edition, killed before or in the middle of what they do on the server, then done again."""
    if server.protocol == "webdav" and "DUNECHEST_SWEEP" not in os.environ:
        pytest.skip("as SFTP, names change in one step; the sweep tries it, too")
    name = library.name
    command("chest", "new", server.address, "--label", "barn")
    close_all()
    draw = random.Random(f"{server.protocol} of this week")
    for edition in (1, 2):
        if edition == 2:
            _change(library)
            dunechest.archive(library, blue)
        for _ in range(int(os.environ.get("DUNECHEST_SWEEP", "1"))):
            stop = draw.randrange(3, 34)
            status, said, _, _ = computer("copy", "blue", "barn", stop=stop)
            if status == 0:
                break  # it had less to do than that
            assert status == -9, said
            with pytest.MonkeyPatch.context() as patch:
                patch.setenv("DUNECHEST_HOME", str(Path(os.environ["DUNECHEST_HOME"]).with_name("onlooker")))
                trust(server, Path(os.environ["DUNECHEST_HOME"]))
                patch.setenv("DUNECHEST_LEASE", "2")
                for told in dunechest.get_chest(server.address).bags():
                    assert told.state in ("whole", "unfinished"), told.why
                    if told.state == "whole":
                        assert told.library is not None and told.library.edition in (1, edition)
                        assert command("verify", server.address).status == 0, "what is taken for whole is whole"
                close_all()
        assert command("copy", "blue", "barn").status == 0
        assert command("verify", "barn").status == 0
        close_all()
    assert not [
        path for path in server.files() if "pending" in path or path.endswith((".being-sent", "in-use-lease"))
    ]
    entry = dunechest.get_chest("barn").bag(name)
    assert entry.library is not None and entry.library.edition == 2


def test_a_large_file_goes_on_where_it_was(
    server: Server, tmp_path: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    if server.protocol == "webdav":
        pytest.skip("WebDAV has no way to add to a file: it is sent again from its beginning")
    film = tmp_path / "film"
    film.mkdir()
    (film / "storm.mov").write_bytes(random.Random(2).randbytes(12_000_000))
    (tmp_path / "blue").mkdir()
    dunechest.archive(film, dunechest.create_chest(tmp_path / "blue", "blue"))
    command("chest", "new", server.address, "--label", "barn")
    close_all()
    with Between(server.port) as between:
        sent = [0]

        def forth(piece: bytes, before: int) -> bytes:
            sent[0] += len(piece)
            if sent[0] > 8_000_000:
                raise OSError("cut")
            return piece

        between.forth = forth
        far = server.elsewhere(between.port)
        if server.protocol == "sftp":
            known = server.running.known
            known.write_text(known.read_text() + known.read_text().replace(str(server.port), str(between.port)))
        trust(server, tmp_path / "state", far)
        status, said, _, first = computer("copy", "blue", far)
        assert status == 4, said
        between.forth = lambda piece, before: piece
        status, said, _, second = computer("copy", "blue", far)
        assert status == 0, said
    assert second < 12_000_000 - 4_500_000, (first, second)
    assert command("verify", server.address).status == 0


def test_a_connection_that_ends_now_and_then_is_made_again_and_one_that_lies_is_not_believed(
    server: Server, blue: dunechest.Chest, library: Path, tmp_path: Path, command: Command
) -> None:
    if server.protocol == "sftp":
        pytest.skip("nobody changes what SSH carries without ending it")
    command("chest", "new", server.address, "--label", "barn")
    close_all()
    with Between(server.port) as between:
        far = server.elsewhere(between.port)
        trust(server, tmp_path / "state", far)
        mark = random.Random(1).randbytes(LARGE)[3_000_000:3_000_040]

        def lying(piece: bytes, before: int) -> bytes:
            return piece.replace(mark, bytes([mark[0] ^ 1]) + mark[1:])

        between.back = lying
        ran = command("copy", "blue", far)
        assert ran.status == 4 and "differs from what was sent" in ran.err, ran.out + ran.err
        close_all()
        assert not [p for p in server.files() if p.endswith("tagmanifest-sha512.txt")], "nothing is taken for whole"
        between.back = lambda piece, before: piece
        assert command("copy", "blue", far).status == 0
        between.back = lying
        ran = command("verify", far)
        assert ran.status == 1 and "large.bin" in ran.out
        ran = command("restore", far, library.name, "--into", tmp_path / "back")
        assert ran.status != 0 and not (tmp_path / "back" / "large.bin").exists()


def test_a_connection_that_ends_once_is_made_again(
    server: Server, blue: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    command("chest", "new", server.address, "--label", "barn")
    close_all()
    with Between(server.port) as between:
        if server.protocol == "sftp":
            known = server.running.known
            known.write_text(known.read_text() + known.read_text().replace(str(server.port), str(between.port)))
        far = server.elsewhere(between.port)
        trust(server, tmp_path / "state", far)
        gone = [0]

        def forth(piece: bytes, before: int) -> bytes:
            gone[0] += len(piece)
            if 3_000_000 < gone[0] < 3_000_000 + len(piece) + 1:
                raise OSError("cut")
            return piece

        between.forth = forth
        ran = command("copy", "blue", far)
        assert ran.status == 0, ran.err
    assert gone[0] > LARGE and command("verify", server.address).status == 0


def test_a_connection_that_ends_while_a_file_is_closed_is_no_fault_of_ours(
    server: Server, tmp_path: Path, command: Command
) -> None:
    if server.protocol != "sftp":
        pytest.skip("only SFTP tells a server that a file is closed")
    command("chest", "new", server.address, "--label", "barn")
    close_all()
    with Between(server.port) as between:
        known = server.running.known
        known.write_text(known.read_text() + known.read_text().replace(str(server.port), str(between.port)))
        far = server.elsewhere(between.port)
        trust(server, tmp_path / "state", far)
        store = open_store(address_of(far), None)
        store.write("here.txt", [b"ebb"], 3)
        told = store.read("here.txt")
        assert next(told) == b"ebb"

        def forth(piece: bytes, before: int) -> bytes:
            raise OSError("cut")

        between.forth = forth
        told.close()
        between.forth = lambda piece, before: piece
        assert b"".join(store.read("here.txt")) == b"ebb"
        store.close()


def test_two_computers_do_not_change_one_chest_at_once(
    server: Server, blue: dunechest.Chest, tmp_path: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("DUNECHEST_LEASE", "4")
    command("chest", "new", server.address, "--label", "barn")
    chest = dunechest.get_chest("barn")
    with chest.changing("gannet"):
        with pytest.MonkeyPatch.context() as patch:
            patch.setenv("DUNECHEST_HOME", str(tmp_path / "other"))
            trust(server, tmp_path / "other")
            status, said, _, _ = computer("copy", blue.folder, server.address)
        assert status == 3 and "is being changed by process" in said and "gannet" in said, said
    close_all()
    assert command("copy", "blue", "barn").status == 0


def test_without_the_server_the_command_says_so_and_status_answers(
    server: Server, blue: dunechest.Chest, command: Command
) -> None:
    command("chest", "new", server.address, "--label", "barn")
    assert command("copy", "blue", "barn").status == 0
    close_all()
    with Between(1) as nobody:  # a port behind which nobody listens
        ran = command("verify", server.elsewhere(nobody.port))
        assert ran.status == 4, ran.err
    assert "barn" in command("status").out and "barn" in command("search", "ebb").out


def test_a_wrong_password_and_no_password_are_told_apart_from_a_broken_server(
    server: Server, tmp_path: Path, command: Command
) -> None:
    if server.protocol == "s3":
        pytest.skip("the server of the S3 protocol here lets everybody in")
    if server.protocol == "sftp":
        bad = server.address.replace(str(server.running.key), str(server.running.top / "host"))
        ran = command("chest", "new", bad, "--label", "barn")
        assert ran.status == 4 and "does not let" in ran.err
        return
    (tmp_path / "state" / "settings.toml").write_text("")
    ran = command("chest", "new", server.address, "--label", "barn")
    assert ran.status == 4 and "does not let tern in" in ran.err
    ran = command("chest", "new", server.address, "--label", "barn", "--password-from", "echo wrong-marram")
    assert ran.status == 4 and "wrong-marram" not in ran.err + ran.out
    assert "wrong" not in (tmp_path / "state" / "settings.toml").read_text()
    ran = command("chest", "new", server.address, "--label", "barn", "--password-from", f"echo {server.password}")
    assert ran.status == 0, ran.err
    close_all()
    assert command("chest", "show", "barn").status == 0
    for place in (tmp_path / "state").rglob("*"):
        if place.is_file() and place.name != "settings.toml":  # where the test's own command says it
            assert (server.password or "").encode() not in place.read_bytes()


def test_a_hostile_server_leads_nowhere(
    server: Server, blue: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    """Names that lead out, links, and records that are none."""
    command("chest", "new", server.address, "--label", "barn")
    assert command("copy", "blue", "barn").status == 0
    close_all()
    before = set(tmp_path.rglob("*"))
    if server.folder is not None:
        own = address_of(server.address).folder.rpartition("/")[2]
        top = next(path for path in server.folder.rglob("chest.json") if own in path.parts).parent
        bag = next((top / "bags").iterdir())
        (top / "bags" / "..\\..\\escaped").write_text("x")
        if server.protocol == "sftp":  # the WebDAV server would no longer list anything
            (bag / "data" / "library" / "new\nline\x1b[31m").write_text("x")
        os.symlink("/etc", bag / "data" / "library" / "etc")
        os.symlink("/etc/passwd", bag / "data" / "library" / "passwd")
        os.symlink("/", top / "bags" / "root")
    server.put(
        "bags/.hidden/dune/pending/journal.json", b'{"format":1,"digest":"x","phases":[[["../../x","data/x"]]]}'
    )
    server.put("bags/strange/bagit.txt", b"\x00" * 1000)
    ran = command("verify", "barn")
    assert "\x1b[31m" not in ran.out + ran.err and ran.status in (1, 3)
    assert "root:" not in ran.out
    after = {path for path in tmp_path.rglob("*") if "state/servers" not in str(path)} - before
    assert not [path for path in after if path.name in ("escaped", "x", "etc", "passwd")]
    server.put("chest.json", b'{"format": 99, "id": "' + b"a" * 32 + b'", "label": "l", "made": "x"}')
    close_all()
    assert command("verify", "barn").status in (2, 3)


def test_a_slow_server_with_many_files_is_asked_many_things_at_once(
    server: Server, tmp_path: Path, command: Command
) -> None:
    many = tmp_path / "many"
    many.mkdir()
    for number in range(24):
        (many / f"{number}.txt").write_text(f"tern {number}")
    (tmp_path / "blue").mkdir()
    dunechest.archive(many, dunechest.create_chest(tmp_path / "blue", "blue"))
    command("chest", "new", server.address, "--label", "barn")
    assert command("copy", "blue", "barn").status == 0
    close_all()
    with Between(server.port) as between:
        if server.protocol == "sftp":
            known = server.running.known
            known.write_text(known.read_text() + known.read_text().replace(str(server.port), str(between.port)))
        far = server.elsewhere(between.port)
        trust(server, tmp_path / "state", far)

        def slow(piece: bytes, before: int) -> bytes:
            time.sleep(0.02)
            return piece

        between.back = slow
        assert command("verify", far).status == 0


def test_a_full_server_keeps_what_it_had(
    tmp_path: Path, blue: dunechest.Chest, library: Path, command: Command
) -> None:
    """On a small filesystem in memory: what was there stays whole, and with more room the same command goes on."""
    with server_of("sftp") as running:
        needs_mount(running.folder, "10m")
        try:
            command("chest", "new", running.address, "--label", "barn")
            (library / "large.bin").write_bytes(b"small")
            dunechest.archive(library, blue)
            assert command("editions", "drop", "blue", library.name, "--retain", "the last 1", "--yes").status == 0
            assert command("copy", "blue", "barn").status == 0
            (library / "large.bin").write_bytes(random.Random(3).randbytes(12_000_000))
            dunechest.archive(library, blue)
            with pytest.MonkeyPatch.context() as patch:
                patch.setattr("dunechest.remote.place._PAUSES", (0.05,))
                ran = command("copy", "blue", "barn")
            assert ran.status == 4 and "Run the same command again" in ran.err
            close_all()
            assert command("verify", "barn").status == 0
            subprocess.run(["mount", "-o", "remount,size=64m", str(running.folder)], check=True)
            assert command("copy", "blue", "barn").status == 0 and command("verify", "barn").status == 0
        finally:
            close_all()
            subprocess.run(["umount", "-l", str(running.folder)], check=False)


def needs_mount(folder: Path | None, size: str) -> None:
    ran = subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={size},mode=755", "none", str(folder)], check=False)
    if ran.returncode:
        pytest.skip("nothing can be mounted here")


def test_a_host_key_that_is_another_one_or_not_known_is_not_believed(tmp_path: Path, command: Command) -> None:
    with server_of("sftp") as running:
        known = running.running.known
        right = known.read_text()
        other = (running.running.top / "user.pub").read_text().split()
        for text, why in (
            ("", "does not know the host key"),
            (f"[localhost]:{running.port} {other[0]} {other[1]}\n", "another one"),
        ):
            known.write_text(text)
            ran = command("chest", "new", running.address, "--label", "barn")
            assert ran.status == 4 and why in ran.err and "Nothing was sent" in ran.err, ran.err
            assert known.read_text() == text, "nobody is made known by the way"
        known.write_text(right)
        assert command("chest", "new", running.address, "--label", "barn").status == 0
        close_all()


def test_a_webdav_server_must_prove_who_it_is(tmp_path: Path, library: Path, command: Command) -> None:
    certificate(tmp_path, "right", "localhost")
    certificate(tmp_path, "wrong", "localhost")
    certificate(tmp_path, "host", "elsewhere.example")
    for name, fits in (("right", True), ("wrong", False), ("host", False)):
        with dav_server(str(tmp_path / f"{name}.crt")) as running:
            told = str(tmp_path / ("host.crt" if name == "host" else "right.crt"))
            address = f"webdav://tern@localhost:{running.port}/c?certificate={told}"
            ran = command("chest", "new", address, "--label", f"c-{name}", "--password-from", f"echo {SECRET}")
            assert (ran.status == 0) is fits, ran.err
            close_all()
            plain = f"webdav://tern@localhost:{running.port}/c"
            assert command("chest", "new", plain, "--label", "plain", "--password-from", f"echo {SECRET}").status == 4


@pytest.mark.parametrize(
    ("address", "why"),
    [
        ("sftp://tern:hidden-word@h/c", "has a password in it"),
        ("ftp://h/c", "speaks sftp, webdav or s3"),
        ("http://h/c", "speaks sftp, webdav or s3"),
        ("s3://b/c?endpoint=http://storage.example", "must be https"),
        ("s3://b/c?secret=x", "not understood"),
        ("sftp://h/../../etc", "names no server, or no folder"),
        ("sftp:///c", "names no server"),
        ("sftp://h:port/c", "no address"),
    ],
)
def test_an_address_that_is_none_or_unsafe_is_refused(address: str, why: str, command: Command) -> None:
    ran = command("chest", "new", address, "--label", "x")
    assert ran.status == 2 and why in ran.err and "hidden-word" not in ran.err, ran.err


@pytest.mark.parametrize(
    ("address", "text", "account"),
    [
        ("sftp://tern@h:22/a/b", "sftp://tern@h:22/a/b", "sftp://tern@h:22"),
        ("sftp://tern@h//a", "sftp://tern@h//a", "sftp://tern@h"),
        ("webdavs://h/a/", "webdav://h/a", "webdav://h"),
        ("s3://bucket/a?key=K&endpoint=https://e", "s3://bucket/a?endpoint=https://e&key=K", "s3://bucket"),
    ],
)
def test_an_address_is_read_and_written_alike(address: str, text: str, account: str) -> None:
    assert (address_of(address).text, address_of(address).account) == (text, account)
    assert address_of(text) == address_of(address)


def test_what_a_copy_costs_is_near_what_was_reckoned(
    server: Server, tmp_path: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    if server.protocol == "sftp":
        pytest.skip("nobody can count what goes by in SSH")
    many = tmp_path / "many"
    many.mkdir()
    for number in range(60):
        (many / f"{number}.txt").write_text(f"tern {number}\n" * 400)
    (tmp_path / "blue").mkdir()
    dunechest.archive(many, dunechest.create_chest(tmp_path / "blue", "blue"))
    command("chest", "new", server.address, "--label", "barn")
    close_all()
    with Between(server.port) as between:
        counts = {"requests": 0, "sent": 0, "received": 0}

        def forth(piece: bytes, before: int) -> bytes:
            counts["requests"] += bool(re.match(rb"(GET|PUT|HEAD|POST|DELETE|MOVE|COPY|MKCOL|PROPFIND) /", piece))
            counts["sent"] += len(piece)
            return piece

        def back(piece: bytes, before: int) -> bytes:
            counts["received"] += len(piece)
            return piece

        between.forth, between.back = forth, back
        far = server.elsewhere(between.port)
        trust(server, tmp_path / "state", far)
        told = command("copy", "blue", far, "--plan", "--json").json["costs"]["now"]
        counts.update(requests=0, sent=0, received=0)
        assert command("copy", "blue", far).status == 0
    assert 0.6 < counts["requests"] / told["request_count"] < 1.4, (counts, told)
    assert told["sent_bytes"] < counts["sent"] < told["sent_bytes"] + 2500 * counts["requests"]
    assert told["received_bytes"] < counts["received"] < told["received_bytes"] + 2500 * counts["requests"]


def test_a_package_that_is_not_installed_is_named(command: Command, monkeypatch: pytest.MonkeyPatch) -> None:
    for package, module, address in (
        ("paramiko", "dunechest.remote.sftp", "sftp://tern@h/c"),
        ("webdav4", "dunechest.remote.webdav", "webdav://h/c"),
        ("s3fs", "dunechest.remote.s3", "s3://b/c?endpoint=https://h"),
    ):
        for name in (module, *[name for name in sys.modules if name.partition(".")[0] == package]):
            monkeypatch.delitem(sys.modules, name, raising=False)
        monkeypatch.delattr(f"dunechest.remote.{module.rpartition('.')[2]}", raising=False)
        monkeypatch.setitem(sys.modules, package, None)
        ran = command("chest", "new", address, "--label", "barn")
        assert ran.status == 1 and "pip install 'dunechest[remote]'" in ran.err, ran.err


def test_a_listing_of_yesterday_hides_nothing_and_harms_nothing(
    server: Server, blue: dunechest.Chest, library: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What is new is called missing then, and never intact; and a copy made on that ground loses nothing."""
    if server.protocol == "sftp":
        pytest.skip("as WebDAV: folders that are listed are those that are there now; that one is tried all the same")
    command("chest", "new", server.address, "--label", "barn")
    assert command("copy", "blue", "barn").status == 0
    chest = dunechest.get_chest("barn")
    assert isinstance(chest, ServerChest)
    kind = type(chest.stand_in.store)
    old = chest.stand_in.store.listing("")
    close_all()
    _change(library)
    dunechest.archive(library, blue)
    assert command("copy", "blue", "barn").status == 0
    close_all()
    with monkeypatch.context() as patch:
        listing = kind.listing
        patch.setattr(kind, "listing", lambda self, folder: old if not folder else listing(self, folder))
        ran = command("verify", "barn")
        assert ran.status == 1 and "new.txt" in ran.out
        close_all()
        command("copy", "blue", "barn")
        close_all()
    assert command("mend", "barn", "--from", "blue").status == 0
    close_all()
    assert command("verify", "barn").status == 0
