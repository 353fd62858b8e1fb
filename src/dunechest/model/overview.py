"""What is known of all libraries and chests: how well they are protected, what to do, and what is found in them."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, ClassVar, Literal, NamedTuple

import msgspec
from msgspec.structs import replace

from dunechest import clock
from dunechest.ledger.catalogue_rows import PastEdition, PastRole
from dunechest.model.chests import ChestStatus
from dunechest.model.homes import Home
from dunechest.names import AnyPath, shown
from dunechest.values import Value
from dunechest.words import number

if TYPE_CHECKING:
    from dunechest.model.routine import RoutineState

    pass


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


class OfficeSeen(Value, msgspec.Struct, frozen=True):
    """The office whose answer this is.

    Parameters
    ----------
    where : str
        The database and its server.
    seen_at : float
        When it was asked (seconds since 1970).
    why : str
        Why it cannot be asked now; empty if it was.
    computer : str
        The only computer whose libraries these are; empty for all.
    computer_count : int
        How many computers the office has.
    """

    _shown: ClassVar[tuple[str, ...]] = ("where", "seen_at")

    where: str
    seen_at: float
    why: str
    computer: str
    computer_count: int


class Status(Value, msgspec.Struct, frozen=True):
    """How well each library is protected, what to do next, most urgent first, and the chests that are expected.

    `moved_libraries` are libraries that were moved to a drive, with where each is now; `routines` say how what runs by itself
    does. `office` is set if the answer is that of an office. `elsewhere_count` counts libraries of other computers that are
    not shown, and `unreadable_entry_count` entries of this computer's own record that are harmed.
    """

    _shown: ClassVar[tuple[str, ...]] = ("safe",)
    _told: ClassVar[tuple[str, ...]] = (
        "libraries",
        "safe",
        "verdict",
        "unprotected_libraries",
        "steps",
        "chests",
        "moved_libraries",
        "routines",
        "office",
        "elsewhere_count",
        "unreadable_entry_count",
    )
    _rows: ClassVar[str] = "libraries"

    libraries: tuple[ProtectedLibrary, ...]
    unprotected_libraries: tuple[Unprotected, ...]
    steps: tuple[NextStep, ...]
    chests: tuple[ChestStatus, ...]
    moved_libraries: tuple[Home, ...] = ()
    routines: tuple[RoutineState, ...] = ()
    office: OfficeSeen | None = None
    elsewhere_count: int = 0
    unreadable_entry_count: int = 0

    @property
    def safe(self) -> bool:
        """Whether every library that is known is safe, and nothing that this computer knew is unreadable."""
        return self._all_safe and not self.unreadable_entry_count

    @property
    def _all_safe(self) -> bool:
        return not self.unprotected_libraries and all(library.safe for library in self.libraries)

    @property
    def verdict(self) -> str:
        """Whether they are, in a sentence."""
        count = len(self.libraries) + len(self.unprotected_libraries)
        if not count and self.unreadable_entry_count:
            return "NOT CERTAIN: this computer's own record is damaged. What drives hold is known again when they are connected."
        if not count and self.elsewhere_count:
            return "Nothing of this computer is archived, as far as is known. To begin: dunechest find"
        if not count:
            return "Nothing is known yet. To begin: dunechest find"
        if self._all_safe and self.unreadable_entry_count:
            return "NOT CERTAIN: this computer's own record is damaged."
        if self.safe:
            return f"SAFE: {'The only library is' if count == 1 else f'All {count:,} libraries are'} protected{self._of}."
        wrong = len(self.unprotected_libraries) + sum(not library.safe for library in self.libraries)
        return f"NOT SAFE: {wrong:,} of {number(count, 'library', 'libraries')} not protected{self._of}."

    @property
    def _of(self) -> str:
        """Whose libraries these are, if not this computer's."""
        if self.office is None:
            return ""
        return f" on {shown(self.office.computer)}" if self.office.computer else " in the office"


