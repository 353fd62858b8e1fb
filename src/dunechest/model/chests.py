"""What a chest holds, and which computers wrote in it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, ClassVar, Literal, NamedTuple

import msgspec

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.tag_lists import RecordFault
from dunechest.names import from_wire
from dunechest.values import Value

if TYPE_CHECKING:
    from dunechest.ledger.ledger import PastCheck, PastDrill

    pass


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


class MetComputer(Value, msgspec.Struct, frozen=True):
    """A computer that wrote into the log of a chest.

    `id` is its id in logs, `name` what it called itself, `whose` what a person said of it; `met_on_chest` is the label of the
    chest in which it was first met, at `met_at` (seconds since 1970).
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "whose")

    id: str
    name: str
    whose: Whose
    met_on_chest: str
    met_at: float

    @property
    def word(self) -> str:
        """What a command can call it, whatever else is called the same."""
        return self.id[:_SHORT]


class ChestStatus(Value, msgspec.Struct, frozen=True):
    """A chest that this computer knows, or that is connected.

    `last_seen_at` is when it was last met (seconds since 1970), None for one never met before; `connected` whether it is
    there now; `free_bytes` bytes on its drive, if so. `retired_at` says since when it is no longer expected, None if it is;
    `kept_at_place` where its drive is kept; `last_seen_by` the computer that met it last, if an office knows; `address` where
    it is on a server, empty if it is on a drive.
    """

    _shown: ClassVar[tuple[str, ...]] = ("label", "path", "connected")
    _told: ClassVar[tuple[str, ...]] = (
        "id",
        "label",
        "folder",
        "connected",
        "last_seen_at",
        "last_seen_by",
        "free_bytes",
        "retired_at",
        "kept_at_place",
    )

    id: str
    label: str
    path: Path
    connected: bool
    last_seen_at: float | None
    free_bytes: int | None
    retired_at: float | None = None
    kept_at_place: str = ""
    last_seen_by: str = ""
    address: str = ""

    @property
    def folder(self) -> str:
        """Its address if it is on a server, else its folder."""
        return self.address or str(self.path)


class ChestList(Value, msgspec.Struct, frozen=True):
    """All chests, those that are connected first."""

    _rows: ClassVar[str] = "chests"

    chests: tuple[ChestStatus, ...]


#: Characters of an id that are shown.
_SHORT = 8


Whose = Literal["mine", "not-mine", "unknown"]
