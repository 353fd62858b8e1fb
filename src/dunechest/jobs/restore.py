"""Plan a restore: where a library goes, what will be written, and whether it may be done.

A chest is foreign input. Every path in it is looked at before it is used, nothing is
read or written through a link, and what cannot be trusted is reported instead.
"""

from __future__ import annotations

import os
from dataclasses import dataclass, replace
from pathlib import Path

from dunechest.bag.bag import list_bag, read_bag
from dunechest.chest import editions
from dunechest.chest.chest import BagEntry, Chest
from dunechest.chest.records import FileRecord, LibraryRecord, read_lines
from dunechest.chest.stored import StoredNames
from dunechest.errors import DuneChestError, Refused, WordsOff
from dunechest.findings import Finding, weightiest_first
from dunechest.machine.drives import Filesystem, filesystem
from dunechest.machine.folders import own_home, standard_folders
from dunechest.names import from_wire, shown, why_unsafe
from dunechest.words import number

_PREFIX = "library/"
_STRAYS = "strays/"
#: Standard folders that hold a person's documents; a stray from a drive goes nowhere else in a home.
_VISIBLE = ("pictures", "music", "videos", "documents", "desktop", "home")


@dataclass(frozen=True, slots=True)
class RestoreFile:
    """A file to restore.

    `source` is its path in the bag, `stored` the one it had below ``data/`` in its edition,
    `path` the one it gets below the place; `blake3` (raw) or else `sha512` (hexadecimal) is
    what its bytes must have. `pieces` says that it is to be put together from pieces.
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


@dataclass(frozen=True, slots=True)
class RestoreStray:
    """A gathered stray to restore: where it was, and the places it may get, the first that is free counting."""

    file: RestoreFile
    origin: str
    places: tuple[Path, ...]


@dataclass(frozen=True, slots=True)
class NotDone:
    """Something of the archive that is not brought back as it was: its path, and why.

    `fault` says whether that is damage; a link out of the library is none.
    """

    path: str
    why: str
    fault: bool


@dataclass(frozen=True, slots=True)
class RestorePlan:
    """What restoring one library means.

    `place` is the folder (or for a single file: the file) that will be there
    afterwards; None if no place is known. `folders` are (path, time in ns, mode),
    deepest last; `links` are (path, target, time in ns). `need` and `free` in bytes.
    `listed` counts the files that the records list, whether they are there or not;
    `renamed` maps an archived path to the one it gets here, where these differ.
    """

    chest: Chest
    bag: str
    record: LibraryRecord
    place: Path | None
    files: tuple[RestoreFile, ...]
    strays: tuple[RestoreStray, ...]
    folders: tuple[tuple[str, int, int], ...]
    links: tuple[tuple[str, str, int], ...]
    hard_links: tuple[tuple[str, ...], ...]
    not_done: tuple[NotDone, ...]
    renamed: tuple[tuple[str, str], ...]
    listed: int
    need: int
    free: int
    findings: tuple[Finding, ...]
    whole_sync: bool

    @property
    def bytes(self) -> int:
        """Bytes of the files to restore."""
        return sum(file.size for file in self.files) + sum(stray.file.size for stray in self.strays)


def plan_restore(
    chest: Chest,
    library: str,
    *,
    home: str | os.PathLike[str] | None = None,
    into: str | os.PathLike[str] | None = None,
    edition: int | None = None,
    outward_links: bool | None = None,
) -> RestorePlan:
    """Plan to restore a library. Writes nothing.

    Parameters
    ----------
    chest : Chest
        Where it is.
    library : str
        Its name in the chest.
    home : path, optional
        Whose home it goes into, at the place it had relative to a standard folder;
        one's own by default.
    into : path, optional
        The folder it becomes, exactly.
    edition : int, optional
        Which edition; the current one by default.
    outward_links : bool, optional
        Whether symbolic links that lead out of the library are made. By default only
        if this machine itself archived the library and the bag is unaltered since.

    Returns
    -------
    RestorePlan

    Raises
    ------
    WordsOff
        If there is no such library or home, or `home` and `into` are both given.
    Refused
        If its records are too damaged to restore from.
    """
    if home is not None and into is not None:
        raise WordsOff("--home and --into exclude each other: say whose home, or exactly which folder.")
    if home is not None and not os.path.isdir(home):
        raise WordsOff(f"There is no folder {shown(os.fspath(home))} to be the home. Nothing was changed.")
    entry = chest.bag(library)
    if entry.library is None:
        raise Refused(_no_record(entry))
    record = entry.library
    earlier = edition is not None and edition != record.edition
    if edition is not None:
        record = editions.record_of(entry.folder, record, edition)
    findings: list[Finding] = []
    place = _place(record, home, into, findings)
    near = _nearest(place) if place is not None else None
    here = filesystem(near) if near is not None else None
    not_done: list[NotDone] = []
    files = _earlier_files(entry, record.edition, not_done) if earlier else _files(entry, not_done)
    listed = len(files) + len(not_done)
    paths = _Paths(record, here, not_done)
    folders = paths.folders()
    ready = tuple(paths.file(file) for file in files if not file.stored.startswith(_STRAYS))
    made_here = _made_here(chest, entry)
    links = paths.links(outward_links if outward_links is not None else made_here)
    loose = [file for file in files if file.stored.startswith(_STRAYS)]
    strays = _strays(record, loose, place, home, own_places=made_here and home is None and into is None, into=into)
    need = _need((*ready, *loose), folders, here)
    if place is not None:
        findings += _occupied(place, record)
        if here is not None and need > here.free:
            findings.append(
                Finding(
                    "no-room",
                    "stop",
                    f"{need:,} bytes are needed where the library goes, and {here.free:,} are free: "
                    f"{need - here.free:,} bytes are missing.",
                    "Free that much, or restore to another drive with --into FOLDER.",
                )
            )
        if near is not None and not os.access(near, os.W_OK):
            findings.append(
                Finding(
                    "no-access",
                    "stop",
                    f"You may not write in {shown(str(near))}.",
                    "Restore as someone who may, or elsewhere with --into FOLDER.",
                )
            )
    if record.kind != "folder" and record.application:
        findings.append(
            Finding(
                "first",
                "note",
                f"The library belongs to the application {shown(record.application)}.",
                "Install it first, and do not start it until the restore is done.",
            )
        )
    if record.partial:
        findings.append(
            Finding(
                "partial",
                "note",
                f"This archive holds only a part of the library: {', '.join(shown(p) for p in record.partial)}.",
                "The rest of the library is not in it.",
            )
        )
    if record.incomplete:
        lost = [left for left in record.left_out if left.why.startswith("hollow")]
        findings.append(
            Finding(
                "incomplete",
                "warn",
                f"This archive is not complete: {number(len(record.left_out), 'file')} could not be taken for it"
                + (f", {len(lost)} of them because they were hollow" if lost else "")
                + ".",
                "dune/library.json in the bag names each, with the reason, under left_out.",
            )
        )
    return RestorePlan(
        chest=chest,
        bag=entry.name,
        record=record,
        place=place,
        files=ready,
        strays=strays,
        folders=folders,
        links=links,
        hard_links=paths.hard_links(),
        not_done=tuple(not_done),
        renamed=tuple(sorted(paths.renamed.items())),
        listed=listed,
        need=need,
        free=here.free if here is not None else 0,
        findings=weightiest_first(findings),
        whole_sync=here.whole_sync if here is not None else False,
    )


def _no_record(entry: BagEntry) -> str:
    if entry.state == "unfinished":
        return f"The archive of {shown(entry.name)} was cut off before it was whole; there is nothing to restore yet."
    if entry.state == "foreign":
        return (
            f"{shown(entry.name)} is a bag that Dune Chest did not make: its files lie in "
            f"{shown(str(entry.folder / 'data'))} and can be copied from there. Nothing was changed."
        )
    return (
        f"{shown(entry.name)} cannot be restored by itself: {entry.why} Its files lie in "
        f"{shown(str(entry.folder / 'data'))} and can be copied from there; HOW-TO-RESTORE.txt beside says how."
    )


def _place(
    record: LibraryRecord,
    home: str | os.PathLike[str] | None,
    into: str | os.PathLike[str] | None,
    findings: list[Finding],
) -> Path | None:
    """Decide where the library goes."""
    own_name = from_wire(record.origin.path).replace("\\", "/").rstrip("/").rpartition("/")[2]
    if into is not None:
        target = Path(os.path.abspath(into))
        if record.shape != "file":
            return target
        if why_unsafe(own_name) is None:
            return target / own_name
    elif record.origin.standard:
        relative = from_wire(record.origin.relative)
        base = standard_folders(Path(os.path.abspath(home)) if home is not None else own_home())
        if record.origin.standard in base and why_unsafe(relative) is None:
            return base[record.origin.standard] / relative
    findings.append(
        Finding(
            "no-place",
            "stop",
            f"The library was in {shown(from_wire(record.origin.path))}, which is in no standard folder, so "
            "its place on this machine is not known.",
            "Say where it goes with --into FOLDER.",
        )
    )
    return None


def _nearest(place: Path) -> Path:
    """Return the closest folder above `place` that exists."""
    folder = place.parent
    while not folder.is_dir():
        folder = folder.parent
    return folder


def _occupied(place: Path, record: LibraryRecord) -> list[Finding]:
    """Stop if anything is already there; an empty folder is nothing."""
    parent = place.parent
    while not os.path.lexists(parent):
        parent = parent.parent
    if not parent.is_dir():
        what = f"{shown(str(parent))} is in the way: it is not a folder."
    elif not os.path.lexists(place) or (
        place.is_dir() and not place.is_symlink() and record.shape == "folder" and not os.listdir(place)
    ):
        return []
    else:
        what = f"Something is already in {shown(str(place))}, and nothing existing is ever overwritten."
    return [
        Finding(
            "occupied",
            "stop",
            what,
            "Rename what is there, for example by adding today's date, or restore elsewhere with --into FOLDER.",
        )
    ]


def _files(entry: BagEntry, not_done: list[NotDone]) -> list[RestoreFile]:
    """Gather what the bag lists, from both records, and what of it really lies there as a plain file."""
    bag = read_bag(entry.folder, assume=True)
    lying = list_bag(entry.folder)
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
            why = lying.others.get(path)
            not_done.append(NotDone(stored, f"it is {why}" if why else "it is missing in the chest", True))
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


def _earlier_files(entry: BagEntry, number: int, not_done: list[NotDone]) -> list[RestoreFile]:
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


def _strays(
    record: LibraryRecord,
    files: list[RestoreFile],
    place: Path | None,
    home: str | os.PathLike[str] | None,
    *,
    own_places: bool,
    into: str | os.PathLike[str] | None,
) -> tuple[RestoreStray, ...]:
    """Say where the strays go: to their old places if these make sense here, else into a folder beside the library.

    A chest is foreign input: its full paths are believed only if this machine wrote
    them, and in a home only the folders that a person sees are filled.
    """
    if place is None:
        return ()
    known = {stray.stored: stray for stray in record.strays}
    base = standard_folders(Path(os.path.abspath(home)) if home is not None else own_home())
    beside = place.parent / f"{place.name} strays"
    found = []
    for file in files:
        stray = known.get(file.stored)
        places = []
        origin = from_wire(stray.path) if stray is not None else ""
        if stray is not None and own_places and os.path.isabs(origin) and "\0" not in origin:
            places.append(Path(origin))
        elif stray is not None and into is None and stray.standard in _VISIBLE:
            relative = from_wire(stray.relative)
            hidden = any(piece.startswith(".") for piece in relative.split("/"))
            if why_unsafe(relative) is None and not hidden:
                places.append(base[stray.standard] / relative)
        places.append(beside / file.stored.removeprefix(_STRAYS))
        found.append(RestoreStray(file, origin, tuple(places)))
    return tuple(found)


def _made_here(chest: Chest, entry: BagEntry) -> bool:
    """Whether this machine made the bag and it is unaltered since, so that its records are its own."""
    import hashlib

    from dunechest.ledger.book import opened

    record = entry.library
    if record is None or not (record.links or record.strays):
        return False
    try:
        top = hashlib.sha512((entry.folder / "tagmanifest-sha512.txt").read_bytes()).hexdigest()
        listed = next(m for m in read_bag(entry.folder).tag if m.algorithm == "sha512").entries
        mine = hashlib.sha512((entry.folder / "dune" / "library.json").read_bytes()).hexdigest()
        with opened() as book:
            return listed.get("dune/library.json") == mine and book.archived_here(chest.id, entry.name, top)
    except (OSError, DuneChestError, StopIteration):
        return False


def _need(files: tuple[RestoreFile, ...], folders: tuple[tuple[str, int, int], ...], here: Filesystem | None) -> int:
    block = max(512, here.block) if here is not None else 4096
    total = sum(-(-file.size // block) * block + 512 for file in files) + (len(folders) + 4) * block
    return total + total // 200


class _Paths:
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
        return replace(file, path=name)

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
