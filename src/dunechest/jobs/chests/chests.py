"""Make a chest, make its records again, show what it holds."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from dunechest.bag.bag import is_bag
from dunechest.chest.chest import Chest
from dunechest.chest.find_chest import find_chest
from dunechest.chest.layout import CHEST, TAG_MANIFEST, bag_folder
from dunechest.errors import UsageError
from dunechest.jobs.chests.changes import refuse_taken_label
from dunechest.jobs.known.chests import note_chest
from dunechest.jobs.known.holdings import note_holdings
from dunechest.jobs.known.named import get_chest, resolve_chest
from dunechest.ledger import events, memory
from dunechest.machine.drives import filesystem
from dunechest.machine.volumes import identity
from dunechest.model.chests import ChestContents
from dunechest.names import AnyPath, shown
from dunechest.remote.address import is_address
from dunechest.transfer import safe

if TYPE_CHECKING:
    from dunechest.ledger.ledger import PastCheck, PastDrill


def top_of(chest: Chest, bag: str) -> str:
    """Return SHA-512 (hexadecimal) of a bag's tag manifest, which stands for the whole bag; empty if it has none."""
    try:
        content = safe.read_bounded(bag_folder(chest.folder, bag) / TAG_MANIFEST, 1 << 30)
    except (OSError, ValueError):
        return ""
    return hashlib.sha512(content).hexdigest()


def create_chest(
    place: str | os.PathLike[str],
    label: str,
    secret: str | None = None,
    command: Sequence[str] = (),
    *,
    readable: bool = False,
) -> Chest:
    """Make a chest and note it in the ledger; see `Chest.create`.

    Parameters
    ----------
    place : path
        The folder where a drive is mounted, or the address of a folder on a server.
    label : str
        What people call it.
    secret : str, optional
        The server's password, to be kept in the system's keyring.
    command : sequence of str
        A command that prints the server's password each time, instead.
    readable : bool
        As for `Chest.create`.

    Raises
    ------
    UsageError
        Also if a chest of the same label is plugged in: labels tell drives apart.
    """
    refuse_taken_label(label)
    if is_address(os.fspath(place)):
        from dunechest.jobs.known.servers import create_server_chest

        on_server = create_server_chest(os.fspath(place), label, secret, command)
        note_chest(on_server)
        return on_server
    _refuse_inside(Path(place))
    chest = Chest.create(place, label, readable=readable)
    note_chest(chest)
    return chest


def _refuse_inside(place: Path) -> None:
    """Refuse to make a chest inside another one, or inside a bag."""
    real = Path(os.path.realpath(place))
    for folder in (real, *real.parents):
        if folder.name == CHEST and find_chest(folder) is not None:
            raise UsageError(
                f"{shown(str(place))} lies inside the chest {shown(str(folder))}. Nothing was changed. Name the folder where "
                "a drive appears."
            )
        if is_bag(folder):
            raise UsageError(
                f"{shown(str(place))} lies inside {shown(str(folder))}, which is a bag: an archive that must not be "
                "changed. Nothing was changed. Name the folder where a drive is mounted."
            )


def rebuild_chest(place: str | os.PathLike[str], label: str | None = None) -> Chest:
    """Rebuild a chest's record and note it in the ledger; see `Chest.rebuild`."""
    chest = Chest.rebuild(place, label)
    note_chest(chest)
    return chest


def show_chest(text: str | os.PathLike[str] | Chest) -> ChestContents:
    """Say what a chest holds and when it was last checked.

    Parameters
    ----------
    text : str, path or Chest
        The chest.
    """
    from dunechest.ledger.ledger import open_ledger

    chest = text if isinstance(text, Chest) else None
    name = "" if isinstance(text, Chest) else os.fspath(text)
    with open_ledger() as ledger:
        known = {c.id for c in ledger.chests()}
    chest = chest or resolve_chest(name)
    where = identity(chest.folder)
    with open_ledger() as ledger:
        checks: dict[str, PastCheck] = {}
        failed: dict[str, int] = {}
        for check in ledger.checks(chest.id):
            if not _counts(check.where, where):
                continue
            if not check.intact:
                failed.setdefault(check.bag, check.turn)
            told = checks.setdefault(check.bag, check)
            # A quick check says less than a full one before it, and cannot undo what that one found.
            if told.quick and not check.quick and (told.intact or not check.intact):
                checks[check.bag] = check
        drills: dict[str, PastDrill] = {}
        for past in ledger.drills(chest.id):
            if _counts(past.where, where):
                drills.setdefault(past.bag, past)
    bags = chest.bags()
    proven = frozenset(
        bag
        for bag, past in drills.items()
        if past.passed and past.top == top_of(chest, bag) != "" and failed.get(bag, 0) < past.turn
    )
    there = {bag.name for bag in bags}
    missing = tuple(sorted(memory.libraries_of(chest.id, where).keys() - there))
    note_holdings(chest, bags, missing)
    place = filesystem(chest.folder)
    return ChestContents(
        chest, bags, checks, place.free, place.total, place.type, chest.id in known, drills, proven, missing
    )


def _counts(there: str, here: str) -> bool:
    """Whether what was noted of a chest in one place counts for the one in another: not if that is a copy of it."""
    return not there or not here or there == here


def forget_library(chest: Chest | AnyPath, library: str) -> None:
    """Stop expecting a library that was removed from a chest on purpose.

    Raises
    ------
    UsageError
        If it is there, or this computer never met it in this chest.
    DuneChestError
        If it cannot be written down.
    """
    chest = get_chest(chest)
    if any(bag.name == library for bag in chest.bags()):
        raise UsageError(f"{shown(library)} is in the chest {shown(chest.label)}. Nothing was changed.")
    known = memory.libraries_of(chest.id, identity(chest.folder))
    if library not in known:
        names = ", ".join(map(shown, sorted(known))) or "none"
        raise UsageError(
            f"This computer has not seen {shown(library)} in {shown(chest.label)}. It has seen: {names}."
        )
    events.append("forget", chest=chest.id, bag=library)
