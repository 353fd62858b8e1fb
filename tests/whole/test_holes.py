"""Holes stay holes: in a chest, in its copy, and where it is restored; and room is counted by what is taken."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

import dunechest
from dunechest.transfer.holes import bytes_of, data_in, pieces_of
from tests.support import sealing
from tests.support.runs import Command
from tests.support.trees import bag_of, flip


def taken(folder: Path) -> int:
    """Bytes of the blocks that files take."""
    return sum(path.stat().st_blocks * 512 for path in folder.rglob("*") if path.is_file())


def same(one: Path, other: Path) -> bool:
    return all(path.read_bytes() == (other / path.name).read_bytes() for path in one.iterdir())


@pytest.fixture
def images(tmp_path: Path) -> Path:
    """Disk images: one with little in it, small and large, a new one without a block, one that ends in a hole."""
    library = tmp_path / "images"
    library.mkdir()
    for name, size, at in (
        ("large.img", 12 << 20, 7_000_001),
        ("small.img", 2 << 20, 1 << 20),
        ("tail.img", 3 << 20, 0),
    ):
        with (library / name).open("wb") as file:
            file.seek(at)
            file.write(b"boot" * 1024)
            file.truncate(size)
    with (library / "new.img").open("wb") as file:
        file.truncate(6 << 20)
    if taken(library) > 1 << 20:
        pytest.skip("no file can have holes here")
    return library


def test_holes_stay_holes(images: Path, chests: dict[str, dunechest.Chest], command: Command, tmp_path: Path) -> None:
    blue, sand = chests["blue"].folder, chests["sand"].folder
    assert command("look", images, "--json").json["libraries"][0]["placeholder_paths"] == []
    plan = command("archive", images, "--to", blue, "--plan", "--json").library
    assert plan["needed_bytes"] < 1 << 20
    assert command("archive", images, "--to", blue).status == 0
    assert taken(blue / "bags") < 1 << 20
    assert command("verify", blue).status == 0
    back = tmp_path / "back"
    plan = command("restore", blue, "images", "--into", back, "--plan", "--json").library
    assert plan["needed_bytes"] < 1 << 20
    assert command("restore", blue, "images", "--into", back, "--yes").status == 0
    assert taken(back) == taken(images)
    assert same(images, back)
    assert command("copy", "blue", "sand").status == 0
    assert taken(sand / "bags") < 1 << 20
    # A next edition, of a file that changed and of one that did not; and a damaged zero is still seen.
    with (images / "large.img").open("r+b") as file:
        file.seek(5 << 20)
        file.write(b"more")
    assert command("archive", images, "--to", blue).status == 0
    assert taken(blue / "bags") < 1 << 20
    assert len(dunechest.Chest.open(blue).bag("images").library.sparse) == 4  # type: ignore[union-attr]
    flip(blue / "bags/images/data/library/new.img")
    assert command("verify", blue).status == 1


@pytest.mark.parametrize("data", [[0, 1 << 59], [5], [9, 1, 0, 1], [], [0, 1, 0, 1], [0, 0]])
def test_holes_that_are_not_told_truly_hold_nothing_up(
    images: Path, chest: dunechest.Chest, command: Command, tmp_path: Path, data: list[int]
) -> None:
    assert command("archive", images, "--to", chest.folder).status == 0

    def lie(record: dict[str, Any]) -> None:
        record["sparse"] = [{"stored": item["stored"], "data": data} for item in record["sparse"]]

    sealing.edit(bag_of(chest, "images"), lie)
    back = tmp_path / "back"
    assert command("restore", chest.folder, "images", "--into", back, "--yes").status == 0
    assert same(images, back)


@pytest.mark.mounted
def test_holes_by_way_of_a_drive_that_has_none(images: Path, mounted: Path, tmp_path: Path, command: Command) -> None:
    """They are recorded, and made again; a drive that cannot hold them says how much room they take there."""
    chest = dunechest.create_chest(mounted, "blue")
    ran = command("archive", images, "--to", chest.folder, "--json")
    assert ran.status == 0
    if taken(chest.folder / "bags") > 12 << 20:
        assert "holes" in {finding["code"] for finding in ran.library["findings"]}
    back = tmp_path / "back"
    assert command("restore", chest.folder, "images", "--into", back, "--yes").status == 0
    assert taken(back) == taken(images)
    assert same(images, back)


def test_what_a_record_says_of_holes_is_not_believed_of_bytes() -> None:
    view = memoryview(b"abc" + bytes(10) + b"def")
    for data in ((), (0, 3), (100, 5), (13, 3, 0, 3), (2, 1, 2, 500), (0,)):
        written = bytearray(16)
        for offset, piece in pieces_of(view, 0, data):
            written[offset : offset + len(piece)] = piece
        assert bytes(written) == bytes(view), data


def test_data_is_found_where_it_lies(tmp_path: Path) -> None:
    with (tmp_path / "file").open("wb+") as file:
        file.seek(1 << 20)
        file.write(b"x")
        file.truncate(3 << 20)
        file.flush()
        found = data_in(file.fileno(), 3 << 20)
    if found is None:
        pytest.skip("no file can have holes here")
    assert bytes_of(found, 4096) == 4096
    with (tmp_path / "full").open("wb+") as file:
        file.write(b"x" * 500_000)
        file.flush()
        assert data_in(file.fileno(), 500_000) is None
