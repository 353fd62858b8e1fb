"""Chests: make one, say which are known and plugged in, show what one holds."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from dunechest.bag.bag import is_bag
from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.chest_record import read_chest
from dunechest.chest.find_chest import find_chest
from dunechest.chest.layout import CHEST, TAG_MANIFEST, bag_folder
from dunechest.errors import DuneChestError, NotConnected, WordsOff
from dunechest.ledger import events, memory
from dunechest.ledger.folder import state_folder
from dunechest.machine.drives import drive_folders, filesystem
from dunechest.machine.identity import this_machine
from dunechest.machine.volumes import identity
from dunechest.names import quoted, shown
from dunechest.transfer import safe

if TYPE_CHECKING:
    import pandas as pd

    from dunechest.ledger.ledger import PastCheck, PastDrill


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

    `drills` are the latest rehearsals; `proven` names the bags that passed one, are just as they were then, and passed every
    check since. `missing` names what this machine met here and is no longer there.
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
    missing: tuple[str, ...] = ()

    @property
    def well(self) -> bool:
        """Whether every record that was read is intact, and every library is there that this machine met here."""
        return not (
            self.missing
            or self.chest.faults
            or self.chest.unfinished
            or any(bag.state in ("damaged", "unusable") for bag in self.bags)
        )


def top_of(chest: Chest, bag: str) -> str:
    """Return SHA-512 (hexadecimal) of a bag's tag manifest, which stands for the whole bag; empty if it has none."""
    try:
        content = safe.read_bounded(bag_folder(chest.folder, bag) / TAG_MANIFEST, 1 << 30)
    except (OSError, ValueError):
        return ""
    return hashlib.sha512(content).hexdigest()


def machine_name() -> str:
    """Return the name of this machine."""
    return this_machine(state_folder()).name


def create_chest(place: str | os.PathLike[str], label: str) -> Chest:
    """Make a chest and note it in the ledger; see `Chest.create`.

    Raises
    ------
    WordsOff
        Also if a chest of the same label is plugged in: labels tell drives apart.
    """
    for known in list_chests().chests:
        if known.label.casefold() == label.casefold():
            if known.present:
                words = f"A chest labelled {shown(label)!r} is already there, in {shown(str(known.folder))}."
            else:
                words = (
                    f"This computer knows a chest labelled {shown(label)!r}, last seen in {shown(str(known.folder))}; its "
                    "drive is not connected."
                )
            raise WordsOff(f"{words} Choose another label, so that the drives can be told apart.")
    _refuse_inside(Path(place))
    chest = Chest.create(place, label)
    note_chest(chest)
    return chest


def _refuse_inside(place: Path) -> None:
    """Refuse to make a chest inside another one, or inside a bag."""
    real = Path(os.path.realpath(place))
    for folder in (real, *real.parents):
        if folder.name == CHEST and find_chest(folder) is not None:
            raise WordsOff(
                f"{shown(str(place))} lies inside the chest {shown(str(folder))}. Nothing was changed. Name the folder where "
                "a drive appears."
            )
        if is_bag(folder):
            raise WordsOff(
                f"{shown(str(place))} lies inside {shown(str(folder))}, which is a bag: an archive that must not be "
                "changed. Nothing was changed. Name the folder where a drive appears."
            )


def rebuild_chest(place: str | os.PathLike[str], label: str | None = None) -> Chest:
    """Make a chest's record again and note it in the ledger; see `Chest.rebuild`."""
    chest = Chest.rebuild(place, label)
    note_chest(chest)
    return chest


def note_chest(chest: Chest) -> str | None:
    """Note in the ledger that a chest was met; a failure comes back as words, since the job is done."""
    facts = {"id": chest.id, "label": chest.label, "folder": str(chest.folder)}
    return events.try_append(("chest", facts)) or None


