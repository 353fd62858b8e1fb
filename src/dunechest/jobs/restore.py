"""Plan a restore: where a library goes, what will be written, and whether it may be done.

A chest is foreign input. Every path in it is looked at before it is used, nothing is
read or written through a link, and what cannot be trusted is reported instead.
"""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

from dunechest.bag.bag import read_bag
from dunechest.chest import editions
from dunechest.chest.chest import BagEntry, Chest
from dunechest.chest.records import LibraryRecord
from dunechest.errors import DuneChestError, Refused, WordsOff
from dunechest.findings import Finding, weightiest_first
from dunechest.jobs.restore_contents import (
    NotDone,
    Paths,
    RestoreFile,
    RestoreStray,
    current_files,
    earlier_files,
)
from dunechest.machine.drives import Filesystem, filesystem
from dunechest.machine.folders import own_home, standard_folders
from dunechest.names import from_wire, shown, why_unsafe
from dunechest.words import number

_STRAYS = "strays/"
#: Standard folders that hold a person's documents; a stray from a drive goes nowhere else in a home.
_VISIBLE = ("pictures", "music", "videos", "documents", "desktop", "home")


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
    files = earlier_files(entry, record.edition, not_done) if earlier else current_files(entry, not_done)
    listed = len(files) + len(not_done)
    paths = Paths(record, here, not_done)
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
