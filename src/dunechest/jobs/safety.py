"""A library's copies, and whether they are enough: what `status` says of each library."""

from __future__ import annotations

from collections.abc import Iterable
from typing import ClassVar, Literal

import msgspec
from msgspec.structs import replace

from dunechest import clock
from dunechest.jobs.homes import Home
from dunechest.jobs.protection import Protection
from dunechest.values import Value

_DAY = 86_400.0
#: What can be the matter with a copy, the worst first.
State = Literal["missing", "damaged", "incomplete", "behind", "unchecked", "safe"]


class Copy(Value, msgspec.Struct, frozen=True):
    """A copy of a library in a chest. Times are seconds since 1970.

    `state` is ``safe``; ``unchecked`` (not fully checked lately); ``behind`` (another chest has a later state);
    ``incomplete`` (a part, or files are missing in it); ``damaged`` (the last check or drill failed) or ``missing`` (the
    library was gone when the chest was last seen). `checked_at` is when every byte was last found intact, by a check or when
    it was archived; `drilled_at` when it last passed a drill, None if it did not. `not_seen_count` counts files that could
    not be seen when the library was archived last, and that it keeps as they were. `disk` are the disks that it lies on, with
    blanks between; `weak` says why it protects against nothing where it lies: ``memory``, ``this-computer`` or
    ``library-disk``. `not_counted_because` says why an intact and current copy does not count: one of these,
    ``library-drive`` (the library was moved to that drive), or ``same-drive`` (another copy on that drive counts); empty if
    it counts, or is not safe anyway. `proof` and `tried` are the turns in which every byte was last found right, and in which
    a mend last failed; 0 if that never was. `examined` says whether a check of every byte found the damage, `diverged`
    whether its state is none that the newest one came after.
    """

    _shown: ClassVar[tuple[str, ...]] = ("label", "state", "edition")
    _told: ClassVar[tuple[str, ...]] = (
        "label",
        "chest_id",
        "archived_as",
        "state",
        "edition",
        "archived_at",
        "checked_at",
        "drilled_at",
        "kept_at_place",
        "not_seen_count",
        "not_counted_because",
    )

    label: str
    chest_id: str
    archived_as: str
    state: State
    edition: int
    archived_at: float
    checked_at: float | None
    drilled_at: float | None
    kept_at_place: str
    drive: str
    not_seen_count: int = 0
    disk: str = ""
    weak: str = ""
    not_counted_because: str = ""
    proof: int = 0
    tried: int = 0
    examined: bool = False
    diverged: bool = False

    @property
    def marks(self) -> frozenset[str]:
        """What it has in common with every copy on the same drive."""
        return frozenset({self.drive or self.chest_id, *(f"disk {disk}" for disk in self.disk.split())})


class ProtectedLibrary(Value, msgspec.Struct, frozen=True):
    """A library, its copies, and whether they are enough.

    `path` is its folder on the computer that it came from; `on_this_computer` says whether that is this computer. `moved`
    says where it is if it was moved to a drive, `beside_chests` are the ids of chests that are seen to be on that very drive.
    `there` says whether its folder is there, as far as this computer can see; `unknown_here` whether this computer does not
    know that it ever had the state that is archived.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "safe")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "kind",
        "computer",
        "path",
        "on_this_computer",
        "safe",
        "file_count",
        "size_bytes",
        "good_copy_count",
        "wanted_copy_count",
        "wanted_drive_count",
        "wanted_place_count",
        "wanted_day_count",
        "wanted_drill_day_count",
        "copies",
        "moved",
        "beside_copies",
    )

    name: str
    kind: str
    computer: str
    path: str
    on_this_computer: bool
    file_count: int
    size_bytes: int
    rule: Protection
    copies: tuple[Copy, ...]
    moved: Home | None = None
    beside_chests: frozenset[str] = frozenset()
    there: bool = True
    unknown_here: bool = False

    @property
    def wanted_copy_count(self) -> int:
        """Number of copies that its rule asks for."""
        return self.rule.copies

    @property
    def wanted_drive_count(self) -> int:
        """Number of drives that they are to be on."""
        return self.rule.own_drives

    @property
    def wanted_place_count(self) -> int:
        """Number of places where they are to be kept."""
        return self.rule.places

    @property
    def wanted_day_count(self) -> int:
        """Days after which a copy is too old."""
        return self.rule.days

    @property
    def wanted_drill_day_count(self) -> int | None:
        """Days after which a drill is too old; None if none is asked for."""
        return self.rule.drill_days

    @property
    def good(self) -> tuple[Copy, ...]:
        """The copies that count: one for each drive, unless fewer drives than copies are asked for.

        A moved library is the original, and what is on its drive is lost with it: that is no copy.
        """
        safe = [copy for copy in self.copies if copy.state == "safe" and not self._weakness(copy)]
        return tuple(safe) if self.rule.own_drives < self.rule.copies else _apart(safe)

    def _weakness(self, copy: Copy) -> str:
        return "library-drive" if self.is_beside(copy) else copy.weak

    def with_reasons(self) -> ProtectedLibrary:
        """Return it with each copy saying why it does not count."""
        good = self.good
        copies = tuple(
            copy
            if copy.state != "safe" or copy in good
            else replace(copy, not_counted_because=self._weakness(copy) or "same-drive")
            for copy in self.copies
        )
        return replace(self, copies=copies)

    def is_beside(self, copy: Copy) -> bool:
        """Whether a copy is on the very drive that the library was moved to."""
        if self.moved is None:
            return False
        drive = self.moved.past.identity
        return (bool(drive) and copy.drive == drive) or copy.chest_id in self.beside_chests

    @property
    def beside_copies(self) -> tuple[Copy, ...]:
        """The copies on the drive that the library was moved to."""
        return tuple(copy for copy in self.copies if self.is_beside(copy))

    @property
    def good_copy_count(self) -> int:
        """Number of the copies that count."""
        return len(self.good)

    @property
    def safe(self) -> bool:
        """Whether the rule is kept."""
        return len(self.good) >= self.rule.copies and not (self.lacks_drives or self.lacks_places or self.lacks_drill)

    @property
    def lacks_drives(self) -> bool:
        """Whether its good copies are on too few drives."""
        return len(_apart(self.good)) < self.rule.own_drives

    @property
    def lacks_places(self) -> bool:
        """Whether the drives with its good copies are kept in too few places."""
        return len({copy.kept_at_place for copy in self.good}) < self.rule.places

    @property
    def lacks_drill(self) -> bool:
        """Whether a drill is asked for, and no good copy passed one lately."""
        days = self.rule.drill_days
        return days is not None and not any(
            copy.drilled_at is not None and clock.now() - copy.drilled_at <= days * _DAY for copy in self.good
        )


def _apart(copies: Iterable[Copy]) -> tuple[Copy, ...]:
    """Return one copy of each drive."""
    found: list[Copy] = []
    for copy in copies:
        if all(copy.marks.isdisjoint(other.marks) for other in found):
            found.append(copy)
    return tuple(found)


class NextStep(Value, msgspec.Struct, frozen=True):
    """Something to do: why, and the command that does it; empty where only a person can."""

    _shown: ClassVar[tuple[str, ...]] = ("command",)

    message: str
    command: str


class Unprotected(Value, msgspec.Struct, frozen=True):
    """A library that `find` showed and that is in no chest; `computer` is the one that has it, empty for this one."""

    _shown: ClassVar[tuple[str, ...]] = ("name",)

    name: str
    kind: str
    path: str
    computer: str = ""
