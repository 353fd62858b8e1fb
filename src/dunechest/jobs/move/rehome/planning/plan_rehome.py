"""Plan to move a library to a drive, on to another drive, or back. Nothing here changes anything."""

from __future__ import annotations

import os
import uuid
from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec
from msgspec.structs import replace

from dunechest.errors import NotConnectedError, RefusedError, UsageError
from dunechest.findings import Finding, most_serious_first
from dunechest.jobs.known.homes import home_at, home_of_second, list_homes
from dunechest.jobs.move.rehome.planning.drive import NewPlace, access_findings, drive_findings, examine
from dunechest.jobs.move.rehome.planning.inside import hard_links_of, links_of, references_of, with_modes
from dunechest.jobs.move.rehome.planning.way import settings_to
from dunechest.jobs.restore.aside import aside_name, nothing_in
from dunechest.jobs.restore.old_place import old_place_findings
from dunechest.jobs.restore.planning.room import need_of
from dunechest.jobs.study.contents import study
from dunechest.jobs.study.protected_places import why_protected
from dunechest.library.library import Library
from dunechest.library.references.resolve import not_taken
from dunechest.machine.drives import drive_identity, drive_of, holds_modes
from dunechest.machine.folder_links import target_of
from dunechest.machine.folders import own_home
from dunechest.model.findings import finding_of
from dunechest.model.homes import Home
from dunechest.model.rehome import USUAL, OutsideMove, RehomeOptions, RehomePlan, Way
from dunechest.model.restore import Target
from dunechest.model.study import Contents, Room
from dunechest.names import quoted, shown
from dunechest.paths import divides, is_link
from dunechest.transfer.walk import entry_of
from dunechest.values import PathAndWhy


class _Errand(msgspec.Struct, frozen=True):
    """Where a library goes, and where its application used to find it."""

    contents: Contents
    options: RehomeOptions
    target: Path
    old: Path
    home: Home | None
    back: bool

    @property
    def library(self) -> Library:
        """The library."""
        return self.contents.library

    @property
    def source(self) -> Path:
        """Where it is now."""
        return self.contents.library.path


def plan_rehome(library: Library, to: Path, options: RehomeOptions = USUAL) -> RehomePlan:
    """Plan to move a library to a drive. Changes nothing.

    Parameters
    ----------
    library : Library
        What to move; one that was moved already is moved on.
    to : Path
        The folder on the drive that is to hold the library's own folder.
    options : RehomeOptions
        What was chosen.

    Raises
    ------
    UsageError
        If there is no such folder, or the library is a single file.
    """
    if library.shape != "folder":
        raise UsageError(f"{shown(library.name)} is a single file; only folders are moved like this.")
    name = options.name if options.name is not None else library.path.name
    if not name or name in (".", "..") or divides(name):
        raise UsageError(f"--as {shown(name)!r} is not the name of a folder.")
    if not to.is_dir():
        raise UsageError(f"There is no folder {shown(str(to))}. Connect the drive, or make the folder first.")
    homes = list_homes()
    home = home_at(library.path, homes)
    second = home_of_second(library.path, homes)
    if second is not None:
        raise RefusedError(
            f"Refused: nothing was moved. {second.message} First make one library of the two: "
            f"dunechest rehome --rejoin {quoted(second.name)}"
        )
    target = Path(os.path.realpath(to)) / name
    return _plan(_Errand(study(library), options, target, home.old_path if home else library.path, home, False))


def plan_back(home: Home, library: Library, options: RehomeOptions = USUAL) -> RehomePlan:
    """Plan to move a library back to where its application found it at first. Changes nothing.

    Parameters
    ----------
    home : Home
        The moved library.
    library : Library
        The same as a library, where it is now.
    options : RehomeOptions
        What was chosen.

    Raises
    ------
    NotConnectedError
        If its drive is not connected.
    RefusedError
        If there is a second library in the way.
    """
    refuse_away(home)
    if home.second is not None:
        raise RefusedError(
            f"Refused: nothing was moved. {home.message} First make one library of the two: "
            f"dunechest rehome --rejoin {quoted(home.name)}"
        )
    return _plan(_Errand(study(library), options, home.old_path, home.old_path, home, True))


def refuse_away(home: Home) -> None:
    """Raise `NotConnectedError` if a moved library is not there."""
    if not home.connected:
        raise NotConnectedError(
            f"{shown(home.name)} is on the drive {shown(home.drive)}, which is not connected. Nothing was changed. Connect "
            "it, and run the same command again."
        )


def _plan(errand: _Errand) -> RehomePlan:
    contents, options = errand.contents, errand.options
    source, target, listing = errand.source, errand.target, contents.listing
    where = examine(_holder(target))
    files = tuple(file for file in listing.files if file.path not in contents.lock_marks)
    folders = listing.folders
    if not holds_modes(source):  # the mount that it comes from gave them, not a person
        files, folders = with_modes(files, folders, errand.home.past.id if errand.home is not None else "")
    settings = () if options.link else settings_to(errand.library.kind, source, target)
    way: Way = "setting" if settings else "link"
    outside = tuple(_outside(errand)) if options.outside_files else ()
    kind, references, old_place = references_of(contents, target, way, {o.entry.path: o.place for o in outside})
    moved = (*files, *(item.entry for item in outside))
    mount = drive_of(where.folder)
    link_before = target_of(errand.old) if errand.old != source else ""
    plan = RehomePlan(
        library=errand.library,
        kind=kind,
        options=options,
        new_path=target,
        old_path=errand.old,
        back=errand.back,
        way=way,
        drive=_called(target, mount),
        files=files,
        folders=folders,
        links=links_of(listing, source, target, way),
        unmoved_files=tuple(
            [PathAndWhy(other.path, other.why) for other in listing.others]
            + [PathAndWhy(path, "it says who has the library open") for path in sorted(contents.lock_marks)]
        ),
        hard_links=hard_links_of(files),
        outside=outside,
        reference_plan=references,
        settings=settings,
        link_before=link_before,
        set_aside_path=aside_name(source, options.day),
        room=Room(need_of(moved, listing.folders, where.filesystem), where.filesystem.free),
        place=Target(os.stat(where.folder).st_dev, where.filesystem.whole_sync),
        id=uuid.uuid4().hex,
        below=os.path.relpath(target, mount) if target.is_relative_to(mount) else "",
        identity=drive_identity(where.folder),
        old_place=old_place,
    )
    return replace(plan, findings=most_serious_first(_findings(errand, plan, where)))


