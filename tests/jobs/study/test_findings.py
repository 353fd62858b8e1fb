"""Every finding appears when there is cause for it, and does not when there is none."""

from __future__ import annotations

import json
import os
import socket
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from types import SimpleNamespace

import pytest
from msgspec.structs import replace

import dunechest
from dunechest.jobs.study.drive import examine
from dunechest.jobs.study.drive_findings import holds_findings, slow_finding
from dunechest.jobs.study.room import headroom, room_findings
from dunechest.machine import drives, probe, volumes
from dunechest.model.study import Choice, Drive
from dunechest.transfer import walk as walking
from tests.support.burrow import KIND, make, make_placeholder, refer
from tests.support.runs import Command

Arrange = Callable[[Path, pytest.MonkeyPatch], object]


def codes(library: Path, chest: dunechest.Chest | None = None, **choice: object) -> list[str]:
    chosen = Choice(**choice)  # type: ignore[arg-type]
    return [f.code for f in dunechest.look(library, chest=chest, choice=chosen).findings]


def other_machine(monkeypatch: pytest.MonkeyPatch) -> None:
    """Let the chest lie on another disk than the library, one that nothing is to be said of."""
    monkeypatch.setattr(volumes, "devices", lambda path: frozenset({"disk-of-" + Path(path).name}))
    monkeypatch.setattr(volumes, "removable", lambda names: False)
    monkeypatch.setattr("dunechest.jobs.look.write_speed", lambda folder: 150e6)


def a_pipe(library: Path, patch: pytest.MonkeyPatch) -> None:
    os.mkfifo(library / "pipe")


def a_socket(library: Path, patch: pytest.MonkeyPatch) -> None:
    here = Path.cwd()
    os.chdir(library)
    try:
        with socket.socket(socket.AF_UNIX) as item:
            item.bind("socket")
    finally:
        os.chdir(here)


def closed_folder(library: Path, patch: pytest.MonkeyPatch) -> None:
    listed = os.scandir

    def scandir(path: str = ".") -> object:
        if os.fspath(path).endswith("/walks"):
            raise PermissionError(13, "Permission denied")
        return listed(path)

    patch.setattr(walking.os, "scandir", scandir)


def an_outside_file(library: Path, patch: pytest.MonkeyPatch) -> None:
    (library.parent / "loose.map").write_text("on the desk")
    refer(library, library.parent / "loose.map")


def hidden_outside_file(library: Path, patch: pytest.MonkeyPatch) -> None:
    keys = library.parent / ".keys" / "private"
    keys.parent.mkdir()
    keys.write_text("secret")
    refer(library, keys)


def folder_outside(library: Path, patch: pytest.MonkeyPatch) -> None:
    (library.parent / "more maps").mkdir()
    (library / "more").symlink_to(library.parent / "more maps")


def elsewhere(library: Path, patch: pytest.MonkeyPatch) -> None:
    (Path(os.environ["HOME"]) / ".config" / "warren-colours").mkdir(parents=True)


def torn_index(library: Path, patch: pytest.MonkeyPatch) -> None:
    content = bytearray((library / "index.bur").read_bytes())
    content[100:108] = b"\xff" * 8
    (library / "index.bur").write_bytes(bytes(content))


def tiles(library: Path, patch: pytest.MonkeyPatch) -> None:
    (library / "tiles").mkdir()
    (library / "tiles" / "1.png").write_bytes(b"x" * 900)


def bought(library: Path, patch: pytest.MonkeyPatch) -> None:
    (library / "bought").mkdir()
    (library / "bought" / "relief.map").write_bytes(b"x" * 900)


