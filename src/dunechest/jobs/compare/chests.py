"""Compare two whole chests: each library in both, file by file, and the editions of each."""

from __future__ import annotations

import os
from pathlib import Path
from typing import ClassVar

import msgspec

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.find_chest import find_chest
from dunechest.chest.states import only_in, states_of_bag
from dunechest.errors import CutOffError, DuneChestError, UsageError
from dunechest.jobs.compare.by_bytes import compare
from dunechest.jobs.compare.result import Comparison
from dunechest.jobs.known_chests import list_chests
from dunechest.jobs.named import get_chest
from dunechest.names import AnyPath, shown
from dunechest.progress import Progress, silent
from dunechest.values import Value


class LibraryComparison(Value, msgspec.Struct, frozen=True):
    """What two chests have of a library.

    `first_editions` and `second_editions` are the numbers of what each has, empty if it has none; `files` compares the
    current ones, None if that cannot be done, `why` says then why not. `first_only_editions` and `second_only_editions` are
    the numbers of those whose state the other does not have, whatever it is called there.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "same")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "same",
        "first_editions",
        "second_editions",
        "first_only_editions",
        "second_only_editions",
        "files",
        "why",
    )

    name: str
    first_editions: tuple[int, ...]
    second_editions: tuple[int, ...]
    files: Comparison | None
    why: str = ""
    first_only_editions: tuple[int, ...] = ()
    second_only_editions: tuple[int, ...] = ()

    @property
    def same_editions(self) -> bool:
        """Whether both have the same states."""
        return not (self.first_only_editions or self.second_only_editions)

    @property
    def same(self) -> bool:
        """Whether both have the same editions, and the current ones are the same."""
        return self.files is not None and self.files.same and self.same_editions


class ChestComparison(Value, msgspec.Struct, frozen=True):
    """The differences between two chests."""

    _shown: ClassVar[tuple[str, ...]] = ("first", "second", "same")
    _rows: ClassVar[str] = "libraries"

    first: str
    second: str
    libraries: tuple[LibraryComparison, ...]

    @property
    def same(self) -> bool:
        """Whether they hold the same."""
        return all(library.same for library in self.libraries)


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
