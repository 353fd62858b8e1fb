"""Folders of other computers, and what stands for them on this one."""

from __future__ import annotations

import os
from collections.abc import Iterable

import msgspec

from dunechest.errors import DuneChestError, UsageError
from dunechest.ledger.folder import state_folder
from dunechest.machine import written_paths
from dunechest.model.restore import MappedPlace
from dunechest.names import meant, shown
from dunechest.transfer import safe
from dunechest.transfer.owner import hand_over, make_own

_FILE = "places.json"


def mapped_places() -> list[MappedPlace]:
    """Return the folders that `restore` remembers; none if they cannot be read."""
    try:
        content = safe.read_bounded(state_folder() / _FILE, 1 << 20)
        return msgspec.json.decode(content, type=list[MappedPlace])
    except (OSError, ValueError, msgspec.MsgspecError):
        return []


def remember_place(old: str, new: str | os.PathLike[str], *, computer: str = "") -> None:
    """Remember which folder of this computer stands for one of another computer.

    Parameters
    ----------
    old : str
        The folder as it was called there: on a second drive, for example.
    new : path
        The folder here.
    computer : str
        Id of the other computer; any if empty.

    Raises
    ------
    UsageError
        If one of them is not a full path.
    DuneChestError
        If it cannot be written down.
    """
    wanted = MappedPlace(*place_pair(old, new), computer)
    _write([*(known for known in mapped_places() if (known.old, known.computer) != (wanted.old, computer)), wanted])


def remember_places(pairs: Iterable[tuple[str, str]]) -> None:
    """Remember several pairs of folders; see `remember_place`."""
    for old, new in pairs:
        remember_place(old, new)


def forget_place(old: str) -> tuple[MappedPlace, ...]:
    """Stop remembering what stands for a folder of another computer. No file is moved or deleted.

    Parameters
    ----------
    old : str
        The folder as it is called there, or the one here that stands for it.

    Returns
    -------
    tuple of MappedPlace
        What was remembered.

    Raises
    ------
    UsageError
        If nothing is remembered of such a folder.
    DuneChestError
        If it cannot be written down.
    """
    known = mapped_places()
    written = written_paths.read(old, False)
    names = {old, written_paths.normal(written.path) if written is not None else old}
    here = os.path.abspath(os.path.expanduser(old))
    gone = tuple(place for place in known if place.old in names or place.new == here)
    if not gone:
        hint = meant(old, (name for place in known for name in (place.old, place.new)))
        raise UsageError(f"No folder {shown(old)} is remembered.{hint} See: dunechest places list")
    _write([place for place in known if place not in gone])
    return gone


def _write(places: Iterable[MappedPlace]) -> None:
    folder = state_folder()
    try:
        make_own(folder)
        safe.write_file(folder / _FILE, msgspec.json.format(msgspec.json.encode(list(places)), indent=2))
        hand_over(folder)
    except OSError as error:
        raise DuneChestError(f"{shown(str(folder / _FILE))} cannot be written: {error.strerror}.") from error


def place_pair(old: str, new: str | os.PathLike[str]) -> tuple[str, str]:
    """Return a pair of folders as `RestoreOptions` has it: one of another computer, and what stands for it here.

    Raises
    ------
    UsageError
        If the first is not a full path.
    """
    before = written_paths.read(old, False)
    if before is None or not before.full:
        raise UsageError(f"{shown(old)!r} is not the full path of a folder on the other computer.")
    return written_paths.normal(before.path), os.path.abspath(os.path.expanduser(os.fspath(new)))
