"""Go down from a trusted folder without following a link: what a stranger names must not lead elsewhere."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Callable
from pathlib import Path

from dunechest.paths import is_folder, leads_elsewhere


def link_between(top: Path, place: Path) -> Path | None:
    """Return the first link on the way from a folder to a place below it, or None; the place itself counts too.

    Parameters
    ----------
    top : Path
        The folder that is trusted; links above it are the person's own.
    place : Path
        What lies below it; need not exist.

    Raises
    ------
    ValueError
        If the place does not lie below the folder.
    """
    folder = top
    for piece in place.relative_to(top).parts:
        folder = folder / piece
        try:
            info = os.lstat(folder)
        except (FileNotFoundError, NotADirectoryError):
            return None
        if stat.S_ISLNK(info.st_mode) or leads_elsewhere(info):
            return folder
    return None


def make_folders(folder: Path, mode: int = 0o777) -> list[Path]:
    """Make a folder and those above it, however deep; return those that were made, the upper ones first.

    Raises
    ------
    OSError
        If the system refuses, or something that is no folder is in the way.
    """
    missing = []
    above = folder
    while True:
        try:
            if not stat.S_ISDIR(os.stat(above).st_mode):
                raise NotADirectoryError(errno.ENOTDIR, os.strerror(errno.ENOTDIR), str(above))
            break
        except FileNotFoundError:
            missing.append(above)
            above = above.parent
    made = []
    for item in reversed(missing):
        try:
            os.mkdir(item, mode)
            made.append(item)
        except FileExistsError:
            if not item.is_dir():
                raise
    return made


def folders_in(top: str | os.PathLike[str], before: Callable[[str], object] | None = None) -> list[str]:
    """Return a folder and all below it, each before those in it, however deep; links are not followed.

    What cannot be listed is returned and not entered. `before` is called with each folder before it is listed.
    """
    found = []
    pending = [os.fspath(top)]
    while pending:
        folder = pending.pop()
        found.append(folder)
        try:
            if before is not None:
                before(folder)
            with os.scandir(folder) as entries:
                pending += [entry.path for entry in entries if is_folder(entry)]
        except OSError:
            continue
    return found
