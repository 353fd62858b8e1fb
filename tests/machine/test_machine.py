"""The computer: filesystems and their limits, folders, processes, identity, and what other systems have."""

from __future__ import annotations

import os
import subprocess
import sys
from collections import namedtuple
from collections.abc import Callable
from pathlib import Path

import psutil
import pytest

from dunechest.machine import drives, folders, identity, mounts, processes
from dunechest.machine._handles_macos import open_files
from dunechest.transfer import _medium_windows, medium
from tests.support.runs import Command

OTHERS = [_medium_windows]
if sys.platform != "win32":
    from dunechest.transfer import _medium_macos

    OTHERS.append(_medium_macos)

Partition = namedtuple("Partition", "device mountpoint fstype opts")


@pytest.mark.parametrize(
    ("kind", "windows", "tells_case", "largest"),
    [("ext4", False, True, None), ("btrfs", False, True, None), ("apfs", False, False, None),
     ("exfat", True, False, None), ("ntfs", True, False, None), ("fuseblk", True, False, None),
     ("vfat", True, False, (4 << 30) - 1), ("unknown", True, False, None)],
)  # fmt: skip
def test_limits_of_each_filesystem(kind: str, windows: bool, tells_case: bool, largest: int | None) -> None:
    limits = drives.limits_of(kind)
    assert (limits.windows, limits.tells_case, limits.largest) == (windows, tells_case, largest)
    assert (":" in limits.forbidden) == (kind not in ("ext4", "btrfs"))


