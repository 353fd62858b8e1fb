"""Plan a restore: where a library goes, what is in the way, what will be updated, and whether it may be done.

A chest is foreign input. Every path in it is looked at before it is used, nothing is
read or written through a link, and what cannot be trusted is reported instead.
"""

from __future__ import annotations

import functools
import os
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path

import msgspec
from msgspec.structs import replace

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.bag_records import stamp
from dunechest.chest.chest import Chest
from dunechest.chest.layout import LIBRARY_FILES, OUTSIDE_FILES
from dunechest.chest.records import LibraryRecord, OutsideFileRecord
from dunechest.errors import RecordDamagedError, UsageError
from dunechest.findings import Finding, most_serious_first
from dunechest.jobs.known.named import get_chest
from dunechest.jobs.known.own_archives import archived_here
from dunechest.jobs.restore.planning.already_rewritten import without_rewritten
from dunechest.jobs.restore.planning.as_archived import as_archived
from dunechest.jobs.restore.planning.bag_tree import BagTree, bag_tree
from dunechest.jobs.restore.planning.existing import look_at_place
from dunechest.jobs.restore.planning.findings import findings_of
from dunechest.jobs.restore.planning.outside_places import links_moved, place_outside_files, without_linked
from dunechest.jobs.restore.planning.paths import Paths
from dunechest.jobs.restore.planning.place import no_place, place_for
from dunechest.jobs.restore.planning.references import moves_of, name_old_place, plan_references
from dunechest.jobs.restore.planning.room import need_of
from dunechest.jobs.restore.planning.settings import plan_settings
from dunechest.jobs.restore.planning.single_files import choose
from dunechest.jobs.restore.planning.source import Source, source_of
from dunechest.jobs.restore.planning.trust import place_findings
from dunechest.jobs.study.room import nearest
from dunechest.ledger.folder import state_folder
from dunechest.library.kinds.carried import kind_from
from dunechest.library.kinds.load import load_kinds
from dunechest.library.kinds.schema import PLAIN_KIND, Kind
from dunechest.library.parts import Part, parts_named
from dunechest.library.still_named import NO_OLD_PLACE, OldPlace
from dunechest.machine.drives import Filesystem, filesystem
from dunechest.model.restore import (
    AsArchived,
    Existing,
    Placement,
    ReferencePlan,
    RestoreFile,
    RestoreOptions,
    RestoreOutsideFile,
    RestorePlan,
    SettingChange,
    Target,
)
from dunechest.model.study import Room
from dunechest.names import AnyPath, from_wire, parents, shown
from dunechest.progress import Progress, Step, Tally, silent
from dunechest.values import FrozenDict, RenamedPath


def plan_restore(
    chest: Chest | AnyPath, library: str, options: RestoreOptions | None = None, *, progress: Progress = silent
) -> RestorePlan:
    """Plan to restore a library. Changes nothing.

    Parameters
    ----------
    chest : Chest
        Where it is.
    library : str
        Its name in the chest.
    choice : RestoreChoice, optional
        Whose home or which folder it goes into, which edition and parts, what becomes of what is in the way.
    progress : Progress
        Told how far the comparing of what is there already is.

    Returns
    -------
    RestorePlan

    Raises
    ------
    UsageError
        If there is no such library, part or home, or `home` and `into` are both given.
    RefusedError
        If its records are too damaged to restore from.
    """
    chest = get_chest(chest)
    options = options if options is not None else RestoreOptions()
    if options.home is not None and not os.path.isdir(options.home):
        raise UsageError(f"There is no folder {shown(str(options.home))} to use as home. Nothing was changed.")
    folder = chest.bag(library).folder
    for again in range(_TIMES):
        seen = stamp(folder)
        try:
            progress(Step("reading-records", 0, 0, 0, 0, library))
            plan = _plan(chest, chest.bag(library), options, progress, seen)
            if not (plan.damaged_records or any(item.fault for item in plan.not_restored)) or stamp(folder) == seen:
                break
        except RecordDamagedError:
            if stamp(folder) == seen or again + 1 == _TIMES:
                raise
        time.sleep(0.1 * again)  # an archive committed meanwhile: what looks damaged is of before and after
    return plan


#: So many times an archive is read again that is changed while it is read.
_TIMES = 5


