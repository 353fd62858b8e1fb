"""The names of a bag as another drive would have them.

A bag that is copied to a drive with other limits gets the names there that an archive to it would have given: each
file's own name, as far as that drive can hold it. The own names are known from ``changed_names`` in the record of each
edition; an outside file's from the place it came from.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Mapping

import msgspec

from dunechest.chest.layout import EARLIER, LIBRARY_FILES, OUTSIDE_FILES
from dunechest.chest.pieces import SUFFIX
from dunechest.chest.records import ChangedName, LibraryRecord
from dunechest.chest.stored_names import StoredNames
from dunechest.errors import ChestUnusableError
from dunechest.machine.drives import Limits
from dunechest.names import from_wire, parents, shown, to_wire, why_unsafe
from dunechest.regex import late

_MARKED = late(r"~([0-9a-f]{8})(\.[^/]*)?\Z")
_NUMBERED = late(re.escape(EARLIER) + r"/(\d{4,9})/(.+)\Z", re.DOTALL)


class Fitted(msgspec.Struct, frozen=True):
    """An edition with the names of another drive.

    Parameters
    ----------
    record : LibraryRecord
        Its record; the very same one if no name differs.
    names : mapping
        Paths below ``data/`` that differ: as they are in the bag, and as they would be.
    """

    record: LibraryRecord
    names: Mapping[str, str]

    def name(self, path: str) -> str:
        """Return what a path below ``data/`` would be."""
        return self.names.get(path, path)


def fit_edition(record: LibraryRecord, paths: Iterable[str], limits: Limits) -> Fitted:
    """Give an edition the names that a drive can hold.

    Parameters
    ----------
    record : LibraryRecord
        The edition.
    paths : iterable of str
        All its files below ``data/``.
    limits : Limits
        What the names of the drive can be.

    Raises
    ------
    ChestUnusableError
        If a recorded name leads out of the library: no archive of ours has such a one.
    """
    own_names = {LIBRARY_FILES + item.stored: from_wire(item.path) for item in record.changed_names}
    inside = sorted((own_names.get(path, path[len(LIBRARY_FILES) :]), path) for path in paths if _inside(path))
    names = StoredNames(limits)
    names.folders(from_wire(folder.path) for folder in record.folders)
    found: dict[str, str] = {}
    for own, path in inside:
        new = LIBRARY_FILES + names.file(own)
        if new != path:
            found[path] = _checked(new)
    folders = {names.folder(from_wire(folder.path)) for folder in record.folders}
    outside = _fit_outside(record, limits)
    found |= outside
    changed = tuple(ChangedName(to_wire(own), stored) for own, stored in names.changed.items())
    for folder in folders:
        if folder:
            _checked(LIBRARY_FILES + folder)
    if not found and {c.stored: c.path for c in changed} == {c.stored: c.path for c in record.changed_names}:
        return Fitted(record, {})
    files = tuple(
        msgspec.structs.replace(item, stored=outside.get(item.stored, item.stored)) for item in record.outside_files
    )
    sparse = tuple(
        msgspec.structs.replace(item, stored=found.get(item.stored, item.stored)) for item in record.sparse
    )
    return Fitted(msgspec.structs.replace(record, changed_names=changed, outside_files=files, sparse=sparse), found)


def _inside(path: str) -> bool:
    return path.startswith(LIBRARY_FILES)


def _checked(path: str) -> str:
    if (why := why_unsafe(path)) is not None:
        raise ChestUnusableError(f"A recorded name must not be used ({shown(path)}: {why}). Nothing was copied.")
    return path


def _fit_outside(record: LibraryRecord, limits: Limits) -> dict[str, str]:
    """Return the paths of outside files that differ; their own names are those of the places they came from."""
    own: list[tuple[str, str]] = []
    for item in record.outside_files:
        below = item.stored.removeprefix(OUTSIDE_FILES)
        then = from_wire(item.path).replace("\\", "/").split("/")
        parts = below.split("/")
        then = then[-len(parts) :]
        if len(then) == len(parts):
            parts = [_before(part, was) for part, was in zip(parts, then, strict=True)]
        own.append(("/".join(parts), item.stored))
    names = StoredNames(limits)
    names.folders({folder for path, _ in own for folder in parents(path)})
    return {
        stored: _checked(OUTSIDE_FILES + new)
        for path, stored in own
        if OUTSIDE_FILES + (new := names.file(path)) != stored
    }


def _before(part: str, was: str) -> str:
    """Return the name that a changed one was made of, if it is this."""
    found = _MARKED.search(part)
    if found is None:
        return part
    return was if hashlib.sha256(was.encode("utf-8", "surrogateescape")).hexdigest()[:8] == found.group(1) else part


class FittedEarlier:
    """Gives what only earlier editions have its place on another drive.

    Parameters
    ----------
    editions : mapping
        Each edition with its fitted names, by number.
    limits : Limits
        What the names of the drive can be.
    """

    def __init__(self, editions: Mapping[int, Fitted], limits: Limits) -> None:
        self._editions = editions
        self._limits = limits

    def paths(self, earlier: Iterable[str]) -> dict[str, str]:
        """Return for paths below ``dune/earlier`` what they would be, as far as they differ."""
        by_number: dict[str, list[tuple[str, str]]] = {}
        found: dict[str, str] = {}
        for path in sorted(earlier):
            match = _NUMBERED.match(path)
            if match is None:
                raise ChestUnusableError(f"{shown(path)} is not where earlier states are kept. Nothing was copied.")
            by_number.setdefault(match.group(1), []).append((match.group(2), path))
        for number, items in by_number.items():
            names = StoredNames(self._limits)
            wanted = [(self._name(int(number), below), path) for below, path in items]
            names.folders({folder for (below, _), _ in wanted for folder in parents(below)})
            for (below, suffix), path in wanted:
                folder, slash, name = names.file(below).rpartition("/")
                if suffix and not names.fits(name + suffix):
                    name = hashlib.sha256(name.encode("utf-8", "surrogateescape")).hexdigest()[:16]
                new = f"{EARLIER}/{number}/{folder}{slash}{name}{suffix}"
                if new != path:
                    found[path] = _checked(new)
        return found

    def _name(self, number: int, below: str) -> tuple[str, str]:
        """Return the fitted path of a kept file, and the ending that an archive of pieces has beside."""
        suffix = ""
        plain = below
        edition = self._editions.get(number)
        if below.endswith(SUFFIX):
            plain, suffix = below[: -len(SUFFIX)], SUFFIX
        others = (self._editions[key] for key in sorted(self._editions) if key != number)
        for fitted in (*([edition] if edition is not None else ()), *others):
            if below in fitted.names:
                return fitted.names[below], ""
            if suffix and plain in fitted.names:
                return fitted.names[plain], suffix
        return plain, suffix
