"""The editions of a bag: what it holds now, what earlier editions held, and where their bytes are.

``data/`` is the current edition. An earlier one is described by ``dune/editions/NUMBER/``:
its whole `LibraryRecord`, and in ``changes.jsonl`` the files in which it differs from
the next edition that is kept. So the files of an edition are found by going back from the
current one, change by change. Its bytes lie wherever a file of the same BLAKE3 digest does: in
``data/``, or in ``dune/earlier/NUMBER/``, where NUMBER is the last edition that had the file.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from itertools import zip_longest
from pathlib import Path

from dunechest.bag.bag import payload_lines, read_manifest
from dunechest.bag.digests import Digests
from dunechest.chest import journal, records
from dunechest.chest.pieces import Kept, assemble, kept_in
from dunechest.chest.records import EarlierFile, FileRecord, LibraryRecord, TagRecord, read_lines
from dunechest.chest.shelf import Proven, Shelf
from dunechest.errors import DuneChestError, WordsOff
from dunechest.names import shown, why_unsafe

_NUMBER = re.compile(r"\d{4,9}")
_FILES = "dune/files.jsonl"


@dataclass(frozen=True, slots=True)
class Tag:
    """A tag file as the two lists of tag files have it: path, bytes, SHA-512 (hexadecimal), BLAKE3 (hexadecimal)."""

    path: str
    size: int
    sha512: str
    blake3: str


def _torn(bag: Path, what: str) -> DuneChestError:
    return DuneChestError(
        f"{what} in {shown(bag.name)} cannot be relied on, so no edition was added. "
        "Run: dunechest verify, to see what is damaged. Archived under another name (--name), the library is safe."
    )


def current_files(bag: Path) -> Shelf:
    """Return the payload of a bag of our own as its records have it, by path below ``data/``.

    Raises
    ------
    DuneChestError
        If the two records do not speak of the same files, or cannot be read.
    """
    found = Shelf()
    count = 0
    try:
        # Both lists are written in the same order: half a million lines need no table to be found in.
        pairs = zip_longest(payload_lines(bag / "manifest-sha512.txt"), read_lines(bag / _FILES, FileRecord))
        for listed, numbered in pairs:
            if listed is None or numbered is None or numbered[1] is None or listed[0] != numbered[1].path:
                break
            found[listed[0]] = Proven(numbered[1], listed[1])
            count += 1
        else:
            if len(found) == count:
                return found
    except (OSError, ValueError):
        pass  # the longer way says what is wrong
    return _current_files(bag)


def _current_files(bag: Path) -> Shelf:
    """Read two lists that are not in the same order, or say what is wrong with them."""
    slow = _manifest(bag, "manifest-sha512.txt")
    found = Shelf()
    try:
        for number, line in read_lines(bag / _FILES, FileRecord):
            digest = None if line is None else slow.get("data/" + line.path)
            if line is None or digest is None:
                raise _torn(bag, f"Line {number} of dune/files.jsonl")
            found[line.path] = Proven(line, bytes.fromhex(digest))
    except OSError as error:
        raise _torn(bag, f"dune/files.jsonl ({error.strerror})") from error
    if len(found) != len(slow):
        raise _torn(bag, "manifest-sha512.txt")
    return found


def current_tags(bag: Path) -> dict[str, Tag]:
    """Return the tag files of a bag of our own as its records have them, by path in the bag.

    Raises
    ------
    DuneChestError
        If the two lists do not speak of the same files, or cannot be read.
    """
    slow = _manifest(bag, "tagmanifest-sha512.txt")
    found: dict[str, Tag] = {}
    try:
        for number, line in read_lines(bag / "dune" / "tags.jsonl", TagRecord):
            if line is None or line.path not in slow:
                raise _torn(bag, f"Line {number} of dune/tags.jsonl")
            found[line.path] = Tag(line.path, line.size, slow[line.path], line.blake3)
    except OSError as error:
        raise _torn(bag, f"dune/tags.jsonl ({error.strerror})") from error
    if {*found, "dune/tags.jsonl"} != {*slow, "dune/tags.jsonl"}:
        raise _torn(bag, "tagmanifest-sha512.txt")
    return found


def _manifest(bag: Path, name: str) -> Digests:
    manifest = read_manifest(bag, name)
    if manifest is None or manifest.problems:
        raise _torn(bag, name)
    return manifest.entries


def numbers(bag: Path, current: int) -> tuple[int, ...]:
    """Return the numbers of a bag's editions, the current one last."""
    try:
        names = os.listdir(bag / records.EDITIONS)
    except OSError:
        names = []
    found = (name for name in names if _NUMBER.fullmatch(name) and int(name) < current)
    earlier = sorted(int(name) for name in found if (bag / records.EDITIONS / name / "library.json").exists())
    return (*earlier, current)


