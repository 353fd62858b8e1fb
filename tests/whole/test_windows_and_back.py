"""A chest goes from Linux to a real Windows Python and back, exactly. Needs what ``make windows`` sets up."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import uuid
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

import dunechest
from tests.support.litter import litter
from tests.support.trees import facts

ROOT = Path(__file__).resolve().parents[2]
PLACE = Path(os.environ.get("DUNECHEST_WINDOWS", ROOT / ".windows"))

pytestmark = [
    pytest.mark.slow,
    pytest.mark.skipif(
        sys.platform != "linux" or shutil.which("wine") is None or not (PLACE / "prefix" / "ready").exists(),
        reason="no Windows Python is set up here (make windows)",
    ),
]

Windows = Callable[..., tuple[int, Any]]


@pytest.fixture
def drive_c() -> Iterator[Path]:
    """A folder of the test's own on the drive C: of that Windows."""
    place = PLACE / "prefix" / "drive_c" / f"t-{uuid.uuid4().hex[:8]}"
    place.mkdir()
    yield place
    shutil.rmtree(place, ignore_errors=True)


@pytest.fixture
def on_windows(drive_c: Path) -> Windows:
    """Run a command there; return its status and its document."""

    def run(*words: str) -> tuple[int, Any]:
        script = ROOT / "scripts" / "windows.py"
        environment = {**os.environ, "DUNECHEST_WINDOWS": str(PLACE)}
        order = [sys.executable, str(script), "run", "-m", "dunechest", *words, "--json"]
        ran = subprocess.run(order, capture_output=True, text=True, env=environment, check=False, timeout=300)
        assert ran.stdout.startswith("{"), ran.stdout + ran.stderr
        return ran.returncode, json.loads(ran.stdout)

    return run


def windows_path(place: Path, drive_c: Path) -> str:
    return "C:\\" + str(place.relative_to(drive_c.parent)).replace("/", "\\")


def make_library(place: Path) -> None:
    """Make files of all sorts: names that Windows refuses, that differ in case, that are not ASCII; empty folders; a large file."""
    (place / "Ünïcode 沙丘" / "empty").mkdir(parents=True)
    for name, content in {
        "plain.txt": b"plain", "what?.txt": b"question", "a:b.txt": b"colon", "back\\slash": b"backslash", "aux.txt": b"device",
        "ends in a dot.": b"dot", "Case.txt": b"upper", "case.txt": b"lower", "Ünïcode 沙丘/tern.jpg": os.urandom(300_000),
        "nothing": b"", "large.bin": os.urandom(9_000_000),
    }.items():  # fmt: skip
        (place / name).write_bytes(content)
    (place / "plain.txt").chmod(0o444)


def test_a_chest_goes_there_and_comes_back(drive_c: Path, on_windows: Windows, tmp_path: Path) -> None:
    library = tmp_path / "Sea Things"
    library.mkdir()
    make_library(library)
    (drive_c / "drive").mkdir()
    (tmp_path / "drive").mkdir()
    # As an exFAT drive would have it, which both can read.
    limits = __import__("dunechest.machine.drives", fromlist=["drives"])
    with pytest.MonkeyPatch.context() as patch:
        exfat = limits.limits_of("exfat")
        patch.setattr(limits, "pretend", lambda place: limits.with_limits(place, exfat))
        chest = dunechest.create_chest(drive_c / "drive", "both")
        assert dunechest.archive(library, chest)[0].state == "archived"
    there = windows_path(drive_c / "drive", drive_c)
    status, told = on_windows("verify", there)
    assert status == 0, json.dumps(told, indent=1)[-3000:]
    back = windows_path(drive_c / "back", drive_c)
    status, told = on_windows("restore", there, "sea-things", "--into", back)
    assert status == 0, json.dumps(told, indent=1)[-3000:]
    restored = sorted(path.read_bytes() for path in (drive_c / "back").rglob("*") if path.is_file())
    assert restored == sorted(path.read_bytes() for path in library.rglob("*") if path.is_file())
    # Somebody works on it there, and archives it as what it is.
    (drive_c / "back" / "plain.txt").chmod(0o644)
    (drive_c / "back" / "plain.txt").write_bytes(b"changed on Windows")
    (drive_c / "back" / "written there.txt").write_bytes(b"new")
    litter(drive_c / "back")
    litter(drive_c / "drive" / "dune-chest" / "bags" / "sea-things")
    status, told = on_windows("archive", back, "--to", there, "--continue", "sea-things", "--ignore", "mass-change")
    assert status == 0, json.dumps(told, indent=1)[-3000:]
    status, told = on_windows("verify", there)
    assert status == 0, json.dumps(told, indent=1)[-3000:]
    # And back again: each edition is exactly what it was where it was made.
    chest = dunechest.Chest.open(chest.folder)
    assert dunechest.verify(chest).ok
    dunechest.restore(chest, "sea-things", dunechest.RestoreOptions(into=str(tmp_path / "first"), edition=1))
    assert facts(tmp_path / "first") == facts(library)
    dunechest.restore(chest, "sea-things", dunechest.RestoreOptions(into=str(tmp_path / "second")))
    second = {path.name: path.read_bytes() for path in (tmp_path / "second").rglob("*") if path.is_file()}
    assert second["plain.txt"] == b"changed on Windows" and second["written there.txt"] == b"new"
    assert ".DS_Store" not in second and len(second) == 12
