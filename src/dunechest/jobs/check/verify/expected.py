"""What a bag should hold, from its manifests and records.

A bag of our own has each payload file's digest in two places: SHA-512 in the
manifest, BLAKE3 in ``dune/files.jsonl``. The faster one is checked; where it does
not fit, the other decides whether the file or the record is damaged. Tag files
likewise: SHA-512 in the tag manifest, BLAKE3 in ``dune/tags.jsonl``.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Mapping, MutableMapping
from typing import NamedTuple

import msgspec
from msgspec.structs import replace

from dunechest.bag.bag import Bag, BagListing, list_bag, spelled_as
from dunechest.bag.manifest import Manifest, Problem
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.layout import DATA, EARLIER, FILES, MANIFEST, TAG_MANIFEST, TAGS
from dunechest.chest.records import FileRecord, read_lines
from dunechest.names import why_unsafe
from dunechest.transfer.tasks import DigestOutcome

#: What earlier editions had is listed as tag files are, and as large as the payload.
BULKY = (DATA, EARLIER + "/")


class Expected(msgspec.Struct, frozen=True):
    """What a bag should hold (`files`, by path), what lies in it, and problems of its records.

    `disagree` names, for a path that only one record has, the other record.
    """

    own: bool
    files: ExpectedFiles
    lying: BagListing
    problems: list[Problem]
    fetched: frozenset[str]
    disagree: Mapping[str, str] = msgspec.field(default_factory=dict)
    #: Missing files, and the name under which each lies that differs in case or in the form of accents alone.
    spelled: Mapping[str, str] = msgspec.field(default_factory=dict)


def expected_files(bag: Bag, own: BagRecords | None = None) -> Expected:
    """Gather from a bag's manifests and records what it should hold; `own` are the records of one of our own."""
    fetched = frozenset(entry.path for entry in bag.fetch)
    if own is not None:
        return _own(bag, own, fetched)
    lying = list_bag(bag.folder)
    files = ExpectedFiles()
    files.update(
        (path, ExpectedFile(tuple(_listed(bag, path)))) for m in (*bag.payload, *bag.tag) for path in m.entries
    )
    return Expected(False, files, spelled_as(lying, files, bag.folder), list(bag.problems), fetched)


def _listed(bag: Bag, path: str) -> list[tuple[str, str]]:
    """Return algorithm and digest of a path from each manifest that names it."""
    return [(m.algorithm, m.entries[path]) for m in (*bag.payload, *bag.tag) if path in m.entries]


def _own(bag: Bag, own: BagRecords, fetched: frozenset[str]) -> Expected:
    lying = own.lying
    # A payload manifest that is gone is missed by name, as a tag file. The tag manifest is judged with its twin.
    problems = [problem for problem in bag.problems if problem.file and problem.file != TAG_MANIFEST]
    problems += [Problem(fault.path, 0, fault.why) for fault in own.lists.faults]
    # One manifest is what every bag of ours has; another beside it may say other things of the same paths.
    files = ExpectedFiles(bag.payload[0] if len(bag.payload) == 1 else None)
    disagree: dict[str, str] = {}
    # Half a million lines are turned into what is wanted one by one: no list of them is kept beside.
    if FILES in lying.files:
        try:
            for number, line in read_lines(own.at(FILES), FileRecord):
                if line is not None and files.put(DATA + line.path, line.blake3, line.size):
                    continue
                path = "" if line is None else DATA + line.path
                slow = next(((m.algorithm, m.entries[path]) for m in bag.payload if path in m.entries), None)
                # A path that a manifest lists has been looked at there.
                if line is None or (slow is None and why_unsafe(line.path) is not None):
                    problems.append(Problem(FILES, number, "the line is damaged"))
                    continue
                files[path] = ExpectedFile((("blake3", line.blake3),), line.size, slow)
                if slow is None and MANIFEST in lying.files:
                    disagree[path] = MANIFEST
        except OSError as error:
            problems.append(Problem(FILES, 0, f"it cannot be read: {error.strerror}"))
    for path in [path for manifest in bag.payload for path in manifest.entries if path not in files]:
        files[path] = ExpectedFile(tuple(_listed(bag, path)))
        if FILES in lying.files:
            disagree[path] = FILES
    for path, tag in own.lists.tags.items():
        slow = ("sha512", tag.sha512) if tag.sha512 else None
        fast = ("blake3", tag.blake3) if tag.blake3 else None
        both = tuple(item for item in (fast, slow) if item is not None)
        size = tag.size if tag.size >= 0 else None
        if path == TAGS and any(fault.path == TAGS for fault in own.lists.faults):
            continue  # judged already
        if path.startswith(BULKY) and len(both) == 2:
            files[path] = ExpectedFile(both[:1], size, slow)
        else:
            # A tag file is small: have both digests computed at once, so that each speaks.
            files[path] = ExpectedFile(both, size)
    return _with_spellings(Expected(True, files, lying, problems, fetched, disagree), own)


