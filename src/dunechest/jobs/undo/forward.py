"""Finish a deletion that was begun: from that step on there is no way back, only forward."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from dunechest.errors import CutOffError
from dunechest.ledger import past_changes
from dunechest.ledger.past_changes import PastChange, Removing
from dunechest.names import from_wire, shown
from dunechest.transfer import disk
from dunechest.transfer.below import make_folders
from dunechest.transfer.removal import remove_listed

#: How the name of a folder ends that is being deleted; nothing else is ever deleted as a whole.
MARK = " (being deleted)"


def begun_removal(past_change: PastChange) -> bool:
    """Whether a change has begun to delete, so that it can only be finished."""
    return any(isinstance(step, Removing) for step in past_change.steps)


def finish_removal(
    number: int, step: Removing, tell: Callable[[int], object] = lambda count: None
) -> tuple[str, ...]:
    """Delete what a step says, or what is left of it; return what stays because it is not as it was listed.

    Parameters
    ----------
    number : int
        The number of the change that the step belongs to.
    step : Removing
        What is deleted.
    tell : callable
        Told the bytes of each file that was deleted.

    Raises
    ------
    CutOffError
        If the list of what may be deleted cannot be read: then nothing is deleted.
    OSError
        If the system refuses.
    """
    folder = Path(from_wire(step.path))
    if not os.path.lexists(folder):
        return ()
    if step.trash:
        _to_trash(folder)
        return ()
    if not step.rest and not folder.name.endswith(MARK):
        raise CutOffError(
            f"{shown(str(folder))} was to be deleted, and does not have the name that such a folder gets. Nothing in it was "
            "deleted. Look through it, and delete it yourself if you do not need it."
        )
    try:
        lines = past_changes.listed_in(number, step.listing)
    except (OSError, ValueError) as error:
        raise CutOffError(
            f"The list of what may be deleted in {shown(str(folder))} cannot be read, so nothing in it was deleted: "
            f"{shown(str(error))}. Look through that folder, and delete it yourself if you do not need it."
        ) from error
    listed = {path: (line.size, line.mtime_ns) for path, line in lines.items()}
    left = remove_listed(folder, listed, tell)
    if step.rest:
        return tuple(path for path in left if path in listed)
    stays = tuple(left)
    if step.home and left:
        stays = tuple(str(path) for path in _back(folder, Path(from_wire(step.home)), left))
        remove_listed(folder, dict.fromkeys(("", *_folders(folder)), (-1, 0)))
    disk.flush_folder(folder.parent)
    return stays


def _folders(folder: Path) -> list[str]:
    return [os.path.relpath(place, folder) for place, _, _ in os.walk(folder) if Path(place) != folder]


def _back(folder: Path, home: Path, left: list[str]) -> list[Path]:
    """Put back what was changed meanwhile; what is in its place there by now keeps it."""
    found = []
    for path in left:
        target = home / path
        if os.path.lexists(target):
            found.append(folder / path)
            continue
        make_folders(target.parent)
        disk.rename(folder / path, target)
        found.append(target)
    return found


def _to_trash(folder: Path) -> None:
    from send2trash import send2trash

    disk.announce("trash", folder)
    send2trash(str(folder))
