"""What changes inside a library that goes to another place: references, links, names that are one file."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from pathlib import Path

import msgspec
from msgspec.structs import replace

from dunechest.jobs.restore.planning.paths import leads_out
from dunechest.jobs.restore.planning.references import name_old_place, plan_references
from dunechest.ledger.asides import read_aside
from dunechest.library.kinds.schema import Kind
from dunechest.library.references.open_formats import with_open_formats
from dunechest.library.repoint.places import Moves
from dunechest.library.still_named import OldPlace
from dunechest.machine import written_paths
from dunechest.machine.folders import own_home
from dunechest.machine.identity import system_name
from dunechest.model.rehome import Way
from dunechest.model.restore import ReferencePlan
from dunechest.model.study import Contents
from dunechest.transfer.walk import FileEntry, FolderEntry, LinkEntry, Walk
from dunechest.transfer.whole_files import UMASK


class _Tree(msgspec.Struct, frozen=True):
    """A library where it lies, as the planning of references wants it."""

    root: Path
    listing: Walk


class _Own(msgspec.Struct, frozen=True):
    """A file by its path in the library."""

    own: str
    size: int


def references_of(
    contents: Contents, target: Path, way: Way, outside: Mapping[str, Path]
) -> tuple[Kind, ReferencePlan, OldPlace]:
    """Say what becomes of a library's references, and what will still name its old place.

    With a link in the old place, full paths that lead there stay right, wherever the drive is mounted; only those that are
    relative to the library and lead out of it have to change.

    Parameters
    ----------
    contents : Contents
        The library.
    target : Path
        Where it goes.
    way : {"setting", "link"}
        How its application finds it there.
    outside : mapping
        Old full path and new place of each file from outside that moves along.
    """
    library, listing = contents.library, contents.listing
    kind = with_open_formats(library.kind, library.path, listing.files)
    paths = [file.path for file in listing.files if file.path not in contents.lock_marks]
    inside = {*paths, *(folder.path for folder in listing.folders)}
    led_to = {r.target for r in contents.references.references if r.state in ("outside", "folder")}
    places = {written_paths.normal(path): str(outside.get(path, path)) for path in led_to}
    windows = system_name() == "windows"
    moves = Moves(
        old=written_paths.normal(str(library.path)),
        new=str(target),
        windows=windows,
        renamed={},
        inside=inside.__contains__,
        outside_files=places,
        home=str(own_home()),
        old_home=written_paths.normal(str(own_home())),
    )
    sources: Iterable[str] = paths
    if (
        way == "link"
    ):  # full paths stay right, and so do those that stay inside: the others need not be read once more
        sources = {r.source for r in contents.references.references if r.state in ("outside", "folder")}
    plan = plan_references(kind, _Tree(library.path, listing), sources, moves, paths, {})
    if way == "link":
        gathered = set(outside)
        kept = tuple(u for u in plan.updates if not _is_full(u.old) or written_paths.normal(u.old) in gathered)
        return kind, replace(plan, updates=kept, stay=plan.stay + len(plan.updates) - len(kept)), OldPlace()
    files = [_Own(file.path, file.size) for file in listing.files]
    return kind, plan, name_old_place(kind, moves, plan, library.path.joinpath, files)


def _is_full(text: str) -> bool:
    written = written_paths.read(text, uri=False) or written_paths.read(text, uri=True)
    return written is not None and written.full


def links_of(listing: Walk, source: Path, target: Path, way: Way) -> tuple[LinkEntry, ...]:
    """Return the symbolic links of a library with the targets that they get in the new place.

    Those that lead to something in the library lead to the same there, those that lead out to the same file as before.
    """
    every = {link.path: link.target for link in listing.links}
    found = []
    for link in listing.links:
        aim = link.target
        if os.path.isabs(aim):
            if way == "setting" and Path(aim).is_relative_to(source):
                aim = str(target / Path(aim).relative_to(source))
        elif leads_out(link.path, aim, every):
            aim = os.path.normpath(os.path.join(source, os.path.dirname(link.path), aim))
        found.append(LinkEntry(link.path, aim, link.mtime_ns))
    return tuple(found)


def hard_links_of(files: Iterable[FileEntry]) -> tuple[tuple[str, ...], ...]:
    """Return the groups of names in a library that are one file."""
    groups: dict[tuple[int, int], list[str]] = {}
    for file in files:
        if file.names > 1:
            groups.setdefault((file.device, file.inode), []).append(file.path)
    return tuple(tuple(paths) for paths in groups.values() if len(paths) > 1)


def with_modes(
    files: Iterable[FileEntry], folders: Iterable[FolderEntry], move: str
) -> tuple[tuple[FileEntry, ...], tuple[FolderEntry, ...]]:
    """Return files and folders with the modes that they had before they came to a drive that holds none.

    Parameters
    ----------
    files, folders : iterable
        As they were found.
    move : str
        The id of the move that brought them there; what is new since gets what the system gives to new files.
    """
    before = read_aside(move) or {} if move else {}

    def mode(path: str, usual: int) -> int:
        known = before.get(path)
        return known.mode if known is not None and known.mode >= 0 else usual & ~UMASK

    return (
        tuple(msgspec.structs.replace(file, mode=mode(file.path, 0o666)) for file in files),
        tuple(msgspec.structs.replace(folder, mode=mode(folder.path, 0o777)) for folder in folders),
    )
