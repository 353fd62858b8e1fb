"""Modes and times of folders, files and links."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from pathlib import Path

from dunechest.model.restore import NO_MODE, RestoreFile
from dunechest.transfer.below import make_folders


def set_time_and_mode(folder: Path, mtime_ns: int, mode: int) -> None:
    """Give a folder its mode and time, deepest first, since filling a folder changes its time."""
    try:
        folder.chmod(mode & 0o1777)
        os.utime(folder, ns=(mtime_ns, mtime_ns))
    except OSError:
        pass  # a filesystem without modes or with coarser times


def make_link(place: Path, target: str, mtime_ns: int) -> None:
    """Make a symbolic link with its time."""
    make_folders(place.parent)
    os.symlink(target, place)
    if os.utime in os.supports_follow_symlinks:
        os.utime(place, ns=(mtime_ns, mtime_ns), follow_symlinks=False)


def dress_unreadable(files: Iterable[RestoreFile], at: Callable[[str], Path]) -> None:
    """Give files their modes that even their owner may not read with: they had to be read back before."""
    for file in files:
        if file.mode != NO_MODE and not file.mode & 0o400:
            place = at(file.path)
            if os.path.lexists(place):
                os.chmod(place, file.mode & 0o777)
