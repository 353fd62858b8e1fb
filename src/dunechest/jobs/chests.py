"""Make a chest, make its records again, show what it holds."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar, NamedTuple

import msgspec

from dunechest.bag.bag import is_bag
from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.find_chest import find_chest
from dunechest.chest.layout import CHEST, TAG_MANIFEST, bag_folder
from dunechest.chest.tag_lists import RecordFault
from dunechest.errors import UsageError
from dunechest.jobs.chest_changes import refuse_taken_label
from dunechest.jobs.holdings import note_holdings
from dunechest.jobs.known_chests import note_chest
from dunechest.jobs.named import get_chest, resolve_chest
from dunechest.ledger import events, memory
from dunechest.machine.drives import filesystem
from dunechest.machine.volumes import identity
from dunechest.names import AnyPath, from_wire, shown
from dunechest.remote.address import is_address
from dunechest.transfer import safe
from dunechest.values import Value

if TYPE_CHECKING:
    from dunechest.ledger.ledger import PastCheck, PastDrill


class UnfinishedChange(NamedTuple):
    """A change that was interrupted and could not be finished."""

    name: str
    why: str


class LastCheck(NamedTuple):
    """The last verification of a library, by this computer."""

    checked_at: float
    quick: bool
    intact: bool
    file_count: int
    problem_count: int


class LastDrill(NamedTuple):
    """The last drill of a library, by this computer."""

    drilled_at: float
    passed: bool
    edition: int


class HeldLibrary(NamedTuple):
    """What is in a chest: a library, or another program's bag."""

    name: str
    state: str
    why: str
    kind: str | None
    computer: str | None
    path: str | None
    archived_at: str | None
    file_count: int | None
    size_bytes: int | None
    left_out_count: int | None
    proven: bool
    last_check: LastCheck | None
    last_drill: LastDrill | None


class ChestContents(Value, msgspec.Struct, frozen=True):
    """What a chest holds, the latest check of each bag, and whether this computer has seen it before.

    `drills` are the latest drills; `proven` names the bags that passed one, are just as they were then, and passed every
    check since. `missing_libraries` names what this computer met here and is no longer there.
    """

    _shown: ClassVar[tuple[str, ...]] = ("free_bytes", "ok")
    _told: ClassVar[tuple[str, ...]] = (
        "libraries",
        "made_at",
        "filesystem",
        "free_bytes",
        "total_bytes",
        "known_before",
        "missing_libraries",
        "damaged_records",
        "unfinished_changes",
        "finished_changes",
    )
    _rows: ClassVar[str] = "libraries"

    chest: Chest
    bags: tuple[BagEntry, ...]
    checks: dict[str, PastCheck]
    free_bytes: int
    total_bytes: int
    filesystem: str
    known_before: bool
    drills: dict[str, PastDrill] = msgspec.field(default_factory=dict)
    proven: frozenset[str] = frozenset()
    missing_libraries: tuple[str, ...] = ()

    @property
    def made_at(self) -> str:
        """When the chest was made."""
        return self.chest.record.made

    @property
    def damaged_records(self) -> tuple[RecordFault, ...]:
        """Records of the chest that no digest proves."""
        return self.chest.faults

    @property
    def finished_changes(self) -> tuple[str, ...]:
        """Changes that were interrupted, and are finished now."""
        return self.chest.recovered

    @property
    def ok(self) -> bool:
        """Whether every record that was read is intact, and every library is there that this computer met here."""
        return not (
            self.missing_libraries
            or self.chest.faults
            or self.chest.unfinished
            or any(bag.state in ("damaged", "unusable") for bag in self.bags)
        )

    @property
    def unfinished_changes(self) -> tuple[UnfinishedChange, ...]:
        """Names of bags in which a change was interrupted and could not be finished, with the reason."""
        return tuple(UnfinishedChange(*item) for item in self.chest.unfinished.items())

    @property
    def libraries(self) -> tuple[HeldLibrary, ...]:
        """What it holds, as the JSON document has it."""
        told = []
        for bag in self.bags:
            record, check, past = bag.library, self.checks.get(bag.name), self.drills.get(bag.name)
            told.append(
                HeldLibrary(
                    name=bag.name,
                    state=bag.state,
                    why=bag.why,
                    kind=record.kind if record else None,
                    computer=record.origin.machine if record else None,
                    path=from_wire(record.origin.path) if record else None,
                    archived_at=record.archived if record else None,
                    file_count=record.totals.files_copied if record else None,
                    size_bytes=record.totals.bytes_stored if record else None,
                    left_out_count=record.totals.files_left_out if record else None,
                    proven=bag.name in self.proven,
                    last_check=LastCheck(check.when, check.quick, check.intact, check.files, check.wrong)
                    if check
                    else None,
                    last_drill=LastDrill(past.when, past.passed, past.edition) if past else None,
                )
            )
        return tuple(told)


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
        from dunechest.jobs.servers import create_server_chest

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
