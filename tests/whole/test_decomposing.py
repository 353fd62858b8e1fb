"""A drive that keeps names in another form and does not tell cases apart, as a Mac's: as a chest's, and as a library's."""

from __future__ import annotations

import os
import subprocess
import sys
import time
import unicodedata
from collections.abc import Iterator
from pathlib import Path

import pytest

import dunechest
from tests.support.runs import Command

NAMES = ("Café/Crème brûlée.txt", "Café/Ångström.txt", "plain/rope.txt", "한국/파일.txt", "é.txt", "grüße/ẞ.txt")


def nfc(path: str) -> str:
    return unicodedata.normalize("NFC", path)


@pytest.fixture
def mac_drive(tmp_path: Path) -> Iterator[Path]:
    """A mounted drive that decomposes names."""
    pytest.importorskip("mfusepy", reason="mfusepy is not installed")
    if sys.platform != "linux" or not os.access("/dev/fuse", os.R_OK | os.W_OK) or os.geteuid() != 0:
        pytest.skip("mounting a filesystem in a process needs root and /dev/fuse")
    below, place = tmp_path / "below", tmp_path / "mac drive"
    below.mkdir()
    place.mkdir()
    served = subprocess.Popen(
        [sys.executable, "-m", "tests.support.decomposing", str(below), str(place)],
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    until = time.monotonic() + 20
    while not os.path.ismount(place) and served.poll() is None and time.monotonic() < until:
        time.sleep(0.02)
    if not os.path.ismount(place):
        served.kill()
        served.wait()
        pytest.skip("such a filesystem cannot be mounted here")
    try:
        yield place
    finally:
        subprocess.run(["umount", "-l", str(place)], check=False)
        served.wait(timeout=20)


def make_library(place: Path) -> None:
    for name in NAMES:
        (place / name).parent.mkdir(parents=True, exist_ok=True)
        (place / name).write_text(f"content of {name}")


def contents(place: Path) -> dict[str, str]:
    return {nfc(os.path.relpath(path, place)): path.read_text() for path in place.rglob("*") if path.is_file()}


def test_a_chest_on_it(tmp_path: Path, mac_drive: Path, command: Command) -> None:
    library = tmp_path / "Bücher"
    library.mkdir()
    make_library(library)
    chest = dunechest.create_chest(mac_drive, "mac")
    assert dunechest.archive(library, chest)[0].state == "archived"
    result = dunechest.verify(chest)
    assert result.ok, [state for check in result.libraries for state in check.problems]
    assert dunechest.archive(library, chest)[0].state == "unchanged"
    (library / NAMES[0]).write_text("changed")
    (library / NAMES[1]).unlink()
    assert dunechest.archive(library, chest)[0].edition == 2
    payload = chest.bags()[0].folder / "data" / "library"
    (payload / "plain").rename(payload / "Plain")  # the drive finds it by either name
    assert dunechest.verify(chest).ok and dunechest.mend(chest, helpers=[])[0].mended_files == ()
    assert dunechest.drill(chest)[0].passed
    for edition in (1, 2):
        back = tmp_path / f"back {edition}"
        done = dunechest.restore(
            chest, chest.bags()[0].name, dunechest.RestoreOptions(into=str(back), edition=edition)
        )
        assert done.ok and len(contents(back)) == (6 if edition == 1 else 5)
    assert contents(tmp_path / "back 2") == contents(library)
    (tmp_path / "other").mkdir()
    other = dunechest.create_chest(tmp_path / "other", "other")
    assert all(copied.ok for copied in dunechest.copy_chest(chest, other)) and dunechest.verify(other).ok
    assert all(copied.ok for copied in dunechest.copy_chest(other, chest)) and dunechest.verify(chest).ok


def test_a_library_comes_back_to_it(
    tmp_path: Path, mac_drive: Path, chest: dunechest.Chest, command: Command
) -> None:
    library = tmp_path / "Bücher"
    library.mkdir()
    make_library(library)
    dunechest.archive(library, chest)
    name = chest.bags()[0].name
    place = mac_drive / "Bücher"
    done = dunechest.restore(chest, name, dunechest.RestoreOptions(into=str(place)))
    assert done.ok, done
    assert contents(place) == contents(library)
    merged = dunechest.restore(chest, name, dunechest.RestoreOptions(into=str(place), if_exists="merge"))
    assert merged.ok and contents(place) == contents(library)
    ran = command("compare", place, f"{chest.folder.parent}/{name}")
    assert ran.status == 0, ran.out
    dunechest.undo()
    assert not place.exists() or not contents(place)


def test_a_library_on_it_and_its_spelling(
    tmp_path: Path, mac_drive: Path, chest: dunechest.Chest, command: Command
) -> None:
    library = mac_drive / "Pictures" / "Dünen"
    library.mkdir(parents=True)
    make_library(library)
    assert dunechest.archive(mac_drive / "pictures" / "DÜNEN", chest)[0].state == "archived"
    assert dunechest.archive(library, chest)[0].state == "unchanged"
    assert len(chest.bags()) == 1
    (library / NAMES[0]).write_text("changed")
    assert dunechest.archive(mac_drive / "PICTURES" / "Dünen", chest)[0].edition == 2
    assert dunechest.verify(chest).ok
    back = tmp_path / "back"
    dunechest.restore(chest, chest.bags()[0].name, dunechest.RestoreOptions(into=str(back)))
    assert contents(back) == contents(library)
