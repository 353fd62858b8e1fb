"""Put what was prepared in its place, each step written down before it is taken."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable
from pathlib import Path

from dunechest.errors import Refused
from dunechest.jobs.anew import digest_of, make_above
from dunechest.jobs.meeting import companions_here, nothing_in
from dunechest.jobs.protected import why_protected
from dunechest.jobs.restore import RestorePlan
from dunechest.jobs.restore_contents import NotDone, RestoreFile
from dunechest.jobs.restore_copy import without_overwriting
from dunechest.ledger.deeds import Aside, Listed, Made, MadeFolder, MadeLink, OpenDeed, Rewritten, Tree, WasEmpty
from dunechest.names import parents, shown, to_wire
from dunechest.transfer import disk, medium
from dunechest.transfer.below import link_between, make_folders
from dunechest.transfer.walk import walk

#: So many steps are written down at once.
_BATCH = 500


def dress(folder: Path, mtime_ns: int, mode: int) -> None:
    """Give a folder its mode and time, deepest first, since filling a folder changes its time."""
    try:
        folder.chmod(mode & 0o1777)
        os.utime(folder, ns=(mtime_ns, mtime_ns))
    except OSError:
        pass  # a filesystem without modes or with coarser times


def whole_into_place(plan: RestorePlan, tree: Path, steps: Iterable[Rewritten], deed: OpenDeed) -> None:
    """Rename the finished library to its place, after what was there got its other name."""
    place = plan.place
    assert place is not None
    for old, new in plan.meeting.set_aside:
        deed.will(Aside(to_wire(str(old)), to_wire(str(new))))
        if os.path.lexists(new):
            raise Refused(f"{shown(str(new))} came to be there meanwhile. Nothing was changed.")
        os.rename(old, new)
    if plan.record.shape == "file":
        _one_file(plan, tree, place, deed)
        return
    listing = walk(str(tree))
    lines = [Listed(to_wire(f.path), f.size, f.mtime_ns) for f in listing.files]
    lines += [Listed(to_wire(f.path), -1, 0) for f in listing.folders if f.path]
    lines += [Listed(to_wire(link.path), -2, 0) for link in listing.links]
    emptied = False
    if os.path.lexists(place):
        info = place.lstat()
        if not stat.S_ISDIR(info.st_mode) or not nothing_in(place, tree.parent.name):
            raise Refused(f"Something came to be in {shown(str(place))} meanwhile. Nothing was changed there.")
        if why_protected(place, plan.choice.home_folder):
            _fill(plan, tree, place, lines, deed)
            return
        emptied = True
    if emptied:
        deed.will(WasEmpty(to_wire(str(place)), stat.S_IMODE(place.stat().st_mode)))
    own = tree.stat()
    deed.will(Tree(to_wire(str(place)), deed.listing(lines), own.st_dev, own.st_ino), *steps)
    if emptied:
        place.rmdir()
    tree.rename(place)  # a folder never takes the place of anything but an empty one
    # The top folder last: one that may not be written to could not be moved.
    for path, mtime_ns, mode in plan.folders:
        if not path:
            dress(place, mtime_ns, mode)
    medium.flush_folder(str(place.parent))


def _one_file(plan: RestorePlan, tree: Path, place: Path, deed: OpenDeed) -> None:
    if not plan.files:
        return
    source = tree / plan.files[0].path
    if not source.exists():  # it was not sound, and is in the account
        return
    info = source.stat()
    deed.will(Made(to_wire(str(place)), info.st_size, info.st_mtime_ns, "", info.st_dev, info.st_ino))
    if os.path.lexists(place):
        raise Refused(f"Something came to be in {shown(str(place))} meanwhile. Nothing was changed there.")
    without_overwriting(source, place)
    medium.flush_folder(str(place.parent))


def _fill(plan: RestorePlan, tree: Path, place: Path, lines: list[Listed], deed: OpenDeed) -> None:
    """Fill an empty folder that keeps its place: the top of a drive, a standard folder."""
    tops = {os.fsdecode(name) for name in os.listdir(tree)}
    for name in sorted(tops):
        source = tree / name
        inside = [
            Listed(to_wire(path[len(name) + 1 :]), line.size, line.mtime_ns)
            for line in lines
            if isinstance(path := line.path, str) and path.startswith(name + "/")
        ]
        if source.is_dir() and not source.is_symlink():
            own = source.stat()
            deed.will(Tree(to_wire(str(place / name)), deed.listing(inside), own.st_dev, own.st_ino))
        elif source.is_symlink():
            deed.will(MadeLink(to_wire(str(place / name)), to_wire(os.readlink(source))))
        else:
            info = source.stat()
            deed.will(Made(to_wire(str(place / name)), info.st_size, info.st_mtime_ns, "", info.st_dev, info.st_ino))
        source.rename(place / name)
    medium.flush_folder(str(place))


def join_into_place(
    plan: RestorePlan,
    tree: Path,
    restored: Iterable[RestoreFile],
    joined: dict[str, Path],
    deed: OpenDeed,
    not_done: list[NotDone],
) -> None:
    """Put each new file beside those that are there; what is replaced is kept."""
    place = plan.place
    assert place is not None
    _make_room(plan, deed)
    if plan.record.shape == "file":
        for file in plan.meeting.replaced:
            _replace(tree / file.path, place, "replaced", deed)
        for file, other in plan.meeting.beside:
            _new_files([(tree / file.path, place.with_name(other))], deed, not_done)
        return
    made = _folders(plan, place, deed)
    there = {file.path for file in restored}
    others = {file.path: other for file, other in plan.meeting.beside}
    replaced = {file.path for file in plan.meeting.replaced}
    fresh = [
        (tree / path, place / others.get(path, path))
        for path in sorted(there - replaced - {file.path for file in plan.meeting.joined})
    ]
    databases = set(plan.then.databases)
    own = {file.path: file.own for file in plan.files}
    fresh = _without_links(place, fresh, not_done)
    for start in range(0, len(fresh), _BATCH):
        _new_files(fresh[start : start + _BATCH], deed, not_done)
    for path in sorted(replaced & there):
        if own[path] in databases or plan.kind.database_patterns.match(own[path]):
            _companions_away(place / path, plan.choice.day, deed)
        _replace(tree / path, place / path, "replaced", deed)
    for path, source in sorted(joined.items()):
        _companions_away(place / path, plan.choice.day, deed)
        _replace(source, place / path, "joined", deed)
    _links(plan, place, deed, not_done)
    for path, mtime_ns, mode in reversed(plan.folders):
        if path in made:
            dress(place / path, mtime_ns, mode)
    for folder in sorted({os.path.dirname(target) for _, target in fresh}):
        disk.flush_folder(folder)


def _make_room(plan: RestorePlan, deed: OpenDeed) -> None:
    for old, new in plan.meeting.set_aside:
        make_above(new.parent, deed)
        deed.will(Aside(to_wire(str(old)), to_wire(str(new))))
        os.rename(old, new)


def _without_links(place: Path, pairs: list[tuple[Path, Path]], not_done: list[NotDone]) -> list[tuple[Path, Path]]:
    """Leave out what would go through a link of the library that is there: it may lead anywhere."""
    folders: dict[Path, Path | None] = {}
    kept = []
    for source, target in pairs:
        if target.parent not in folders:
            folders[target.parent] = link_between(place, target.parent)
        link = folders[target.parent]
        if link is None:
            kept.append((source, target))
        else:
            not_done.append(NotDone(str(target.relative_to(place)), f"{link} is a link; it is left alone", True))
    return kept


def _folders(plan: RestorePlan, place: Path, deed: OpenDeed) -> set[str]:
    """Make the folders that are not there; return them."""
    wanted = {path for path, _, _ in plan.folders if path}
    others = {file.path: other for file, other in plan.meeting.beside}
    kept = {file.path for file in plan.meeting.kept}
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
    deed.will(*(MadeFolder(to_wire(str(place / path))) for path in made))
    for path in made:
        make_folders(place / path)
    return set(made)


def _new_files(pairs: list[tuple[Path, Path]], deed: OpenDeed, not_done: list[NotDone]) -> None:
    steps = []
    for source, target in pairs:
        info = source.stat()
        steps.append(Made(to_wire(str(target)), info.st_size, info.st_mtime_ns, "", info.st_dev, info.st_ino))
    deed.will(*steps)
    for source, target in pairs:
        try:
            without_overwriting(source, target)
        except Refused:
            deed.will_not(target)
            not_done.append(NotDone(str(target), "something came to be there meanwhile; it is left alone", True))


def _replace(source: Path, target: Path, why: str, deed: OpenDeed) -> None:
    info = target.stat()
    kept = deed.keep(target)
    step = Rewritten(to_wire(str(target)), kept, info.st_mode & 0o7777, info.st_mtime_ns, digest_of(source), why)
    deed.will(step)
    os.replace(source, target)
    disk.flush_folder(target.parent)


def _companions_away(database: Path, day: str, deed: OpenDeed) -> None:
    """Set aside what SQLite keeps beside a database that gets other bytes: it would be taken for the new one's."""
    from dunechest.jobs.meeting import aside_name

    for companion in companions_here(database):
        new = aside_name(companion, day)
        deed.will(Aside(to_wire(str(companion)), to_wire(str(new))))
        os.rename(companion, new)


def _links(plan: RestorePlan, place: Path, deed: OpenDeed, not_done: list[NotDone]) -> None:
    for path, target, mtime_ns in plan.links:
        link = place / path
        if link_between(place, link.parent) is not None:
            not_done.append(NotDone(path, "it would lie behind another link; it is not made", True))
            continue
        if os.path.lexists(link):
            if not (link.is_symlink() and os.readlink(link) == target):
                not_done.append(NotDone(path, "something else has the name of the link; it is left alone", False))
            continue
        deed.will(MadeLink(to_wire(str(link)), to_wire(target)))
        make_link(link, target, mtime_ns)


def make_link(place: Path, target: str, mtime_ns: int) -> None:
    """Make a symbolic link with its time."""
    make_folders(place.parent)
    os.symlink(target, place)
    if os.utime in os.supports_follow_symlinks:
        os.utime(place, ns=(mtime_ns, mtime_ns), follow_symlinks=False)
