"""A computer that takes no long paths: it is said before anything is written, with what to do."""

from __future__ import annotations

from pathlib import Path

import pytest

import dunechest
from tests.support.runs import Command


@pytest.fixture
def deep(library: Path) -> Path:
    folder = library / ("é" * 20) / ("n" * 80)
    folder.mkdir(parents=True)
    (folder / "leaf.txt").write_text("leaf")
    return library


def test_an_archive_a_copy_and_a_restore_say_so_beforehand(
    deep: Path, chest: dunechest.Chest, tmp_path: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    other = tmp_path / "other"
    other.mkdir()
    sand = dunechest.create_chest(other, "sand")
    room = len(str(chest.bag_folder("shed"))) + 60
    with monkeypatch.context() as short:
        short.setattr("dunechest.jobs.study.path_length.longest_here", lambda: room)
        ran = command("archive", deep, "--to", chest.folder)
        assert (ran.status, "path-length" in ran.err, "LongPathsEnabled" in ran.err) == (3, True, True), ran.err
        assert not chest.bags()
    assert dunechest.archive(deep, chest)[0].state == "archived"
    with monkeypatch.context() as short:
        short.setattr("dunechest.jobs.study.path_length.longest_here", lambda: room)
        ran = command("copy", chest.folder, sand.folder)
        assert ran.status == 3 and "path-length" in ran.err + ran.out and not sand.bags()
        ran = command("restore", chest.folder, "shed", "--into", tmp_path / "back")
        assert ran.status == 3 and "path-length" in ran.err and not (tmp_path / "back").exists()
        short.setattr("dunechest.jobs.study.path_length.longest_here", lambda: 32_000)
        assert command("restore", chest.folder, "shed", "--into", tmp_path / "back").status == 0
