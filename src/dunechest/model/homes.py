"""Where libraries that were moved to a drive are."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

import msgspec

from dunechest.ledger.ledger import PastHome
from dunechest.names import quoted, shown
from dunechest.values import Value
from dunechest.words import day, number

if TYPE_CHECKING:
    pass


class NewLibrary(Value, msgspec.Struct, frozen=True):
    """A second library that appeared where the moved one used to be found: its files, and the oldest one's time."""

    _shown: ClassVar[tuple[str, ...]] = ("path", "file_count")

    path: Path
    file_count: int
    made_at: float


class Home(Value, msgspec.Struct, frozen=True):
    """A library that was moved to a drive.

    Parameters
    ----------
    name, kind : str
        Its name, and the name of its kind.
    old_path : Path
        Where its application used to find it; with the way ``link`` there is a link now.
    path : Path
        Where it is; where it was last, if the drive is not connected.
    drive : str
        What the drive is called.
    connected : bool
        Whether it is there now.
    way : {"setting", "link"}
        How its application finds it.
    moved_at : float
        When it was moved (seconds since 1970).
    past : PastHome
        What was written down of the move.
    second : NewLibrary or None
        Another library that was made meanwhile.
    computer : str
        The computer that moved it, if that is another one of the office: whether it is connected there is not known.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "path", "connected")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "kind",
        "old_path",
        "path",
        "drive",
        "connected",
        "way",
        "moved_at",
        "second",
        "message",
        "command",
    )

    name: str
    kind: str
    old_path: Path
    path: Path
    drive: str
    connected: bool
    way: str
    moved_at: float
    past: PastHome
    second: NewLibrary | None = None
    computer: str = ""

    @property
    def strayed(self) -> bool:
        """Whether the drive is mounted in another place than before, so that setting or link lead to nothing."""
        return self.connected and str(self.path) != self.past.place

    @property
    def message(self) -> str:
        """Where it is, and what is wrong, in a sentence."""
        if self.computer:
            return f"It is on the drive {shown(self.drive)} of {shown(self.computer)}."
        on = f"the one on {shown(self.drive)}" + ("" if self.connected else " (not connected)")
        if self.second is not None:
            new = f"a new one with {number(self.second.file_count, 'file')} since {day(self.second.made_at)}"
            return f"Two libraries: {on}, and {new} in {shown(str(self.second.path))}."
        if not self.connected:
            return f"It is on the drive {shown(self.drive)}, which is not connected."
        if self.strayed:
            return f"It is on the drive {shown(self.drive)}, which is now mounted elsewhere."
        return f"It is on the drive {shown(self.drive)}."

    @property
    def command(self) -> str:
        """The command that sets right what is wrong; empty if nothing is, or only a person can."""
        if self.connected and (self.second is not None or self.strayed):
            return f"dunechest rehome --rejoin {quoted(self.name)}"
        return ""
