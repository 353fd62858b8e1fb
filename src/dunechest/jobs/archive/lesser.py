"""What the place of a library cannot hold of it, as a plain value."""

from __future__ import annotations

from typing import Any

import msgspec
from msgspec.structs import replace

from dunechest.chest.records import AttributeRecord, LibraryRecord, OwnerRecord
from dunechest.jobs.study.selection import Selection
from dunechest.names import from_wire, parents
from dunechest.transfer.walk import FileEntry, FolderEntry, LinkEntry
from dunechest.values import FrozenDict

#: What a new file or folder gets where nobody can give it permissions.
_FILE, _FOLDER = 0o644, 0o755


class NotHeld(msgspec.Struct, frozen=True):
    """What a place cannot hold of a library, and the latest edition has.

    Parameters
    ----------
    record : LibraryRecord or None
        The latest edition; None where the place holds everything.
    modes : dict
        Modes of its files, by their own paths, where the place has none.
    names : dict
        By the path that a file or folder has in the place, its true one, where they differ.
    step_ns : int
        In what steps the place keeps times, in ns.
    not_held : tuple of str
        The sorts of things that are taken from the latest edition.
    """

    record: LibraryRecord | None = None
    modes: FrozenDict[str, int] = FrozenDict()
    names: FrozenDict[str, str] = FrozenDict()
    step_ns: int = 1
    not_held: tuple[str, ...] = ()

    def true(self, path: str) -> str:
        """Return the true path of what lies in the place; something new in a folder has its name in that."""
        if not self.names or path in self.names:
            return self.names.get(path, path)
        for above in sorted(parents(path), key=len, reverse=True):
            if above in self.names:
                return self.names[above] + path[len(above) :]
        return path

    def selection(self, selection: Selection) -> Selection:
        """Return a selection under true names, with the modes and links of the latest edition."""
        if self.record is None:
            return selection
        listing = selection.listing
        before = self._folders
        every = (self._folder(folder, before) for folder in listing.folders)
        folders = tuple(sorted(every, key=lambda folder: folder.path))
        files = tuple(sorted(map(self._file, listing.files), key=lambda file: file.path))
        others: dict[str, Any] = {"files": files, "folders": folders}
        if "links" in self.not_held:
            others["links"] = self._links({folder.path for folder in folders}, {file.path for file in files})
        else:
            times = self._times_of_links
            links = (self._link(link, times) for link in listing.links)
            others["links"] = tuple(sorted(links, key=lambda link: link.path))
        return replace(
            selection,
            listing=replace(listing, **others),
            files=tuple(sorted(map(self._file, selection.files), key=lambda file: file.path)),
            left_out=tuple(replace(item, path=self.true(item.path)) for item in selection.left_out),
        )

    def _file(self, file: FileEntry) -> FileEntry:
        path = self.true(file.path)
        mode = self.modes.get(path, _FILE) if "modes" in self.not_held else file.mode
        return file if (path, mode) == (file.path, file.mode) else replace(file, path=path, mode=mode)

    def _folder(self, folder: FolderEntry, before: dict[str, tuple[int, int]]) -> FolderEntry:
        path = self.true(folder.path)
        then = before.get(path)
        mode = folder.mode
        if "modes" in self.not_held:
            mode = then[0] if then is not None else _FOLDER
        time = then[1] if then is not None and same_time(then[1], folder.mtime_ns, self.step_ns) else folder.mtime_ns
        return replace(folder, path=path, mode=mode, mtime_ns=time)

    def _link(self, link: LinkEntry, times: dict[tuple[str, str], int]) -> LinkEntry:
        path = self.true(link.path)
        then = times.get((path, link.target), link.mtime_ns)
        return LinkEntry(path, link.target, then if same_time(then, link.mtime_ns, self.step_ns) else link.mtime_ns)

    @property
    def _times_of_links(self) -> dict[tuple[str, str], int]:
        links = self.record.links if self.record is not None else ()
        return {(from_wire(link.path), from_wire(link.target)): link.mtime_ns for link in links}

    @property
    def _folders(self) -> dict[str, tuple[int, int]]:
        record = self.record
        return {from_wire(f.path): (f.mode, f.mtime_ns) for f in record.folders} if record is not None else {}

    def _links(self, folders: set[str], files: set[str]) -> tuple[LinkEntry, ...]:
        """Return the links of the latest edition, of folders that are still there; where a file has the name now, it is that."""
        assert self.record is not None
        every = ((from_wire(link.path), from_wire(link.target), link.mtime_ns) for link in self.record.links)
        return tuple(
            LinkEntry(path, target, mtime_ns)
            for path, target, mtime_ns in every
            if path not in files and path not in folders and path.rpartition("/")[0] in folders
        )

    def attributes(
        self, owners: tuple[OwnerRecord, ...], kept: tuple[AttributeRecord, ...], selection: Selection
    ) -> tuple[tuple[OwnerRecord, ...], tuple[AttributeRecord, ...]]:
        """Return owners and attributes with those of the latest edition that the place cannot hold."""
        record = self.record
        if record is None:
            return owners, kept
        there = {"", *(file.path for file in selection.files), *(folder.path for folder in selection.listing.folders)}
        if "owners" in self.not_held:
            owners = tuple(
                OwnerRecord(o.user, o.group, own)
                for o in record.owners
                if (own := tuple(p for p in o.paths if from_wire(p) in there)) or not o.paths
            )
        if "attributes" in self.not_held:
            kept = tuple(
                AttributeRecord(a.name, a.value, own)
                for a in record.attributes
                if (own := tuple(p for p in a.paths if from_wire(p) in there))
            )
        return owners, kept


#: A place that holds everything.
ALL_HELD = NotHeld()


def same_time(then_ns: int, now_ns: int, step_ns: int) -> bool:
    """Whether a time is the one that a place would have kept of another, in its steps.

    >>> same_time(1_234_567_890, 1_230_000_000, 10_000_000), same_time(1_234_567_890, 1_240_000_001, 10_000_000)
    (True, False)
    """
    return then_ns == now_ns or (step_ns > 1 and abs(then_ns - now_ns) < step_ns and not now_ns % step_ns)