class LibraryHistory(Value, msgspec.Struct, frozen=True):
    """The editions of a library in the chest that has the most of them, and its files by role.

    `roles` are those of the current edition.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "label")

    name: str
    label: str
    archived_as: str
    editions: tuple[PastEdition, ...]
    roles: tuple[PastRole, ...]


class Growth(NamedTuple):
    """How many bytes archives had brought to a drive by a moment (seconds since 1970)."""

    archived_at: float | None
    size_bytes: int


class DriveRoom(Value, msgspec.Struct, frozen=True):
    """How full the drive of a chest was when it was last met, and how it fills.

    `free_bytes` and `total_bytes` in bytes and `last_seen_at` (seconds since 1970) are None if it was never met; `growths`
    are moments and the bytes that archives had brought to it by then; `daily_bytes` is how many bytes later editions brought
    in a day, None if that is not known yet; `full_at` is the moment when it will be full at that pace, None if that is far
    off or not known.
    """

    _shown: ClassVar[tuple[str, ...]] = ("label", "free_bytes", "total_bytes")

    label: str
    chest_id: str
    kept_at_place: str
    last_seen_at: float | None
    free_bytes: int | None
    total_bytes: int | None
    growths: tuple[Growth, ...]
    daily_bytes: float | None
    full_at: float | None


class Overview(Value, msgspec.Struct, frozen=True):
    """What is safe, what is not, and how libraries and drives have grown.

    `made_at` is a moment (seconds since 1970); `note` says why histories are missing, if they are.
    """

    _shown: ClassVar[tuple[str, ...]] = ("computer", "status")
    _rows: ClassVar[str] = "drives"

    made_at: float
    computer: str
    status: Status
    histories: tuple[LibraryHistory, ...]
    drives: tuple[DriveRoom, ...]
    note: str


class SearchOptions(msgspec.Struct, frozen=True):
    """What else a file must be.

    Parameters
    ----------
    library, kind : str, optional
        Name of its library, and name of that library's kind.
    chest : str, optional
        Label or id of a chest that has it.
    smallest, largest : int, optional
        Bytes.
    since, before : float, optional
        Moments (seconds since 1970): changed at or after the first, and before the second.
    same_as : path, optional
        A file on this computer with the same content.
    """

    library: str | None = None
    kind: str | None = None
    chest: str | None = None
    smallest: int | None = None
    largest: int | None = None
    since: float | None = None
    before: float | None = None
    same_as: AnyPath | None = None


class FoundCopy(Value, msgspec.Struct, frozen=True):
    """A copy of a found file: the chest, the library's name there, the editions that have it, and the command for it.

    `last_seen_by` is the computer that met the chest last, if an office knows.
    """

    _shown: ClassVar[tuple[str, ...]] = ("label", "archived_as", "connected")

    label: str
    chest_id: str
    archived_as: str
    first_edition: int
    last_edition: int
    current: bool
    connected: bool
    kept_at_place: str
    restore_command: str
    last_seen_by: str = ""


class FoundFile(Value, msgspec.Struct, frozen=True):
    """A file that was found: its library, path, bytes, time (seconds since 1970), and its copies, the best one first."""

    _shown: ClassVar[tuple[str, ...]] = ("library", "path", "size_bytes")

    library: str
    kind: str
    path: str
    size_bytes: int
    modified_at: int
    copies: tuple[FoundCopy, ...]


class SearchResult(Value, msgspec.Struct, frozen=True):
    """The files that were found; `more` says whether there are others.

    `known_file_count` and `known_chest_count` were searched.
    """

    _shown: ClassVar[tuple[str, ...]] = ("files", "more")
    _rows: ClassVar[str] = "files.copies"

    files: tuple[FoundFile, ...]
    more: bool
    known_file_count: int
    known_chest_count: int


class Protection(msgspec.Struct, frozen=True):
    """What makes a library safe.

    Parameters
    ----------
    copies : int
        Current, intact copies.
    days : int
        Since every byte of a copy was checked, or written and read back.
    places : int
        Different places in which the drives are kept. All drives without a place count as being in one.
    drives : int, optional
        Different drives that the copies are on: as many as there are to be copies, if it is not given.
    drill_days : int, optional
        Since one of the copies passed a drill; none is asked for if it is not given.
    """

    copies: int = 2
    days: int = 90
    places: int = 1
    drives: int | None = None
    drill_days: int | None = None

    @property
    def own_drives(self) -> int:
        """Number of drives that the copies must be on."""
        return self.copies if self.drives is None else min(self.drives, self.copies)


_DAY = 86_400.0


#: What can be the matter with a copy, the worst first.
State = Literal["missing", "damaged", "incomplete", "behind", "unchecked", "safe"]


def _apart(copies: Iterable[Copy]) -> tuple[Copy, ...]:
    """Return one copy of each drive."""
    found: list[Copy] = []
    for copy in copies:
        if all(copy.marks.isdisjoint(other.marks) for other in found):
            found.append(copy)
    return tuple(found)
