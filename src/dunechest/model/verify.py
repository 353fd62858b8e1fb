"""What verification found."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, ClassVar, Literal

import msgspec

from dunechest.values import Value

if TYPE_CHECKING:
    pass

State = Literal["changed", "missing", "unlisted", "unreadable", "unfinished", "no-access", "noted"]


class FileState(Value, msgspec.Struct, frozen=True):
    """A file that is not intact: its path in the bag, its state, and why in words.

    ``noted`` is something to know that is no fault. ``no-access`` says that this user may not read it: nothing is known of
    it, and it is no damage.
    """

    _shown: ClassVar[tuple[str, ...]] = ("path", "state")

    path: str
    state: State
    why: str


Kind = Literal["library", "foreign bag", "unfinished", "unusable", "missing", "chest"]


class BagCheck(Value, msgspec.Struct, frozen=True):
    """What verification says of one bag.

    `files` and `size_bytes` are what was looked at: of the files, `record_count` are the archive's own, and
    `earlier_file_count` ones are kept for earlier editions alone. `intact_count` counts those that are intact; `problems`
    lists all others. Where the time was limited, `remaining_count` files are left, from `next` on.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "kind", "files", "ok")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "kind",
        "ok",
        "file_count",
        "earlier_file_count",
        "record_count",
        "size_bytes",
        "intact_count",
        "remaining_count",
        "problems",
        "seconds",
    )

    name: str
    folder: Path
    kind: Kind
    quick: bool
    files: int
    size_bytes: int
    intact_count: int
    problems: tuple[FileState, ...]
    seconds: float
    remaining_count: int = 0
    next: str = ""
    record_count: int = 0
    earlier_file_count: int = 0

    @property
    def file_count(self) -> int:
        """Number of the library's files that were looked at, without those that only earlier editions have."""
        return self.files - self.record_count - self.earlier_file_count

    @property
    def wrong(self) -> int:
        """Number of faults that were found."""
        return sum(state.state not in ("noted", "no-access") for state in self.problems)

    @property
    def closed(self) -> int:
        """Number of files and folders that this user may not read."""
        return sum(state.state == "no-access" for state in self.problems)

    @property
    def ok(self) -> bool:
        """Whether all of it was looked at, and nothing is wrong with it."""
        return not self.wrong and not self.closed


class VerifyResult(Value, msgspec.Struct, frozen=True):
    """What verification says of a chest or bag: one `BagCheck` a bag."""

    _shown: ClassVar[tuple[str, ...]] = ("chest", "quick", "ok")
    _told: ClassVar[tuple[str, ...]] = ("libraries", "path", "quick")
    _rows: ClassVar[str] = "libraries.problems"

    path: Path
    chest: str
    quick: bool
    libraries: tuple[BagCheck, ...]

    @property
    def ok(self) -> bool:
        """Whether every bag is intact."""
        return all(check.ok for check in self.libraries)

    @property
    def damaged(self) -> bool:
        """Whether any fault was found; what this user may not read is none."""
        return any(check.wrong for check in self.libraries)