def test_the_last_mount_on_a_point_and_the_deepest_count(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    inner = tmp_path / "drive" / "deep"
    inner.mkdir(parents=True)
    parts = [
        Partition("a", "/", "ext4", ""),
        Partition("b", str(tmp_path / "drive"), "vfat", ""),
        Partition("c", str(tmp_path / "drive"), "exfat", ""),
        Partition("d", str(tmp_path / "driveway"), "ntfs", ""),
    ]
    monkeypatch.setattr(drives, "mounts", lambda drives_only=False: parts)
    assert drives.filesystem(inner).type == "exfat"
    assert drives.filesystem(tmp_path).type == "ext4"
    assert drives.filesystem(inner).mount == tmp_path / "drive"
    assert not drives.filesystem(inner).limits.tells_case
    monkeypatch.delenv("DUNECHEST_DRIVES")
    assert tmp_path / "driveway" in drives.drive_folders()
    monkeypatch.setenv("DUNECHEST_DRIVES", f"{tmp_path / 'one'}:not/full")
    assert drives.drive_folders() == (tmp_path / "one",)


def test_a_place_that_is_not_there_has_no_filesystem(tmp_path: Path) -> None:
    with pytest.raises(OSError, match="nowhere"):
        drives.filesystem(tmp_path / "nowhere")


def test_identity_is_made_once_and_survives_a_torn_file(tmp_path: Path) -> None:
    first = identity.this_machine(tmp_path / "state")
    assert identity.this_machine(tmp_path / "state") == first
    assert len(first.id) == 32
    (tmp_path / "state" / "machine.json").write_bytes(b'{"id": "ab')
    second = identity.this_machine(tmp_path / "state")
    assert second.id != first.id
    assert identity.this_machine(tmp_path / "state") == second


def test_identity_without_a_place_for_it(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("in the way")
    assert identity.this_machine(tmp_path / "file" / "below").name


def test_a_process_lives_until_it_ends() -> None:
    child = subprocess.Popen([sys.executable, "-c", "input()"], stdin=subprocess.PIPE)
    assert processes.lives(child.pid)
    assert "python" in processes.name_of(child.pid)
    child.kill()
    child.communicate()
    assert not processes.lives(child.pid)
    assert processes.name_of(child.pid) == f"process {child.pid}"
    for pid in (0, -1, 1 << 40):
        assert not processes.lives(pid)


def test_a_zombie_does_not_live() -> None:
    child = subprocess.Popen([sys.executable, "-c", "pass"])
    os.waitid(os.P_PID, child.pid, os.WEXITED | os.WNOWAIT)
    assert not processes.lives(child.pid)
    child.wait()


def test_openers_are_found_below_a_folder_and_at_a_file(
    tmp_path: Path, holder: Callable[[Path], subprocess.Popen[str]]
) -> None:
    (tmp_path / "lib" / "deep").mkdir(parents=True)
    (tmp_path / "library").mkdir()
    for name in ("lib/deep/f", "library/g"):
        (tmp_path / name).write_text("x")
    child = holder(tmp_path / "lib" / "deep" / "f")
    assert [(o.pid, o.path) for o in processes.openers(tmp_path / "lib")] == [
        (child.pid, str(tmp_path / "lib/deep/f"))
    ]
    assert [o.pid for o in processes.openers(tmp_path / "lib" / "deep" / "f")] == [child.pid]
    assert processes.openers(tmp_path / "library") == ()
    (tmp_path / "alias").symlink_to("lib")
    assert len(processes.openers(tmp_path / "alias")) == 1
    assert (child.pid, str(tmp_path / "lib/deep/f")) in set(open_files()), "the way of other systems"


def test_own_handles_do_not_count(tmp_path: Path) -> None:
    with (tmp_path / "mine").open("w"):
        assert processes.openers(tmp_path) == ()


def test_user_dirs_of_another_language_are_followed(tmp_path: Path) -> None:
    (tmp_path / ".config").mkdir()
    (tmp_path / ".config" / "user-dirs.dirs").write_text(
        '# comment\nXDG_PICTURES_DIR="$HOME/Bilder"\nXDG_MUSIC_DIR="/mnt/klang"\n'
        'XDG_DESKTOP_DIR="$HOME"\nXDG_VIDEOS_DIR=torn'
    )
    places = folders.standard_folders(tmp_path, "linux")
    assert places["pictures"] == tmp_path / "Bilder"
    assert places["music"] == Path("/mnt/klang")
    assert places["desktop"] in (tmp_path, tmp_path / "Desktop")
    assert places["videos"] == tmp_path / "Videos"


def test_own_configuration_may_be_elsewhere(own_machine: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_CONFIG_HOME", "/srv/settings")
    monkeypatch.setenv("XDG_DATA_HOME", "not absolute")
    places = folders.standard_folders(own_machine, "linux")
    assert places["configuration"] == Path("/srv/settings")
    assert places["data"] == own_machine / ".local" / "share"
    assert folders.standard_folders(own_machine / "other", "linux")["configuration"] != Path("/srv/settings")


@pytest.mark.parametrize("module", OTHERS)
def test_other_systems_offer_the_same_functions(module: object) -> None:
    for name in medium.__all__:
        assert callable(getattr(module, name))


def test_windows_and_macos_ways_flush_and_say_what_they_cannot(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    calls: list[tuple[int, int]] = []

    def control(fd: int, command: int, value: int = 0) -> int:
        calls.append((command, value))
        return 0

    monkeypatch.setattr(_medium_macos.fcntl, "fcntl", control)
    with (tmp_path / "f").open("wb") as file:
        fd = file.fileno()
        for module in (_medium_macos, _medium_windows):
            module.flush_file(fd)
            module.forget(fd)
            module.expect(fd)
            module.flush_folder(tmp_path)
            assert module.flush_filesystem(fd) is False
            assert module.bypass(fd, True) is False
            assert module.rotates(tmp_path) is False
    assert calls == [(51, 0), (48, 1), (48, 1)]


def test_linux_flushes_and_forgets(tmp_path: Path) -> None:
    with (tmp_path / "f").open("w+b") as file:
        file.write(b"x" * 100_000)
        file.flush()
        assert medium.flush_filesystem(file.fileno()) is True
        medium.flush_file(file.fileno())
        medium.forget(file.fileno())
        medium.expect(file.fileno())
        file.seek(0)
        assert len(file.read()) == 100_000
    with pytest.raises(OSError, match="Bad file descriptor"):
        medium.flush_filesystem(9999)
    assert medium.rotates("/proc") is False


def test_without_a_home_that_the_system_knows_it_says_what_to_set(
    tmp_path: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    """An account without a name, in a container for example, and no HOME."""

    def unknown() -> Path:
        raise RuntimeError("Could not determine home directory.")

    monkeypatch.setattr(Path, "home", unknown)
    (tmp_path / "notes.txt").write_text("spring tide at noon")
    for words in (("find", tmp_path), ("look", tmp_path / "notes.txt")):
        ran = command(*words)
        assert (ran.status, "Set the environment variable HOME" in ran.err) == (2, True)
    assert command("chest", "list").status == 0, "with a state folder that is named this needs no home"


@pytest.mark.skipif(sys.platform != "linux", reason="reads the kernel's list of Linux")
def test_what_is_mounted_is_what_the_library_says() -> None:
    for drives_only in (True, False):
        ours = {(part.mountpoint, part.fstype) for part in mounts.mounts(drives_only=drives_only)}
        assert ours == {(p.mountpoint, p.fstype) for p in psutil.disk_partitions(all=not drives_only)}
    assert mounts._plain(r"/media/REED\040CARD\011\134x") == "/media/REED CARD\t\\x"