def _with_spellings(expected: Expected, own: BagRecords) -> Expected:
    """Find missing files under names that differ in case or in the form of accents alone.

    What the drive finds by the name that is listed is where it should be, however the folder spells it.
    """
    there = expected.lying.files
    missing = [path for path in expected.files if path.startswith(DATA) and path not in there]
    spelled = {path: other for path in missing if (other := own.other_spelling(path)) is not None}
    same = {other: path for path, other in spelled.items() if own.finds(path)}
    if same:
        there = {same.get(path, path): size for path, size in there.items()}
    spelled = {path: other for path, other in spelled.items() if other not in same}
    return msgspec.structs.replace(expected, lying=replace(expected.lying, files=there), spelled=spelled)


class ExpectedFile(NamedTuple):
    """What a file should be: digests by algorithm that decide, its size if recorded, and a second digest."""

    digests: tuple[tuple[str, str], ...]
    size: int | None = None
    other: tuple[str, str] | None = None

    @property
    def algorithms(self) -> tuple[str, ...]:
        """The algorithms to compute."""
        return tuple([name for name, _ in self.digests])

    def fits(self, outcome: DigestOutcome) -> bool:
        """Whether all computed digests are the expected ones."""
        found = outcome.digests
        if len(found) == 1 == len(self.digests):  # nearly always
            return found[0].hex() == self.digests[0][1]
        return [d.hex() for d in found] == [digest for _, digest in self.digests]


#: Whether the row holds a file, its bytes, and its BLAKE3 digest.
_ROW = struct.Struct("<?Q32s")
_FAST = ("blake3",)


class ExpectedFiles(MutableMapping[str, ExpectedFile]):
    """What each file of a bag should be, by path.

    What a manifest and the record beside it both list takes a row of a table, with the
    manifest's own table for the path and the second digest; all else is held as it is.

    Parameters
    ----------
    manifest : Manifest, optional
        The payload manifest of a bag of our own. It must not change any more.
    """

    def __init__(self, manifest: Manifest | None = None) -> None:
        self._manifest = manifest
        self._rows = bytearray(_ROW.size * len(manifest.entries) if manifest is not None else 0)
        self._count = 0
        self._others: dict[str, ExpectedFile] = {}

    def put(self, path: str, blake3: str, size: int) -> bool:
        """Enter what the record says of a file; False if this is not a file of the manifest, or no intact line."""
        if self._manifest is None or (row := self._manifest.entries.row(path)) is None:
            return False
        try:
            raw = bytes.fromhex(blake3)
            if len(raw) != 32 or raw.hex() != blake3:
                return False
            new = not self._rows[row * _ROW.size]
            _ROW.pack_into(self._rows, row * _ROW.size, True, size, raw)
        except (struct.error, ValueError):
            return False
        self._count += new
        self._others.pop(path, None)
        return True

    def algorithms(self, path: str) -> tuple[str, ...]:
        """Return the algorithms to compute of a file; the quick form of ``self[path].algorithms``."""
        return _FAST if self._row(path) is not None else self._others[path].algorithms

    def fits(self, path: str, outcome: DigestOutcome) -> bool:
        """Whether all computed digests of a file are the expected ones."""
        row = self._row(path)
        if row is None:
            return self._others[path].fits(outcome)
        at = row * _ROW.size + _ROW.size - 32
        return outcome.digests == (bytes(self._rows[at : at + 32]),)

    def _row(self, path: str) -> int | None:
        row = self._manifest.entries.row(path) if self._manifest is not None else None
        return row if row is not None and self._rows[row * _ROW.size] else None

    def __getitem__(self, path: str) -> ExpectedFile:
        row = self._row(path)
        if row is None or self._manifest is None:
            return self._others[path]
        _, size, raw = _ROW.unpack_from(self._rows, row * _ROW.size)
        slow = (self._manifest.algorithm, self._manifest.entries[path])
        return ExpectedFile((("blake3", raw.hex()),), size, slow)

    def __setitem__(self, path: str, wanted: ExpectedFile) -> None:
        self._take_row(path)
        self._others[path] = wanted

    def __delitem__(self, path: str) -> None:
        if not self._take_row(path):
            del self._others[path]

    def _take_row(self, path: str) -> bool:
        row = self._row(path)
        if row is None:
            return False
        self._rows[row * _ROW.size] = 0
        self._count -= 1
        return True

    def __contains__(self, path: object) -> bool:
        return isinstance(path, str) and (self._row(path) is not None or path in self._others)

    def __len__(self) -> int:
        return self._count + len(self._others)

    def __iter__(self) -> Iterator[str]:
        if self._manifest is not None:
            entries, rows, step = self._manifest.entries, self._rows, _ROW.size
            if self._count == len(entries):
                yield from entries
            else:
                yield from [path for path, row in entries.rows() if rows[row * step]]
        yield from self._others
