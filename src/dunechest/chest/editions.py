"""The editions of a bag: what it holds now, what earlier editions held, and where their bytes are.

``data/`` is the current edition. An earlier one is described by ``dune/editions/NUMBER/``:
its whole `LibraryRecord`, and in ``changes.jsonl`` the files in which it differs from
the next edition that is kept. So the files of an edition are found by going back from the
current one, change by change. Its bytes lie wherever a file of the same BLAKE3 digest does: in
``data/``, or in ``dune/earlier/NUMBER/``, where NUMBER is the last edition that had the file.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from itertools import zip_longest

import msgspec

from dunechest.bag.bag import payload_lines
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.file_table import FileTable, Proven
from dunechest.chest.layout import DATA, EARLIER, FILES, MANIFEST, changes_path
from dunechest.chest.pieces import Kept, assemble, kept_in
from dunechest.chest.records import EarlierFile, FileRecord, LibraryRecord
from dunechest.chest.tag_lists import RecordFault, Tag
from dunechest.errors import UsageError
from dunechest.names import shown, why_unsafe


def current_files(own: BagRecords) -> FileTable:
    """Return the payload of a bag of our own as its records have it, by path below ``data/``.

    Raises
    ------
    RecordDamagedError
        If one of the two records is not proven, or they do not speak of the same files.
    """
    found = FileTable()
    file, finish = own.open_lines(MANIFEST)
    with file:
        try:
            # Both lists are written in the same order: half a million lines need no table to be found in.
            for listed, line in zip_longest(payload_lines(file), own.lines(FILES, FileRecord)):
                if listed is None or line is None or listed[0] != line.path:
                    raise own.damaged(RecordFault(MANIFEST, "changed", f"it does not list the same files as {FILES}"))
                found[listed[0]] = Proven(line, listed[1])
        except (OSError, ValueError) as error:
            raise own.damaged(RecordFault(MANIFEST, "changed", str(error))) from error
        finish()
    return found


def current_tags(own: BagRecords) -> dict[str, Tag]:
    """Return the tag files of a bag of our own as its lists have them, by path in the bag.

    Raises
    ------
    RecordDamagedError
        If one of the two lists is not proven.
    """
    for fault in own.lists.faults:
        raise own.damaged(fault)
    return dict(own.lists.tags)


def check_number(own: BagRecords, current: int, number: int) -> None:
    """Make sure that there is such an edition.

    Raises
    ------
    UsageError
        If there is none; the message lists those there are.
    """
    known = own.numbers(current)
    if number not in known:
        raise UsageError(
            f"{shown(own.bag.name)} has no edition {number}. It has: {', '.join(map(str, known))}. "
            "`dunechest editions list` shows them."
        )


def record_of(own: BagRecords, current: LibraryRecord, number: int) -> LibraryRecord:
    """Return the record of an edition.

    Raises
    ------
    UsageError
        If there is no such edition.
    RecordDamagedError
        If its record is not proven.
    """
    if number != current.edition:
        check_number(own, current.edition, number)
    return known_record(own, current, number)


def known_record(own: BagRecords, current: LibraryRecord, number: int) -> LibraryRecord:
    """Return the record of an edition that is one of the bag's `numbers`; raises as `record_of` does for damage."""
    return current if number == current.edition else own.edition(number)


def changes_of(own: BagRecords, number: int) -> Iterator[EarlierFile]:
    """Yield in which files an earlier edition differs from the next; all of it counts only if no error follows.

    Raises
    ------
    RecordDamagedError
        If the list is not proven: then this edition and those before it cannot be known for certain.
    """
    path = changes_path(number)
    for line in own.lines(path, EarlierFile):
        if why_unsafe(line.path) is not None:
            raise own.damaged(RecordFault(path, "changed", "it names a path that must not be used"))
        yield line


def files_of(own: BagRecords, current: int, number: int, files: Mapping[str, FileRecord]) -> dict[str, FileRecord]:
    """Return the files of an edition by path below ``data/``.

    Parameters
    ----------
    own : BagRecords
        The bag.
    current, number : int
        The current edition, and the one that is wanted.
    files : mapping
        The files of the current one.
    """
    found = dict(files)
    for earlier in reversed(own.numbers(current)[:-1]):
        if earlier < number:
            break
        step_back(found, changes_of(own, earlier))
    return found


def step_back(files: dict[str, FileRecord], changes: Iterable[EarlierFile]) -> None:
    """Turn the files of an edition into those of the one before."""
    for line in changes:
        if line.absent:
            files.pop(line.path, None)
        else:
            files[line.path] = FileRecord(
                line.path, line.size, line.mtime_ns, line.mode, line.blake3, line.role, line.edition
            )


def differences(earlier: Iterable[FileRecord], later: Iterable[FileRecord]) -> Iterator[EarlierFile]:
    """Yield the lines that turn a later edition into an earlier one; all of them sorted by path."""
    old, new = iter(earlier), iter(later)
    then, now = next(old, None), next(new, None)
    while then is not None or now is not None:
        if then is None or (now is not None and now.path < then.path):
            assert now is not None
            yield EarlierFile(now.path, absent=True)
            now = next(new, None)
            continue
        if then != now:
            yield EarlierFile(
                then.path, False, then.size, then.mtime_ns, then.mode, then.blake3, then.role, then.edition
            )
        if now is not None and now.path == then.path:
            now = next(new, None)
        then = next(old, None)


class Places(msgspec.Struct, frozen=True):
    """Where a bag's bytes lie, by BLAKE3 digest: paths of plain files, and states that are kept in pieces."""

    plain: dict[str, str]
    pieces: dict[str, Kept]

    own: BagRecords

    def assemble(self, digest: str) -> Iterator[bytes]:
        """Put together a state that is kept in pieces; see `pieces.assemble`."""
        files = {key: self.own.at(path) for key, path in self.plain.items()}
        return assemble(self.own.at, self.pieces[digest], self.pieces.values(), files)


def places_of_bytes(own: BagRecords, files: Iterable[FileRecord]) -> Places:
    """Say where bytes lie in a bag; of several places one in ``data/`` comes first.

    What a list on the drive names is foreign input: no path leaves the bag.
    """
    found: dict[str, str] = {}
    for file in files:
        if why_unsafe(file.path) is None:
            found.setdefault(file.blake3, DATA + file.path)
    prefix = EARLIER + "/"
    archives = []
    for path, tag in own.lists.tags.items():
        if path.startswith(prefix) and why_unsafe(path) is None:
            if tag.blake3:
                found.setdefault(tag.blake3, path)
            archives.append(path)
    return Places(found, kept_in(own.at, archives), own)
