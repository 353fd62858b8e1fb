"""What of an archived library cannot be seen now, and so is no file that was deleted.

A folder that may not be read, a drive that is not mounted where it was, a file of which only a placeholder is here: what the
edition before had there stays as it is in the chest. Only what was looked for in a place that is there, and is not in it,
was deleted.
"""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable, Iterator, Mapping
from pathlib import Path

import msgspec

from dunechest.chest.layout import LIBRARY_FILES
from dunechest.chest.records import FolderRecord, LibraryRecord, LinkRecord, OutsideFileRecord, PlaceRecord
from dunechest.findings import Finding
from dunechest.jobs.study.path_patterns import chosen
from dunechest.jobs.study.selection import PLACEHOLDER
from dunechest.library.library import Library
from dunechest.machine.mounts import mounts
from dunechest.machine.volumes import mark_of
from dunechest.model.archive import CarriedFile
from dunechest.model.findings import finding_of
from dunechest.model.study import Choice, Contents, Selection
from dunechest.names import from_wire, parents, quoted, shown, to_wire
from dunechest.paths import TOP, prefix_of

#: What to say of each reason.
_WORDS = {
    "away": "{place} is not there",
    "closed": "{place} cannot be read by this user",
    "placeholder": "only placeholders of them are on this computer",
    "too-large": "they are larger than the drive can hold now",
}
#: And what to do about it.
_ACTIONS = {
    "away": "Connect the drive or bring the folder back, and archive again.",
    "closed": "Archive as a user who may read it.",
    "placeholder": "Have the application or service download them, and archive again.",
    "too-large": "Use a drive with another filesystem.",
}

Why = tuple[str, str]


class Unseen:
    """Tells of what an edition has whether it cannot be seen now.

    Parameters
    ----------
    library : Library
        The library.
    contents, selection
        What was found in it, and what is taken.
    choice : Choice
        What a person chose: what is left out on purpose is not unseen.
    record : LibraryRecord
        The edition.
    too_large : collection of str
        Paths of files that the chest's drive cannot hold as they are now.
    """

    def __init__(
        self,
        library: Library,
        contents: Contents,
        selection: Selection,
        choice: Choice,
        record: LibraryRecord,
        too_large: Collection[str] = (),
    ) -> None:
        self._record = record
        self._choice = choice
        self._top = os.path.realpath(library.path)
        self._closed = {entry.path for entry in contents.listing.unreadable}
        self._single: dict[str, str] = {
            item.path: "placeholder" for item in selection.left_out if item.why == PLACEHOLDER
        }
        self._single |= dict.fromkeys(too_large, "too-large")
        self._away = dict(away_places(record.places))
        self._inner = {
            Path(place).relative_to(self._top).as_posix(): place
            for place in self._away
            if place.startswith(prefix_of(self._top))
        }
        self._stored = {item.stored: item for item in record.outside_files}
        self._own = {LIBRARY_FILES + item.stored: from_wire(item.path) for item in record.changed_names}
        self._seen = {
            path: item.seen
            for item in record.carried
            for path in (*map(from_wire, item.paths), *map(from_wire, item.outside))
        }
        references = contents.references.references
        self._texts = {(r.source, r.text) for r in references}
        self._targets = {r.target for r in references}
        self._unread = {path for path, _ in contents.references.unread}
        self._folders: dict[str, Why | None] = {}

    @property
    def possible(self) -> bool:
        """Whether there can be anything of the library itself that is not seen."""
        return bool(self._closed or self._single or self._inner)

    def own_path(self, stored: str) -> str:
        """Return the path in the library of a file below ``data/``."""
        return self._own.get(stored) or stored.removeprefix(LIBRARY_FILES)

    def file(self, stored: str, size: int) -> CarriedFile | None:
        """Return a file of the edition that is not found now, if that says nothing about it; None if it was deleted."""
        outside = self._stored.get(stored)
        if outside is not None:
            why = self._outside(outside)
            path = from_wire(outside.path)
        elif stored.startswith(LIBRARY_FILES):
            path = self.own_path(stored)
            why = self.why(path)
        else:
            return None
        if why is None:
            return None
        return CarriedFile(stored, path, size, outside is not None, self._seen.get(path, self._record.edition), *why)

    def why(self, path: str) -> Why | None:
        """Say why something in the library cannot be seen; None if it could be."""
        if (single := self._single.get(path)) is not None:
            return single, ""
        for above in (path, *parents(path)) if self._closed or self._inner else ():
            if above in self._closed:
                return "closed", os.path.join(self._top, above) if above else self._top
            if above in self._inner:
                return "away", self._inner[above]
        return None

    def _outside(self, item: OutsideFileRecord) -> Why | None:
        """Say why an outside file cannot be seen; None if it is there, was deleted, or nothing refers to it any more."""
        if not self._choice.outside_files:
            return None
        path = from_wire(item.path)
        if (single := self._single.get(path)) is not None:
            return single, ""
        if not self._still_used(item, path):
            return None
        for place in self._away:
            if path.startswith(prefix_of(place)):
                return "away", place
        folder = os.path.dirname(path)
        if folder not in self._folders:
            self._folders[folder] = self._of_folder(folder)
        return self._folders[folder] if not os.path.isfile(path) else None

    def _still_used(self, item: OutsideFileRecord, path: str) -> bool:
        """Whether the library still refers to an outside file, or it cannot be told since what referred to it is not read."""
        if not item.references or path in self._targets:
            return True
        for reference in item.references:
            source = from_wire(reference.source)
            if (source, from_wire(reference.text)) in self._texts or source in self._unread:
                return True
            if self.why(source) is not None:
                return True
        return False

    def _of_folder(self, folder: str) -> Why | None:
        """Say why what should be in a folder cannot be seen; None if it could be."""
        try:
            there = os.listdir(folder)
        except (FileNotFoundError, NotADirectoryError):
            return "away", missing_top(folder)
        except (OSError, ValueError):
            return "closed", folder
        # An edition of an earlier version does not say what was mounted: a folder with nothing in it may be such a place.
        return ("away", folder) if not there and not self._record.state else None

    def folders(self, listed: Collection[str]) -> Iterator[FolderRecord]:
        """Yield the records of folders of the library that cannot be seen."""
        if self._closed or self._inner:
            for folder in self._record.folders:
                path = from_wire(folder.path)
                if path and path not in listed and self.why(path) is not None:
                    yield folder

    def links(self, listed: Collection[str]) -> Iterator[LinkRecord]:
        """Yield the records of links in the library that cannot be seen."""
        if self._closed or self._inner:
            for link in self._record.links:
                path = from_wire(link.path)
                if path not in listed and self.why(path) is not None:
                    yield link


