"""Run by the administrator for somebody else: what is made in their home is theirs."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable
from pathlib import Path

from dunechest.paths import is_folder, is_link
from dunechest.transfer.below import folders_in, make_folders


def owner_above(place: Path) -> tuple[int, int] | None:
    """Return user and group that own the closest folder above a place that exists, if a change of owner is called for.

    Where that folder is the administrator's own, those of the person who asked the administrator. None where there is nobody
    like that, this process is not the administrator's, or the system has no such owners.
    """
    if sys.platform == "win32" or os.geteuid() != 0:
        return None
    folder = place.parent
    while not folder.is_dir() and folder != folder.parent:
        folder = folder.parent
    info = folder.stat()
    if info.st_uid == 0:
        return _who_asked()
    return info.st_uid, info.st_gid


def _who_asked() -> tuple[int, int] | None:
    """Return user and group of the person who runs this as administrator (sudo(8)); None if nobody is behind that."""
    try:
        user, group = int(os.environ["SUDO_UID"]), int(os.environ["SUDO_GID"])
    except (KeyError, ValueError):
        return None
    return (user, group) if user > 0 and group >= 0 else None


def give(owner: tuple[int, int] | None, places: Iterable[Path]) -> None:
    """Give files, links and folders, each with all in it, to an owner; nothing happens if there is none to give to."""
    if owner is None or sys.platform == "win32":
        return
    for place in places:
        if not os.path.lexists(place):
            continue
        os.lchown(place, *owner)
        if is_link(place) or not place.is_dir():
            continue
        for folder in folders_in(place):
            os.lchown(folder, *owner)
            with os.scandir(folder) as entries:
                for entry in entries:
                    if not is_folder(entry):
                        os.lchown(entry.path, *owner)


def hand_over(folder: Path) -> None:
    """Give all in a folder of records to the owner of that folder."""
    if sys.platform == "win32" or os.geteuid() != 0:
        return
    try:
        info = folder.stat()
        if info.st_uid != 0:
            give((info.st_uid, info.st_gid), [folder])
    except OSError:
        return


def make_own(folder: Path, mode: int = 0o777) -> None:
    """Make a folder of records and those above it; they belong to whom the closest one that was there belongs.

    Raises
    ------
    OSError
        If the system refuses.
    """
    owner = owner_above(folder)
    give(owner, make_folders(folder, mode)[:1])
