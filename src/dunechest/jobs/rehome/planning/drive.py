"""Whether a drive can hold a library while its application works with it: names, links, locks, room, whose it is."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

import msgspec

from dunechest.chest.stored_names import StoredNames
from dunechest.findings import Finding
from dunechest.jobs.protected import why_archive
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
from dunechest.model.study import Room
from dunechest.names import shown
from dunechest.transfer.walk import Walk
from dunechest.words import number, size


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
        yield Finding(
            "no-room",
            "blocks",
            f"Not enough space there: {size(room.need)} needed, {size(room.free)} free, {size(room.need - room.free)} short.",
            "Free that much on the drive, or use another drive.",
        )
    elif room.free - room.need < (spare := headroom((), room.need)):
        yield Finding(
            "little-room",
            "warning",
            f"It fits and leaves {size(room.free - room.need)} free. A library in use grows: {size(spare)} more may soon be "
            "needed.",
            "Plan for a larger drive.",
        )


def _sort_of_place(where: NewPlace, source: Path) -> Iterator[Finding]:
    folder, place = where.folder, where.filesystem
    if where.why_not or not os.access(folder, os.W_OK):
        yield Finding(
            "read-only",
            "blocks",
            f"{shown(str(folder))} cannot be written to: {shown(where.why_not or 'no permission')}.",
            "Make it writable (the drive's switch, its permissions, how it is mounted), or use another drive.",
        )
    if volumes.is_network(place.type):
        yield Finding(
            "network",
            "blocks",
            f"{shown(str(folder))} is not on a drive of this computer: its filesystem ({shown(place.type)}) is on a network "
            "or provided by a program. Many applications damage a library there.",
            "Use a drive that is connected to this computer. Or continue with --ignore network.",
            yields=True,
        )
    if place.type in ("tmpfs", "ramfs"):
        yield Finding(
            "in-memory",
            "warning",
            f"{shown(str(folder))} is in memory: it is lost when the computer is switched off.",
            "Use a real drive.",
        )
    mark = volumes.sync_mark(folder, place.mount, Path(os.path.realpath(own_home())))
    if mark:
        yield Finding(
            "sync-folder",
            "blocks",
            f"That folder seems to be synchronised with another place: {shown(mark)}. A library in use is damaged when two "
            "computers change it.",
            "Use a drive of your own. Or continue with --ignore sync-folder.",
            yields=True,
        )
    try:
        devices = volumes.devices(folder)
        same = os.stat(folder).st_dev == os.stat(source).st_dev or bool(devices & volumes.devices(source))
        # A folder that DUNECHEST_DRIVES names is a drive of its own: whoever names it says so.
        same = same and not (os.environ.get(DRIVES) and drive_identity(folder) != drive_identity(source))
    except OSError:
        return
    if same:
        yield Finding(
            "same-device",
            "warning",
            "It is on the same drive as the library is now: moving it there frees nothing.",
            "Name a folder on another drive.",
        )
    elif volumes.removable(devices):
        yield Finding(
            "removable",
            "info",
            "The drive can be unplugged.",
            "Connect it before you start the application, and eject it before you unplug it.",
        )


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
        yield Finding(
            "names",
            "blocks",
            f"{number(len(names.changed), 'name')} cannot be used on that drive ({kept}): {some}.",
            "Give them other names in the application first, or use a drive with another filesystem.",
        )
    if listing.links and not where.probed.links:
        yield Finding(
            "no-links",
            "blocks",
            f"That drive ({kept}) cannot hold symbolic links, and the library has {len(listing.links):,}; first "
            f"{shown(listing.links[0].path)}.",
            "Use a drive with another filesystem.",
        )
    large = [file for file in listing.files if limits.largest is not None and file.size > limits.largest]
    if large:
        yield Finding(
            "file-too-large",
            "blocks",
            f"{number(len(large), 'file')} too large for that drive ({kept}); first {shown(large[0].path)}.",
            "Use a drive with another filesystem.",
        )
    if where.no_databases and (kind.databases or kind.in_use.databases):
        yield Finding(
            "no-databases",
            "blocks",
            f"That drive ({kept}) cannot hold a database in use: {shown(where.no_databases)}.",
            "Use a drive with another filesystem.",
        )


def access_findings(*folders: Path) -> Iterator[Finding]:
    """Yield a finding if something in one of the folders could not be renamed: better now than after hours of copying."""
    for folder in dict.fromkeys(folders):
        if folder.is_dir() and not os.access(folder, os.W_OK | os.X_OK):
            yield Finding(
                "no-access",
                "blocks",
                f"No permission to rename anything in {shown(str(folder))}.",
                "Run the command as a user who has it.",
            )
            return


def _modes(where: NewPlace, source: Path, listing: Walk) -> Iterator[Finding]:
    """Yield a finding if the drive gives the same permissions to every file, and the library has different ones."""
    if len({file.mode & 0o111 for file in listing.files}) < 2 or not holds_modes(source) or holds_modes(where.folder):
        return
    programs = sum(bool(file.mode & 0o100) for file in listing.files)
    yield Finding(
        "modes",
        "warning",
        f"That drive ({shown(where.filesystem.type)}) keeps no permissions: every file there has the same ones, and "
        f"{number(programs, 'program')} in the library {'is' if programs == 1 else 'are'} no longer told from other files.",
        "Version control may show all files as changed there. Moving it back gives the permissions back.",
    )


def _inside(folder: Path) -> Iterator[Finding]:
    """Yield what forbids a folder to hold a library: it belongs to an archive, or to another library."""
    why = why_archive(folder) if folder.name == "dune-chest" or "dune-chest" in folder.parts else ""
    if why:
        yield Finding("in-an-archive", "blocks", f"{shown(str(folder))}: {shown(why)}.", "Name another folder.")
        return
    kinds = [kind for kind in load_kinds(state_folder(), []).values() if not kind.open]
    for above in (folder, *folder.parents):
        if os.path.ismount(above) and above != folder:
            return
        found = recognise(above, kinds)
        if found is not None:
            yield Finding(
                "in-a-library",
                "blocks",
                f"{shown(str(above))} is a library itself ({shown(found.kind.title)}).",
                "Name a folder that belongs to no application.",
            )
            return
