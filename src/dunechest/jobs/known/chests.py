"""The chests that this computer knows, and those on drives that are connected now."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from dunechest.chest.chest import Chest
from dunechest.chest.chest_record import read_chest
from dunechest.chest.find_chest import find_chest
from dunechest.errors import DuneChestError
from dunechest.jobs.known.logs import keep_in_step
from dunechest.ledger import events
from dunechest.machine.drives import drive_folders, filesystem
from dunechest.machine.volumes import identity, is_network
from dunechest.model.chests import ChestList, ChestStatus

if TYPE_CHECKING:
    pass


def note_chest(chest: Chest) -> str | None:
    """Note in the ledger that a chest was met, and what its log knows; a failure comes back as words, since the job is done."""
    why = events.try_append(("chest", facts_of(chest))) or None
    keep_in_step(chest, write=False)
    return why


def facts_of(chest: Chest) -> dict[str, str]:
    """Return what is noted of a chest that was met."""
    address = chest.place if chest.is_on_server else ""
    return {"id": chest.id, "label": chest.label, "folder": chest.place, "address": address}


def list_chests() -> ChestList:
    """List the chests this computer knows, and those on connected drives."""
    from dunechest.ledger.ledger import open_ledger

    with open_ledger() as ledger:
        known = {chest.id: chest for chest in ledger.chests()}
    found: dict[tuple[str, str], ChestStatus] = {}
    places = [*(item.folder for item in known.values() if not item.address), *_on_drives()]
    for folder in places:
        chest = _at(folder)
        # Two chests of one id, one of them copied by hand, are two chests: each is shown with its place. One that is seen in two
        # places is one.
        if chest is not None:
            before = known.get(chest.id)
            status = ChestStatus(
                chest.id,
                chest.label,
                chest.folder,
                True,
                before.seen if before is not None else None,
                _free(chest.folder),
                before.retired if before is not None else None,
                before.place if before is not None else "",
            )
            found.setdefault((chest.id, _folder_mark(chest.folder)), status)
    there = {status.id for status in found.values()}
    for chest_known in known.values():
        if chest_known.id not in there:
            found[chest_known.id, ""] = ChestStatus(
                chest_known.id,
                chest_known.label,
                chest_known.folder,
                False,
                chest_known.seen,
                None,
                chest_known.retired,
                chest_known.place,
                address=chest_known.address,
            )
    ordered = sorted(
        found.values(),
        key=lambda s: (s.retired_at is not None, not s.connected, s.label.casefold(), s.id, str(s.path)),
    )
    return ChestList(tuple(ordered))


def _folder_mark(folder: Path) -> str:
    """Return what is the same for one folder that is seen in two places: a filesystem that is mounted twice, or bound.

    A filesystem that is the image of another one, on another device, is another one.
    """
    try:
        info = folder.stat()
        kind = filesystem(folder).type
    except OSError:
        return os.path.realpath(folder)
    if not info.st_ino:
        return os.path.realpath(folder)
    # A share that is mounted twice has two numbers here, and one at its server.
    return f"{identity(folder)} {info.st_ino}" if is_network(kind) else f"{info.st_dev} {info.st_ino}"


def _at(folder: Path) -> Chest | None:
    """Look at a chest without recovering anything in it; None if there is no usable one."""
    try:
        place = find_chest(folder)
        return Chest(place, *read_chest(place)) if place is not None else None
    except (DuneChestError, OSError):
        return None


def _free(folder: Path) -> int | None:
    try:
        return filesystem(folder).free
    except OSError:
        return None


def _on_drives() -> Iterable[Path]:
    for mount in drive_folders():
        folder = find_chest(mount)
        if folder is not None:
            yield folder
