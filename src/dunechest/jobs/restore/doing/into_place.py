"""Put what was prepared in its place, each step written down before it is taken."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Mapping
from pathlib import Path

from dunechest.errors import RefusedError
from dunechest.jobs.restore.aside import companions_here, nothing_in
from dunechest.jobs.restore.doing.attributes import make_link, set_time_and_mode
from dunechest.jobs.restore.doing.folders import make_above
from dunechest.jobs.restore.doing.one_file import without_overwriting
from dunechest.jobs.restore.doing.run import Run
from dunechest.jobs.study.protected_places import why_protected
from dunechest.ledger.past_changes import (
    Aside,
    Listed,
    Made,
    MadeFolder,
    MadeLink,
    OpenChange,
    Rewritten,
    Tree,
    WasEmpty,
)
from dunechest.model.restore import RestoreFile, RestorePlan
from dunechest.names import parents, shown, to_wire
from dunechest.paths import is_link
from dunechest.transfer import disk, medium, patient
from dunechest.transfer.below import link_between, make_folders
from dunechest.transfer.digest_files import digest_of
from dunechest.transfer.walk import walk

#: So many steps are written down at once.
_BATCH = 500


def whole_into_place(run: Run, steps: Iterable[Rewritten]) -> None:
    """Rename the finished library to its place, after what was there got its other name."""
    plan, place, tree, past_change = run.plan, run.place, run.tree, run.past_change
    for old, new in plan.existing.set_aside:
        past_change.will(Aside(to_wire(str(old)), to_wire(str(new))))
        if os.path.lexists(new):
            raise RefusedError(f"{shown(str(new))} appeared meanwhile. Nothing was changed.")
        patient.rename(old, new)
    if plan.record.shape == "file":
        _one_file(plan, tree, place, past_change)
        return
    listing = walk(str(tree))
    lines = [Listed(to_wire(f.path), f.size, f.mtime_ns) for f in listing.files]
    lines += [Listed(to_wire(f.path), -1, 0) for f in listing.folders if f.path]
    lines += [Listed(to_wire(link.path), -2, 0) for link in listing.links]
    emptied = False
    if os.path.lexists(place):
        info = place.lstat()
        if not stat.S_ISDIR(info.st_mode) or not nothing_in(place, tree.parent.name):
            raise RefusedError(f"Something appeared in {shown(str(place))} meanwhile. Nothing was changed there.")
        if why_protected(place, plan.options.home_folder):
            _fill(plan, tree, place, lines, past_change)
            return
        emptied = True
    if emptied:
        past_change.will(WasEmpty(to_wire(str(place)), stat.S_IMODE(place.stat().st_mode)))
    own = tree.stat()
    past_change.will(Tree(to_wire(str(place)), past_change.listing(lines), own.st_dev, own.st_ino), *steps)
    if emptied:
        disk.remove_bare_folder(place)
    patient.rename(tree, place)  # a folder never takes the place of anything but an empty one
    # The top folder last: one that may not be written to could not be moved.
    for path, mtime_ns, mode in plan.folders:
        if not path:
            set_time_and_mode(place, mtime_ns, mode)
    medium.flush_folder(str(place.parent))


def _one_file(plan: RestorePlan, tree: Path, place: Path, past_change: OpenChange) -> None:
    if not plan.files:
        return
    source = tree / plan.files[0].path
    if not source.exists():  # it was not intact, and is in the summary
        return
    info = source.stat()
    past_change.will(Made(to_wire(str(place)), info.st_size, info.st_mtime_ns, "", info.st_dev, info.st_ino))
    if os.path.lexists(place):
        raise RefusedError(f"Something appeared in {shown(str(place))} meanwhile. Nothing was changed there.")
    without_overwriting(source, place)
    medium.flush_folder(str(place.parent))


def _fill(plan: RestorePlan, tree: Path, place: Path, lines: list[Listed], past_change: OpenChange) -> None:
    """Fill an empty folder that keeps its place: the top of a drive, a standard folder."""
    tops = {os.fsdecode(name) for name in os.listdir(tree)}
    for name in sorted(tops):
        source = tree / name
        inside = [
            Listed(to_wire(path[len(name) + 1 :]), line.size, line.mtime_ns)
            for line in lines
            if isinstance(path := line.path, str) and path.startswith(name + "/")
        ]
        if source.is_dir() and not is_link(source):
            own = source.stat()
            past_change.will(Tree(to_wire(str(place / name)), past_change.listing(inside), own.st_dev, own.st_ino))
        elif is_link(source):
            past_change.will(MadeLink(to_wire(str(place / name)), to_wire(os.readlink(source))))
        else:
            info = source.stat()
            past_change.will(
                Made(to_wire(str(place / name)), info.st_size, info.st_mtime_ns, "", info.st_dev, info.st_ino)
            )
        patient.rename(source, place / name)
    medium.flush_folder(str(place))


def join_into_place(run: Run, restored: Iterable[RestoreFile], merged: Mapping[str, Path]) -> None:
    """Put each new file beside those that are there; what is replaced is kept.

    Parameters
    ----------
    run : Run
        The restore.
    restored : iterable of RestoreFile
        Files that were copied, without those that are merged.
    merged : mapping
        Merged files by path, and where they were put together.
    """
    plan, place, tree, past_change = run.plan, run.place, run.tree, run.past_change
    _make_room(plan, past_change)
    if plan.record.shape == "file":
        for file in plan.existing.replaced:
            replace_file(tree / file.path, place, "replaced", past_change)
        for file, other in plan.existing.beside:
            _new_files(run, [(tree / file.path, place.with_name(other))])
        return
    made = _folders(plan, place, past_change)
    there = {file.path for file in restored}
    others = {file.path: other for file, other in plan.existing.beside}
    replaced = {file.path for file in plan.existing.replaced}
    fresh = [
        (tree / path, place / others.get(path, path))
        for path in sorted(there - replaced - {file.path for file in plan.existing.merged})
    ]
    databases = set(plan.as_archived.databases)
    own = {file.path: file.own for file in plan.files}
    fresh = _without_links(run, fresh)
    for start in range(0, len(fresh), _BATCH):
        _new_files(run, fresh[start : start + _BATCH])
    for path in sorted(replaced & there):
        if own[path] in databases or plan.kind.database_patterns.match(own[path]):
            _companions_away(place / path, plan.options.day, past_change)
        replace_file(tree / path, place / path, "replaced", past_change)
    for path, source in sorted(merged.items()):
        _companions_away(place / path, plan.options.day, past_change)
        replace_file(source, place / path, "joined", past_change)
    _links(run)
    for path, mtime_ns, mode in reversed(plan.folders):
        if path in made:
            set_time_and_mode(place / path, mtime_ns, mode)
    for folder in sorted({os.path.dirname(target) for _, target in fresh}):
        disk.flush_folder(folder)


def _make_room(plan: RestorePlan, past_change: OpenChange) -> None:
    for old, new in plan.existing.set_aside:
        make_above(new.parent, past_change)
        past_change.will(Aside(to_wire(str(old)), to_wire(str(new))))
        patient.rename(old, new)


def _without_links(run: Run, pairs: list[tuple[Path, Path]]) -> list[tuple[Path, Path]]:
    """Leave out what would go through a link of the library that is there: it may lead anywhere."""
    place = run.place
    folders: dict[Path, Path | None] = {}
    kept = []
    for source, target in pairs:
        if target.parent not in folders:
            folders[target.parent] = link_between(place, target.parent)
        link = folders[target.parent]
        if link is None:
            kept.append((source, target))
        else:
            run.leave(str(target.relative_to(place)), f"{link} is a link; it is left alone")
    return kept


def _folders(plan: RestorePlan, place: Path, past_change: OpenChange) -> set[str]:
    """Make the folders that are not there; return them."""
    wanted = {path for path, _, _ in plan.folders if path}
    others = {file.path: other for file, other in plan.existing.beside}
    kept = {file.path for file in plan.existing.kept}
    for file in plan.files:
        if file.path not in kept:
            wanted.update(parents(others.get(file.path, file.path)))
    made = []
    for path in sorted(wanted):
        nearest = place / path
        while nearest != place and not os.path.lexists(nearest):
            nearest = nearest.parent
        if link_between(place, nearest) is None and nearest.is_dir() and nearest != place / path:
            made.append(path)  # where something else has the name of a folder, what belongs in it got another name
    past_change.will(*(MadeFolder(to_wire(str(place / path))) for path in made))
    for path in made:
        make_folders(place / path)
    return set(made)


def _new_files(run: Run, pairs: list[tuple[Path, Path]]) -> None:
    steps = []
    for source, target in pairs:
        info = source.stat()
        steps.append(Made(to_wire(str(target)), info.st_size, info.st_mtime_ns, "", info.st_dev, info.st_ino))
    run.past_change.will(*steps)
    for source, target in pairs:
        try:
            without_overwriting(source, target)
        except RefusedError:
            run.past_change.will_not(target)
            run.leave(str(target), "something appeared there meanwhile; it is left alone")


def replace_file(source: Path, target: Path, why: str, past_change: OpenChange) -> None:
    """Give a file other bytes, and keep the ones that it had."""
    info = target.stat()
    kept = past_change.keep(target)
    step = Rewritten(to_wire(str(target)), kept, info.st_mode & 0o7777, info.st_mtime_ns, digest_of(source), why)
    past_change.will(step)
    patient.replace(source, target)
    disk.flush_folder(target.parent)


def _companions_away(database: Path, day: str, past_change: OpenChange) -> None:
    """Set aside what SQLite keeps beside a database that gets other bytes: it would be taken for the new one's."""
    from dunechest.jobs.restore.aside import aside_name

    for companion in companions_here(database):
        new = aside_name(companion, day)
        past_change.will(Aside(to_wire(str(companion)), to_wire(str(new))))
        patient.rename(companion, new)


def _links(run: Run) -> None:
    place, past_change = run.place, run.past_change
    for path, target, mtime_ns in run.plan.links:
        link = place / path
        if link_between(place, link.parent) is not None:
            run.leave(path, "it would be behind another link; it is not made")
            continue
        if os.path.lexists(link):
            if not (is_link(link) and os.readlink(link) == target):
                run.leave(path, "something else already has the link's name; it is left alone", fault=False)
            continue
        past_change.will(MadeLink(to_wire(str(link)), to_wire(target)))
        try:
            make_link(link, target, mtime_ns)
        except OSError as error:
            run.leave(path, f"the link to {target} cannot be made here: {error.strerror}")
            continue
