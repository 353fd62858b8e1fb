"""Plan to free the space of a library whose copies are proven. Nothing here changes anything."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec
from msgspec.structs import replace

from dunechest import clock
from dunechest.errors import UsageError
from dunechest.findings import Finding, most_serious_first
from dunechest.jobs.known.homes import home_at, home_of_second, list_homes
from dunechest.jobs.known.protection import read_rules
from dunechest.jobs.move.reclaim.held import Held
from dunechest.jobs.move.reclaim.planning.around import around_findings
from dunechest.jobs.move.reclaim.planning.copies import copies_of, with_missing
from dunechest.jobs.move.reclaim.planning.staying import (
    LEFT_OUT,
    Named,
    Split,
    blocks_of,
    empty_ones,
    others_staying,
    split,
)
from dunechest.jobs.study.contents import study
from dunechest.jobs.study.take_out import parts_of, shared_finding, take_out
from dunechest.ledger.ledger import open_ledger
from dunechest.library.library import Library
from dunechest.library.parts import Part
from dunechest.machine.drives import drive_identity
from dunechest.machine.physical import physical
from dunechest.model.findings import finding_of
from dunechest.model.overview import Protection
from dunechest.model.reclaim import USUAL, Evidence, ReclaimOptions, ReclaimPlan
from dunechest.model.study import Contents, TakeOut
from dunechest.names import from_wire, quoted, shown
from dunechest.transfer.walk import FileEntry, entry_of
from dunechest.values import PathAndWhy
from dunechest.words import number

#: Seconds by which the clocks of a computer and of its drives may differ.
_CLOCK = 120


class _Case(msgspec.Struct, frozen=True):
    """A library that is to go, or parts of it, and the copies that were found."""

    contents: Contents
    options: ReclaimOptions
    parts: tuple[Part, ...]
    taken: TakeOut | None
    copies: tuple[Evidence, ...]
    held: tuple[Held | None, ...]
    divided: Split
    rule: Protection

    @property
    def library(self) -> Library:
        """The library."""
        return self.contents.library

    @property
    def good(self) -> tuple[Evidence, ...]:
        """The copies that count, one for each drive unless fewer drives than copies are asked for."""
        safe = [copy for copy in self.copies if copy.counts]
        if self.rule.own_drives < self.rule.copies:
            return tuple(safe)
        drives: dict[str, Evidence] = {}
        for copy in safe:
            drives.setdefault(copy.drive or copy.chest_id, copy)
        return tuple(drives.values())

    @property
    def relied_on(self) -> tuple[Held, ...]:
        """What the copies that count hold."""
        return tuple(h for copy, h in zip(self.copies, self.held, strict=True) if copy.counts and h is not None)


def plan_original(library: Library, options: ReclaimOptions = USUAL) -> ReclaimPlan:
    """Plan to delete a library that is safe in chests, or parts of it. Changes nothing.

    Parameters
    ----------
    library : Library
        The library, where it is now.
    options : ReclaimOptions
        What was chosen.

    Raises
    ------
    UsageError
        If it is a single file, or has no such part.
    CutOffError
        If it cannot be listed.
    """
    if library.shape != "folder":
        raise UsageError(f"{shown(library.name)} is a single file: delete it yourself once it is archived.")
    contents = study(library)
    parts = parts_of(contents, options.parts)
    taken = take_out(contents, parts) if parts else None
    case = _case(contents, options, parts, taken)
    plan = _plan(case)
    return replace(plan, findings=most_serious_first(_findings(case, plan)))


def _case(contents: Contents, options: ReclaimOptions, parts: tuple[Part, ...], taken: TakeOut | None) -> _Case:
    place = contents.library.path
    names = [part.name for part in parts]
    found = list(copies_of(place, names))
    listing = contents.listing
    files = taken.files if taken is not None else listing.files
    needed = dict.fromkeys(taken.edits) if taken is not None else {}
    whole = [*files, *(file for file in listing.files if file.path in needed)]
    left = {from_wire(item.path) for _, h in found if h is not None for item in h.record.left_out}
    held_paths = {file.path for file in whole for _, h in found if h is not None and h.has(file)}
    divided = split(contents, files, held_paths, left, options.also)
    going = [
        file
        for file in divided.going
        if file.path not in contents.lock_marks and not _named(options, file, held_paths)
    ]
    wanted = [*going, *divided.unknown, *(file for file in listing.files if file.path in needed)]
    copies = tuple(with_missing(evidence, h, wanted) for evidence, h in found)
    copies = tuple(_same_drive(copy, place) for copy in copies)
    name = next((h.record.name for _, h in found if h is not None), contents.library.name)
    return _Case(contents, options, parts, taken, copies, tuple(h for _, h in found), divided, read_rules().of(name))


def _named(options: ReclaimOptions, file: FileEntry, held: set[str]) -> bool:
    """Whether a file goes only because a person named it: no copy has to have it."""
    return file.path not in held and Named(options.also).match(file.path)


def _same_drive(copy: Evidence, place: Path) -> Evidence:
    drive = drive_identity(copy.folder)
    if copy.counts and drive and drive == drive_identity(place):
        return replace(copy, why_not="it is on the same drive as the library")
    if copy.counts and physical(copy.folder).names & physical(place).names:
        return replace(copy, why_not="it is on the same disk as the library")
    return copy


def _plan(case: _Case) -> ReclaimPlan:
    contents, options = case.contents, case.options
    library, listing = case.library, contents.listing
    good = case.good
    staying = list(case.divided.staying)
    links: tuple[str, ...] = ()
    folders: tuple[str, ...] = ()
    if case.taken is None:
        staying += others_staying(listing)
        known = {(from_wire(k.path), from_wire(k.target)) for h in case.relied_on[:1] for k in h.record.links}
        links = tuple(link.path for link in listing.links if (link.path, link.target) in known)
        staying += [PathAndWhy(link.path, LEFT_OUT) for link in listing.links if link.path not in links]
        links += tuple(empty_ones(listing))
        folders = tuple(folder.path for folder in listing.folders)
    first = good[0] if good else None
    checked = tuple(copy.label for copy in good if not _is_recent(copy.checked_at, case.rule.days))
    days = case.rule.drill_days
    drilled = [
        copy for copy in good if copy.drilled_at is not None and (days is None or _is_recent(copy.drilled_at, days))
    ]
    to_drill = first.label if first is not None and not drilled else ""
    how = f"dunechest restore {quoted(first.label)} {quoted(first.archived_as)}" if first is not None else ""
    if first is not None and case.parts:
        how += "".join(f" --part {quoted(part.title)}" for part in case.parts) + " --if-exists merge"
    outside = tuple(_outside(case)) if options.outside_files else ()
    return ReclaimPlan(
        name=library.name,
        what="part" if case.taken is not None else "original",
        path=library.path,
        library=library,
        options=options,
        in_use_path=None,
        going=case.divided.going,
        links=links,
        folders=folders,
        kept_files=tuple(sorted(staying)),
        outside=outside,
        copies=case.copies,
        first_checked_labels=checked,
        first_drilled_label=to_drill,
        taken=case.taken,
        listing="",
        restore_command=how,
        disk_bytes=blocks_of(library.path, case.divided.going) + blocks_of(Path("/"), outside),
    )


def _is_recent(when: float | None, days: int) -> bool:
    """Whether something was so many days ago at most; a moment still to come is that of a wrong clock."""
    return when is not None and 0 <= clock.now() - when + _CLOCK <= days * 86_400 + _CLOCK


def _outside(case: _Case) -> Iterator[FileEntry]:
    """Yield the files stored elsewhere that every copy that counts holds as they are now."""
    held = case.relied_on
    if not held:
        return
    own = {path for part in case.parts for path in part.outside_paths} if case.parts else None
    for item in held[0].record.outside_files:
        path = from_wire(item.path)
        entry = entry_of(path)
        if entry is None or os.path.islink(path) or (own is not None and path not in own):
            continue
        if all(_has_outside(h, entry) for h in held):
            yield entry


def _has_outside(held: Held, entry: FileEntry) -> bool:
    return any(
        from_wire(item.path) == entry.path
        and (item.size, item.mtime_ns) == (entry.size, entry.mtime_ns)
        and item.stored in held.files
        for item in held.record.outside_files
    )


def _findings(case: _Case, plan: ReclaimPlan) -> Iterator[Finding]:
    yield from _of_moved(case)
    if case.taken is not None:
        yield from case.taken.findings
        yield from shared_finding(case.taken)
    yield from _unused(case)
    yield from _changed(case)
    yield from _copies(case)
    yield from around_findings(case.library, case.contents.uses, plan.going, whole=case.taken is None)
    if not any(finding.severity == "blocks" for finding in _copies(case)):
        yield from _told_differently(case, plan)
    if plan.kept_files:
        some = "; ".join(f"{shown(path)} ({shown(why)})" for path, why in plan.kept_files[:3])
        more = ", ..." if len(plan.kept_files) > 3 else ""
        yield finding_of("staying", links=len(plan.kept_files), some=some, more=more)
    outside = [item for h in case.relied_on[:1] for item in h.record.outside_files] if case.taken is None else []
    if outside and not case.options.outside_files:
        yield finding_of("outside-files-left/reclaim", files=len(outside), total=sum(item.size for item in outside))
    if not plan.going and not plan.outside and case.good and not case.divided.unknown:
        yield finding_of("nothing")


def _of_moved(case: _Case) -> Iterator[Finding]:
    homes = list_homes()
    second = home_of_second(case.library.path, homes)
    if second is not None:
        yield finding_of("two-libraries/reclaim", message=second.message, name=second.name)
    home = home_at(case.library.path, homes)
    if home is not None and case.taken is None:
        yield finding_of("moved-here/reclaim", name=home.name)


def _unused(case: _Case) -> Iterator[Finding]:
    unused = Named(case.options.also).unused(file.path for file in case.contents.listing.files)
    if unused:
        yield finding_of("also", unused=unused[0])


def _changed(case: _Case) -> Iterator[Finding]:
    unknown = case.divided.unknown
    if unknown and case.copies:
        some = ", ".join(shown(file.path) for file in unknown[:3]) + (", ..." if len(unknown) > 3 else "")
        yield finding_of("changed", files=len(unknown), some=some, library=case.library.name, to=_to(case.copies))


def _to(copies: Sequence[Evidence]) -> str:
    return (
        "".join(f" --to {quoted(label)}" for label in dict.fromkeys(copy.label for copy in copies)) or " --to CHEST"
    )


def _copies(case: _Case) -> Iterator[Finding]:
    rule, good = case.rule, case.good
    for copy in case.copies:
        if not copy.counts and not (copy.missing and case.divided.unknown):
            if copy.missing:
                yield finding_of(
                    "copy-not-counted/incomplete", chest=copy.label, why_not=copy.why_not, library=case.library.name
                )
            else:
                yield finding_of("copy-not-counted", chest=copy.label, why_not=copy.why_not, name=copy.archived_as)
    absent = _absent(case)
    if len(good) < rule.copies:
        found = f"{len(good)} of the {number(rule.copies, 'copy', 'copies')} that it needs"
        if rule.own_drives == rule.copies:
            found += ", each on a drive of its own,"
        if absent:
            yield finding_of("too-few-copies/absent", found=found, good=len(good), chests=" and ".join(absent))
        else:
            yield finding_of("too-few-copies", found=found, good=len(good), library=case.library.name)
        return
    drives = {copy.drive or copy.chest_id for copy in good}
    places = {copy.place for copy in good}
    if len(drives) < rule.own_drives:
        yield finding_of("too-few-drives")
    if len(places) < rule.places:
        yield finding_of("too-few-places", places=len(places), wanted=rule.places, chest=good[0].label)
    if absent:
        yield finding_of("not-connected", chests=", ".join(absent))


def _absent(case: _Case) -> list[str]:
    """Return the labels of the chests that are not connected and were seen to hold the library."""
    here = {copy.chest_id for copy in case.copies}
    places = {shown(str(case.library.path))} | {
        shown(from_wire(h.record.origin.path)) for h in case.held if h is not None
    }
    with open_ledger() as ledger:
        labels = {chest.id: chest.label for chest in ledger.chests() if chest.retired is None}
        held = [item for item in ledger.holdings() if not item.gone and item.origin in places]
    return sorted({labels[item.chest] for item in held if item.chest in labels and item.chest not in here})


def _told_differently(case: _Case, plan: ReclaimPlan) -> Iterator[Finding]:
    """Say so if two copies have other bytes of a file by their own records: then one of them is not a copy of this library."""
    held = case.relied_on
    for file in plan.going if len(held) > 1 else ():
        told = {digest for h in held if (digest := h.digest_of(file.path)) is not None}
        if len(told) > 1:
            labels = " and ".join(shown(h.chest.label) for h in held)
            yield finding_of(
                "not-identical", first=file.path, labels=labels, one=held[0].chest.label, other=held[1].chest.label
            )
            return
