"""Owners, access lists and extended attributes: recorded, given back, and named where that cannot be."""

from __future__ import annotations

import base64
import os
import shutil
import struct
import subprocess
import sys
from pathlib import Path

import pytest

import dunechest
from dunechest.machine.attributes import attributes_of, give_attribute, give_owner

if sys.platform != "win32":
    import pwd

pytestmark = pytest.mark.skipif(sys.platform != "linux", reason="owners and attributes as Linux has them")
as_root = pytest.mark.skipif(
    not hasattr(os, "geteuid") or os.geteuid() != 0, reason="only the administrator gives files away"
)


@pytest.fixture
def library(tmp_path: Path) -> Path:
    place = tmp_path / "home" / "lib"
    (place / "inner").mkdir(parents=True)
    for name in ("a.txt", "inner/b.txt", "c.txt"):
        (place / name).write_text(name)
    return place


def tag(path: Path, name: str, value: bytes) -> None:
    try:
        os.setxattr(path, name, value)
    except OSError as error:
        pytest.skip(f"the filesystem here keeps no attributes: {error}")


def access(*entries: tuple[int, int, int]) -> bytes:
    return struct.pack("<I", 2) + b"".join(struct.pack("<HHI", *entry) for entry in entries)


def chest_of(tmp_path: Path, name: str = "drive") -> dunechest.Chest:
    (tmp_path / name).mkdir()
    return dunechest.create_chest(tmp_path / name, name)


def test_attributes_and_access_lists_come_back(library: Path, tmp_path: Path) -> None:
    tag(library / "a.txt", "user.comment", b"\x00taken at low tide\xff")
    tag(library / "inner", "user.colour", b"blue")
    user = pwd.getpwnam("daemon")
    tag(
        library / "c.txt",
        "system.posix_acl_access",
        access((1, 6, 0xFFFFFFFF), (2, 4, user.pw_uid), (4, 4, 0xFFFFFFFF), (16, 4, 0xFFFFFFFF), (32, 0, 0xFFFFFFFF)),
    )
    before = {name: attributes_of(os.fsencode(library / name)) for name in ("a.txt", "inner", "c.txt")}
    assert dict(before["c.txt"])["access"] == f"user::rw-,user:{user.pw_name}:r--,group::r--,mask::r--,other::---"
    chest = chest_of(tmp_path)
    dunechest.archive(library, chest)
    result = dunechest.restore(chest, "lib", dunechest.RestoreOptions(into=tmp_path / "back"))
    assert result.ok
    assert result.findings == ()
    assert {name: attributes_of(os.fsencode(result.path / name)) for name in before} == before
    assert attributes_of(os.fsencode(result.path / "inner" / "b.txt")) == ()


