"""A drive that stumbles over one read, at every read of a job in turn: nothing is lost, and nothing is told wrong afterwards."""

from __future__ import annotations

import errno
import os
import random
import shutil
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

import dunechest
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.records import FORMAT
from tests.support.trees import facts

pytestmark = pytest.mark.skipif(sys.platform != "linux", reason="what a descriptor is open on is asked of /proc")


@contextmanager
def stumbling(folder: Path, at: int) -> Iterator[list[str]]:
    """Have the read of that number of a file below a folder fail once; yields what was read."""
    read, seen = os.read, []

    def failing(fd: int, count: int) -> bytes:
        place = os.readlink(f"/proc/self/fd/{fd}")
        if place.startswith(f"{folder}/"):
            seen.append(place)
            if len(seen) - 1 == at:
                raise OSError(errno.EIO, os.strerror(errno.EIO), place)
        return read(fd, count)

    os.read = failing
    try:
        yield seen
    finally:
        os.read = read


@pytest.fixture
def scene(tmp_path: Path) -> tuple[Path, Path, Path]:
    """A library with three editions in a chest, and a second chest that has the first of them."""
    library = tmp_path / "shed"
    library.mkdir()
    for name in ("blue", "sand"):
        (tmp_path / name).mkdir()
        dunechest.create_chest(tmp_path / name, name)
    for number in range(3):
        (library / "rope.txt").write_text(f"rope {number}")
        (library / f"{number}.txt").write_text(f"number {number}")
        dunechest.archive(library, [tmp_path / "blue", *([tmp_path / "sand"] if not number else [])])
    (library / "rope.txt").write_text("the fourth rope")
    return library, tmp_path / "blue", tmp_path / "sand"


def archive(library: Path, blue: Path, sand: Path) -> None:
    dunechest.archive(library, blue)


def drop(library: Path, blue: Path, sand: Path) -> None:
    dunechest.drop_editions(blue, "shed", "the last 2")


def copy(library: Path, blue: Path, sand: Path) -> None:
    dunechest.copy_chest(blue, sand)


@pytest.mark.parametrize("job", [archive, drop, copy])
def test_one_read_error_anywhere(
    job: Callable[[Path, Path, Path], None], scene: tuple[Path, Path, Path], tmp_path: Path
) -> None:
    library, blue, sand = scene
    before = tmp_path / "before"
    before.mkdir()
    for drive in (blue, sand):
        shutil.copytree(drive, before / drive.name)
    target = sand if job is copy else blue
    with stumbling(tmp_path, -1) as seen:
        job(library, blue, sand)
    wanted = state_of(target)
    assert len(seen) > 10
    for at in chosen(seen):
        for drive in (blue, sand):
            shutil.rmtree(drive)
            shutil.copytree(before / drive.name, drive)
        with stumbling(tmp_path, at):
            try:
                job(library, blue, sand)
            except (dunechest.DuneChestError, OSError):
                pass
        assert dunechest.verify(target).ok, seen[at]
        job(library, blue, sand)  # the drive is itself again
        assert state_of(target) == wanted, seen[at]
    assert dunechest.verify(target).ok


def chosen(seen: list[str]) -> list[int]:
    """Some of the reads, others with every file; all of them by hand, with DUNECHEST_SWEEP=all."""
    if os.environ.get("DUNECHEST_SWEEP") == "all":
        return list(range(len(seen)))
    last = {path.rpartition("/bags/")[2]: at for at, path in enumerate(seen)}
    always = [at for at, path in enumerate(seen) if path.endswith("bag-info.txt")]
    return sorted({*always, *random.Random(7).sample(sorted(last.values()), min(3, len(last)))})


def state_of(drive: Path) -> object:
    """What a bag holds, without what depends on the moment."""
    bag = drive / "dune-chest" / "bags" / "shed"
    own = BagRecords(bag)
    record = own.library()
    assert record.format == FORMAT
    assert set(own.told()) == set(own.numbers(record.edition))
    return facts(bag / "data", times=False), record.state, own.numbers(record.edition)
