"""The account of an archive run: what was found, what was copied, what was left out and why."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from dunechest.chest.file_table import FileTable
from dunechest.chest.layout import OUTSIDE_FILES
from dunechest.chest.records import ChangeCounts
from dunechest.errors import DuneChestError
from dunechest.findings import Finding
from dunechest.jobs.archive import ArchivePlan
from dunechest.jobs.study.selection import LeftBehind
from dunechest.names import shown

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True, slots=True)
class ArchiveResult:
    """The account of an archive run for one library.

    `files_found` is `files_copied` plus the number of `left_out`, and so for bytes;
    `bytes_stored` differs from `bytes_copied` only by captured databases, which
    have a size of their own. `again` are files that changed while they were read and
    were read again; `broken` are databases that SQLite finds damaged or cannot
    read, with its words; `appeared` and `moved_on` are files that came, or changed, after
    they could be copied. `resumed` counts files that an earlier, cut-off run had
    already brought to the drive. `parts` are the titles of the parts asked for, empty
    for the whole library; `strays` of the files copied came from outside it, and
    `strays_left` were not gathered. `edition` is the one that was made, or is there just so;
    `kept` of the files copied were on the drive already, from an earlier edition; `changes` count
    what changed since; `silent` are files with other bytes though size and time are the same. `healed` are files that
    had gone from the chest, or had another size there, and were copied again; `lost` are those of which the library has
    other bytes by now.
    """

    library: str
    bag: str
    folder: Path
    state: str
    files_found: int
    bytes_found: int
    files_copied: int
    bytes_copied: int
    bytes_stored: int
    left_out: tuple[LeftBehind, ...]
    folders: int
    links: int
    databases: int
    changed_names: tuple[tuple[str, str], ...]
    again: tuple[str, ...]
    broken: tuple[tuple[str, str], ...]
    appeared: tuple[str, ...]
    moved_on: tuple[str, ...]
    resumed: int
    seconds: float
    findings: tuple[Finding, ...]
    parts: tuple[str, ...] = ()
    strays: int = 0
    strays_bytes: int = 0
    strays_left: int = 0
    edition: int = 1
    kept: int = 0
    changes: ChangeCounts | None = None
    silent: tuple[str, ...] = ()
    healed: tuple[str, ...] = ()
    lost: tuple[tuple[str, str], ...] = ()

    @property
    def bytes_left_out(self) -> int:
        """Bytes of the files left out."""
        return sum(one.size for one in self.left_out)

    @property
    def well(self) -> bool:
        """Whether everything that can be archived was, and nothing moved meanwhile."""
        return not (
            any(one.fault for one in self.left_out)
            or self.broken
            or self.appeared
            or self.moved_on
            or self.silent
            or self.lost
        )

    def to_frame(self) -> pd.DataFrame:
        """Return one row a file left out: path, bytes, why, fault."""
        import pandas as pd

        return pd.DataFrame(
            [{"path": shown(o.path), "bytes": o.size, "why": o.why, "fault": o.fault} for o in self.left_out],
            columns=["path", "bytes", "why", "fault"],
        )


def account_unchanged(plan: ArchivePlan, bag: Path, seconds: float) -> ArchiveResult:
    """Return the account of a run that found nothing to do."""
    return ArchiveResult(
        library=plan.library.name,
        bag=plan.bag,
        folder=bag,
        state="unchanged",
        files_found=plan.files_found,
        bytes_found=plan.bytes_found,
        files_copied=0,
        bytes_copied=0,
        bytes_stored=0,
        left_out=plan.left_out,
        folders=len(plan.listing.folders),
        links=len(plan.listing.links),
        databases=len(plan.databases) + len(plan.kept_databases),
        changed_names=(),
        again=(),
        broken=(),
        appeared=(),
        moved_on=(),
        resumed=0,
        seconds=seconds,
        findings=plan.findings,
        parts=tuple(part.title for part in plan.selection.parts),
        strays_left=len(plan.selection.strays_not_taken),
        edition=plan.previous.record.edition if plan.previous is not None else 1,
    )


def account_archived(
    plan: ArchivePlan,
    bag: Path,
    *,
    stored: FileTable,
    copied: int,
    unread: Collection[str],
    grown: int,
    left_out: Sequence[LeftBehind],
    databases: int,
    again: Sequence[str],
    broken: Sequence[tuple[str, str]],
    appeared: tuple[str, ...],
    moved_on: tuple[str, ...],
    resumed: int,
    seconds: float,
    silent: Sequence[str],
    changes: ChangeCounts | None,
) -> ArchiveResult:
    """Draw up the account of a run.

    Parameters
    ----------
    stored : Shelf
        What the edition holds.
    copied : int
        Bytes in the library of what was taken of it.
    unread : collection of str
        Of what is stored, what could not be read now and is as it was.
    grown : int
        Bytes by which files were larger when they were read than when they were listed.

    Raises
    ------
    DuneChestError
        If what was found is not what was copied and left out: a fault of this program.
    """
    result = ArchiveResult(
        library=plan.library.name,
        bag=plan.bag,
        folder=bag,
        state="archived",
        files_found=plan.files_found,
        bytes_found=plan.bytes_found + grown,
        files_copied=len(stored) - len(unread),
        bytes_copied=copied,
        bytes_stored=stored.bytes,
        left_out=tuple(sorted(left_out, key=lambda one: one.path)),
        folders=len(plan.listing.folders),
        links=len(plan.listing.links),
        databases=databases,
        changed_names=tuple(sorted(plan.changed_names.items())),
        again=tuple(again),
        broken=tuple(broken),
        appeared=appeared,
        moved_on=moved_on,
        resumed=resumed,
        seconds=seconds,
        findings=plan.findings,
        parts=tuple(part.title for part in plan.selection.parts),
        strays=sum(path.startswith(OUTSIDE_FILES) for path in stored),
        strays_bytes=sum(stored.size(path) for path in stored if path.startswith(OUTSIDE_FILES)),
        strays_left=len(plan.selection.strays_not_taken),
        edition=plan.edition,
        kept=stored.count_there - len(unread),
        changes=changes,
        silent=tuple(silent),
    )
    sums = (result.files_copied + len(result.left_out), result.bytes_copied + result.bytes_left_out)
    if sums != (result.files_found, result.bytes_found):
        raise DuneChestError(
            f"The account of {shown(plan.bag)} does not add up: {result.files_found} files and "
            f"{result.bytes_found} bytes were found, {sums[0]} and {sums[1]} are accounted for. "
            "Verify the bag before you trust it, and report this as a fault of Dune Chest."
        )
    return result
