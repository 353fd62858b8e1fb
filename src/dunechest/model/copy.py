"""What copying a chest plans, costs, and did."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, ClassVar, Literal, NamedTuple

import msgspec

from dunechest.chest.chest import Chest
from dunechest.findings import Finding
from dunechest.model.parts import NeedsRoom
from dunechest.model.study import Drive, Room
from dunechest.values import FrozenDict, PathAndWhy, Value

if TYPE_CHECKING:
    from dunechest.jobs.copy.image import Image

State = Literal["new", "next", "unchanged", "newer", "foreign", "blocked"]


class FileToCopy(msgspec.Struct, frozen=True, gc=False):
    """A file that is copied: its path in the target's bag and in the source's, bytes, digest, time (ns) and mode."""

    path: str
    source: str
    size: int
    blake3: str
    mtime_ns: int
    mode: int


class BagChange(msgspec.Struct, frozen=True):
    """How a bag becomes its image.

    Parameters
    ----------
    bring : tuple of FileToCopy
        Files that are copied from the source.
    moved : mapping
        Paths in the bag that get another name, and that name.
    leaving : tuple of str
        Paths in the bag that go, since what they hold is kept elsewhere in it.
    lost : tuple of str
        Paths that should be in the target's bag already and are not; they are among `bring`.
    """

    bring: tuple[FileToCopy, ...] = ()
    moved: Mapping[str, str] = msgspec.field(default_factory=FrozenDict)
    leaving: tuple[str, ...] = ()
    lost: tuple[str, ...] = ()

    @property
    def bytes(self) -> int:
        """Bytes to copy."""
        return sum(item.size for item in self.bring)


class CopyPlan(NeedsRoom, Value, msgspec.Struct, frozen=True, eq=False):
    """What copying one library from a chest to another would do.

    Parameters
    ----------
    source, target : Chest
        From where, and where to.
    name : str
        Name of the bag, the same in both.
    state : str
        ``new``: the target does not have it. ``next``: it has an older state. ``unchanged``. ``newer``: the
        target's state is the newer one. ``foreign``: another program's bag. ``blocked``: see the findings.
    editions : tuple of int
        Numbers of the editions that are copied.
    findings : tuple of Finding
        What there is to say of it.
    sync : BagChange
        How the target's bag is changed.
    drive : Drive
        The target's drive.
    room : Room
        Space that is needed there and that was free.
    archived_here : bool
        Whether this computer made the source's bag.
    """

    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "state",
        "editions",
        "copy_count",
        "copy_bytes",
        "needed_bytes",
        "free_bytes",
        "findings",
    )
    _shown: ClassVar[tuple[str, ...]] = ("name", "state", "editions")

    source: Chest
    target: Chest
    name: str
    state: State
    editions: tuple[int, ...]
    findings: tuple[Finding, ...]
    sync: BagChange
    drive: Drive
    room: Room
    archived_here: bool
    #: What the target's bag becomes.
    _image: Image | None = None
    #: What changes whenever a change of the source's bag, or of the target's, is decided.
    _stamps: tuple[object, object] = (None, None)

    @property
    def whole_sync(self) -> bool:
        """Whether one call may flush all of the target's filesystem."""
        return self.drive.place.whole_sync

    @property
    def copy_count(self) -> int:
        """Number of files to copy."""
        return len(self.sync.bring)

    @property
    def copy_bytes(self) -> int:
        """Bytes to copy."""
        return self.sync.bytes

    def decisions(self) -> dict[str, Any]:
        """Return all that the plan decides, as JSON values: two plans with the same do the same."""
        return {
            "source": self.source.id,
            "target": self.target.id,
            "library": self.name,
            "state": self.state,
            "editions": list(self.editions),
            "bring": [[item.path, item.blake3] for item in self.sync.bring],
            "moved": dict(self.sync.moved),
            "leaving": list(self.sync.leaving),
        }

    def __eq__(self, other: object) -> bool:
        return isinstance(other, CopyPlan) and self.decisions() == other.decisions()

    def __hash__(self) -> int:
        return hash((self.source.id, self.target.id, self.name, self.state))


class FromElsewhere(NamedTuple):
    """A file that was not intact in the source, and the label of the chest that it came from instead."""

    path: str
    label: str


class CopyResult(Value, msgspec.Struct, frozen=True):
    """What copying one library did.

    Parameters
    ----------
    name, state : str
        Name of the bag, and ``new``, ``next``, ``unchanged``, ``newer``, ``foreign``, or ``blocked``, as planned.
    editions : tuple of int
        Numbers of the editions that were copied.
    edition : int
        The edition that the target has now; 0 if it has none.
    copied_count, copied_bytes : int
        Files and bytes that were copied and read back.
    file_count, size_bytes : int
        Files and bytes of the edition that the target has now.
    resumed_count : int
        Of the files, those that an interrupted run had copied already.
    from_other_chests : tuple of (str, str)
        Files that were not intact in the source and came from another chest: path, and its label.
    missing_files : tuple of (str, str)
        Files that are intact nowhere: path, and why.
    findings : tuple of Finding
        What there is to say of it.
    """

    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "state",
        "ok",
        "editions",
        "edition",
        "copied_count",
        "copied_bytes",
        "resumed_count",
        "file_count",
        "size_bytes",
        "from_other_chests",
        "missing_files",
        "findings",
    )
    _shown: ClassVar[tuple[str, ...]] = ("name", "state", "copied_count", "copied_bytes", "ok")
    _rows: ClassVar[str] = "missing_files"

    name: str
    state: str
    editions: tuple[int, ...] = ()
    edition: int = 0
    copied_count: int = 0
    copied_bytes: int = 0
    file_count: int = 0
    size_bytes: int = 0
    resumed_count: int = 0
    from_other_chests: tuple[FromElsewhere, ...] = ()
    missing_files: tuple[PathAndWhy, ...] = ()
    findings: tuple[Finding, ...] = ()

    @property
    def ok(self) -> bool:
        """Whether the target has all that the source has of it."""
        return not self.missing_files and self.state not in ("blocked", "foreign")


class Traffic(Value, msgspec.Struct, frozen=True):
    """Bytes that go to a server and come from it, and requests, as reckoned."""

    _shown: ClassVar[tuple[str, ...]] = ("sent_bytes", "received_bytes", "request_count")

    sent_bytes: int
    received_bytes: int
    request_count: int

    def __add__(self, other: Traffic) -> Traffic:
        return Traffic(
            self.sent_bytes + other.sent_bytes,
            self.received_bytes + other.received_bytes,
            self.request_count + other.request_count,
        )


class Costs(Value, msgspec.Struct, frozen=True):
    """What a chest on a server costs: to copy now, each month if 1 % of it changes, and to check every byte once."""

    _shown: ClassVar[tuple[str, ...]] = ("now", "monthly", "check")

    now: Traffic
    monthly: Traffic
    check: Traffic
