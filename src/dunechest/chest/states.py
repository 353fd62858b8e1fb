"""The state of an edition: what it holds, as one digest, whatever it is called and wherever it lies.

Two editions of one state are the same, on every drive. Which of two states is the newer one is told by what each of them
follows, and by no clock: the newest state is the one that no other known state follows. Two of which neither follows the
other have diverged.

A state is the BLAKE3 digest of a line for each thing in the edition, sorted by its kind and its own path: a file of the
library or from outside with its bytes and BLAKE3 digest, a symbolic link with its target, an empty folder. Times and modes
are no part of it.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable, Iterable, Iterator
from itertools import islice

from blake3 import blake3

from dunechest.chest import editions
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.layout import LIBRARY_FILES
from dunechest.chest.records import FileRecord, LibraryRecord
from dunechest.names import from_wire

#: So many states that an edition follows are recorded in it, the latest first.
_MOST = 100
_BATCH = 2000


def state_of(record: LibraryRecord, files: Callable[[], Iterable[FileRecord]]) -> str:
    """Return the state of an edition.

    Parameters
    ----------
    record : LibraryRecord
        Its record: names, links, folders and outside files.
    files : callable
        Gives its payload, sorted by path; it is gone through twice where names differ from those of the library.
    """
    digest = blake3()
    lines = _lines(record, files)
    while batch := list(islice(lines, _BATCH)):
        digest.update("".join(batch).encode("utf-8", "surrogateescape"))
    return digest.hexdigest()


def _lines(record: LibraryRecord, files: Callable[[], Iterable[FileRecord]]) -> Iterator[str]:
    own = {LIBRARY_FILES + item.stored: from_wire(item.path) for item in record.changed_names}
    outside = {item.stored: from_wire(item.path) for item in record.outside_files}

    def plain() -> Iterator[tuple[str, str]]:
        start = len(LIBRARY_FILES)
        for file in files():
            if file.path.startswith(LIBRARY_FILES) and file.path not in own:
                yield file.path[start:], f"\0{file.size}\0{file.blake3}\n"

    def renamed() -> Iterator[tuple[str, str]]:
        return ((own[f.path], f"\0{f.size}\0{f.blake3}\n") for f in files() if f.path in own)

    # What has its own name comes sorted already, and is not held in memory.
    inside = heapq.merge(plain(), sorted(renamed())) if own else plain()
    yield from (f"file\0{path}{rest}" for path, rest in inside)
    if outside:
        elsewhere = (f for f in files() if not f.path.startswith(LIBRARY_FILES))
        yield from sorted(f"outside\0{outside.get(f.path, f.path)}\0{f.size}\0{f.blake3}\n" for f in elsewhere)
    yield from sorted(f"link\0{from_wire(link.path)}\0{from_wire(link.target)}\n" for link in record.links)
    yield from sorted(f"folder\0{from_wire(folder.path)}\n" for folder in record.folders if folder.empty)


def state_of_bag(own: BagRecords, record: LibraryRecord) -> str:
    """Return the state of the current edition of a bag; one of an earlier version is reckoned from its files.

    Raises
    ------
    RecordDamagedError
        If that takes a record that is not proven.
    """
    if record.state:
        return record.state
    files = editions.current_files(own)
    return state_of(record, files.records)


def states_of_bag(own: BagRecords, current: LibraryRecord) -> dict[int, str]:
    """Return the state of each edition of a bag by its number.

    Raises
    ------
    RecordDamagedError
        If a record that it takes is not proven.
    """
    numbers = own.numbers(current.edition)
    made = {number: editions.known_record(own, current, number) for number in numbers}
    found = {number: record.state for number, record in made.items()}
    if all(found.values()):
        return found
    files = {path: proven.record for path, proven in editions.current_files(own).items()}
    for number in reversed(numbers):
        if number != current.edition:
            editions.step_back(files, editions.changes_of(own, number))
        if not found[number]:
            ordered = [files[path] for path in sorted(files)]
            found[number] = state_of(made[number], lambda: ordered)  # noqa: B023 - called at once
    return found


def following(state: str, *before: tuple[str, Iterable[str]]) -> tuple[str, ...]:
    """Return which states a new one follows: those that it comes after, and what these follow; the latest first.

    Parameters
    ----------
    state : str
        The new one.
    *before : pair of str and iterable of str
        A state that it comes after, and what that follows.
    """
    firsts = [first for first, _ in before]
    rest = [item for _, follows in before for item in follows]
    every = dict.fromkeys(item for item in (*firsts, *rest) if item and item != state)
    return tuple(every)[:_MOST]


def only_in(one: dict[int, str], other: dict[int, str]) -> tuple[int, ...]:
    """Return the editions of one chest whose states another does not have."""
    there = set(other.values())
    return tuple(number for number, state in sorted(one.items()) if state not in there)