class _Question(msgspec.Struct, frozen=True):
    """What a plan is made for: which bag, with which options, and what is known of it and of its place."""

    chest: Chest
    entry: BagEntry
    options: RestoreOptions
    source: Source
    kind: Kind
    placement: Placement
    here: Filesystem | None
    archived_here: Callable[[], bool]

    @property
    def record(self) -> LibraryRecord:
        """The edition."""
        return self.source.record


class _Coming(msgspec.Struct, frozen=True):
    """What comes back, with the paths it gets here: files of the library, files from outside, folders and links."""

    files: tuple[RestoreFile, ...]
    outside: tuple[RestoreFile, ...]
    folders: tuple[tuple[str, int, int], ...]
    links: tuple[tuple[str, str, int], ...]


class _AtPlace(msgspec.Struct, frozen=True):
    """What is decided about a place."""

    existing: Existing
    outside_files: tuple[RestoreOutsideFile, ...] = ()
    references: ReferencePlan = msgspec.field(default_factory=ReferencePlan)
    settings: tuple[SettingChange, ...] = ()
    settings_left: tuple[SettingChange, ...] = ()
    old_place: OldPlace = NO_OLD_PLACE


def _plan(
    chest: Chest, entry: BagEntry, options: RestoreOptions, progress: Progress, seen: tuple[object, ...]
) -> RestorePlan:
    source = source_of(entry, options)
    record = source.record
    kind = _kind_of(record)
    trusted = functools.cache(lambda: archived_here(chest, entry))
    placement = place_for(record, kind, options)
    if options.files and placement.place is None:
        placement = _still_here(record, trusted)
    here = filesystem(nearest(placement.place)) if placement.place is not None else None
    question = _Question(chest, entry, options, source, kind, placement, here, trusted)
    paths = Paths(record, here)
    folders = paths.folders()
    ready = tuple(paths.file(file) for file in source.files if not file.stored.startswith(OUTSIDE_FILES))
    outside = tuple(file for file in source.files if file.stored.startswith(OUTSIDE_FILES))
    if options.files:
        return _plan_files(question, paths, _Coming(ready, outside, folders, ()), progress, seen)
    with bag_tree(entry.folder, record, kind, ready, options.home_folder) as tree:
        question = msgspec.structs.replace(question, kind=(kind := tree.kind))
        parts = _parts(tree, record, options, entry)
        coming, stored_outside = _coming(question, paths, parts, _Coming(ready, outside, folders, ()))
        decided = None
        if placement.place is not None:
            decided = _decide(question, paths, tree, coming, stored_outside, progress)
        not_done = (*source.not_done, *paths.not_done)
        missing = [item.path.removeprefix(LIBRARY_FILES) for item in not_done]
        archived = as_archived(record, kind, tree, [file.own for file in coming.files], parts, missing)
    decided = decided or _AtPlace(Existing("free", coming.files))
    to_write = (*decided.existing.to_write, *(item.file for item in decided.outside_files if not item.exists))
    plan = RestorePlan(
        chest=chest,
        name=entry.name,
        record=record,
        kind=kind,
        options=options,
        placement=placement,
        files=coming.files,
        outside_files=decided.outside_files,
        folders=coming.folders,
        links=coming.links,
        hard_links=paths.hard_links(),
        not_restored=not_done,
        renamed=tuple(RenamedPath(*pair) for pair in sorted(paths.renamed.items())),
        listed=source.listed if not options.parts else len(coming.files) + len(coming.outside),
        existing=decided.existing,
        as_archived=archived,
        room=Room(need_of(to_write, coming.folders, here), here.free if here is not None else 0),
        target=_target(placement.place, here),
        chosen_parts=parts if options.parts or record.partial else (),
        references=decided.references,
        settings=decided.settings,
        unchanged_settings=decided.settings_left,
        old_place=decided.old_place,
        damaged_records=source.damage,
        stamp=seen,
    )
    return replace(plan, findings=most_serious_first(_findings(question, plan)))