def list_chests() -> ChestList:
    """List the chests the ledger knows, and those on drives that are plugged in now."""
    from dunechest.ledger.ledger import open_ledger

    with open_ledger() as ledger:
        known = {chest.id: chest for chest in ledger.chests()}
    found: dict[tuple[str, str], ChestStatus] = {}
    places = [*(one.folder for one in known.values()), *_on_drives()]
    for folder in places:
        chest = _at(folder)
        # Two chests of one id, one of them copied by hand, are two chests: each is shown with its place.
        if chest is not None:
            seen = known[chest.id].seen if chest.id in known else None
            status = ChestStatus(chest.id, chest.label, chest.folder, True, seen, _free(chest.folder))
            found[chest.id, os.path.realpath(chest.folder)] = status
    there = {status.id for status in found.values()}
    for one in known.values():
        if one.id not in there:
            found[one.id, ""] = ChestStatus(one.id, one.label, one.folder, False, one.seen, None)
    ordered = sorted(found.values(), key=lambda s: (not s.present, s.label.casefold(), s.id, str(s.folder)))
    return ChestList(tuple(ordered))


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
    away = [c for c in wanted if not c.present]
    if present and away:
        raise NotConnected(
            f"The chest {shown(name)!r} that this computer knows is not connected. Another chest with that label is, in "
            f"{shown(str(present[0].folder))}. Nothing was changed. Connect the right drive; or, if you mean that other "
            f"one, name its folder: {quoted(str(present[0].folder.parent))}"
        )
    if len(present) == 1:
        chest = Chest.open(present[0].folder, machine=machine)
        note_chest(chest)
        return chest
    if len(present) > 1:
        places = "; ".join(shown(str(c.folder)) for c in present)
        raise WordsOff(f"Several chests are called {shown(name)!r}. Name one by its folder: {places}.")
    if wanted:
        raise NotConnected(
            f"The chest {shown(name)!r} is not connected; it was last in {shown(str(wanted[0].folder))}. "
            "Connect its drive, or name the folder where it is now."
        )
    if os.path.isdir(name):
        real = os.path.realpath(name)
        was = [c for c in chests if not c.present and real in (str(c.folder), str(c.folder.parent))]
        if was:
            raise NotConnected(
                f"The chest {shown(was[0].label)!r} was in {shown(name)}, and is not there now: its drive is not connected, "
                "or is mounted in another place. Nothing was changed."
            )
        raise WordsOff(
            f"There is no chest in {shown(name)}. To make one: dunechest chest new {quoted(name)} --label NAME"
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
    from dunechest.ledger.ledger import open_ledger

    chest = text if isinstance(text, Chest) else None
    name = "" if isinstance(text, Chest) else os.fspath(text)
    with open_ledger() as ledger:
        known = {c.id for c in ledger.chests()}
    chest = chest or resolve_chest(name)
    where = identity(chest.folder)
    with open_ledger() as ledger:
        checks: dict[str, PastCheck] = {}
        failed: dict[str, float] = {}
        for check in ledger.checks(chest.id):
            if not _counts(check.where, where):
                continue
            if not check.sound:
                failed.setdefault(check.bag, check.when)
            told = checks.setdefault(check.bag, check)
            # A quick check says less than a full one before it, and cannot take back what that one found.
            if told.quick and not check.quick and (told.sound or not check.sound):
                checks[check.bag] = check
        drills: dict[str, PastDrill] = {}
        for past in ledger.drills(chest.id):
            if _counts(past.where, where):
                drills.setdefault(past.bag, past)
    bags = chest.bags()
    proven = frozenset(
        bag
        for bag, past in drills.items()
        if past.passed and past.top == top_of(chest, bag) != "" and failed.get(bag, 0.0) < past.when
    )
    there = {bag.name for bag in bags}
    missing = tuple(sorted(memory.libraries_of(chest.id, where).keys() - there))
    place = filesystem(chest.folder)
    return ChestContents(
        chest, bags, checks, place.free, place.total, place.type, chest.id in known, drills, proven, missing
    )


def _counts(there: str, here: str) -> bool:
    """Whether what was noted of a chest in one place counts for the one in another: not if that is a copy of it."""
    return not there or not here or there == here


def forget_library(chest: Chest, library: str) -> None:
    """Stop expecting a library that was removed from a chest on purpose.

    Raises
    ------
    WordsOff
        If it is there, or this machine never met it in this chest.
    DuneChestError
        If it cannot be written down.
    """
    if any(bag.name == library for bag in chest.bags()):
        raise WordsOff(f"{shown(library)} is in the chest {shown(chest.label)}. Nothing was changed.")
    known = memory.libraries_of(chest.id, identity(chest.folder))
    if library not in known:
        names = ", ".join(map(shown, sorted(known))) or "none"
        raise WordsOff(f"This computer never met {shown(library)} in {shown(chest.label)}. It met: {names}.")
    events.append("forget", chest=chest.id, bag=library)
