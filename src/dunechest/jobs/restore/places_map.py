"""Folders of other machines, and what stands for them on this one."""

from __future__ import annotations

import os

import msgspec

from dunechest.errors import DuneChestError, UsageError
from dunechest.ledger.folder import state_folder
from dunechest.machine import written_paths
from dunechest.names import shown
from dunechest.transfer import safe
from dunechest.transfer.owner import hand_over, make_own

_FILE = "counterparts.json"


class Counterpart(msgspec.Struct, frozen=True):
    """A folder of another machine, and what stands for it here; of any machine if its id is empty."""

    old: str
    new: str
    machine: str = ""


def counterparts() -> tuple[tuple[str, str], ...]:
    """Return old folders and what was said to be their counterpart on this machine."""
    return tuple((known.old, known.new) for known in read_counterparts())


def read_counterparts() -> list[Counterpart]:
    """Return what is remembered; nothing where it cannot be read."""
    try:
        content = safe.read_bounded(state_folder() / _FILE, 1 << 20)
        return msgspec.json.decode(content, type=list[Counterpart])
    except (OSError, ValueError, msgspec.MsgspecError):
        return []


def remember_counterpart(old: str, new: str | os.PathLike[str], *, machine: str = "") -> None:
    """Remember which folder of this machine stands for one of another machine.

    Parameters
    ----------
    old : str
        The folder as it was called there: on a second drive, for example.
    new : path
        The folder here.
    machine : str
        Id of the other machine; any if empty.

    Raises
    ------
    UsageError
        If one of them is not a full path.
    DuneChestError
        If it cannot be written down.
    """
    wanted = Counterpart(*counterpart(old, new), machine)
    rest = [known for known in read_counterparts() if (known.old, known.machine) != (wanted.old, machine)]
    folder = state_folder()
    try:
        make_own(folder)
        safe.write_file(folder / _FILE, msgspec.json.format(msgspec.json.encode([*rest, wanted]), indent=2))
        hand_over(folder)
    except OSError as error:
        raise DuneChestError(f"{shown(str(folder / _FILE))} cannot be written: {error.strerror}.") from error


def counterpart(old: str, new: str | os.PathLike[str]) -> tuple[str, str]:
    """Return a pair of folders as a choice has it: one of another machine, and what stands for it here.

    Raises
    ------
    UsageError
        If the first is not a full path.
    """
    before = written_paths.read(old, False)
    if before is None or not before.full:
        raise UsageError(f"{shown(old)!r} is not the full path of a folder on the other machine.")
    return written_paths.normal(before.path), os.path.abspath(os.path.expanduser(os.fspath(new)))
