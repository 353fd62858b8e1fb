"""Archived paths become paths that may be used here."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from dunechest.chest.layout import LIBRARY_FILES
from dunechest.chest.records import LibraryRecord
from dunechest.chest.stored_names import StoredNames
from dunechest.machine.drives import Filesystem
from dunechest.model.restore import NO_MODE, NotDone, RestoreFile
from dunechest.names import from_wire, parents, why_leads_out
from dunechest.paths import BACKSLASHES
from dunechest.transfer.holes import may_be
from dunechest.transfer.whole_files import UMASK


class Paths:
    """Turns archived paths into paths that may be used here."""

    def __init__(self, record: LibraryRecord, here: Filesystem | None) -> None:
        self._record = record
        #: What is not brought back as it was, and why; it grows with each question.
        self.not_done: list[NotDone] = []
        self._names = StoredNames(here.limits, any_bytes=True) if here is not None else None
        #: Path below data/library/ and path in the library, for changed names that may be used.
        self._own: dict[str, str] = {}
        for changed in record.changed_names:
            path = from_wire(changed.path)
            why = why_leads_out(path)
            if why is None:
                self._own[changed.stored] = path
            else:
                self._refuse(path, why, "it keeps the name it has in the chest")
        self._here: dict[str, str] = {}
        self._data = {item.stored: item.data for item in record.sparse}
        #: Paths that get another name here.
        self.renamed: dict[str, str] = {}

    def _refuse(self, path: str, why: str, instead: str) -> None:
        self.not_done.append(NotDone(path, f"its path is not used: {why}; {instead}", True))

    def folders(self) -> tuple[tuple[str, int, int], ...]:
        """Return the folders to make."""
        kept = []
        for folder in self._record.folders:
            path = from_wire(folder.path)
            why = why_leads_out(path) if path else None
            if why is not None:
                self._refuse(path, why, "the folder is not made")
            else:
                kept.append((path, folder.mtime_ns, folder.mode if self._record.modes else 0o777 & ~UMASK))
        if self._names is not None:
            self._names.folders(path for path, _, _ in kept)
            kept = [(self._name_of_folder(path), mtime, mode) for path, mtime, mode in kept]
        return tuple(sorted(kept, key=lambda f: (f[0].count("/"), f[0])))

    def _name_of_folder(self, path: str) -> str:
        assert self._names is not None
        name = self._names.folder(path) if path else ""
        if name != path:
            self.renamed[path] = name
        self._here[path] = name
        return name

    def file(self, file: RestoreFile) -> RestoreFile:
        """Return the file with the path it gets here."""
        if not self._record.modes:  # the mount that it came from gave them, not a person
            file = msgspec.structs.replace(file, mode=NO_MODE)
        below = file.stored.removeprefix(LIBRARY_FILES)
        path = self._own.get(below, below)
        name = self._names.file(path) if self._names is not None else path
        if name != path:
            self.renamed[path] = name
        self._here[path] = name
        data = self._data.get(file.stored)
        if data is not None and not may_be(data, file.size):
            data = None
        return msgspec.structs.replace(file, path=name, own=path, data=data)

    def links(self, outward: bool, moved: Mapping[str, str]) -> tuple[tuple[str, str, int], ...]:
        """Return the symbolic links to make; those in `moved` lead to where the files that they led to are restored."""
        links = []
        every = {from_wire(link.path): from_wire(link.target) for link in self._record.links}
        for link in self._record.links:
            path, target = from_wire(link.path), from_wire(link.target)
            why = why_leads_out(path)
            if why is not None:
                self._refuse(path, why, "the link is not made")
            elif path in self._here:
                self._refuse(path, "a file or folder has the same one", "the link is not made")
            elif "\0" in target or not target:
                self._refuse(path, "it has no valid target", "the link is not made")
            elif behind(path, every):
                self._refuse(path, "it lies behind another link", "the link is not made")
            elif path in moved:
                name = self._names.file(path) if self._names is not None else path
                links.append((name, moved[path], link.mtime_ns))
            elif leads_out(path, target, every) and not outward:
                why = f"a link to {target}, outside the library; only made with --allow-outside-links"
                self.not_done.append(NotDone(path, why, False))
            else:
                name = self._names.file(path) if self._names is not None else path
                if name != path:
                    self.renamed[path] = name
                links.append((name, target, link.mtime_ns))
        return tuple(links)

    def hard_links(self) -> tuple[tuple[str, ...], ...]:
        """Return the groups of names that were one file, as far as they are restored."""
        groups = []
        for group in self._record.hard_links:
            names = tuple(self._here[p] for p in map(from_wire, group) if p in self._here)
            if len(names) > 1:
                groups.append(names)
        return tuple(groups)


def behind(path: str, links: Mapping[str, str]) -> bool:
    """Whether a path goes through a link, so that what is made there would lie elsewhere."""
    return any(above in links for above in parents(path))


#: So many links are followed one after the other, as systems do; a longer chain leads nowhere.
_MOST_LINKS = 40


def leads_out(path: str, target: str, links: Mapping[str, str] | None = None) -> bool:
    r"""Whether a link at `path` in a library points out of the library, through the library's other links too.

    Parameters
    ----------
    path, target : str
        The link.
    links : mapping
        All links of the library: path and target.

    >>> leads_out("a/b", "../c"), leads_out("a/b", "../../c"), leads_out("a", "/etc")
    (False, True, True)
    >>> leads_out("b", "a/../x", {"a": "c/d/e", "b": "a/../x"}), leads_out("c/b", "../a/..", {"a": ".", "c/b": "../a/.."})
    (False, True)
    """
    every = links if links is not None else {}
    followed = 0
    here = path.split("/")[:-1]
    pending = _pieces(target)
    while pending is not None and pending:
        piece = pending.pop(0)
        if piece in ("", "."):
            continue
        if piece == "..":
            if not here:
                return True
            here.pop()
            continue
        here.append(piece)
        further = every.get("/".join(here))
        if further is not None:
            followed += 1
            if followed > _MOST_LINKS:
                return False  # it leads in a circle: nothing can be opened by it
            here.pop()
            more = _pieces(further)
            pending = None if more is None else more + pending
    return pending is None


def _pieces(target: str) -> list[str] | None:
    """Split a target; None for one that begins at the top of the system."""
    plain = target.replace("\\", "/") if BACKSLASHES else target
    if plain.startswith("/") or (BACKSLASHES and ":" in plain):
        return None
    return plain.split("/")