def test_a_place_that_keeps_none_is_named(library: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    tag(library / "a.txt", "user.comment", b"x")
    chest = chest_of(tmp_path)
    dunechest.archive(library, chest)

    def refuse(*args: object, **more: object) -> None:
        raise OSError(95, "Operation not supported")

    monkeypatch.setattr(os, "setxattr", refuse)
    result = dunechest.restore(chest, "lib", dunechest.RestoreOptions(into=tmp_path / "back"))
    assert result.ok, "the files are whole"
    (missing,) = [f for f in result.findings if f.code == "attributes-missing"]
    assert "1 file or folder came back without the attribute comment" in missing.message
    assert "a.txt" in missing.message


@as_root
def test_a_stopped_servers_owners_come_back(library: Path, tmp_path: Path) -> None:
    """What belonged to a server's account does again, by its name; what another had, has it too."""
    daemon, games = pwd.getpwnam("daemon"), pwd.getpwnam("games")
    for path in (library, *library.rglob("*")):
        os.chown(path, daemon.pw_uid, daemon.pw_gid)
    os.chown(library / "c.txt", games.pw_uid, -1)
    chest = chest_of(tmp_path)
    (plan,) = dunechest.plan_archive(library, chest)
    (told,) = [finding for finding in plan.findings if finding.code == "owners"]
    assert "5 files and folders of it belong to others: user daemon and group daemon (4)" in told.message
    dunechest.archive(library, chest)
    result = dunechest.restore(chest, "lib", dunechest.RestoreOptions(into=tmp_path / "back"))
    assert result.ok
    owners = {path.name: path.stat().st_uid for path in (result.path, *result.path.rglob("*"))}
    assert owners == {
        "back": daemon.pw_uid,
        "inner": daemon.pw_uid,
        "a.txt": daemon.pw_uid,
        "b.txt": daemon.pw_uid,
    } | {"c.txt": games.pw_uid}


@as_root
def test_who_is_not_here_is_named_and_nobody_becomes_the_administrator(library: Path, tmp_path: Path) -> None:
    os.chown(library / "a.txt", 4_000_123, -1)
    chest = chest_of(tmp_path)
    dunechest.archive(library, chest)
    result = dunechest.restore(chest, "lib", dunechest.RestoreOptions(into=tmp_path / "back"))
    (missing,) = [finding for finding in result.findings if finding.code == "attributes-missing"]
    assert "there is no user #4000123 here" in missing.message
    assert (result.path / "a.txt").stat().st_uid == 0
    mine = tmp_path / "mine"
    mine.write_text("x")
    os.chown(mine, 1234, 1234)
    assert give_owner(os.fsencode(mine), "root", "root") == ""
    assert (mine.stat().st_uid, mine.stat().st_gid) == (1234, 1234)


def test_what_a_record_may_ask_for(library: Path) -> None:
    """An attribute that only the system gives, or a value that is none, is refused, whatever a record says."""
    path = os.fsencode(library / "a.txt")
    value = base64.b64encode(b"x").decode()
    for name in ("security.capability", "trusted.x", "system.posix_acl_access", "user\0x", ""):
        assert give_attribute(path, name, value)
    for words in ("", "user", "user:nobody-of-this-name:rwx", "user::rwz", "mask::rwx,odd::r--", "user:a:b:c"):
        assert give_attribute(path, "access", words)
    assert give_attribute(path, "user.x", "no base64!")


def test_whose_it_was_is_said_before_anything_is_done(library: Path, tmp_path: Path) -> None:
    chest = chest_of(tmp_path)
    if os.geteuid() == 0:
        os.chown(library / "a.txt", pwd.getpwnam("games").pw_uid, -1)
    dunechest.archive(library, chest)
    plan = dunechest.plan_restore(chest, "lib", dunechest.RestoreOptions(into=tmp_path / "back"))
    told = [finding.message for finding in plan.findings if finding.code == "owners"]
    assert bool(told) is (os.geteuid() == 0)
    assert all("belonged to games" in words for words in told)


def test_attributes_alone_make_no_edition_but_are_recorded_when_all_is_read(library: Path, tmp_path: Path) -> None:
    chest = chest_of(tmp_path)
    dunechest.archive(library, chest)
    tag(library / "a.txt", "user.comment", b"later")
    (result,) = dunechest.archive(library, chest)
    assert result.edition == 1
    (result,) = dunechest.archive(library, chest, dunechest.ArchiveOptions(read_all=True))
    assert result.edition == 2
    back = dunechest.restore(chest, "lib", dunechest.RestoreOptions(into=tmp_path / "back")).path
    assert attributes_of(os.fsencode(back / "a.txt"))


def test_acls_as_the_systems_own_program_says_them(library: Path, tmp_path: Path) -> None:
    if shutil.which("setfacl") is None:
        pytest.skip("no setfacl here")
    ran = subprocess.run(
        ["setfacl", "-m", "u:daemon:rw,g:games:r", "-d", "-m", "u:daemon:rwx", library / "inner"], check=False
    )
    if ran.returncode:
        pytest.skip("the filesystem here keeps no access lists")
    chest = chest_of(tmp_path)
    dunechest.archive(library, chest)
    back = dunechest.restore(chest, "lib", dunechest.RestoreOptions(into=tmp_path / "back")).path
    said = [
        subprocess.run(["getfacl", "-cp", place / "inner"], capture_output=True, text=True, check=True).stdout
        for place in (library, back)
    ]
    assert said[0] == said[1]
    assert "user:daemon:rw" in said[1]