def _coming(
    question: _Question, paths: Paths, parts: tuple[Part, ...], coming: _Coming
) -> tuple[_Coming, tuple[RestoreOutsideFile, ...]]:
    """Narrow what comes to the parts that were asked for, with its links, and say where the files from outside go."""
    record, options = question.record, question.options
    if options.parts:
        coming = _only(parts, record, coming)
    stored_outside = _outside_places(question, coming)
    outward = options.outside_links if options.outside_links is not None else question.archived_here()
    coming = msgspec.structs.replace(coming, links=paths.links(outward, links_moved(record, stored_outside)))
    return _only(parts, record, coming) if options.parts else coming, stored_outside


def _still_here(record: LibraryRecord, trusted: Callable[[], bool]) -> Placement:
    """Say where a library is, if it is where this computer archived it: single files are added to it there."""
    place = Path(from_wire(record.origin.path))
    there = place.is_dir() if record.shape == "folder" else place.is_file()
    return Placement(place, "here") if there and trusted() else Placement(None, "unknown")


def _plan_files(
    question: _Question, paths: Paths, coming: _Coming, progress: Progress, seen: tuple[object, ...]
) -> RestorePlan:
    """Plan to restore single files. Nothing else of the library is looked at, and nothing in them is updated."""
    record, options, source, placement = question.record, question.options, question.source, question.placement
    chosen = choose(question.entry.name, source, options, coming.files, coming.outside, paths.not_done)
    above = {"", *(folder for file in chosen.files for folder in parents(file.path))}
    folders = tuple(folder for folder in coming.folders if folder[0] in above)
    coming, not_done = _Coming(chosen.files, chosen.outside, folders, ()), chosen.not_done
    existing = Existing("free", coming.files)
    outside_files: tuple[RestoreOutsideFile, ...] = ()
    if placement.place is not None:
        tally = Tally(
            progress, "comparing", len(coming.files), sum(f.size for f in coming.files), question.entry.name
        )
        outside_files = _outside_places(question, coming)
        # As files: what a kind says of merging its catalogue is for whole libraries.
        existing = look_at_place(
            placement.place, record, PLAIN_KIND, coming.files, options, question.chest.label, tally
        )
    to_write = (*existing.to_write, *(item.file for item in outside_files if not item.exists))
    wanted = {file.path for file in coming.files}
    here = question.here
    plan = RestorePlan(
        chest=question.chest,
        name=question.entry.name,
        record=record,
        kind=question.kind,
        options=options,
        placement=placement,
        files=coming.files,
        outside_files=outside_files,
        folders=coming.folders,
        links=coming.links,
        hard_links=(),
        not_restored=not_done,
        renamed=tuple(RenamedPath(own, name) for own, name in sorted(paths.renamed.items()) if name in wanted),
        listed=len(coming.files) + len(coming.outside) + sum(item.fault for item in not_done),
        existing=existing,
        as_archived=AsArchived(None, FrozenDict(), (), None),
        room=Room(need_of(to_write, coming.folders, here), here.free if here is not None else 0),
        target=_target(placement.place, here),
        damaged_records=source.damage,
        stamp=seen,
    )
    return replace(plan, findings=most_serious_first(_findings(question, plan)))


def _kind_of(record: LibraryRecord) -> Kind:
    """Return a library's kind as this computer knows it, else as the archive carries it, else the plain one."""
    known = load_kinds(state_folder(), []).get(record.kind)
    return known or kind_from(record.kind_file, record.kind) or PLAIN_KIND


def _target(place: Path | None, here: Filesystem | None) -> Target:
    if place is None or here is None:
        return Target()
    return Target(os.stat(nearest(place)).st_dev, here.whole_sync)


def _findings(question: _Question, plan: RestorePlan) -> Iterator[Finding]:
    """Yield what there is to say of a plan: of its source, its place and itself."""
    yield from question.source.findings
    if plan.path is None:
        yield no_place(plan.record)
    else:
        yield from place_findings(plan.record, plan.kind, plan.placement, question.archived_here)
    yield from findings_of(plan)


def _outside_places(question: _Question, coming: _Coming) -> tuple[RestoreOutsideFile, ...]:
    """Say where the files from outside go."""
    record, place = question.record, question.placement.place
    if place is None:
        return ()
    own_places = bool(record.outside_files) and not question.options.apart and question.archived_here()
    return place_outside_files(record, coming.outside, place, question.options, own_places=own_places)


