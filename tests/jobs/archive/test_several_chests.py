"""One library to several chests at once: it is read once, all have the same state, and one drive does not hinder another."""

from __future__ import annotations

import errno
import os
import sqlite3
from collections.abc import Iterator
from contextlib import closing, nullcontext
from pathlib import Path

import pytest

import dunechest
from dunechest import clock
from dunechest.errors import CutOffError
from dunechest.jobs.archive.several import archive_several, plan_several
from dunechest.jobs.known.named import library_at
from dunechest.model.archive import ArchiveOptions
from dunechest.progress import silent
from dunechest.transfer import disk
from tests.support import burrow
from tests.support.burrow import refer
from tests.support.harms import tree
from tests.support.runs import Command
from tests.support.trees import bag_of, facts, flip


@pytest.fixture
def pair(
    tmp_path: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> Iterator[tuple[dunechest.Chest, ...]]:
    (tmp_path / "sand").mkdir()
    monkeypatch.setenv("DUNECHEST_DRIVES", os.pathsep.join([str(chest.folder.parent), str(tmp_path / "sand")]))
    yield chest, dunechest.create_chest(tmp_path / "sand", "sand")


def payload(chest: dunechest.Chest, name: str) -> dict[str, object]:
    return tree(bag_of(chest, name) / "data")


def steps(library: Path, pair: tuple[dunechest.Chest, ...]) -> Iterator[dunechest.model.ArchiveResult]:
    several = plan_several([library_at(library)], pair, ArchiveOptions())
    for _, result in archive_several(several, lambda: nullcontext(silent), []):
        yield result


def test_the_second_chest_gets_what_the_first_one_has(tmp_path: Path, pair: tuple[dunechest.Chest, ...]) -> None:
    library = burrow.make(tmp_path)
    outside = tmp_path / "home" / "Pictures"
    outside.mkdir()
    (outside / "dune.map").write_bytes(b"outside" * 100)
    refer(library, outside / "dune.map")
    run = steps(library, pair)
    assert next(run).ok
    # Whoever would read the library again would see this: the same size and time, and other bytes.
    for place in (library / "maps" / "north.map", outside / "dune.map"):
        info = place.stat()
        place.write_bytes(b"?" * info.st_size)
        os.utime(place, ns=(info.st_atime_ns, info.st_mtime_ns))
    with closing(sqlite3.connect(library / "index.bur")) as index:
        index.execute("CREATE TABLE later (x)")
        index.commit()
    second = next(run)
    assert second.ok
    assert payload(pair[0], "burrow") == payload(pair[1], "burrow")
    assert all(dunechest.verify(held).ok for held in pair)


def test_editions_that_differ_before_are_alike_afterwards(
    library: Path, pair: tuple[dunechest.Chest, ...], command: Command
) -> None:
    assert command("archive", library, "--to", "blue").status == 0
    (library / "rope.txt").write_text("thirty metres\n")
    (library / "rafters" / "oar.txt").rename(library / "oar.txt")
    ran = command("archive", library, "--to", "blue", "--to", "sand", "--json")
    assert ran.status == 0
    assert [(item["chest_label"], item["edition"], item["ok"]) for item in ran.json["libraries"]] == [
        ("blue", 2, True),
        ("sand", 1, True),
    ]
    assert payload(pair[0], "shed") == payload(pair[1], "shed")
    out = command("archive", library, "--to", "sand", "--to", "blue").out
    assert out.count("Unchanged: shed is in") == 2
    assert command("archive", library, "--to", "blue", "--to", pair[0].folder).status == 2
    assert command("status").status == 0, "two good copies"


def test_what_the_first_chest_lost_is_read_from_the_library(library: Path, pair: tuple[dunechest.Chest, ...]) -> None:
    before = facts(library)
    run = steps(library, pair)
    next(run)
    flip(bag_of(pair[0], "shed") / "data" / "library" / "rope.txt")
    (bag_of(pair[0], "shed") / "data" / "library" / "rafters" / "oar.txt").unlink()
    assert next(run).ok
    assert facts(library) == before
    assert dunechest.verify(pair[1]).ok
    assert not dunechest.verify(pair[0]).ok


def test_a_drive_that_goes_away_does_not_hinder_the_other(
    library: Path, pair: tuple[dunechest.Chest, ...], monkeypatch: pytest.MonkeyPatch, command: Command
) -> None:
    def gone(operation: str, *what: object) -> None:
        if (
            operation == "create"
            and str(pair[0].folder) in os.fsdecode(what[0])
            and "payload" in os.fsdecode(what[0])
        ):  # type: ignore[arg-type]
            raise OSError(errno.EIO, os.strerror(errno.EIO))

    monkeypatch.setattr(disk, "gate", gone)
    with pytest.raises(CutOffError, match="interrupted"):
        dunechest.archive(library, pair)
    monkeypatch.setattr(disk, "gate", None)
    assert dunechest.verify(pair[1]).ok
    assert (bag_of(pair[1], "shed") / "data").is_dir()
    assert command("archive", library, "--to", "blue", "--to", "sand").status == 0
    assert payload(pair[0], "shed") == payload(pair[1], "shed")


def test_two_chests_of_one_run_have_the_same_edition(
    library: Path, pair: tuple[dunechest.Chest, ...], monkeypatch: pytest.MonkeyPatch
) -> None:
    moments = iter(range(1_800_000_000, 1_900_000_000, 7))
    monkeypatch.setattr(clock, "now", lambda: float(next(moments)))
    assert all(result.ok for result in steps(library, pair))
    (library / "rope.txt").write_text("thirty metres\n")
    dunechest.archive(library, pair[0])
    (copied,) = dunechest.copy_chest(*pair)
    assert (copied.ok, copied.editions) == (True, (2,)), "what came later to one of them is copied to the other"


def test_an_older_edition_does_not_date_a_new_one(
    library: Path, pair: tuple[dunechest.Chest, ...], monkeypatch: pytest.MonkeyPatch
) -> None:
    dunechest.archive(library, pair[0])
    later = clock.now() + 200 * 86_400
    monkeypatch.setattr(clock, "now", lambda: later)
    first, second = steps(library, pair)
    assert (first.state, second.ok) == ("unchanged", True)
    record = pair[1].bag("shed").library
    assert record is not None and record.archived[:10] > pair[0].bag("shed").library.archived[:10]  # type: ignore[union-attr]
