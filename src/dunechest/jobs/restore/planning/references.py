"""Plan what references become where a library goes to another place."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Mapping
from pathlib import Path
from typing import Protocol

from dunechest.chest.origin import old_path
from dunechest.chest.records import LibraryRecord
from dunechest.jobs.restore.planning.place import standard_moves
from dunechest.library.formats.base import UnreadableError
from dunechest.library.formats.tables import folder_of
from dunechest.library.kinds.schema import FoundReferences, Kind
from dunechest.library.references.reading import READERS, base_of, counts
from dunechest.library.references.resolve import Resolver, Target
from dunechest.library.repoint.places import Moves, point
from dunechest.library.still_named import OldPlace, StillNamed, old_names, pattern_of, still_named
from dunechest.machine import written_paths
from dunechest.model.restore import ByHand, ReferencePlan, Repoint, RestoreOptions, RestoreOutsideFile
from dunechest.names import AnyPath, from_wire
from dunechest.transfer.walk import Walk


class ReadableLibrary(Protocol):
    """A library whose files can be read below `root`, and what is in it."""

    @property
    def root(self) -> Path:
        """The folder with the library's names."""

    @property
    def listing(self) -> Walk:
        """What is in it."""


class OwnFile(Protocol):
    """A file by its path in the library, and its bytes."""

    @property
    def own(self) -> str:
        """Path in the library."""

    @property
    def size(self) -> int:
        """Bytes."""


def moves_of(
    record: LibraryRecord,
    place: Path,
    options: RestoreOptions,
    renamed: Mapping[str, str],
    inside: Iterable[str],
    outside_files: Iterable[RestoreOutsideFile],
) -> Moves:
    """Return what went where."""
    paths = set(inside)
    windows = record.origin.system == "windows"
    folded = {path.casefold() for path in paths} if windows else paths
    also = [
        (written_paths.normal(from_wire(s.path)), s.standard, from_wire(s.relative))
        for s in record.outside_files
        if s.standard
    ]
    folders, old_home = standard_moves(record, options.home_folder, also)
    return Moves(
        old=old_path(record),
        new=str(place),
        windows=windows,
        renamed=renamed,
        inside=(lambda path: path.casefold() in folded) if windows else paths.__contains__,
        outside_files={
            written_paths.normal(outside_file.path): str(outside_file.new_path)
            for outside_file in outside_files
            if outside_file.path
        },
        folders=folders,
        home=str(options.home_folder),
        old_home=old_home,
    )


def plan_references(
    kind: Kind,
    tree: ReadableLibrary,
    sources: Iterable[str],
    moves: Moves,
    here: Iterable[str],
    left: Mapping[str, str],
) -> ReferencePlan:
    """Say what becomes of each reference of the files that come back.

    Parameters
    ----------
    kind : Kind
        Says how they are written.
    tree : ReadableLibrary
        The library, in its bag or where it lies.
    sources : iterable of str
        Paths in the library of the files that come back.
    moves : Moves
        What went where.
    here : iterable of str
        Paths of all files that will be in the library here, by their names here.
    left : mapping
        Old full paths of what was never archived, and why.
    """
    resolver = Resolver(Path(moves.new), here, (), Path(moves.home))
    coming = set(sources)
    archived = {file.path for file in tree.listing.files}
    stay = 0
    updates: list[Repoint] = []
    lost: list[ByHand] = []
    unread: list[tuple[str, str]] = []
    for index, spec in enumerate(kind.references):
        for path in spec.among(coming):
            base = base_of(spec, path)
            try:
                for raw in READERS[spec.form](tree.root / path, spec):
                    pointed = point(raw, base, moves, resolver)
                    if pointed.state == "new":
                        updates.append(Repoint(path, index, raw.spot, raw.text, pointed.text))
                    elif pointed.state == "lost":
                        if not counts(spec, raw.text, Target("missing", raw.text)):
                            continue
                        lost.append(
                            ByHand(
                                path, raw.spot, raw.text, _what_to_do(raw.text, raw.uri, base, moves, left, archived)
                            )
                        )
                    else:
                        stay += 1
            except UnreadableError as error:
                if not isinstance(spec, FoundReferences):
                    unread.append((path, str(error)))
    return ReferencePlan(stay, tuple(updates), tuple(lost), tuple(unread))


def _what_to_do(
    text: str, uri: bool, base: str, moves: Moves, left: Mapping[str, str], archived: Collection[str]
) -> str:
    written = written_paths.read(text, uri)
    if written is not None:
        path = written.path if written.full else "/".join(filter(None, (moves.old, base, written.path)))
        why = left.get(written_paths.normal(path))
        inner = written_paths.below(written_paths.normal(path), moves.old, cases=moves.cases)
        if inner in archived:
            return "it is in the archive but not part of what is restored. Restore it too if you need it"
        if why:
            return f"it was not archived: {why}. Copy that file yourself, or let the application search for it"
    return "its target was not in the archive. Let the application search for it, or remove it there"


def name_old_place(
    kind: Kind,
    moves: Moves,
    references: ReferencePlan,
    at: Callable[[str], AnyPath | None],
    files: Iterable[OwnFile],
) -> OldPlace:
    """Return what will still name the old home or place when the references are updated.

    Parameters
    ----------
    kind : Kind
        The library's kind: where many names share the value of one folder, that is updated once.
    moves : Moves
        Old and new places.
    references : ReferencePlan
        What will be updated, and so does not count.
    at : callable
        Where a file of the library can be read, by its old path.
    files : iterable of OwnFile
        What comes back.
    """
    names = old_names(moves.old, moves.old_home, moves.new, moves.home)
    if not names:
        return OldPlace()
    wanted = pattern_of(names, (moves.new, moves.home))
    shared = {index for index, spec in enumerate(kind.references) if spec.folder}
    folders = {
        (update.file, update.spec, folder_of(update.old)) for update in references.updates if update.spec in shared
    }
    values = [*((source, text) for source, _, text in folders)]
    values += [(update.file, update.old) for update in references.updates if update.spec not in shared]
    updated = Counter(source for source, text in values if wanted.search(text.encode("utf-8", "surrogateescape")))
    found = still_named(((file.own, file.size) for file in files), at, wanted)
    left = (StillNamed(file.path, file.mention_count - updated[file.path]) for file in found)
    return OldPlace(names, tuple(file for file in left if file.mention_count > 0))
