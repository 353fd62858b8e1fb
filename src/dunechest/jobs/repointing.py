"""Plan what references and settings become where a library goes to another place."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import msgspec

from dunechest.chest.origin import old_path
from dunechest.chest.records import LibraryRecord
from dunechest.jobs.landing import RestoreChoice, standard_moves
from dunechest.jobs.restore_contents import RestoreStray
from dunechest.jobs.restore_reading import BagTree
from dunechest.library.formats.base import Unread
from dunechest.library.formats.keyed import document_of, values
from dunechest.library.kinds.patterns import Patterns
from dunechest.library.kinds.schema import Kind
from dunechest.library.references.reading import READERS, base_of
from dunechest.library.references.resolve import Resolver
from dunechest.library.repoint.places import Moves, point
from dunechest.machine import written_paths
from dunechest.machine.folders import standard_folders
from dunechest.names import from_wire


class Repoint(msgspec.Struct, frozen=True, gc=False):
    """A reference that is written anew: its file (a path in the library), how it is written, where, old, new."""

    source: str
    spec: int
    spot: str
    old: str
    new: str


@dataclass(frozen=True, slots=True)
class ByHand:
    """A reference that is not written anew though it leads to nothing here: file, spot, text, and what to do."""

    source: str
    spot: str
    text: str
    why: str


@dataclass(frozen=True, slots=True)
class SettingChange:
    """A setting of the application: its file and key, what it says (empty for nothing), and what it is to say."""

    file: Path
    key: str
    old: str
    new: str


@dataclass(frozen=True, slots=True)
class References:
    """What becomes of a library's references: so many stay as they are, some are written anew, some are lost."""

    stay: int = 0
    anew: tuple[Repoint, ...] = ()
    lost: tuple[ByHand, ...] = ()
    unread: tuple[tuple[str, str], ...] = ()


def moves_of(
    record: LibraryRecord,
    place: Path,
    choice: RestoreChoice,
    renamed: Mapping[str, str],
    inside: Iterable[str],
    strays: Iterable[RestoreStray],
) -> Moves:
    """Return what went where."""
    paths = set(inside)
    windows = record.origin.system == "windows"
    folded = {path.casefold() for path in paths} if windows else paths
    also = [
        (written_paths.normal(from_wire(s.path)), s.standard, from_wire(s.relative))
        for s in record.strays
        if s.standard
    ]
    folders, old_home = standard_moves(record, choice.home_folder, also)
    return Moves(
        old=old_path(record),
        new=str(place),
        windows=windows,
        renamed=renamed,
        inside=(lambda path: path.casefold() in folded) if windows else paths.__contains__,
        strays={written_paths.normal(stray.origin): str(stray.place) for stray in strays if stray.origin},
        folders=folders,
        home=str(choice.home_folder),
        old_home=old_home,
    )


def plan_references(
    kind: Kind, tree: BagTree, sources: Iterable[str], moves: Moves, here: Iterable[str], left: Mapping[str, str]
) -> References:
    """Say what becomes of each reference of the files that come back.

    Parameters
    ----------
    kind : Kind
        Says how they are written.
    tree : BagTree
        The library in its bag.
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
    anew: list[Repoint] = []
    lost: list[ByHand] = []
    unread: list[tuple[str, str]] = []
    for index, spec in enumerate(kind.references):
        for path in Patterns(spec.files).among(coming):
            base = base_of(spec, path)
            try:
                for raw in READERS[spec.form](tree.root / path, spec):
                    pointed = point(raw, base, moves, resolver)
                    if pointed.state == "new":
                        anew.append(Repoint(path, index, raw.spot, raw.text, pointed.text))
                    elif pointed.state == "lost":
                        lost.append(
                            ByHand(
                                path, raw.spot, raw.text, _what_to_do(raw.text, raw.uri, base, moves, left, archived)
                            )
                        )
                    else:
                        stay += 1
            except Unread as error:
                unread.append((path, str(error)))
    return References(stay, tuple(anew), tuple(lost), tuple(unread))


def _what_to_do(
    text: str, uri: bool, base: str, moves: Moves, left: Mapping[str, str], archived: Collection[str]
) -> str:
    written = written_paths.read(text, uri)
    if written is not None:
        path = written.path if written.full else "/".join(filter(None, (moves.old, base, written.path)))
        why = left.get(written_paths.normal(path))
        inner = written_paths.below(written_paths.normal(path), moves.old, cases=moves.cases)
        if inner in archived:
            return "it is in the archive, and not part of what is restored. Restore that, too, if it is wanted"
        if why:
            return f"it was not archived: {why}. Bring that file yourself, or let the application look for it"
    return "what it names was not in the archive. Let the application look for it, or leave it out there"


def plan_settings(
    kind: Kind, place: Path, choice: RestoreChoice, record: LibraryRecord
) -> tuple[list[SettingChange], list[SettingChange]]:
    """Return the settings to write, and those that are left although they name another place.

    A setting is written where it names nothing that exists; where it names another library that is there,
    only if that is asked for: the application must not turn away from it unasked.
    """
    changes, left = [], []
    if choice.settings is False:
        return [], []
    folders = standard_folders(choice.home_folder)
    for setting in kind.settings:
        standard, _, rest = setting.file[1:].partition("}")
        if standard not in folders or any(mark in rest for mark in "*?["):
            continue
        file = folders[standard] / rest.strip("/")
        old = said(file, setting.key)
        if old is None:  # it is there and cannot be understood: the person's to mend
            continue
        change = SettingChange(file, setting.key, old, str(place))
        if old and os.path.realpath(os.path.expanduser(old)) == os.path.realpath(place):
            continue
        names_another = bool(old) and os.path.exists(os.path.expanduser(old))
        # Of two libraries of one kind the application kept one; the other is not pushed upon it.
        second = not old and record.chosen is False
        if choice.settings or not (names_another or second):
            changes.append(change)
        else:
            left.append(change)
    return changes, left


def form_of(file: Path) -> str:
    """Return how a file of settings is written, by its ending."""
    return {".json": "json", ".ini": "ini"}.get(file.suffix, "toml")


def said(file: Path, key: str, form: str = "") -> str | None:
    """Return what a setting says; empty if it says nothing, None if its file cannot be understood."""
    if not os.path.lexists(file):
        return ""
    try:
        document: Any = document_of(Path(os.path.realpath(file)), form or form_of(file))
    except Unread:
        return None
    return next((text for _, text in values(document, tuple(key.split(".")), ())), "")