def check_number(bag: Path, current: int, number: int) -> None:
    """Make sure that there is such an edition.

    Raises
    ------
    WordsOff
        If there is none; the message lists those there are.
    """
    known = numbers(bag, current)
    if number not in known:
        raise WordsOff(
            f"{shown(bag.name)} has no edition {number}. It has: {', '.join(map(str, known))}. "
            "`dunechest editions` shows them."
        )


def record_of(bag: Path, current: LibraryRecord, number: int) -> LibraryRecord:
    """Return the record of an edition.

    Raises
    ------
    WordsOff
        If there is no such edition.
    ChestUnusable
        If its record cannot be read.
    """
    if number == current.edition:
        return current
    check_number(bag, current.edition, number)
    return records.read_edition(bag, number)


def changes_of(bag: Path, number: int) -> Iterator[EarlierFile]:
    """Yield in which files an earlier edition differs from the next.

    Raises
    ------
    DuneChestError
        If a line is torn: then this edition and those before it cannot be known for certain.
    """
    try:
        lines = read_lines(records.edition_folder(bag, number) / "changes.jsonl", EarlierFile)
        for at, line in lines:
            if line is None or why_unsafe(line.path) is not None:
                raise DuneChestError(
                    f"Line {at} of the changes of edition {number} in {shown(bag.name)} is torn. Editions up to "
                    "that one cannot be told for certain; later ones can. Run: dunechest verify"
                )
            yield line
    except OSError as error:
        raise DuneChestError(
            f"The changes of edition {number} in {shown(bag.name)} cannot be read: {error.strerror}."
        ) from error


def files_of(bag: Path, current: int, number: int, files: Mapping[str, FileRecord]) -> dict[str, FileRecord]:
    """Return the files of an edition by path below ``data/``.

    Parameters
    ----------
    bag : Path
        The bag's folder.
    current, number : int
        The current edition, and the one that is wanted.
    files : mapping
        The files of the current one.
    """
    found = dict(files)
    for earlier in reversed(numbers(bag, current)[:-1]):
        if earlier < number:
            break
        step_back(found, changes_of(bag, earlier))
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


@dataclass(frozen=True, slots=True)
class Places:
    """Where a bag's bytes lie, by BLAKE3 digest: paths of plain files, and states that are kept in pieces."""

    plain: dict[str, str]
    pieces: dict[str, Kept]

    def assemble(self, bag: Path, digest: str) -> Iterator[bytes]:
        """Put together a state that is kept in pieces; see `pieces.assemble`."""
        files = {key: bag / path for key, path in self.plain.items()}
        return assemble(bag, self.pieces[digest], self.pieces.values(), files)


def places_of_bytes(bag: Path, files: Iterable[FileRecord]) -> Places:
    """Say where bytes lie in a bag; of several places one in ``data/`` comes first.

    What a list on the drive names is foreign input: no path leaves the bag.
    """
    found: dict[str, str] = {}
    for file in files:
        if why_unsafe(file.path) is None:
            found.setdefault(file.blake3, "data/" + file.path)
    prefix = journal.EARLIER + "/"
    archives = []
    try:
        for _, line in read_lines(bag / "dune" / "tags.jsonl", TagRecord):
            if line is not None and line.path.startswith(prefix) and why_unsafe(line.path) is None:
                found.setdefault(line.blake3, line.path)
                archives.append(line.path)
    except OSError:
        pass  # then only what is in data/ can be had
    return Places(found, kept_in(bag, archives))
