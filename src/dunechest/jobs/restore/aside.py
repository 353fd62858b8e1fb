"""Names for what is set aside, and what keeps a folder from being empty."""

from __future__ import annotations

import os
from collections.abc import Collection
from pathlib import Path

from dunechest.library.formats.sqlite import COMPANIONS
from dunechest.transfer.system_files import is_system_file, is_system_folder


def aside_name(place: Path, day: str, taken: Collection[Path] = ()) -> Path:
    """Return the name under which something is set aside: with the day, and a number if that is taken."""
    stem, ending = (place.stem, place.suffix) if place.is_file() else (place.name, "")
    for count in range(1, 10_000):
        mark = day if count == 1 else f"{day} {count}"
        other = place.with_name(f"{stem[:180]} (set aside {mark}){ending}")
        if not os.path.lexists(other) and other not in taken:
            return other
    raise AssertionError("ten thousand items were set aside in one day")


def nothing_in(place: Path, working: str = "") -> bool:
    """Whether a folder is empty, but for what is worked in and what a filesystem itself puts in its top folder."""
    own = {working} | ({"lost+found"} if os.path.ismount(place) else set())
    top = os.path.ismount(place)  # where a system keeps folders of a drive, too
    return all(
        name in own or is_system_file(place / name) or (top and is_system_folder(name)) for name in os.listdir(place)
    )


def companions_here(path: Path) -> list[Path]:
    """Return what SQLite keeps beside a database that is about to be replaced: it must not speak for the new one."""
    return [Path(str(path) + ending) for ending in COMPANIONS if os.path.lexists(str(path) + ending)]
