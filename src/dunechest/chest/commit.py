"""Decide the change that makes what is pending the bag itself, and carry it out by the journal."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from pathlib import Path

from dunechest.chest import journal
from dunechest.chest.journal import Rename
from dunechest.chest.layout import DATA, DATA_FOLDER, DECLARATION, DUNE, MOVED, PAYLOAD, PENDING, PENDING_TAGS
from dunechest.errors import CutOffError
from dunechest.names import shown
from dunechest.transfer import disk
from dunechest.transfer.below import folders_in
from dunechest.transfer.walk import each_file


def finish_decided(bag: Path) -> None:
    """Finish a change of a bag that was decided before: whoever had the chest then may have died after deciding it.

    Raises
    ------
    CutOffError
        If it cannot be finished now.
    """
    try:
        journal.finish(bag)
    except OSError as error:
        raise CutOffError(
            f"A change of {shown(bag.name)} was interrupted and cannot be finished now: {error.strerror}. Every file is on "
            "the drive."
        ) from error


def flush_pending(bag: Path, *, whole: bool) -> None:
    """Bring the names in all pending folders to the medium, before a change is decided.

    Parameters
    ----------
    bag : Path
        The bag's folder.
    whole : bool
        Whether one call may flush the whole filesystem.
    """
    pending = bag / PENDING
    if whole and hasattr(os, "O_DIRECTORY"):
        fd = os.open(pending, os.O_RDONLY)
        try:
            if disk.flush_filesystem(fd):
                return
        finally:
            os.close(fd)
    for folder in folders_in(pending):
        disk.flush_folder(folder)
    for above in (bag / DUNE, bag, bag.parent):
        disk.flush_folder(above)


def commit_new(bag: Path) -> None:
    """Decide and carry out the change that makes a new bag of what is pending.

    The payload goes into place as one folder, then each tag file, the declaration last: a
    folder without one is not taken for a bag.
    """
    steps = tag_steps(bag)
    declaration = tuple(step for step in steps if step.new == DECLARATION)
    others = tuple(step for step in steps if step.new != DECLARATION)
    commit(bag, ((Rename(PAYLOAD, DATA_FOLDER),), others, declaration))


def commit(bag: Path, phases: tuple[journal.Phase, ...]) -> None:
    """Decide a change, and carry it out."""
    phases = tuple(phase for phase in phases if phase)
    journal.refuse_if_impossible(bag, phases)
    journal.write(bag, phases)
    journal.carry_out(bag, phases)


def tag_steps(bag: Path) -> journal.Phase:
    """Return the steps that put the tag files in place that are pending."""
    tags = bag / PENDING_TAGS
    paths = sorted(file.path for file in each_file(str(tags)))
    return tuple(Rename(f"{PENDING_TAGS}/{path}", path) for path in paths)


def next_edition_phases(
    bag: Path,
    *,
    leaving: Mapping[str, str],
    moved: Mapping[str, str],
    arriving: Iterable[str],
    folders: Iterable[str],
    old_folders: Iterable[str],
) -> tuple[journal.Phase, ...]:
    """Return the phases that turn a bag into its next edition, without the tag files.

    Parameters
    ----------
    bag : Path
        The bag's folder.
    leaving : mapping
        What leaves ``data/``: path below it, and path in the bag where it goes.
    moved : mapping
        What gets another name: old and new path below ``data/``.
    arriving : iterable of str
        What comes from the pending payload: paths below ``data/``.
    folders, old_folders : iterable of str
        Folders below ``data/`` that are to be there afterwards, and those that were.
    """
    between = MOVED
    out = [Rename(f"{DATA}{old}", new) for old, new in leaving.items()]
    out += [Rename(f"{DATA}{old}", f"{between}/{n}") for n, old in enumerate(moved)]
    wanted = set(folders)
    gone = sorted(set(old_folders) - wanted, key=lambda path: -path.count("/"))
    tidy = [Rename(f"{DATA}{path}", "") for path in gone]
    made = [Rename("", f"{DATA}{path}") for path in sorted(wanted - set(old_folders))]
    into = [Rename(f"{PAYLOAD}/{path}", f"{DATA}{path}") for path in arriving]
    into += [Rename(f"{between}/{n}", f"{DATA}{new}") for n, new in enumerate(moved.values())]
    return (tuple(out), tuple(tidy), tuple(made), tuple(into))