def missing_top(folder: str) -> str:
    """Return the first folder on the way to one that is not there, from the top.

    >>> missing_top("/no-such-place/a/b")
    '/no-such-place'
    """
    while True:
        above = os.path.dirname(folder)
        if above == folder or os.path.isdir(above):
            return folder
        folder = above


def away_places(places: Iterable[PlaceRecord]) -> Iterator[tuple[str, str]]:
    """Yield the places of a library in which its drive is not mounted now, each with what was."""
    known = {mount.mountpoint for mount in mounts()} if places else set()
    for place in places:
        path = from_wire(place.path)
        now = mark_of(path) if path in known else ""
        if path not in known or (place.volume and now and now != place.volume):
            yield path, place.volume


def places_of(library: Library, outside: Iterable[str], before: LibraryRecord | None) -> tuple[PlaceRecord, ...]:
    """Return the folders of a library, and of its outside files, that other filesystems are mounted in.

    What was mounted when the edition before was made and is away now stays among them.
    """
    top = os.path.realpath(library.path)
    own, found = "", {}
    every = sorted({mount.mountpoint for mount in mounts()}, key=len)
    for place in every:
        if top == place or top.startswith(prefix_of(place)):
            own = place
    paths = sorted(outside)
    for place in every:
        prefix = prefix_of(place)
        if place in (own, str(TOP)):
            continue
        if place.startswith(prefix_of(top)) or any(path.startswith(prefix) for path in paths):
            found[place] = PlaceRecord(to_wire(place), mark_of(place))
    if before is not None:
        away = {path for path, _ in away_places(before.places)}
        for place_before in before.places:
            path = from_wire(place_before.path)
            if path in away:
                found[path] = place_before
    return tuple(found[place] for place in sorted(found))


class Forgotten(msgspec.Struct, frozen=True):
    """What a person says is really gone: the files, and the patterns that mean none."""

    files: frozenset[str] = frozenset()
    missed: tuple[str, ...] = ()


def forgotten(patterns: tuple[str, ...], carried: Iterable[CarriedFile]) -> Forgotten:
    """Return which files, by their path below ``data/``, a person says are really gone."""
    if not patterns:
        return Forgotten()
    found, missed = chosen(patterns, {item.stored: (item.path,) for item in carried})
    return Forgotten(frozenset(found), tuple(missed))


def carried_findings(carried: Iterable[CarriedFile], missed: Iterable[str]) -> Iterator[Finding]:
    """Say what cannot be seen now and stays as it was, and which words of a person mean none of it."""
    groups: dict[tuple[str, str], list[CarriedFile]] = {}
    for item in carried:
        groups.setdefault((item.why, item.place), []).append(item)
    for (why, place), items in sorted(groups.items()):
        since = sorted({item.last_seen_edition for item in items})
        edition = f"edition {since[0]}" if len(since) == 1 else f"editions {since[0]} to {since[-1]}"
        one = len(items) == 1
        forget = quoted(place if place else items[0].path)
        yield finding_of(
            "not-seen",
            files=len(items),
            reason=_WORDS[why].format(place=shown(place)),
            them="it" if one else "them",
            edition=edition,
            first=items[0].path,
            advice=_ACTIONS[why],
            they_are="it is" if one else "they are",
            forget=forget,
        )
    for pattern in missed:
        yield finding_of("forget-absent", pattern=pattern)


def seen_again(record: LibraryRecord, carried: Mapping[str, CarriedFile]) -> int:
    """Count the files that could not be seen when an edition was made, and can be seen now."""
    then = [from_wire(path) for item in record.carried for path in (*item.paths, *item.outside)]
    return sum(path not in carried for path in then)
