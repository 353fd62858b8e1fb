"""The summary of a restore, as plain values."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

import msgspec

from dunechest.chest.tag_lists import RecordFault
from dunechest.findings import Finding
from dunechest.jobs.restore.plan import ByHand, NotDone, Repoint, SettingChange
from dunechest.library.still_named import NO_OLD_PLACE, OldPlace
from dunechest.names import shown
from dunechest.values import Value, frame

if TYPE_CHECKING:
    import pandas as pd


class MergeResult(Value, msgspec.Struct, frozen=True):
    """The outcome of merging one file: how many entries were `added`, and the names of those that `differ`.

    `staged` is the joined file, on its way to its place; None if nothing changed. `taken` things were taken
    out, where only a part was asked for.
    """

    _shown: ClassVar[tuple[str, ...]] = ("path", "added")
    _document: ClassVar[str] = "restore.MergedFile"

    path: str
    added: int
    differ: tuple[str, ...]
    staged: Path | None = None
    taken: int = 0


class Compared(Value, msgspec.Struct, frozen=True):
    """One check: subject, before, after, passed, details."""

    _shown: ClassVar[tuple[str, ...]] = ("what", "then", "now", "well")
    _document: ClassVar[str] = "restore.Check"

    what: str
    then: str
    now: str
    well: bool
    why: tuple[str, ...] = ()


class Proof(Value, msgspec.Struct, frozen=True):
    """What was compared after a restore."""

    _shown: ClassVar[tuple[str, ...]] = ("well",)

    lines: tuple[Compared, ...]

    @property
    def well(self) -> bool:
        """Whether everything is as it was."""
        return all(line.well for line in self.lines)


class RestoreResult(Value, msgspec.Struct, frozen=True):
    """The summary of a restore.

    `files` and `bytes` are in place and proven, `same` of them were there already; `kept` were left as they
    are here though the chest has other bytes, and `beside` came under another name; `not_done` lists everything
    of the archive that was not brought back, with the reason; `renamed` what has another name here;
    `application` what keeps such a library, if that is known; `outside_files` says of each file from
    outside the library where it was and where it is now. `set_aside` are old and new places of what was in the way.
    `updated` are references that were updated, `by_hand` those that a person has to look at, `settings` what was written
    of the application's, each with the reason if it was not. `merged` is what merging did; `proof` what the library
    was and is; `damage` what is not proven of the archive's records;
    `old_place` what still names where it was. `undoable` says whether anything was done that could be undone;
    `single_files` are the paths in the library of those that were asked for, empty if it was not for single ones.
    """

    _shown: ClassVar[tuple[str, ...]] = ("bag", "place", "files", "well")
    _document: ClassVar[str] = "restore.RestoredLibrary"

    bag: str
    place: Path
    edition: int
    files_listed: int
    files: int
    bytes: int
    same: int
    kept: tuple[str, ...]
    beside: tuple[tuple[str, str], ...]
    replaced: tuple[str, ...]
    folders: int
    links: int
    not_done: tuple[NotDone, ...]
    renamed: tuple[tuple[str, str], ...]
    application: str
    seconds: float
    findings: tuple[Finding, ...]
    proof: Proof
    parts: tuple[str, ...] = ()
    outside_files: tuple[tuple[str, Path], ...] = ()
    set_aside: tuple[tuple[Path, Path], ...] = ()
    updated: tuple[Repoint, ...] = ()
    by_hand: tuple[ByHand, ...] = ()
    settings: tuple[tuple[SettingChange, str], ...] = ()
    merged: tuple[MergeResult, ...] = ()
    damage: tuple[RecordFault, ...] = ()
    undoable: bool = True
    old_place: OldPlace = NO_OLD_PLACE
    single_files: tuple[str, ...] = ()

    @property
    def well(self) -> bool:
        """Whether everything that could be brought back was, no damage was met, and it is what it was."""
        return not any(item.fault for item in self.not_done) and not self.damage and self.proof.well

    @property
    def only_closed(self) -> bool:
        """Whether nothing is wrong but that this user may not read some files of the chest."""
        faults = [item for item in self.not_done if item.fault]
        return bool(faults) and all(item.closed for item in faults) and not self.damage

    def to_frame(self) -> pd.DataFrame:
        """Return one row for each thing not brought back: path, why, fault."""
        return frame(
            [{"path": shown(n.path), "why": n.why, "fault": n.fault} for n in self.not_done],
            columns=["path", "why", "fault"],
        )
