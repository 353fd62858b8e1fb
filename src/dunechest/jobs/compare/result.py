"""What two places have in common and what not, as plain values."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

import msgspec

from dunechest.chest.tag_lists import RecordFault
from dunechest.names import shown
from dunechest.values import Value, frame

if TYPE_CHECKING:
    import pandas as pd


class Mismatch(Value, msgspec.Struct, frozen=True):
    """A file in which two places differ.

    ``silent`` is a change of bytes though size and time are the same; ``unreadable`` one that
    cannot be told. `path` is relative to both.
    """

    _shown: ClassVar[tuple[str, ...]] = ("path", "what")
    _document: ClassVar[str] = "compare.Difference"

    path: str
    what: Literal["only in the first", "only in the second", "other bytes", "silent", "unreadable"]
    why: str = ""


class Comparison(Value, msgspec.Struct, frozen=True):
    """The differences between two places; `alike` counts the files that are identical.

    A database that was captured through SQLite has bytes of its own; it is alike where all its rows are. `left_out` are files
    of a library that its archive left out on purpose, and names as such. `damage` is what of an archive's
    records is not proven.
    """

    _shown: ClassVar[tuple[str, ...]] = ("first", "second", "alike", "well")
    _document: ClassVar[str] = "compare.Compare"

    first: str
    second: str
    alike: int
    bytes: int
    unlike: tuple[Mismatch, ...]
    left_out: tuple[Mismatch, ...] = ()
    damage: tuple[RecordFault, ...] = ()

    @property
    def well(self) -> bool:
        """Whether they are the same."""
        return not self.unlike and not self.damage

    def to_frame(self) -> pd.DataFrame:
        """Return one row a file in which they differ: path, what, why."""
        rows = [{"path": shown(u.path), "what": u.what, "why": u.why} for u in self.unlike]
        return frame(rows, columns=["path", "what", "why"])
