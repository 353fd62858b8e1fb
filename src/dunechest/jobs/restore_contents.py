"""What of a bag can be restored: its files, where their bytes lie, and the paths that may be used here."""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import msgspec

from dunechest.bag.bag import Lying, read_bag
from dunechest.chest import editions
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.layout import DATA, FILES, LIBRARY_FILES, MANIFEST
from dunechest.chest.records import FileRecord, LibraryRecord, read_lines
from dunechest.chest.stored_names import StoredNames
from dunechest.chest.tag_lists import RecordFault
from dunechest.errors import RecordDamaged
from dunechest.machine.drives import Filesystem
from dunechest.names import from_wire, parents, why_unsafe
from dunechest.transfer.whole_files import UMASK


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
    #: The folder that is trusted: nothing below it may be a link.
    top: Path | None = None


@dataclass(frozen=True, slots=True)
class NotDone:
    """Something of the archive that is not brought back as it was: its path, and why.

    `fault` says whether that is damage; a link out of the library is none.
    """

    path: str
    why: str
    fault: bool


def current_files(own: BagRecords, not_done: list[NotDone], damage: list[RecordFault]) -> list[RestoreFile]:
    """Gather what the bag lists, from both records, and what of it really lies there as a plain file.

    Parameters
    ----------
    own : BagRecords
        The bag.
    not_done : list of NotDone
        Takes what is listed and cannot be had.
    damage : list of RecordFault
        Takes what is not proven of the records.
    """
    try:
        shelf = editions.current_files(own)
    except RecordDamaged:
        return _from_damaged(own, not_done, damage)
    lying = own.lying
    files = []
    for proven in shelf.by_path():
        line = proven.record
        size = lying.files.get(DATA + line.path)
        fast = _raw(line.blake3)
        if fast is None or why_unsafe(line.path) is not None:
            not_done.append(NotDone(line.path, "its line in the records cannot be used", True))
        elif size is None:
            not_done.append(_gone(line.path, lying))
        else:
            source = own.view.place(DATA + line.path)
            files.append(RestoreFile(source, line.path, line.path, size, line.mtime_ns, line.mode, fast, None))
    return files


def _raw(digest: str) -> bytes | None:
    """Return a BLAKE3 digest raw, or None if it is none."""
    try:
        raw = bytes.fromhex(digest)
    except ValueError:
        return None
    return raw if len(raw) == 32 else None


def _gone(stored: str, lying: Lying) -> NotDone:
    why = lying.others.get(DATA + stored)
    return NotDone(stored, f"it is {why}" if why else "it is missing in the chest", True)


#: What a file gets whose mode is not known: what the umask allows.
NO_MODE = -1


def _from_damaged(own: BagRecords, not_done: list[NotDone], damage: list[RecordFault]) -> list[RestoreFile]:
    """Gather files where one of the two lists is not proven: by the other one, or by each line that still fits.

    A line of a list that is not proven may name a file; it is restored only if its digest proves it. Times and modes
    that it says are not believed.
    """
    not_done.clear()
    faults = [fault for fault in map(own.fault_of, (FILES, MANIFEST)) if fault is not None]
    damage += faults
    lying = own.lying
    names = {fault.path for fault in faults}
    known: dict[str, FileRecord] = {}
    slow: dict[str, str] = {}
    if FILES not in names:
        known = {DATA + line.path: line for line in own.lines(FILES, FileRecord) if why_unsafe(line.path) is None}
    elif MANIFEST in names:
        try:
            for _, line in read_lines(own.at(FILES), FileRecord):
                if line is not None and why_unsafe(line.path) is None and _raw(line.blake3) is not None:
                    known[DATA + line.path] = line
        except OSError:
            pass  # then the other list must do
    if FILES in names:
        bag = read_bag(own.bag, assume=True, at=own.at, names=[path for path in lying.files if "/" not in path])
        slow = {p: d for m in bag.payload if m.algorithm == "sha512" for p, d in m.entries.items()}
    if not names:  # each is proven, and they name different files
        damage.append(RecordFault(MANIFEST, "changed", f"it does not name the files that {FILES} names"))
    files = []
    for path in sorted({*known, *slow}):
        stored = path.removeprefix(DATA)
        if path not in lying.files:
            not_done.append(_gone(stored, lying))
            continue
        line = known.get(path)
        fast = _raw(line.blake3) if line is not None else None
        source, size = own.view.place(path), lying.files[path]
        if line is not None and FILES not in names:
            files.append(RestoreFile(source, stored, stored, size, line.mtime_ns, line.mode, fast, None))
        else:
            time = _time_of(own.at(path))
            files.append(RestoreFile(source, stored, stored, size, time, NO_MODE, fast, slow.get(path)))
    if len(names) == 2:
        listed = {*known, *slow}
        not_done += [
            NotDone(path.removeprefix(DATA), "no record can be believed that names it; it lies in the chest", True)
            for path in sorted(lying.files)
            if path.startswith(DATA) and path not in listed
        ]
    return files


