"""What of a bag can be restored: its files, where their bytes lie, and the paths that may be used here."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

import msgspec

from dunechest.bag.bag import Lying, list_bag, read_bag
from dunechest.chest import editions
from dunechest.chest.chest import BagEntry
from dunechest.chest.records import FileRecord, LibraryRecord, read_lines
from dunechest.chest.stored import StoredNames
from dunechest.errors import DuneChestError, Refused
from dunechest.machine.drives import Filesystem
from dunechest.names import from_wire, shown, why_unsafe

_PREFIX = "library/"


class RestoreFile(msgspec.Struct, frozen=True, gc=False):
    """A file to restore.

    `source` is its path in the bag, `stored` the one it had below ``data/`` in its edition,
    `path` the one it gets below the place; `blake3` (raw) or else `sha512` (hexadecimal) is
    what its bytes must have (another algorithm stands before it, with a colon).
    `pieces` says that it is to be put together from pieces; `own` is its
    path in the library.
    """

    source: str
    stored: str
    path: str
    size: int
    mtime_ns: int
    mode: int
    blake3: bytes | None
    sha512: str | None
    pieces: bool = False
    own: str = ""

    @property
    def proof(self) -> tuple[str, bytes]:
        """The algorithm by which its bytes are believed, and the digest (raw)."""
        if self.blake3 is not None:
            return "blake3", self.blake3
        algorithm, _, digest = (self.sha512 or "").rpartition(":")
        return algorithm or "sha512", bytes.fromhex(digest)


@dataclass(frozen=True, slots=True)
class RestoreStray:
    """A gathered stray to restore: where it was, the place it gets, and whether it is there already."""

    file: RestoreFile
    origin: str
    place: Path
    there: bool = False


@dataclass(frozen=True, slots=True)
class NotDone:
    """Something of the archive that is not brought back as it was: its path, and why.

    `fault` says whether that is damage; a link out of the library is none.
    """

    path: str
    why: str
    fault: bool


def current_files(entry: BagEntry, not_done: list[NotDone]) -> list[RestoreFile]:
    """Gather what the bag lists, from both records, and what of it really lies there as a plain file."""
    lying = list_bag(entry.folder)
    try:
        shelf = editions.current_files(entry.folder)
    except DuneChestError:
        return _from_damaged(entry, lying, not_done)
    files = []
    for proven in shelf.by_path():
        line = proven.record
        if len(line.blake3) != 64 or why_unsafe(line.path) is not None:
            return _from_damaged(entry, lying, not_done)
        size = lying.files.get("data/" + line.path)
        if size is None:
            not_done.append(_gone(line.path, lying))
            continue
        fast = bytes.fromhex(line.blake3)
        files.append(
            RestoreFile("data/" + line.path, line.path, line.path, size, line.mtime_ns, line.mode, fast, None)
        )
    return files


def _gone(stored: str, lying: Lying) -> NotDone:
    why = lying.others.get("data/" + stored)
    return NotDone(stored, f"it is {why}" if why else "it is missing in the chest", True)


def _from_damaged(entry: BagEntry, lying: Lying, not_done: list[NotDone]) -> list[RestoreFile]:
    """Gather what two records say that do not agree: each line counts that can be read in either."""
    not_done.clear()
    bag = read_bag(entry.folder, assume=True)
    slow = {
        path: digest
        for manifest in bag.payload
        if manifest.algorithm == "sha512"
        for path, digest in manifest.entries.items()
    }
    known: dict[str, FileRecord] = {}
    try:
        for _, line in read_lines(entry.folder / "dune" / "files.jsonl", FileRecord):
            if line is not None and why_unsafe(line.path) is None and len(line.blake3) == 64:
                known["data/" + line.path] = line
    except (OSError, DuneChestError):
        pass  # the manifest alone must do: digests are there, times and modes are not
    files = []
    for path in sorted({*known, *slow}):
        stored = path.removeprefix("data/")
        line = known.get(path)
        if path not in lying.files:
            not_done.append(_gone(stored, lying))
            continue
        try:
            fast = bytes.fromhex(line.blake3) if line is not None else None
        except ValueError:
            line, fast = None, None
        if line is None:
            files.append(RestoreFile(path, stored, stored, lying.files[path], 0, 0o644, None, slow.get(path)))
        else:
            size = lying.files[path]
            files.append(RestoreFile(path, stored, stored, size, line.mtime_ns, line.mode, fast, slow.get(path)))
    return files


def earlier_files(entry: BagEntry, number: int, not_done: list[NotDone]) -> list[RestoreFile]:
    """Gather the files of an earlier edition, each from wherever its bytes lie in the bag now."""
    assert entry.library is not None
    bag = entry.folder
    current: dict[str, FileRecord] = {}
    try:
        for at, line in read_lines(bag / "dune" / "files.jsonl", FileRecord):
            if line is None or why_unsafe(line.path) is not None:
                raise Refused(
                    f"Line {at} of dune/files.jsonl in {shown(entry.name)} is torn, so earlier editions cannot be "
                    "told for certain. The current one can be restored; its files lie in data/."
                )
            current[line.path] = line
    except OSError as error:
        raise Refused(f"dune/files.jsonl in {shown(entry.name)} cannot be read: {error.strerror}.") from error
    wanted = editions.files_of(bag, entry.library.edition, number, current)
    places = editions.places_of_bytes(bag, current.values())
    lying = list_bag(bag)
    files = []
    for path, line in sorted(wanted.items()):
        kept = places.pieces.get(line.blake3)
        source = places.plain.get(line.blake3, kept.path if kept is not None else None)
        if source is None or source not in lying.files or len(line.blake3) != 64:
            not_done.append(NotDone(path, "its bytes are missing in the chest", True))
            continue
        try:
            fast = bytes.fromhex(line.blake3)
        except ValueError:
            not_done.append(NotDone(path, "its record is torn", True))
            continue
        in_pieces = line.blake3 not in places.plain
        size = line.size if in_pieces else lying.files[source]
        files.append(RestoreFile(source, path, path, size, line.mtime_ns, line.mode, fast, None, in_pieces))
    return files


class Paths:
    """Turns archived paths into paths that may be used here."""

    def __init__(self, record: LibraryRecord, here: Filesystem | None, not_done: list[NotDone]) -> None:
        self._record = record
        self._not_done = not_done
        self._names = StoredNames(here.limits, any_bytes=True) if here is not None else None
        #: Path below data/library/ and path in the library, for changed names that may be used.
        self._own: dict[str, str] = {}
        for changed in record.changed_names:
            path = from_wire(changed.path)
            why = why_unsafe(path)
            if why is None:
                self._own[changed.stored] = path
            else:
                self._refuse(path, why, "it keeps the name it has in the chest")
        self._here: dict[str, str] = {}
        #: Paths that get another name here.
        self.renamed: dict[str, str] = {}

    def _refuse(self, path: str, why: str, instead: str) -> None:
        self._not_done.append(NotDone(path, f"its path is not used: {why}; {instead}", True))

    def folders(self) -> tuple[tuple[str, int, int], ...]:
        """Return the folders to make."""
        kept = []
        for folder in self._record.folders:
            path = from_wire(folder.path)
            why = why_unsafe(path) if path else None
            if why is not None:
                self._refuse(path, why, "the folder is not made")
            else:
                kept.append((path, folder.mtime_ns, folder.mode))
        if self._names is not None:
            self._names.folders(path for path, _, _ in kept)
            kept = [(self._name_of_folder(path), mtime, mode) for path, mtime, mode in kept]
        return tuple(sorted(kept, key=lambda f: (f[0].count("/"), f[0])))

    def _name_of_folder(self, path: str) -> str:
        assert self._names is not None
        name = self._names.folder(path) if path else ""
        if name != path:
            self.renamed[path] = name
        self._here[path] = name
        return name

    def file(self, file: RestoreFile) -> RestoreFile:
        """Return the file with the path it gets here."""
        below = file.stored.removeprefix(_PREFIX)
        path = self._own.get(below, below)
        name = self._names.file(path) if self._names is not None else path
        if name != path:
            self.renamed[path] = name
        self._here[path] = name
        return msgspec.structs.replace(file, path=name, own=path)

    def links(self, outward: bool) -> tuple[tuple[str, str, int], ...]:
        """Return the symbolic links to make."""
        links = []
        for link in self._record.links:
            path, target = from_wire(link.path), from_wire(link.target)
            why = why_unsafe(path)
            if why is not None:
                self._refuse(path, why, "the link is not made")
            elif path in self._here:
                self._refuse(path, "a file or folder has the same one", "the link is not made")
            elif "\0" in target or not target:
                self._refuse(path, "its target is none", "the link is not made")
            elif leads_out(path, target) and not outward:
                why = f"a link to {target}, out of the library; it is not made unless --outward-links is given"
                self._not_done.append(NotDone(path, why, False))
            else:
                links.append((path, target, link.mtime_ns))
        return tuple(links)

    def hard_links(self) -> tuple[tuple[str, ...], ...]:
        """Return the groups of names that were one file, as far as they are restored."""
        groups = []
        for group in self._record.hard_links:
            names = tuple(self._here[p] for p in map(from_wire, group) if p in self._here)
            if len(names) > 1:
                groups.append(names)
        return tuple(groups)


def leads_out(path: str, target: str) -> bool:
    r"""Whether a link at `path` in a library points out of the library, by its text alone.

    >>> leads_out("a/b", "../c"), leads_out("a/b", "../../c"), leads_out("a", "/etc")
    (False, True, True)
    """
    plain = target.replace("\\", "/") if os.sep == "\\" else target
    if plain.startswith("/") or (os.sep == "\\" and ":" in plain):
        return True
    depth = path.count("/")
    for piece in plain.split("/"):
        if piece == "..":
            depth -= 1
            if depth < 0:
                return True
        elif piece not in ("", "."):
            depth += 1
    return False
