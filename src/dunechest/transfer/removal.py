"""Delete what was listed of a folder, if it is still as it was listed, and nothing else."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Mapping
from pathlib import Path

from dunechest.paths import leads_elsewhere
from dunechest.transfer import disk
from dunechest.transfer.system_files import is_rebuildable, is_system_file

#: What a listing says instead of a number of bytes: of a folder, and of what holds no bytes (a link, a socket, a pipe).
FOLDER, EMPTY = -1, -2


def remove_listed(
    top: Path, listed: Mapping[str, tuple[int, int]], tell: Callable[[int], object] = lambda count: None
) -> list[str]:
    """Delete the files, links and folders of a listing that are still as they were listed.

    No link is followed and no other filesystem is entered. A folder goes only when it is empty.

    Parameters
    ----------
    top : Path
        The folder.
    listed : mapping
        Path below the folder, and for a file its bytes and time (ns); `FOLDER` or `EMPTY` stand in place of the bytes.
        The folder itself has an empty path.
    tell : callable
        Told the bytes of each file that was deleted.

    Returns
    -------
    list of str
        The paths of files and links that are there and were left: not listed, or changed since.

    Raises
    ------
    OSError
        If the system refuses.
    """
    device = os.lstat(top).st_dev
    left: list[str] = []
    folders: list[str] = []
    pending = [""]
    while pending:
        folder = pending.pop()
        folders.append(folder)
        place = os.path.join(top, folder) if folder else os.fspath(top)
        _open_up(place)
        with os.scandir(place) as entries:
            inner = sorted(entries, key=lambda entry: entry.name)
        for entry in inner:
            path = f"{folder}/{entry.name}" if folder else entry.name
            info = entry.stat(follow_symlinks=False)
            if stat.S_ISDIR(info.st_mode) and not leads_elsewhere(info):
                # Asked anew: an entry of a listing does not know its device on Windows.
                if os.lstat(entry.path).st_dev == device and not os.path.ismount(entry.path):
                    pending.append(path)
                else:
                    left.append(path)
            elif _as_listed(info, listed.get(path)):
                disk.remove(entry.path, missing_ok=True)
                tell(info.st_size)
            elif folder in listed and is_rebuildable(entry.name) and is_system_file(entry.path):
                disk.remove(entry.path, missing_ok=True)
            else:
                left.append(path)
    for folder in reversed(folders):
        place = os.path.join(top, folder) if folder else os.fspath(top)
        if folder in listed and not os.listdir(place):
            disk.remove_folder(place)
    return sorted(left)


def _as_listed(info: os.stat_result, known: tuple[int, int] | None) -> bool:
    if known is None:
        return False
    if (
        stat.S_ISLNK(info.st_mode)
        or leads_elsewhere(info)
        or stat.S_ISSOCK(info.st_mode)
        or stat.S_ISFIFO(info.st_mode)
    ):
        return known[0] == EMPTY
    return stat.S_ISREG(info.st_mode) and (info.st_size, info.st_mtime_ns) == known


def _open_up(folder: str) -> None:
    """Give a folder the rights that are needed to empty it."""
    mode = stat.S_IMODE(os.lstat(folder).st_mode)
    if mode & 0o700 != 0o700:
        os.chmod(folder, mode | 0o700)
