"""What Windows and macOS do differently, as far as it can be shown anywhere: with their calls and answers simulated."""

from __future__ import annotations

import base64
import ctypes
import errno
import os
import plistlib
import stat
import sys
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest

import dunechest
from dunechest import paths
from dunechest.chest.stored_names import StoredNames
from dunechest.library.references import resolve
from dunechest.machine import _attributes_macos, _attributes_windows, _volumes_macos, closed, drives, folders
from dunechest.names import quoted, why_leads_out, why_unsafe
from dunechest.transfer import copying, disk, patient
from dunechest.transfer.tasks import CopyJob, CopyTask
from dunechest.transfer.walk import walk
from tests.support.runs import Command

REFUSED = 5


class Refusals:
    """A Windows that refuses a call some times, as it does while a scanner looks at a file."""

    def __init__(self, real: Any, times: int, number: int = REFUSED) -> None:
        self.real, self.times, self.number, self.asked = real, times, number, 0

    def __call__(self, *words: Any) -> Any:
        self.asked += 1
        if self.asked <= self.times:
            error = PermissionError(errno.EACCES, "Access is denied", str(words[0]))
            error.winerror = self.number  # type: ignore[attr-defined]
            raise error
        return self.real(*words)


@pytest.fixture
def refusing(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(patient, "REFUSES", True)
    monkeypatch.setattr(patient, "PAUSE", 0.001)


@pytest.mark.parametrize("number", [5, 32, 33])
def test_what_is_held_for_a_moment_is_tried_again(
    number: int, refusing: None, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "a").write_text("a")
    unlink, replace = Refusals(os.unlink, 3, number), Refusals(os.replace, 3, number)
    monkeypatch.setattr(os, "replace", replace)
    disk.rename(tmp_path / "a", tmp_path / "b")
    monkeypatch.setattr(os, "unlink", unlink)
    disk.remove(tmp_path / "b")
    assert (unlink.asked, replace.asked, list(tmp_path.iterdir())) == (4, 4, [tmp_path / "home"])


def test_it_is_not_tried_for_ever_and_other_errors_are_told_at_once(
    refusing: None, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(patient, "PATIENCE", 0.05)
    (tmp_path / "a").write_text("a")
    held = Refusals(os.unlink, 10_000)
    with monkeypatch.context() as patch:
        patch.setattr(os, "unlink", held)
        with pytest.raises(PermissionError):
            patient.unlink(tmp_path / "a")
    assert held.asked > 3
    never = Refusals(os.rmdir, 10_000, 999)
    monkeypatch.setattr(os, "rmdir", never)
    with pytest.raises(PermissionError):
        patient.rmdir(tmp_path / "home")
    assert never.asked == 1
    with pytest.raises(FileNotFoundError):
        patient.unlink(tmp_path / "nothing")
    patient.unlink(tmp_path / "nothing", missing_ok=True)


def test_a_read_only_file_is_replaced_and_removed(
    refusing: None, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Windows refuses both, POSIX neither; on either the file beside it is left alone."""
    real_unlink, real_replace = os.unlink, os.replace

    def guarded(real: Any) -> Any:
        def call(*words: Any) -> None:
            if os.path.exists(words[-1]) and not os.stat(words[-1]).st_mode & stat.S_IWRITE:
                Refusals(real, 1)(*words)
            real(*words)

        return call

    monkeypatch.setattr(os, "unlink", guarded(real_unlink))
    monkeypatch.setattr(os, "replace", guarded(real_replace))
    for name in ("old", "other"):
        (tmp_path / name).write_text(name)
        (tmp_path / name).chmod(0o444)
    (tmp_path / "new").write_text("new")
    disk.rename(tmp_path / "new", tmp_path / "old")
    assert (tmp_path / "old").read_text() == "new"
    (tmp_path / "old").chmod(0o444)
    disk.remove(tmp_path / "old")
    assert not stat.S_IMODE((tmp_path / "other").stat().st_mode) & 0o222


def test_times_are_given_after_closing_where_an_open_file_cannot_take_one(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Closing a handle that wrote sets the time to now there, whatever was set by the file's name before."""
    monkeypatch.setattr(os, "supports_fd", os.supports_fd - {os.utime})
    open_files: dict[int, str] = {}
    real_open, real_close = os.open, os.close

    def opened(path: Any, flags: int, mode: int = 0o777) -> int:
        fd = real_open(path, flags, mode)
        if flags & os.O_CREAT:
            open_files[fd] = os.fsdecode(path)
        return fd

    def close(fd: int) -> None:
        real_close(fd)
        if (path := open_files.pop(fd, None)) is not None and os.path.exists(path):
            os.utime(path)

    monkeypatch.setattr(os, "open", opened)
    monkeypatch.setattr(os, "close", close)
    tasks = []
    for size in (0, 100, 300_000, 9_000_000):
        source = tmp_path / f"source {size}"
        source.write_bytes(os.urandom(size))
        os.utime(source, ns=(1_500_000_000_000_000_000, 1_500_000_000_000_000_000))
        target = os.fsencode(tmp_path / f"target {size}")
        tasks.append(CopyTask(os.fsencode(source), target, size, 1_500_000_000_000_000_000, 0o644))
    outcomes = copying.copy_files(CopyJob(tasks, True, False), lambda count: None)
    assert [outcome.state for outcome in outcomes] == ["ok"] * 4
    assert {os.stat(task.target).st_mtime_ns for task in tasks} == {1_500_000_000_000_000_000}


def test_nothing_is_read_or_removed_through_a_junction(
    library: Path, chest: dunechest.Chest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Windows shows a junction as a folder; its tag alone tells. Here a folder of a certain number is one."""
    outside = library / "junction"
    outside.mkdir()
    (outside / "precious.txt").write_text("of another place")
    number = outside.stat().st_ino

    def tagged(info: os.stat_result) -> bool:
        return info.st_ino == number

    for module in (
        "dunechest.paths",
        "dunechest.transfer.walk",
        "dunechest.transfer.below",
        "dunechest.transfer.removal",
    ):
        monkeypatch.setattr(f"{module}.leads_elsewhere", tagged)
    monkeypatch.setattr(
        "dunechest.paths.is_folder", lambda entry: entry.is_dir(follow_symlinks=False) and entry.inode() != number
    )
    assert [other.path for other in walk(str(library)).others] == ["junction"]
    (result,) = dunechest.archive(library, chest)
    assert [left.path for left in result.left_out if "junction" in left.why] == ["junction"]
    assert not list((chest.folder / "bags").rglob("precious.txt"))
    assert paths.is_link(outside) and (outside / "precious.txt").exists()


def test_a_placeholder_folder_is_gone_into_and_a_surrogate_is_not() -> None:
    junction, link, cloud = 0xA0000003, 0xA000000C, 0x9000601A
    told = [paths.leads_elsewhere(SimpleNamespace(st_reparse_tag=tag)) for tag in (junction, link, cloud, 0)]  # type: ignore[arg-type]
    assert told == [True, True, False, False]
    assert not paths.leads_elsewhere(os.stat("."))


def test_names_that_windows_does_not_take_get_others(monkeypatch: pytest.MonkeyPatch) -> None:
    limits = drives.limits_of("apfs", "windows")
    names = StoredNames(limits)
    for own in ("a:b.jpg", "back\\slash", "aux.txt", "dot.", "what?"):
        made = names.file(own)
        assert made != own and limits.forbidden.isdisjoint(made) and why_leads_out(own) is None
    assert drives.limits_of("fat32", "windows").largest == (4 << 30) - 1
    for lies in ("../x", "/x", "a//b", "a/./b", "", "a\0b"):
        assert why_leads_out(lies) and why_unsafe(lies)


class Library:
    """The calls of <sys/xattr.h>, kept in memory."""

    def __init__(self) -> None:
        self.kept: dict[tuple[bytes, bytes], bytes] = {}

    def listxattr(self, path: bytes, names: Any, size: Any, options: Any) -> int:
        told = b"".join(name + b"\0" for place, name in self.kept if place == path)
        ctypes.memmove(names, told, len(told))
        return len(told)

    def getxattr(self, path: bytes, name: bytes, value: Any, size: Any, position: Any, options: Any) -> int:
        content = self.kept.get((path, name))
        if content is None:
            return -1
        if value is not None:
            ctypes.memmove(value, content, len(content))
        return len(content)

    def setxattr(self, path: bytes, name: bytes, value: bytes, size: Any, position: Any, options: Any) -> int:
        self.kept[path, name] = value[: size.value]
        return 0


def test_what_the_finder_keeps_comes_back_and_the_systems_own_does_not(monkeypatch: pytest.MonkeyPatch) -> None:
    library = Library()
    monkeypatch.setattr(_attributes_macos, "_libc", lambda: library)
    fork = os.urandom(100_000)
    library.kept = {
        (b"a", b"com.apple.metadata:_kMDItemUserTags"): b"bplist00 red",
        (b"a", b"com.apple.ResourceFork"): fork,
        (b"a", b"com.apple.quarantine"): b"0081;",
    }
    found = _attributes_macos.read(b"a")
    assert [name for name, _ in found] == ["com.apple.ResourceFork", "com.apple.metadata:_kMDItemUserTags"]
    for name, value in found:
        assert _attributes_macos.write(b"b", name, value) == ""
    assert library.kept[b"b", b"com.apple.ResourceFork"] == fork
    assert "none of a person's" in _attributes_macos.write(b"b", "com.apple.quarantine", "")
    assert "cannot be read" in _attributes_macos.write(b"b", "com.apple.FinderInfo", "%")
    assert _attributes_macos.read(b"nothing") == ()


def test_a_stream_named_by_a_drive_leads_nowhere_else(tmp_path: Path) -> None:
    place = os.fsencode(tmp_path / "file")
    content = base64.b64encode(b"more").decode()
    for name in ("stream:../../x", "stream:a\\b", "stream:", "stream:Zone.Identifier", "user.x", "stream:a:b"):
        assert _attributes_windows.write(place, name, content)
    assert not [path for path in tmp_path.iterdir() if path.name != "home"]


def test_a_volume_keeps_its_number_wherever_it_is_mounted(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    told = (
        b"<?xml version='1.0'?><plist version='1.0'><dict><key>VolumeUUID</key><string>0A-1B</string></dict></plist>"
    )
    _volumes_macos._uuid.cache_clear()
    monkeypatch.setattr(
        _volumes_macos, "order", lambda words, check: SimpleNamespace(returncode=0, stdout=told.decode())
    )
    assert _volumes_macos.uuid_of(tmp_path) == "0A-1B"
    _volumes_macos._uuid.cache_clear()
    monkeypatch.setattr(
        _volumes_macos, "order", lambda words, check: SimpleNamespace(returncode=0, stdout="no plist")
    )
    assert _volumes_macos.uuid_of(tmp_path) == ""
    _volumes_macos._uuid.cache_clear()


def test_a_closed_drive_is_not_a_missing_one(
    library: Path, chest: dunechest.Chest, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    real = os.scandir
    drive = str(chest.folder.parent)

    def scandir(path: Any = ".") -> Any:
        if str(path).startswith((drive, str(library))):
            raise PermissionError(errno.EPERM, "Operation not permitted", str(path))
        return real(path)

    monkeypatch.setattr(os, "scandir", scandir)
    monkeypatch.setattr(sys, "platform", "darwin")
    assert "Full Disk Access" in closed.why_closed(library)
    with pytest.raises(dunechest.CutOffError, match="Full Disk Access"):
        dunechest.archive(library, chest)
    monkeypatch.setattr("dunechest.jobs.known.named.find_chest", lambda place: None)
    ran = command("verify", drive)
    assert ran.status == 4 and "Full Disk Access" in ran.err and "chest new" not in ran.err


@pytest.mark.parametrize(
    ("path", "system", "taken"),
    [
        ("/Users/tern/Library/Mail/key", "macos", False), ("/private/etc/hosts", "macos", False),
        ("/Users/tern/Pictures/a.jpg", "macos", True), ("/home/tern/Library/a.jpg", "linux", True),
        ("/Users/tern/AppData/Roaming/x", "linux", False),
    ],
)  # fmt: skip
def test_secrets_of_other_systems_are_not_gathered(
    path: str, system: str, taken: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(resolve, "system_name", lambda: system)
    assert (resolve.not_taken(path) == "") is taken


def test_where_windows_keeps_a_persons_folders_is_asked(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    kept = tmp_path / "in step" / "Pictures"
    monkeypatch.setattr(folders, "system_name", lambda: "windows")
    monkeypatch.setattr("dunechest.machine._folders_windows.profile", lambda: str(tmp_path))
    monkeypatch.setattr("dunechest.machine._folders_windows.asked", lambda: {"pictures": str(kept)})
    found = folders.standard_folders(tmp_path)
    assert found["pictures"] == kept and found["configuration"] == tmp_path / "AppData" / "Roaming"
    other = folders.standard_folders(tmp_path / "other")
    assert other["pictures"] == tmp_path / "other" / "Pictures"
    assert folders.place_of(kept / "Dunes", tmp_path) == ("pictures", "Dunes")


def test_a_drive_without_links_takes_the_rest_of_a_merged_library(
    library: Path, chest: dunechest.Chest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (library / "shortcut").symlink_to("rope.txt")
    dunechest.archive(library, chest)
    place = tmp_path / "here"
    place.mkdir()
    (place / "rope.txt").write_text("mine")

    def symlink(*words: Any, **more: Any) -> None:
        raise OSError(errno.EPERM, "Operation not permitted")

    monkeypatch.setattr(os, "symlink", symlink)
    options = dunechest.RestoreOptions(into=str(place), if_exists="merge", on_conflict="keep-mine")
    done = dunechest.restore(chest, "shed", options)
    assert (place / "rope.txt").read_text() == "mine" and (place / "rafters" / "oar.txt").exists()
    assert [left.path for left in done.not_restored if "cannot be made here" in left.why] == ["shortcut"]


def test_what_stands_for_a_file_that_is_kept_elsewhere_is_a_placeholder(
    library: Path, chest: dunechest.Chest, command: Command
) -> None:
    told = plistlib.dumps({"NSURLNameKey": "tern.jpg", "NSURLFileSizeKey": 5_000_000}, fmt=plistlib.FMT_BINARY)
    (library / ".tern.jpg.elsewhere").write_bytes(told)
    (library / ".gull.jpg.elsewhere").write_bytes(told)  # of another name
    (library / ".heron.jpg.elsewhere").write_bytes(told[:60])  # torn
    ran = command("archive", library, "--to", chest.folder)
    assert (ran.status, "placeholders" in ran.err, ".tern.jpg.elsewhere" in ran.err) == (3, True, True), ran.err
    assert ".gull" not in ran.err and ".heron" not in ran.err


@pytest.mark.parametrize(
    ("name", "word"),
    [
        ("blue", "blue"),
        (r"E:\dune-chest", r"E:\dune-chest"),
        ("two words & more", '"two words & more"'),
        ("$(calc) `x", '"`$(calc) ``x"'),
        ('a" & calc', '"a? & calc"'),
        ("a\u201d; calc", '"a?; calc"'),
    ],
)
def test_a_word_of_a_suggested_command_acts_in_no_shell_of_windows(
    name: str, word: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("dunechest.names.os", SimpleNamespace(sep="\\"))
    assert quoted(name) == word