def _time_of(path: Path) -> int:
    try:
        return path.lstat().st_mtime_ns
    except OSError:
        return 0


def earlier_files(own: BagRecords, current: int, number: int, not_done: list[NotDone]) -> list[RestoreFile]:
    """Gather the files of an earlier edition, each from wherever its bytes lie in the bag now.

    Raises
    ------
    RecordDamaged
        If a list that leads back to it is not proven.
    """
    now = {line.path: line for line in own.lines(FILES, FileRecord) if why_unsafe(line.path) is None}
    wanted = editions.files_of(own, current, number, now)
    places = editions.places_of_bytes(own, now.values())
    lying = own.lying
    files = []
    for path, line in sorted(wanted.items()):
        kept = places.pieces.get(line.blake3)
        source = places.plain.get(line.blake3, kept.path if kept is not None else None)
        fast = _raw(line.blake3)
        if fast is None or why_unsafe(path) is not None:
            not_done.append(NotDone(path, "its line in the records cannot be used", True))
            continue
        if source is None or source not in lying.files:
            not_done.append(NotDone(path, "its bytes are missing in the chest", True))
            continue
        in_pieces = line.blake3 not in places.plain
        size = line.size if in_pieces else lying.files[source]
        place = source if in_pieces else own.view.place(source)
        files.append(RestoreFile(place, path, path, size, line.mtime_ns, line.mode, fast, None, in_pieces))
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
                kept.append((path, folder.mtime_ns, folder.mode if self._record.modes else 0o777 & ~UMASK))
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
        if not self._record.modes:  # the mount that it came from gave them, not a person
            file = msgspec.structs.replace(file, mode=NO_MODE)
        below = file.stored.removeprefix(LIBRARY_FILES)
        path = self._own.get(below, below)
        name = self._names.file(path) if self._names is not None else path
        if name != path:
            self.renamed[path] = name
        self._here[path] = name
        return msgspec.structs.replace(file, path=name, own=path)

    def links(self, outward: bool) -> tuple[tuple[str, str, int], ...]:
        """Return the symbolic links to make."""
        links = []
        every = {from_wire(link.path): from_wire(link.target) for link in self._record.links}
        for link in self._record.links:
            path, target = from_wire(link.path), from_wire(link.target)
            why = why_unsafe(path)
            if why is not None:
                self._refuse(path, why, "the link is not made")
            elif path in self._here:
                self._refuse(path, "a file or folder has the same one", "the link is not made")
            elif "\0" in target or not target:
                self._refuse(path, "its target is none", "the link is not made")
            elif behind(path, every):
                self._refuse(path, "it lies behind another link", "the link is not made")
            elif leads_out(path, target, every) and not outward:
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


def behind(path: str, links: Mapping[str, str]) -> bool:
    """Whether a path goes through a link, so that what is made there would lie elsewhere."""
    return any(above in links for above in parents(path))


#: So many links are followed one after the other, as systems do; a longer chain leads nowhere.
_MOST_LINKS = 40


def leads_out(path: str, target: str, links: Mapping[str, str] | None = None) -> bool:
    r"""Whether a link at `path` in a library points out of the library, through the library's other links too.

    Parameters
    ----------
    path, target : str
        The link.
    links : mapping
        All links of the library: path and target.

    >>> leads_out("a/b", "../c"), leads_out("a/b", "../../c"), leads_out("a", "/etc")
    (False, True, True)
    >>> leads_out("b", "a/../x", {"a": "c/d/e", "b": "a/../x"}), leads_out("c/b", "../a/..", {"a": ".", "c/b": "../a/.."})
    (False, True)
    """
    every = links if links is not None else {}
    followed = 0
    here = path.split("/")[:-1]
    pending = _pieces(target)
    while pending is not None and pending:
        piece = pending.pop(0)
        if piece in ("", "."):
            continue
        if piece == "..":
            if not here:
                return True
            here.pop()
            continue
        here.append(piece)
        further = every.get("/".join(here))
        if further is not None:
            followed += 1
            if followed > _MOST_LINKS:
                return False  # it leads in a circle: nothing can be opened by it
            here.pop()
            more = _pieces(further)
            pending = None if more is None else more + pending
    return pending is None


def _pieces(target: str) -> list[str] | None:
    """Split a target; None for one that begins at the top of the system."""
    plain = target.replace("\\", "/") if os.sep == "\\" else target
    if plain.startswith("/") or (os.sep == "\\" and ":" in plain):
        return None
    return plain.split("/")