LIBRARY: list[tuple[str, str, Arrange]] = [
    (
        "half-library",
        "blocks",
        lambda lib, patch: [*map(Path.unlink, (lib / "maps").iterdir()), (lib / "maps").rmdir()],
    ),
    ("placeholders", "blocks", lambda lib, patch: make_placeholder(lib / "maps" / "south.map")),
    ("unreadable", "warning", closed_folder),
    ("missing", "warning", lambda lib, patch: refer(lib, "maps/west.map")),
    ("drive-away", "warning", lambda lib, patch: refer(lib, "/media/tern/REED-CARD/dune.map")),
    ("folder-outside", "warning", folder_outside),
    ("references-unread", "warning", torn_index),
    ("outside-files-refused", "warning", hidden_outside_file),
    ("elsewhere", "warning", elsewhere),
    ("outside-files", "info", an_outside_file),
    ("moved", "info", lambda lib, patch: refer(lib, "/old/place/burrow/maps/south.map")),
    ("no-files", "info", a_pipe),
    ("no-files", "info", a_socket),
    ("rebuildable", "info", tiles),
    ("must-not-leave", "info", bought),
]


def test_of_a_library_in_order_there_is_nothing_to_say(
    tmp_path: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    other_machine(monkeypatch)
    assert codes(make(tmp_path), chest) == []


@pytest.mark.parametrize(
    ("code", "severity", "arrange"), LIBRARY, ids=[f"{c}-{i}" for i, (c, *_) in enumerate(LIBRARY)]
)
def test_a_finding_about_a_library(
    code: str, severity: str, arrange: Arrange, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    library = make(tmp_path)
    assert codes(library) == []
    arrange(library, monkeypatch)
    found = dunechest.look(library).findings
    if code == "half-library":  # what the other half refers to is missing, too
        found = found[:1]
    assert [(f.code, f.severity) for f in found] == [(code, severity)]
    assert found[0].message.endswith(".")
    assert found[0].action.endswith((".", "?"))
    frame = dunechest.look(library).to_frame("findings")
    assert frame["code"][0] == code


def test_an_empty_folder_is_told(tmp_path: Path) -> None:
    (tmp_path / "nothing").mkdir()
    assert codes(tmp_path / "nothing") == ["empty"]
    (tmp_path / "nothing" / "x").write_text("")
    assert codes(tmp_path / "nothing") == []


def test_the_most_serious_comes_first(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    library = make(tmp_path)
    for arrange in (tiles, an_outside_file, elsewhere, a_pipe):
        arrange(library, monkeypatch)
    refer(library, "maps/west.map")
    make_placeholder(library / "maps" / "south.map")
    weights = [f.severity for f in dunechest.look(library).findings]
    assert weights == sorted(weights, key=["blocks", "warning", "info"].index)
    assert len(weights) == 6


# Who has it open.

HOLDERS = {
    "file": "import sys, time; f = open(sys.argv[1] + '/maps/north.map'); print('up', flush=True); time.sleep(60)",
    "transaction": (
        "import sqlite3, sys, time; c = sqlite3.connect(sys.argv[1] + '/index.bur', isolation_level=None);"
        "c.execute('BEGIN IMMEDIATE'); print('up', flush=True); time.sleep(60)"
    ),
    "log": (
        "import sqlite3, sys, time; c = sqlite3.connect(sys.argv[1] + '/index.bur', isolation_level=None);"
        "c.execute('PRAGMA journal_mode = WAL'); c.execute('SELECT * FROM map').fetchall();"
        "print('up', flush=True); time.sleep(60)"
    ),
    "process": (
        "import ctypes, time; ctypes.CDLL(None).prctl(15, b'warren-of-the-t', 0, 0, 0);"
        "print('up', flush=True); time.sleep(60)"
    ),
}


@pytest.mark.parametrize("how", sorted(HOLDERS))
def test_a_second_process_that_has_it_open_is_caught(
    how: str, tmp_path: Path, command: Command, monkeypatch: pytest.MonkeyPatch, chest: dunechest.Chest
) -> None:
    library = make(tmp_path)
    if how == "process":  # the system keeps fifteen letters of a name
        kind = Path(os.environ["DUNECHEST_HOME"]) / "kinds" / "burrow.toml"
        kind.write_text(KIND.replace("warren-of-the-tests", "warren-of-the-t"))
        setting = Path(os.environ["HOME"]) / ".config" / "warren" / "settings.json"
        setting.parent.mkdir(parents=True)
        setting.write_text(json.dumps({"library": str(library)}))
    if how in ("transaction", "log"):  # known by its lock alone
        monkeypatch.setattr("dunechest.machine.processes.openers", lambda place, files=(): ())
    assert codes(library) == []
    words = [sys.executable, "-c", HOLDERS[how], str(library)]
    with subprocess.Popen(words, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        assert process.stdout.readline() == "up\n"
        ran = command("archive", library, "--to", chest.folder, "--json")
        assert (ran.status, [f["code"] for f in ran.json["findings"]]) == (3, ["in-use"])
        assert dunechest.look(library).uses[0].process_id == process.pid
        if how == "process":  # it keeps another library
            setting.write_text(json.dumps({"library": str(tmp_path)}))
            assert codes(library) == []
        process.kill()
    if how != "log":
        assert codes(library) == []
    assert chest.bags() == ()


# The drive.


def with_filesystem(monkeypatch: pytest.MonkeyPatch, **changes: object) -> None:
    monkeypatch.setattr(drives, "pretend", lambda found: replace(found, **changes))  # type: ignore[arg-type]


def read_only(patch: pytest.MonkeyPatch, chest: dunechest.Chest) -> None:
    def refuse(found: probe.Probed) -> probe.Probed:
        raise OSError(30, "Read-only file system")

    patch.setattr(probe, "pretend", refuse)


def probed(patch: pytest.MonkeyPatch, **changes: object) -> None:
    patch.setattr(probe, "pretend", lambda found: replace(found, **changes))  # type: ignore[arg-type]


def nearly_full(patch: pytest.MonkeyPatch, chest: dunechest.Chest) -> None:
    with_filesystem(patch, free=900_000)


def synced(patch: pytest.MonkeyPatch, chest: dunechest.Chest) -> None:
    (chest.folder.parent / ".stayinsync").mkdir()


DRIVE: list[tuple[str, str, Callable[[pytest.MonkeyPatch, dunechest.Chest], object]]] = [
    ("read-only", "blocks", read_only),
    ("no-room", "blocks", lambda patch, chest: with_filesystem(patch, free=1000)),
    ("little-room", "warning", nearly_full),
    (
        "same-device",
        "warning",
        lambda patch, chest: patch.setattr(volumes, "devices", lambda path: frozenset({"sda"})),
    ),
    ("network", "warning", lambda patch, chest: with_filesystem(patch, type="nfs4")),
    ("network", "warning", lambda patch, chest: with_filesystem(patch, type="fuse.something-online")),
    ("in-memory", "warning", lambda patch, chest: with_filesystem(patch, type="tmpfs")),
    ("sync-folder", "warning", synced),
    ("slow", "warning", lambda patch, chest: patch.setattr("dunechest.jobs.look.write_speed", lambda folder: 3e6)),
    ("removable", "info", lambda patch, chest: patch.setattr(volumes, "removable", lambda names: True)),
    ("names", "info", lambda patch, chest: probed(patch, forbidden=frozenset("?"))),
    ("no-links", "info", lambda patch, chest: probed(patch, links=False)),
    ("coarse-times", "info", lambda patch, chest: probed(patch, time_step_ns=2_000_000_000)),
]


@pytest.mark.parametrize(("code", "severity", "arrange"), DRIVE, ids=[f"{c}-{i}" for i, (c, *_) in enumerate(DRIVE)])
def test_a_finding_about_a_drive(
    code: str,
    severity: str,
    arrange: Callable[[pytest.MonkeyPatch, dunechest.Chest], object],
    tmp_path: Path,
    chest: dunechest.Chest,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    other_machine(monkeypatch)
    library = make(tmp_path)
    (library / "maps" / "which way?.txt").write_text("left")
    (library / "maps" / "best.map").symlink_to("north.map")
    if code == "little-room":  # of whole blocks for a few small files
        (library / "maps" / "big.map").write_bytes(b"x" * 700_000)
    assert codes(library, chest) == []
    arrange(monkeypatch, chest)
    found = dunechest.look(library, chest=chest).findings
    assert [(f.code, f.severity) for f in found] == [(code, severity)]
    assert not list(chest.folder.glob(".dune-probe*")), "the probe leaves nothing behind"


def test_a_stop_of_the_drive_stops_the_archive(
    tmp_path: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch, command: Command
) -> None:
    library = make(tmp_path)
    read_only(monkeypatch, chest)
    ran = command("archive", library, "--to", chest.folder)
    assert (ran.status, "read-only" in ran.err) == (3, True)
    ran = command("archive", library, "--to", chest.folder, "--ignore", "read-only")
    assert ran.status == 3, "a drive that cannot be written to does not yield"
    assert chest.bags() == ()


def test_a_file_too_large_for_the_filesystem(
    tmp_path: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch, command: Command
) -> None:
    library = make(tmp_path)
    limits = drives.Limits(largest=9_000)
    with_filesystem(monkeypatch, limits=limits)
    assert codes(library, chest)[0] == "file-too-large"
    ran = command("archive", library, "--to", chest.folder, "--ignore", "file-too-large", "--json")
    assert ran.status == 1
    left = {item["path"]: item["why"] for item in ran.library["left_out"]}
    assert "larger than" in left["maps/entrance.map"]
    with_filesystem(monkeypatch, limits=replace(limits, largest=1 << 32))
    assert "file-too-large" not in codes(library, chest)


def test_room_is_counted_with_what_the_library_grew_by(chest: dunechest.Chest) -> None:
    drive = replace(examine(chest), why_not="")
    room = lambda free, need, spare: [  # noqa: E731
        f.code for f in room_findings(need, 0, spare, Drive(replace(drive.place, free=free), None, "", frozenset()))
    ]
    assert room(1000, 900, 50) == []
    assert room(1000, 900, 101) == ["little-room"]
    assert room(1000, 1001, 0) == ["no-room"]
    assert headroom([], 1000) == 100
    assert headroom([("2026-02", 700), ("2026-01", 500), ("2026-03", 900)], 900) == 600
    assert headroom([("2026-01", 900), ("2026-02", 500)], 900) == 0, "one that shrinks needs none"


def test_speed_is_told_in_hours_or_minutes() -> None:
    assert slow_finding(80e6, 1 << 40) == []
    assert "hours" in slow_finding(5e6, 1 << 38)[0].message
    assert "1 minute," in slow_finding(5e6, 1000)[0].message
    assert "2 minutes," in slow_finding(5e6, 600_000_000)[0].message


def test_what_a_drive_holds_is_only_told_where_it_matters(chest: dunechest.Chest) -> None:
    drive = examine(chest)
    assert drive.probed is not None
    less = replace(drive, probed=replace(drive.probed, links=False, time_step_ns=2_000_000_000))
    assert [f.code for f in holds_findings(less, (), 0, 0)] == []
    assert [f.code for f in holds_findings(less, ["a?"], 2, 5)] == ["names", "no-links", "coarse-times"]
    assert [f.code for f in holds_findings(drive, (), 2, 5)] == []


@pytest.mark.parametrize(
    ("mark", "is_one"),
    [(".sync", True), (".SyncArchive", True), (".mycloud-state", True), (".git", False), ("sync", False),
     (".config", False), (".asynchronous notes", False)],
)  # fmt: skip
def test_marks_of_a_service_that_keeps_folders_in_step(mark: str, is_one: bool, tmp_path: Path) -> None:
    home = tmp_path / "home"
    place = home / "Kept" / "drive"
    place.mkdir(parents=True)
    assert volumes.sync_mark(place, Path("/"), home) == ""
    (home / "Kept" / mark).mkdir()
    assert bool(volumes.sync_mark(place, Path("/"), home)) == is_one
    (home / "Kept" / mark).rename(home / mark)
    assert volumes.sync_mark(place, Path("/"), home) == "", "a home has such names for other reasons"


def test_marks_of_other_systems_on_a_synced_folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Stat results as recorded on Windows (reparse tag of cloud files, pinned attribute) and macOS (dataless)."""
    place = tmp_path / "home" / "Kept"
    place.mkdir(parents=True)
    for recorded in ({"st_reparse_tag": 0x9000601A}, {"st_file_attributes": 0x80010}, {"st_flags": 0x40000020}):
        monkeypatch.setattr(Path, "lstat", lambda self, r=recorded: type("Recorded", (), r)())
        assert "marked by the system" in volumes.sync_mark(place, Path("/"), tmp_path / "home")
    monkeypatch.setattr(Path, "lstat", lambda self: type("Recorded", (), {"st_file_attributes": 0x10})())
    assert volumes.sync_mark(place, Path("/"), tmp_path / "home") == ""
    provided = tmp_path / "home" / "Library" / "CloudStorage" / "Somewhere"
    provided.mkdir(parents=True)
    assert "CloudStorage" in volumes.sync_mark(provided, Path("/"), tmp_path / "home")


def test_a_disk_that_can_be_unplugged(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    from dunechest.machine import _volumes_linux, _volumes_macos, _volumes_windows

    assert _volumes_linux.removable(frozenset({"no-such-disk"})) is False
    part = SimpleNamespace(mountpoint="E:\\", opts="rw,removable", fstype="exfat", device="E:\\")
    monkeypatch.setattr(_volumes_windows, "mounts", lambda drives_only: [part])
    assert _volumes_windows.removable(frozenset({"E:"})) and not _volumes_windows.removable(frozenset({"C:"}))
    part.opts = "rw,fixed"
    assert not _volumes_windows.removable(frozenset({"E:"}))
    # Two volumes of one container, and a drive that is plugged in.
    parts = [
        SimpleNamespace(mountpoint=place, device=device)
        for place, device in (
            ("/", "/dev/disk3s1s1"),
            (str(tmp_path), "/dev/disk4s2"),
            ("/Volumes/blue", "/dev/disk4s1"),
        )
    ]
    monkeypatch.setattr(_volumes_macos, "mounts", lambda: parts)
    assert _volumes_macos.devices(tmp_path) in ({"disk4"}, {"disk3"})
    parts[1].mountpoint = "/Volumes/other"
    assert _volumes_macos.removable(frozenset({"disk4"})) and not _volumes_macos.removable(frozenset({"disk3"}))


def test_the_probe_leaves_no_trace_and_clears_what_a_killed_one_left(tmp_path: Path) -> None:
    old = tmp_path / ".dune-probe-0badcafe"
    old.mkdir()
    (old / "plain").touch()
    os.utime(old, (1, 1))
    fresh = tmp_path / ".dune-probe-11111111"
    fresh.mkdir()
    (tmp_path / ".dune-probe-link").symlink_to(tmp_path / "home")
    os.utime(tmp_path, ns=(5, 1_600_000_000_000_000_000))
    found = probe.probe(tmp_path)
    assert (found.tells_case, found.links, found.longest) == (True, True, 255)
    assert found.forbidden == frozenset()
    assert probe.write_speed(tmp_path) > 0
    left = sorted(p.name for p in tmp_path.glob(".dune-probe*"))
    assert left == [".dune-probe-11111111", ".dune-probe-link"], "another's, which may be at work, stays"
    assert (tmp_path / "home").exists()