def _holder(target: Path) -> Path:
    """Return the folder that will hold the library; for one that goes back, the nearest that is there."""
    folder = target.parent
    while not os.path.lexists(folder):
        folder = folder.parent
    return folder


def _called(target: Path, mount: Path) -> str:
    """Return what people call the drive: the name of the folder in which it appears."""
    if mount.name and target.is_relative_to(mount):
        return mount.name
    return target.parent.name or str(target.parent)


def _outside(errand: _Errand) -> Iterator[OutsideMove]:
    """Yield the files stored elsewhere that move along, and where each goes: beside the library."""
    beside = errand.target.with_name(f"{errand.target.name} outside files")
    taken: set[str] = set()
    paths = {r.target for r in errand.contents.references.references if r.state == "outside"}
    for path in sorted(paths):
        entry = entry_of(path)
        if entry is None or entry.placeholder or not_taken(path):
            continue
        name, count = f"{Path(path).parent.name or 'files'}/{Path(path).name}", 1
        while name.casefold() in taken:
            count += 1
            name = f"{Path(path).parent.name or 'files'} {count}/{Path(path).name}"
        taken.add(name.casefold())
        yield OutsideMove(entry, beside / name)


def _findings(errand: _Errand, plan: RehomePlan, where: NewPlace) -> Iterator[Finding]:
    contents = errand.contents
    yield from _of_the_library(contents)
    yield from _of_the_places(errand, plan)
    yield from drive_findings(where, errand.source, contents.library.kind, contents.listing, plan.room)
    yield from _of_the_references(plan, contents)
    if plan.way == "setting":
        yield from old_place_findings(plan.old_place)


def _of_the_library(contents: Contents) -> Iterator[Finding]:
    library, listing = contents.library, contents.listing
    application = shown(library.kind.application) or "the application"
    for use in contents.uses[:1]:
        number_ = f" (process {use.process_id})" if use.process_id > 0 else ""
        yield finding_of("in-use/rehome", process=use.process, number=number_, how=use.how, application=application)
    why = why_protected(library.path, own_home())
    if why:
        yield finding_of("protected-place/rehome", path=str(library.path), why=why)
    if listing.unreadable:
        first = listing.unreadable[0]
        yield finding_of("unreadable/rehome", names=len(listing.unreadable), first=first.path, why=first.why)
    placeholders = [file for file in listing.files if file.placeholder]
    if placeholders:
        yield finding_of("placeholders/rehome", files=len(placeholders), first=placeholders[0].path)
    licensed = [file for file in listing.files if contents.roles.get(file.path) == "must-not-leave"]
    if licensed:
        yield finding_of(
            "must-not-leave/rehome",
            files=len(licensed),
            total=sum(f.size for f in licensed),
            some=", ".join(shown(f.path) for f in licensed[:3]),
            more=", ..." if len(licensed) > 3 else "",
        )
    if listing.others:
        yield finding_of("no-files/rehome", odd=len(listing.others))


def _of_the_places(errand: _Errand, plan: RehomePlan) -> Iterator[Finding]:
    source, target = errand.source, errand.target
    if target == source:
        yield finding_of("there-already/rehome", library=errand.library.name, target=str(target))
        return
    if target.is_relative_to(source):
        yield finding_of("inside-itself", target=str(target))
    yield from access_findings(
        source.parent, *([errand.old.parent] if plan.way == "link" or plan.link_before else [])
    )
    ours = errand.back and bool(plan.link_before) and plan.link_before in _known_places(errand.home)
    empty = target.is_dir() and not is_link(target) and nothing_in(target)
    if os.path.lexists(target) and not ours and not empty:
        if errand.back:
            yield finding_of("occupied/back", target=str(target))
        else:
            yield finding_of("occupied/rehome", target=str(target))
    if not errand.back and errand.old != source and os.path.lexists(errand.old) and not plan.link_before:
        yield finding_of("occupied/old-place", old=str(errand.old))


def _known_places(home: Home | None) -> Sequence[str]:
    return (home.past.place, str(home.path)) if home is not None else ()


def _of_the_references(plan: RehomePlan, contents: Contents) -> Iterator[Finding]:
    lost = plan.reference_plan.lost
    if lost:
        yield finding_of("references-lost/rehome", references=len(lost), text=lost[0].text, file=lost[0].file)
    outside = {r.target for r in contents.references.references if r.state == "outside"}
    left = sorted(outside - {item.entry.path for item in plan.outside})
    if left:
        some = ", ".join(shown(path) for path in left[:3]) + (", ..." if len(left) > 3 else "")
        yield finding_of("outside-files-left/rehome", files=len(left), some=some)
