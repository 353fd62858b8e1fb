"""Notice when a large share of a library vanished or changed at once."""

from __future__ import annotations

import os
from pathlib import Path

from dunechest.chest.layout import LIBRARY_FILES
from dunechest.findings import Finding
from dunechest.jobs.archive.plan import Difference, PlannedFile
from dunechest.jobs.study.selection import Selection
from dunechest.library.library import Library
from dunechest.transfer.digest_files import digest_files
from dunechest.transfer.system_files import is_of_system
from dunechest.transfer.tasks import DigestTask
from dunechest.words import number

#: From this share of an edition's files on, their vanishing or changing at once is a surprise,
_LARGE_SHARE = 0.5
#: where they are at least so many;
_ENOUGH = 20
#: or, of a small library, so many that nearly all of it changed or went,
_FEW = 8
_NEARLY_ALL = 0.8
#: or so many that went.
_GONE = 5
#: Of files that only have other times so many are read, to see whether they changed at all.
_SAMPLE = 16


def mass_change(found: Difference, library: Library, selection: Selection) -> list[Finding]:
    """Stop if a large share of the files vanished or changed at once, as after a mistake or a malicious encryption.

    What was only left out by choice, or has gone to another name, does not count.
    """
    before = found.files
    gone = set(found.dropped)
    # Only of what is no longer taken it matters whether it is still there.
    listed = (*selection.listing.files, *selection.listing.system)
    present = {path for file in listed if gone and (path := f"{LIBRARY_FILES}{file.path}") in gone}
    present |= {path for path in gone if is_of_system(library.path, path.removeprefix(LIBRARY_FILES))}
    arrived = {(file.entry.size, file.entry.mtime_ns) for file in found.to_read if file.stored not in before}
    vanished = [
        path
        for path in found.dropped
        if path not in present
        and path.startswith(LIBRARY_FILES)
        and (before[path].record.size, before[path].record.mtime_ns) not in arrived
    ]
    changed = [file for file in found.to_read if file.stored in before and not file.outside_file]
    only_times = [file for file in changed if before[file.stored].record.size == file.entry.size]
    if only_times and _as_before(found, library, only_times):
        changed = [file for file in changed if before[file.stored].record.size != file.entry.size]
    total = sum(path.startswith(LIBRARY_FILES) for path in before)
    if not _surprising(total, len(vanished), len(changed)):
        return []
    return [
        Finding(
            "mass-change",
            "blocks",
            f"Of {number(total, 'file')} in the latest edition {number(len(vanished), 'file')} vanished and "
            f"{len(changed):,} changed, all since {found.record.archived}.",
            "That is what a mistake or malicious encryption looks like: open a few of them first. If you did this "
            "yourself, continue with --ignore mass-change; earlier editions are kept.",
            yields=True,
        )
    ]


def _surprising(total: int, vanished: int, changed: int) -> bool:
    """Whether so much of an edition going or changing at once looks like a mistake, or like malicious encryption.

    In a small library a few changed files are a large share of it on any day; that all of it is gone is not.
    """
    count = vanished + changed
    if total > 1 and vanished == total:
        return True
    if vanished >= _GONE and vanished >= total * _LARGE_SHARE:
        return True
    if count >= _FEW and count >= total * _NEARLY_ALL:
        return True
    return count >= _ENOUGH and count >= total * _LARGE_SHARE


def _as_before(found: Difference, library: Library, files: list[PlannedFile]) -> bool:
    """Read a few of many files that only have other times, to see whether they have other bytes too."""
    step = max(1, len(files) // _SAMPLE)
    some = files[::step][:_SAMPLE]
    root = Path(library.path)
    tasks = [
        DigestTask(os.fsencode(root / file.entry.path if library.shape == "folder" else root), file.entry.size)
        for file in some
    ]
    outcomes = digest_files(tasks, lambda count: None)
    return all(
        outcome.state == "ok" and outcome.digests[0].hex() == found.files[file.stored].record.blake3
        for file, outcome in zip(some, outcomes, strict=True)
    )
