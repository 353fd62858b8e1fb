"""Compare two whole chests: each library in both, file by file, and the editions of each."""

from __future__ import annotations

import os
from pathlib import Path

import msgspec

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.find_chest import find_chest
from dunechest.chest.states import only_in, states_of_bag
from dunechest.errors import CutOffError, DuneChestError, UsageError
from dunechest.jobs.check.compare.by_bytes import compare
from dunechest.jobs.known.chests import list_chests
from dunechest.jobs.known.named import get_chest
from dunechest.model.compare import ChestComparison, LibraryComparison
from dunechest.names import AnyPath, shown
from dunechest.progress import Progress, silent


def names_a_chest(text: str) -> bool:
    """Whether a person's word is the label or id of a chest, or a folder with one in it."""
    if os.path.lexists(text):
        return os.path.isdir(text) and find_chest(Path(text)) is not None
    return any(text == chest.id or text.casefold() == chest.label.casefold() for chest in list_chests().chests)


def compare_chests(
    first: Chest | AnyPath, second: Chest | AnyPath, *, progress: Progress = silent
) -> ChestComparison:
    """Compare two chests: each library that either has, every byte of its current edition.

    Parameters
    ----------
    first, second : Chest, path or label
        The chests.
    progress : Progress
        Told how far it is.

    Raises
    ------
    UsageError
        If both are the same chest, or one is none.
    CutOffError
        If a drive went away.
    """
    one, two = get_chest(first), get_chest(second)
    if os.path.samefile(one.folder, two.folder):
        raise UsageError(f"{shown(one.label)} and {shown(two.label)} are the same chest. Name two different ones.")
    ours, theirs = ({entry.name: entry for entry in chest.bags()} for chest in (one, two))
    libraries = []
    for name in sorted(ours.keys() | theirs.keys()):
        pair = _editions(ours.get(name)), _editions(theirs.get(name))
        if name in ours and name in theirs:
            found = _compare(name, pair, (one, two), progress)
            first_only, second_only = _only(ours[name], theirs[name], pair)
            libraries.append(
                msgspec.structs.replace(found, first_only_editions=first_only, second_only_editions=second_only)
            )
        else:
            libraries.append(
                LibraryComparison(name, *pair, None, f"only in {shown((one if name in ours else two).label)}")
            )
    return ChestComparison(one.label, two.label, tuple(libraries))


def _compare(
    name: str, pair: tuple[tuple[int, ...], tuple[int, ...]], chests: tuple[Chest, Chest], progress: Progress
) -> LibraryComparison:
    try:
        files = compare(*(chest.folder / name for chest in chests), progress=progress)
    except CutOffError:
        raise
    except DuneChestError as error:
        return LibraryComparison(name, *pair, None, str(error))
    return LibraryComparison(name, *pair, files)


def _only(
    first: BagEntry, second: BagEntry, pair: tuple[tuple[int, ...], tuple[int, ...]]
) -> tuple[tuple[int, ...], tuple[int, ...]]:
    """Return the numbers of the editions that only one of two bags has, by their states; by the numbers if these are damaged."""
    try:
        if first.library is not None and second.library is not None:
            ours, theirs = states_of_bag(first.records, first.library), states_of_bag(second.records, second.library)
            return only_in(ours, theirs), only_in(theirs, ours)
    except DuneChestError:
        pass
    ours_, theirs_ = pair
    return tuple(n for n in ours_ if n not in theirs_), tuple(n for n in theirs_ if n not in ours_)


def _editions(entry: BagEntry | None) -> tuple[int, ...]:
    if entry is None or entry.library is None:
        return ()
    return entry.records.numbers(entry.library.edition)
