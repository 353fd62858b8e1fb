"""What already exists there, and the decision for each file: nothing existing is ever lost."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Sequence
from pathlib import Path

from dunechest.chest.records import LibraryRecord
from dunechest.findings import Finding
from dunechest.jobs.restore.aside import aside_name, nothing_in
from dunechest.jobs.restore.planning.merge import Merge
from dunechest.jobs.study.protected_places import why_protected
from dunechest.library.kinds.schema import Kind
from dunechest.model.findings import finding_of
from dunechest.model.restore import Existing, RestoreFile, RestoreOptions
from dunechest.names import from_wire
from dunechest.transfer.walk import each_file
from dunechest.values import SetAside
from dunechest.words import number


def look_at_place(
    place: Path,
    record: LibraryRecord,
    kind: Kind,
    files: Sequence[RestoreFile],
    options: RestoreOptions,
    label: str,
    tell: Callable[[int], None],
) -> Existing:
    """Look at what is in a place, and decide about it as was chosen. Nothing is changed."""
    blocked = _blocked(place)
    if blocked is not None:
        return Existing("refuse", tuple(files), findings=(blocked,))
    if not os.path.lexists(place) or (record.shape == "folder" and _is_folder(place) and nothing_in(place)):
        return Existing("free", tuple(files))
    if options.mode == "set-aside":
        if why := why_protected(place, options.home_folder):
            return Existing("refuse", tuple(files), findings=(_protected(place, why, record),))
        return Existing("set-aside", tuple(files), set_aside=(SetAside(place, aside_name(place, options.day)),))
    if options.mode == "refuse":
        return Existing("refuse", tuple(files), findings=(_occupied(place, record, files),))
    fits = _is_folder(place) if record.shape == "folder" else stat.S_ISREG(place.lstat().st_mode)
    if not fits:
        what = finding_of("occupied/not-mergeable", place=str(place), shape=record.shape)
        return Existing("refuse", tuple(files), findings=(what,))
    return Merge(place, record, kind, files, options, label, tell).decided()


def _protected(place: Path, why: str, record: LibraryRecord) -> Finding:
    name = from_wire(record.origin.path).replace("\\", "/").rstrip("/").rpartition("/")[2] or record.name
    return finding_of("protected-place/restore", place=str(place), why=why, inside=str(place / name))


def _is_folder(place: Path) -> bool:
    return stat.S_ISDIR(place.lstat().st_mode)


def _blocked(place: Path) -> Finding | None:
    parent = place.parent
    while not os.path.lexists(parent):
        parent = parent.parent
    if parent.is_dir():
        return None
    return finding_of("occupied/in-the-way", parent=str(parent))


def _occupied(place: Path, record: LibraryRecord, files: Sequence[RestoreFile]) -> Finding:
    """Say that something is there, and what it looks like."""
    looks = ""
    if record.shape == "folder" and _is_folder(place):
        sizes = {file.path: file.size for file in files}
        there = {entry.path: entry.size for entry in each_file(str(place))}
        alike = sum(sizes.get(path) == size for path, size in there.items())
        if alike:
            looks = f" {number(alike, 'file')} of {len(files):,} have the same name and size in both."
        else:
            looks = f" It holds {number(len(there), 'file')}, none of them from this library."
    return finding_of("occupied/restore", place=str(place), looks=looks)