def _decide(
    question: _Question,
    paths: Paths,
    tree: BagTree,
    coming: _Coming,
    outside_files: tuple[RestoreOutsideFile, ...],
    progress: Progress,
) -> _AtPlace:
    """Decide about a place: what becomes of what is there, of the references, and of the application's settings."""
    record, kind, options = question.record, question.kind, question.options
    place, ready = question.placement.place, coming.files
    assert place is not None
    tally = Tally(progress, "comparing", len(ready), sum(file.size for file in ready), question.entry.name)
    existing = look_at_place(place, record, kind, ready, options, question.chest.label, tally)
    references = ReferencePlan()
    inside = [*(file.own for file in ready), *(from_wire(folder.path) for folder in record.folders)]
    moves = moves_of(record, place, options, paths.renamed, [*inside, *existing.paths], outside_files)
    if options.repoint and record.shape == "folder":
        names = [*(file.path for file in ready), *existing.paths]
        left = {file.own for file in existing.kept}
        sources = [file.own for file in ready if file.own not in left]
        references = plan_references(kind, tree, sources, moves, names, _left(record))
        references = without_linked(references, links_moved(record, outside_files))
        if existing.mode == "merge":
            existing, references = without_rewritten(existing, kind, tree, place, references)
    settings, settings_left = plan_settings(kind, place, options, record)
    named = name_old_place(kind, moves, references, _readable_at(question.entry.folder, tree, ready), ready)
    return _AtPlace(existing, outside_files, references, tuple(settings), tuple(settings_left), named)


def _readable_at(bag: Path, tree: BagTree, files: Sequence[RestoreFile]) -> Callable[[str], str]:
    """Return what tells where a file of the library can be read now: in the bag, or aside if it is in pieces."""
    whole = {file.own: file.source for file in files if not file.pieces}
    return lambda own: os.path.join(bag, whole[own]) if own in whole else os.path.join(tree.root, own)


def _parts(tree: BagTree, record: LibraryRecord, options: RestoreOptions, entry: BagEntry) -> tuple[Part, ...]:
    """Return the parts that are restored: those asked for, or those that the archive holds, if it is not whole."""
    if options.parts:
        try:
            return tuple(parts_named(tree.parts, options.parts).values())
        except KeyError as error:
            known = ", ".join(shown(part.title) for part in tree.parts) or "none"
            raise UsageError(
                f"{shown(entry.name)} has no part {shown(str(error.args[0]))!r}, or several. Its parts: {known}."
            ) from None
    wanted = set(record.partial)
    return tuple(part for part in tree.parts if part.name in wanted)


def _only(parts: Sequence[Part], record: LibraryRecord, coming: _Coming) -> _Coming:
    """Leave only what belongs to some parts: their files, what they need, their folders, and what they refer to."""
    wanted = {path for part in parts for path in (*part.files, *part.needed_paths)}
    tops = tuple(part.folder + "/" for part in parts if part.folder)
    files = tuple(file for file in coming.files if file.own in wanted)
    above = {""}
    for path in (*(file.path for file in files), *(top + "x" for top in tops)):
        above.update(parents(path))
    led_to = {outside_file.stored for outside_file in record.outside_files if _of_part(outside_file, parts)}
    return _Coming(
        files,
        tuple(file for file in coming.outside if file.stored in led_to),
        tuple(f for f in coming.folders if f[0] in above or f"{f[0]}/".startswith(tops or ("\0",))),
        tuple(link for link in coming.links if link[0].startswith(tops or ("\0",))),
    )


def _of_part(outside_file: OutsideFileRecord, parts: Sequence[Part]) -> bool:
    """Whether an outside file is referred to by a part's own file, or by what an index that all share says of the part."""
    # On the computer it was archived on it may lie there still, and be known by its place.
    if any(from_wire(outside_file.path) in part.outside_paths for part in parts):
        return True
    own = {path for part in parts for path in part.files}
    said = {text for part in parts for text in part.elsewhere}
    return any(
        from_wire(reference.source) in own or from_wire(reference.text) in said
        for reference in outside_file.references
    )


def _left(record: LibraryRecord) -> Mapping[str, str]:
    """Return old full paths of what was not archived, and why."""
    base = from_wire(record.origin.path)
    left = {f"{base}/{from_wire(file.path)}": file.why for file in record.left_out}
    return left | {from_wire(item.path): item.why for item in record.outside_left}
