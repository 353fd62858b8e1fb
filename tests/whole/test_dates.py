"""Any date that a filesystem can hold comes back: long before 1970, and long after 64 bits of nanoseconds end."""

from __future__ import annotations

import datetime
import os
import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

import dunechest
from tests.support.runs import Command
from tests.support.trees import facts

_DAYS = {
    year: (datetime.date(year, 5, 5) - datetime.date(1970, 1, 1)).days
    for year in (1903, 2117, 2262, 2300, 2440, 9990)
}


@pytest.fixture
def folder() -> Iterator[Path]:
    """A folder in memory, where it can be had: that filesystem holds any date."""
    place = Path(tempfile.mkdtemp(dir="/dev/shm" if os.path.isdir("/dev/shm") else None))
    yield place
    shutil.rmtree(place)


@pytest.mark.parametrize("many", [False, True])
def test_any_date_comes_back(folder: Path, chest: dunechest.Chest, command: Command, *, many: bool) -> None:
    """With many files, helper processes are told of the dates, too."""
    library = folder / "library"
    library.mkdir()
    made = []
    for number in range(1200 if many else 6):
        path = library / f"{number:04}"
        path.write_text(f"number {number}")
        made.append(path)
    for path, year in zip(made, list(_DAYS) * (len(made) // len(_DAYS)), strict=False):
        when = _DAYS[year] * 86_400_000_000_000 + 123_000_000
        os.utime(path, ns=(when, when))
        if path.stat().st_mtime_ns != when:
            os.utime(path, ns=(0, 0))  # this filesystem cannot hold it
    before = facts(library, times=True)
    del before[b"."]
    assert command("archive", library, "--to", chest.folder).status == 0
    assert "Unchanged" in command("archive", library, "--to", chest.folder).out
    assert command("verify", chest.folder).status == 0
    (library / "0001").write_text("changed")
    assert command("archive", library, "--to", chest.folder).status == 0
    back = folder / "back"
    assert command("restore", chest.folder, "library", "--edition", "1", "--into", back, "--yes").status == 0
    after = facts(back, times=True)
    del after[b"."]
    assert after == before
    assert command("mend", chest.folder, "--from", library, "--plan").status == 0
