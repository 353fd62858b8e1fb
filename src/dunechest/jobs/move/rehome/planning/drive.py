"""Whether a drive can hold a library while its application works with it: names, links, locks, room, whose it is."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

import msgspec

from dunechest.chest.stored_names import StoredNames
from dunechest.findings import Finding
from dunechest.jobs.study.protected_places import why_archive
from dunechest.jobs.study.room import headroom
from dunechest.ledger.folder import state_folder
from dunechest.library.formats.sqlite import why_no_databases
from dunechest.library.kinds.load import load_kinds
from dunechest.library.kinds.schema import Kind
from dunechest.library.recognise import recognise
from dunechest.machine import volumes
from dunechest.machine.drives import DRIVES, Filesystem, drive_identity, filesystem, holds_modes, with_limits
from dunechest.machine.folders import own_home
from dunechest.machine.probe import Probed, probe, stricter
from dunechest.model.findings import finding_of
from dunechest.model.study import Room
from dunechest.names import shown
from dunechest.transfer.walk import Walk


class NewPlace(msgspec.Struct, frozen=True):
    """Where a library is to go: the folder that will hold it, its filesystem, and what a probe found there.

    `why_not` says why nothing can be written there, `no_databases` why no database can be worked with; empty if it can.
    """

    folder: Path
    filesystem: Filesystem
    probed: Probed | None
    why_not: str = ""
    no_databases: str = ""


def examine(folder: Path) -> NewPlace:
    """Look at a folder that is to hold a library, and try with a few small files what can be done there.

    Raises
    ------
    OSError
        If its filesystem cannot be asked.
    """
    place = filesystem(folder)
    try:
        probed = probe(folder)
    except OSError as error:
        return NewPlace(folder, place, None, error.strerror or str(error))
    place = with_limits(place, stricter(place.limits, probed))
    return NewPlace(folder, place, probed, "", why_no_databases(folder))


def drive_findings(where: NewPlace, source: Path, kind: Kind, listing: Walk, room: Room) -> Iterator[Finding]:
    """Yield what there is to say of a drive as a library's new place."""
    yield from _sort_of_place(where, source)
    yield from _holds(where, kind, listing)
    yield from _modes(where, source, listing)
    yield from room_for(room)
    yield from _inside(where.folder)


def room_for(room: Room) -> Iterator[Finding]:
    """Yield what there is to say of the room where a library goes, with what it will grow by."""
    if room.need > room.free:
        yield finding_of("no-room/rehome", need=room.need, free=room.free, missing=room.need - room.free)
    elif room.free - room.need < (spare := headroom((), room.need)):
        yield finding_of("little-room/rehome", free=room.free - room.need, spare=spare)


def _sort_of_place(where: NewPlace, source: Path) -> Iterator[Finding]:
    folder, place = where.folder, where.filesystem
    if where.why_not or not os.access(folder, os.W_OK):
        yield finding_of("read-only/rehome", folder=str(folder), why_not=where.why_not or "no permission")
    if volumes.is_network(place.type):
        yield finding_of("network/rehome", folder=str(folder), filesystem=place.type)
    if place.type in ("tmpfs", "ramfs"):
        yield finding_of("in-memory/rehome", folder=str(folder))
    mark = volumes.sync_mark(folder, place.mount, Path(os.path.realpath(own_home())))
    if mark:
        yield finding_of("sync-folder/rehome", mark=mark)
    try:
        devices = volumes.devices(folder)
        same = os.stat(folder).st_dev == os.stat(source).st_dev or bool(devices & volumes.devices(source))
        # A folder that DUNECHEST_DRIVES names is a drive of its own: whoever names it says so.
        same = same and not (os.environ.get(DRIVES) and drive_identity(folder) != drive_identity(source))
    except OSError:
        return
    if same:
        yield finding_of("same-device/rehome")
    elif volumes.removable(devices):
        yield finding_of("removable/rehome")


def _holds(where: NewPlace, kind: Kind, listing: Walk) -> Iterator[Finding]:
    """Yield what of a library the drive cannot hold as it is: an application finds nothing under another name."""
    limits, kept = where.filesystem.limits, shown(where.filesystem.type)
    if where.probed is None:
        return
    names = StoredNames(limits, any_bytes=where.probed.any_bytes)
    names.folders(folder.path for folder in listing.folders if folder.path)
    for file in listing.files:
        names.file(file.path)
    if names.changed:
        some = ", ".join(shown(name) for name in sorted(names.changed)[:3]) + (
            ", ..." if len(names.changed) > 3 else ""
        )
        yield finding_of("names/rehome", names=len(names.changed), kept=kept, some=some)
    if listing.links and not where.probed.links:
        yield finding_of("no-links/rehome", kept=kept, links=len(listing.links), first=listing.links[0].path)
    large = [file for file in listing.files if limits.largest is not None and file.size > limits.largest]
    if large:
        yield finding_of("file-too-large/rehome", files=len(large), kept=kept, first=large[0].path)
    if where.no_databases and (kind.databases or kind.in_use.databases):
        yield finding_of("no-databases", kept=kept, no_databases=where.no_databases)


def access_findings(*folders: Path) -> Iterator[Finding]:
    """Yield a finding if something in one of the folders could not be renamed: better now than after hours of copying."""
    for folder in dict.fromkeys(folders):
        if folder.is_dir() and not os.access(folder, os.W_OK | os.X_OK):
            yield finding_of("no-access/rehome", folder=str(folder))
            return


def _modes(where: NewPlace, source: Path, listing: Walk) -> Iterator[Finding]:
    """Yield a finding if the drive gives the same permissions to every file, and the library has different ones."""
    if len({file.mode & 0o111 for file in listing.files}) < 2 or not holds_modes(source) or holds_modes(where.folder):
        return
    programs = sum(bool(file.mode & 0o100) for file in listing.files)
    yield finding_of("modes", filesystem=where.filesystem.type, programs=programs)


def _inside(folder: Path) -> Iterator[Finding]:
    """Yield what forbids a folder to hold a library: it belongs to an archive, or to another library."""
    why = why_archive(folder) if folder.name == "dune-chest" or "dune-chest" in folder.parts else ""
    if why:
        yield finding_of("in-an-archive", folder=str(folder), why=why)
        return
    kinds = [kind for kind in load_kinds(state_folder(), []).values() if not kind.open]
    for above in (folder, *folder.parents):
        if os.path.ismount(above) and above != folder:
            return
        found = recognise(above, kinds)
        if found is not None:
            yield finding_of("in-a-library", folder=str(above), kind=found.kind.title)
            return
