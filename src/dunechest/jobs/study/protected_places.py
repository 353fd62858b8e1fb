"""Folders that no restore renames or replaces: the home, standard folders, drives, chests, this program's own records."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from pathlib import Path

from dunechest.bag.bag import is_bag
from dunechest.chest.find_chest import find_chest
from dunechest.errors import DuneChestError
from dunechest.ledger.folder import state_folder
from dunechest.machine.folders import own_home, standard_folders
from dunechest.machine.mounts import mounts


def why_protected(place: Path, home: Path) -> str:
    """Say why a folder must keep its name and its place; empty if it may be set aside.

    Parameters
    ----------
    place : Path
        The folder.
    home : Path
        The home that is restored into; one's own counts as well.
    """
    real = Path(os.path.realpath(place))
    if real == Path(real.anchor):
        return "it is the top of the whole system"
    for own in {Path(os.path.realpath(home)), Path(os.path.realpath(own_home()))}:
        if real == own:
            return "it is the home folder"
        if own.is_relative_to(real):
            return "the home folder is in it"
        for name, folder in standard_folders(own).items():
            if name != "home" and Path(os.path.realpath(folder)).is_relative_to(real):
                return f"it is, or holds, the folder for {name}"
    if Path(os.path.realpath(state_folder())).is_relative_to(real):
        return "Dune Chest keeps its own records in it"
    if mount := next(_mounts_in(real), None):
        return f"a drive is mounted in {mount}"
    for chest in _known_chests():
        if chest.is_relative_to(real) and chest.exists():
            return f"the chest {chest} is in it"
    return why_archive(real)


def why_archive(place: Path) -> str:
    """Say why a folder is an archive, lies in one or is the top of a chest's drive; empty if it is not."""
    real = Path(os.path.realpath(place))
    for folder in (real, *real.parents):
        if is_bag(folder):
            return "it is, or lies in, an archive (a bag)"
        if folder.name == "dune-chest" and find_chest(folder) is not None:
            return "it is, or lies in, a chest"
    if find_chest(real) is not None:
        return "there is a chest in it"
    return ""


def _known_chests() -> Iterable[Path]:
    from dunechest.ledger.ledger import open_ledger

    try:
        with open_ledger() as ledger:
            return [Path(os.path.realpath(chest.folder)) for chest in ledger.chests()]
    except DuneChestError:
        return ()


def _mounts_in(place: Path) -> Iterator[Path]:
    if os.path.ismount(place):
        yield place
    for part in mounts():
        mount = Path(part.mountpoint)
        if mount != place and mount.is_relative_to(place):
            yield mount
