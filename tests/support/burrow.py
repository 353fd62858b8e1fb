"""A library of a kind of its own, in which every thing that a look can find can be arranged."""

from __future__ import annotations

import os
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

KIND = """\
format = 1
name = "burrow"
title = "Burrow maps"
application = "Warren"
together = [["index.bur", "maps/"]]
databases = ["index.bur"]
sidecars = [".xmp"]

[places]
linux = ["{documents}/*"]

[[signs]]
path = "index.bur"
tables = ["map"]

[roles]
rebuildable = ["tiles/**"]
must-not-leave = ["bought/**"]

[in-use]
lock-marks = ["open.mark"]
processes = ["warren-of-the-tests"]
databases = ["index.bur"]

[[references]]
name = "maps"
from = "sqlite"
files = ["index.bur"]
table = "map"
column = "path"
base = "."

[[references]]
from = "m3u8"
files = ["walks/*.m3u8"]

[[parts]]
what = "walk"
from = "files"
paths = ["walks/*.m3u8"]
needs = ["index.bur"]

[[settings]]
file = "{configuration}/warren/settings.json"
key = "library"

[[elsewhere]]
what = "your own colours"
place = "{configuration}/warren-colours"
"""


def make(tmp: Path) -> Path:
    """Make the kind known to the computer of a test, and one library of it with nothing to complain of."""
    kinds = Path(os.environ["DUNECHEST_HOME"]) / "kinds"
    kinds.mkdir(parents=True, exist_ok=True)
    (kinds / "burrow.toml").write_text(KIND)
    library = tmp / "documents" / "burrow"
    for folder in ("maps", "walks"):
        (library / folder).mkdir(parents=True)
    for name in ("north", "south", "entrance"):
        (library / "maps" / f"{name}.map").write_bytes(name.encode() * 2000)
    (library / "maps" / "north.xmp").write_text("<x/>")
    (library / "walks" / "short.m3u8").write_text("#EXTM3U\n../maps/north.map\n")
    with closing(sqlite3.connect(library / "index.bur")) as index:
        index.execute("CREATE TABLE map (path TEXT)")
        index.executemany("INSERT INTO map VALUES (?)", [(f"maps/{n}.map",) for n in ("north", "south", "entrance")])
        index.commit()
    return library


def refer(library: Path, path: str | os.PathLike[str]) -> None:
    """Have the library refer to one more file."""
    with closing(sqlite3.connect(library / "index.bur")) as index:
        index.execute("INSERT INTO map VALUES (?)", (os.fspath(path),))
        index.commit()


def make_placeholder(path: Path) -> None:
    """Turn a file into a placeholder of the same size and time, with the mark that says so."""
    info = path.stat()
    path.unlink()
    leave_name(path, max(info.st_size, 8192))
    os.utime(path, ns=(info.st_atime_ns, info.st_mtime_ns))


def leave_name(path: Path, size: int) -> None:
    """Make a file without its bytes that is marked as such; the test is skipped where there are no such marks."""
    with path.open("wb") as file:
        file.truncate(size)
    try:
        os.setxattr(path, "user.DOSATTRIB", b"0x1020")
    except (OSError, AttributeError):
        pytest.skip("no file can be marked as a placeholder here")
    if path.stat().st_blocks:
        pytest.skip("no file without its bytes can be made here")
