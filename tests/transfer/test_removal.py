"""Only what was listed is deleted, if it is as it was listed; no link is followed."""

from __future__ import annotations

import os
import shutil
import socket
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dunechest.transfer.removal import EMPTY, FOLDER, remove_listed
from tests.support.trees import facts

NAMES = st.sampled_from(["a", "b", "c d", "é", ".hidden", "x.txt"])
PATHS = st.lists(NAMES, min_size=1, max_size=3).map("/".join)


def _make(top: Path, paths: dict[str, bytes]) -> dict[str, bytes]:
    """Make files, where none is in the way of another; return those that were made."""
    made = {}
    for path, content in sorted(paths.items()):
        place = top / path
        if any(parent.is_file() for parent in place.parents if parent.is_relative_to(top)) or place.exists():
            continue
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(content)
        made[path] = content
    return made


def _listing(top: Path) -> dict[str, tuple[int, int]]:
    found: dict[str, tuple[int, int]] = {"": (FOLDER, 0)}
    for folder, inner, files in os.walk(top):
        for name in inner:
            path = Path(folder, name)
            found[path.relative_to(top).as_posix()] = (EMPTY if path.is_symlink() else FOLDER, 0)
        for name in files:
            path = Path(folder, name)
            info = path.lstat()
            plain = path.is_file() and not path.is_symlink()
            found[path.relative_to(top).as_posix()] = (info.st_size, info.st_mtime_ns) if plain else (EMPTY, 0)
    return found


@given(
    st.dictionaries(PATHS, st.binary(max_size=20), max_size=8),
    st.sets(st.integers(0, 7)),
    st.sets(st.integers(0, 7)),
    st.dictionaries(PATHS, st.binary(max_size=5), max_size=3),
)
def test_what_is_not_as_listed_stays(
    paths: dict[str, bytes], changed: set[int], unlisted: set[int], later: dict[str, bytes]
) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as name:
        top = Path(name) / "library"
        top.mkdir()
        made = _make(top, paths)
        listed = _listing(top)
        stays = {}
        for number, path in enumerate(sorted(made)):
            if number in changed:
                (top / path).write_bytes(made[path] + b"more")
                stays[path] = made[path] + b"more"
            elif number in unlisted:
                del listed[path]
                stays[path] = made[path]
        new = {path: content for path, content in _make(top, later).items() if path not in made}
        stays |= new
        told: list[int] = []
        left = remove_listed(top, listed, told.append)
        assert sorted(stays) == left
        if stays:
            there = {p.relative_to(top).as_posix(): p.read_bytes() for p in top.rglob("*") if p.is_file()}
            assert there == stays
        else:
            assert not top.exists()
        assert sum(told) == sum(len(content) for path, content in made.items() if path not in stays)


def test_links_sockets_and_folders_without_rights_go_and_what_links_lead_to_stays(tmp_path: Path) -> None:
    top, away = tmp_path / "library", tmp_path / "away"
    (top / "deep" / "er").mkdir(parents=True)
    away.mkdir()
    (away / "precious.txt").write_text("mine")
    (top / "deep" / "out").symlink_to(away)
    (top / "deep" / "er" / "file").symlink_to(away / "precious.txt")
    (top / "deep" / "er" / "gone").symlink_to("nowhere")
    os.mkfifo(top / "pipe")
    with socket.socket(socket.AF_UNIX) as own:
        try:
            own.bind(str(top / "s"))
        except OSError:
            pytest.skip("the path is too long for a socket")
    (top / "deep" / "plain").write_text("x")
    listed = _listing(top)
    (top / "deep" / "er").chmod(0o500)
    (top / "deep").chmod(0o555)
    before = facts(away)
    assert remove_listed(top, listed) == []
    assert not top.exists() and facts(away) == before


def test_what_became_something_else_stays(tmp_path: Path) -> None:
    top = tmp_path / "library"
    top.mkdir()
    for name in ("file", "link", "folder"):
        (top / name).write_text(name)
    listed = _listing(top)
    (top / "file").unlink()
    (top / "file").symlink_to("/etc/hostname")
    (top / "folder").unlink()
    (top / "folder").mkdir()
    (top / "folder" / "inner").write_text("new")
    assert remove_listed(top, listed) == ["file", "folder/inner"]
    assert (top / "file").is_symlink() and (top / "folder" / "inner").is_file() and not (top / "link").exists()


def test_a_listing_of_some_files_leaves_their_folder(tmp_path: Path) -> None:
    (tmp_path / "a").write_text("a")
    (tmp_path / "b").write_text("b")
    info = (tmp_path / "a").stat()
    assert remove_listed(tmp_path, {"a": (info.st_size, info.st_mtime_ns)}) == ["b"]
    assert [path.name for path in tmp_path.iterdir() if path.is_file()] == ["b"]
    shutil.rmtree(tmp_path)
