"""What copying a library from one chest to another means, as plain values."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar, Literal

import msgspec

from dunechest.chest.chest import Chest
from dunechest.findings import Finding
from dunechest.jobs.copy.image import Image
from dunechest.jobs.study.drive import Drive
from dunechest.jobs.study.room import Room
from dunechest.values import FrozenDict, Value

State = Literal["new", "next", "unchanged", "newer", "foreign", "barred"]


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


class CopyPlan(Value, msgspec.Struct, frozen=True, eq=False):
    """What copying one library from a chest to another would do.

    Parameters
    ----------
    source, target : Chest
        From where, and where to.
    name : str
        Name of the bag, the same in both.
    state : str
        ``new``: the target does not have it. ``next``: it has an older state. ``unchanged``. ``newer``: the
        target's state is the newer one. ``foreign``: another program's bag. ``barred``: see the findings.
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
    made_here : bool
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
    made_here: bool
    #: What the target's bag becomes.
    _image: Image | None = None
    #: What changes whenever a change of the source's bag, or of the target's, is decided.
    _stamps: tuple[object, object] = (None, None)

    @property
    def needed_bytes(self) -> int:
        """Bytes that it needs on the drive."""
        return self.room.need

    @property
    def free_bytes(self) -> int:
        """Bytes that are free there."""
        return self.room.free

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
