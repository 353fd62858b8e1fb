"""What verification says, as plain values."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, ClassVar, Literal

import msgspec

from dunechest.names import shown
from dunechest.values import Value, frame

if TYPE_CHECKING:
    import pandas as pd


State = Literal["changed", "missing", "unlisted", "unreadable", "unfinished", "no-access", "noted"]


class FileState(Value, msgspec.Struct, frozen=True):
    """A file that is not intact: its path in the bag, its state, and why in words.

    ``noted`` is something to know that is no fault. ``no-access`` says that this user may not read it: nothing is known of it,
    and it is no damage.
    """

    _shown: ClassVar[tuple[str, ...]] = ("path", "state")
    _document: ClassVar[str] = "common.DamagedRecord"

    path: str
    state: State
    why: str


Kind = Literal["library", "foreign bag", "unfinished", "unusable", "missing", "chest"]


class BagCheck(Value, msgspec.Struct, frozen=True):
    """What verification says of one bag.

    `files` and `bytes` are what was looked at: of the files, `records` are the archive's own, and `earlier` ones are kept
    for earlier editions alone. `intact` counts those that are intact; `states` lists all others. Where the time was limited,
    `remaining` files are left, from `next` on.
    """

    _shown: ClassVar[tuple[str, ...]] = ("bag", "kind", "files", "well")
    _document: ClassVar[str] = "verify.VerifiedLibrary"

    bag: str
    folder: Path
    kind: Kind
    quick: bool
    files: int
    bytes: int
    intact: int
    states: tuple[FileState, ...]
    seconds: float
    remaining: int = 0
    next: str = ""
    records: int = 0
    earlier: int = 0

    @property
    def payload(self) -> int:
        """Number of the library's files that were looked at, without those that only earlier editions have."""
        return self.files - self.records - self.earlier

    @property
    def wrong(self) -> int:
        """Number of faults that were found."""
        return sum(state.state not in ("noted", "no-access") for state in self.states)

    @property
    def closed(self) -> int:
        """Number of files and folders that this user may not read."""
        return sum(state.state == "no-access" for state in self.states)

    @property
    def well(self) -> bool:
        """Whether all of it was looked at, and nothing is wrong with it."""
        return not self.wrong and not self.closed


class VerifyResult(Value, msgspec.Struct, frozen=True):
    """What verification says of a chest or bag: one `BagCheck` a bag."""

    _shown: ClassVar[tuple[str, ...]] = ("chest", "quick", "well")
    _document: ClassVar[str] = "verify.Verify"

    place: Path
    chest: str
    quick: bool
    checks: tuple[BagCheck, ...]

    @property
    def well(self) -> bool:
        """Whether every bag is intact."""
        return all(check.well for check in self.checks)

    @property
    def damaged(self) -> bool:
        """Whether any fault was found; what this user may not read is none."""
        return any(check.wrong for check in self.checks)

    def to_frame(self) -> pd.DataFrame:
        """Return one row a file that is not intact: bag, path, state, why."""
        rows = [
            {"bag": check.bag, "path": shown(s.path), "state": s.state, "why": s.why}
            for check in self.checks
            for s in check.states
        ]
        return frame(rows, columns=["bag", "path", "state", "why"])
