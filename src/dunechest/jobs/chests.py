"""Chests: make one, say which are known and plugged in, show what one holds."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from dunechest.chest.chest import BagEntry, Chest, find_chest
from dunechest.errors import DuneChestError, WordsOff
from dunechest.ledger import notes
from dunechest.machine.drives import drive_folders, filesystem
from dunechest.machine.identity import this_machine
from dunechest.names import shown

if TYPE_CHECKING:
    import pandas as pd

    from dunechest.ledger.book import PastCheck, PastDrill


@dataclass(frozen=True, slots=True)
class ChestStatus:
    """A chest this machine knows or has before it.

    `seen` is when it was last met (seconds since 1970), None for one never met
    before; `present` whether it is there now; `free` bytes on its drive, if so.
    """

    id: str
    label: str
    folder: Path
    present: bool
    seen: float | None
    free: int | None


@dataclass(frozen=True, slots=True)
class ChestList:
    """All chests, those that are there first."""

    chests: tuple[ChestStatus, ...]

    def to_frame(self) -> pd.DataFrame:
        """Return one row a chest: label, id, place, present, free."""
        import pandas as pd

        return pd.DataFrame(
            [
                {"label": c.label, "id": c.id, "place": str(c.folder), "present": c.present, "free": c.free}
                for c in self.chests
            ],
            columns=["label", "id", "place", "present", "free"],
        )


@dataclass(frozen=True, slots=True)
class ChestContents:
    """What a chest holds, the latest check of each bag, and whether this machine met it before.

    `drills` are the latest rehearsals; `proven` names the bags that passed one and are just as they were then.
    """

    chest: Chest
    bags: tuple[BagEntry, ...]
    checks: dict[str, PastCheck]
    free: int
    total: int
    filesystem: str
    known_before: bool
    drills: dict[str, PastDrill] = field(default_factory=dict)
    proven: frozenset[str] = frozenset()


def top_of(chest: Chest, bag: str) -> str:
    """Return SHA-512 (hexadecimal) of a bag's tag manifest, which stands for the whole bag; empty if it has none."""
    try:
        return hashlib.sha512((chest.folder / "bags" / bag / "tagmanifest-sha512.txt").read_bytes()).hexdigest()
    except OSError:
        return ""


def machine_name() -> str:
    """Return the name of this machine."""
    return this_machine(notes.state_folder()).name


def create_chest(place: str | os.PathLike[str], label: str) -> Chest:
    """Make a chest and note it in the ledger; see `Chest.create`.

    Raises
    ------
    WordsOff
        Also if a chest of the same label is plugged in: labels tell drives apart.
    """
    for known in list_chests().chests:
        if known.present and known.label.casefold() == label.casefold():
            raise WordsOff(
                f"A chest labelled {shown(label)!r} is already there, in {shown(str(known.folder))}. "
                "Choose another label, so that the drives can be told apart."
            )
    chest = Chest.create(place, label)
    note_chest(chest)
    return chest


def rebuild_chest(place: str | os.PathLike[str], label: str | None = None) -> Chest:
    """Make a chest's record again and note it in the ledger; see `Chest.rebuild`."""
    chest = Chest.rebuild(place, label)
    note_chest(chest)
    return chest


def note_chest(chest: Chest) -> str | None:
    """Note in the ledger that a chest was met; a failure comes back as words, since the job is done."""
    try:
        notes.append("chest", id=chest.id, label=chest.label, folder=str(chest.folder))
    except DuneChestError as error:
        return str(error)
    return None


def list_chests() -> ChestList:
    """List the chests the ledger knows, and those on drives that are plugged in now."""
    from dunechest.ledger.book import opened

    with opened() as book:
        known = {chest.id: chest for chest in book.chests()}
    statuses = {}
    for one in known.values():
        chest = _at(one.folder)
        present = chest is not None and chest.id == one.id
        free = _free(one.folder) if present else None
        statuses[one.id] = ChestStatus(one.id, one.label, one.folder, present, one.seen, free)
    for folder in _on_drives():
        chest = _at(folder)
        if chest is not None and not (chest.id in statuses and statuses[chest.id].present):
            seen = known[chest.id].seen if chest.id in known else None
            statuses[chest.id] = ChestStatus(chest.id, chest.label, chest.folder, True, seen, _free(chest.folder))
    ordered = sorted(statuses.values(), key=lambda s: (not s.present, s.label.casefold(), s.id))
    return ChestList(tuple(ordered))


def _at(folder: Path) -> Chest | None:
    """Look at a chest without recovering anything in it; None if there is no usable one."""
    from dunechest.chest.records import read_chest

    try:
        place = find_chest(folder)
        return Chest(place, read_chest(place)) if place is not None else None
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


def resolve_chest(text: str | os.PathLike[str]) -> Chest:
    """Open the chest that a person named: by label, id, folder, or mount point of its drive.

    Raises
    ------
    WordsOff
        If there is none, several have that label, or its drive is not plugged in.
    """
    name = os.fspath(text)
    machine = machine_name()
    if os.path.isdir(name) and find_chest(Path(name)) is not None:
        chest = Chest.open(name, machine=machine)
        note_chest(chest)
        return chest
    chests = list_chests().chests
    wanted = [c for c in chests if name in (c.label, c.id)]
    wanted = wanted or [c for c in chests if c.label.casefold() == name.casefold()]
    if not wanted and len(name) >= 6:
        wanted = [c for c in chests if c.id.startswith(name)]
    present = [c for c in wanted if c.present]
    if len(present) == 1:
        chest = Chest.open(present[0].folder, machine=machine)
        note_chest(chest)
        return chest
    if len(present) > 1:
        places = "; ".join(shown(str(c.folder)) for c in present)
        raise WordsOff(f"Several chests are called {shown(name)!r}. Name one by its folder: {places}.")
    if wanted:
        raise WordsOff(
            f"The chest {shown(name)!r} is not plugged in; it was last in {shown(str(wanted[0].folder))}. "
            "Connect its drive, or name the folder where it is now."
        )
    if os.path.isdir(name):
        raise WordsOff(
            f"There is no chest in {shown(name)}. To make one: dunechest chest new {shown(name)} --label NAME"
        )
    labels = ", ".join(shown(c.label) for c in chests) or "none yet"
    raise WordsOff(f"No chest is called {shown(name)!r} and there is no such folder. Known chests: {labels}.")


def show_chest(text: str | os.PathLike[str] | Chest) -> ChestContents:
    """Say what a chest holds and when it was last checked.

    Parameters
    ----------
    text : str, path or Chest
        The chest.
    """
    from dunechest.ledger.book import opened

    chest = text if isinstance(text, Chest) else None
    name = "" if isinstance(text, Chest) else os.fspath(text)
    with opened() as book:
        known = {c.id for c in book.chests()}
    chest = chest or resolve_chest(name)
    with opened() as book:
        checks: dict[str, PastCheck] = {}
        for check in book.checks(chest.id):
            told = checks.setdefault(check.bag, check)
            # A quick check that found nothing says less than a full one before it.
            if told.quick and told.sound and not check.quick:
                checks[check.bag] = check
        drills: dict[str, PastDrill] = {}
        for past in book.drills(chest.id):
            drills.setdefault(past.bag, past)
    proven = frozenset(bag for bag, past in drills.items() if past.passed and past.top == top_of(chest, bag) != "")
    place = filesystem(chest.folder)
    return ChestContents(
        chest, chest.bags(), checks, place.free, place.total, place.type, chest.id in known, drills, proven
    )
