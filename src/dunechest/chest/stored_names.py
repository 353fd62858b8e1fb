"""Names in the bag: the library's own wherever possible, a changed one where the drive or the bag cannot hold it.

A manifest is UTF-8 text (RFC 8493, section 2.1.3), so a name that is not UTF-8 gets a
changed one on every drive; other changes depend on the drive's filesystem. A changed
name keeps what can be kept of the old one and ends with ``~`` and eight digits of the
old one's digest: two names never become one.
"""

from __future__ import annotations

import hashlib
import unicodedata
from collections.abc import Iterable

from dunechest.machine.drives import Limits
from dunechest.names import is_device, is_text
from dunechest.regex import late

#: The name of a file or folder that is a changed one, or could be taken for one: where a drive tells all names
#: apart, only these can meet.
_MARKED = late(r"~[0-9a-f]{8}(\.[^/]*)?$")


class StoredNames:
    """Gives every path of a library its path in the bag.

    Paths must be given in sorted order of their folders, so that a result does not
    depend on the order in which a disk lists them.

    Parameters
    ----------
    limits : Limits
        What the drive's names can be.
    any_bytes : bool
        Whether a name that is not UTF-8 may stay as it is. It may not in a bag; it
        may when a library goes back to a filesystem that holds any name.
    """

    def __init__(self, limits: Limits, *, any_bytes: bool = False) -> None:
        self._limits = limits
        self._any_bytes = any_bytes and limits == Limits()
        self._folders: dict[str, str] = {"": ""}
        self._taken: set[str] = set()
        self._plain = limits == Limits()
        #: Path in the library and path in the bag, for those that differ.
        self.changed: dict[str, str] = {}

    def folders(self, paths: Iterable[str]) -> None:
        """Take in all folders, shallow ones first."""
        for path in sorted(paths, key=lambda p: (p.count("/"), p)):
            self._folders[path] = self._place(path)

    def folder(self, path: str) -> str:
        """Return the path in the bag of a folder that was taken in."""
        return self._folders[path]

    def file(self, path: str) -> str:
        """Return the path in the bag of a file."""
        return self._place(path)

    def fits(self, name: str) -> bool:
        """Whether a name can be kept as it is."""
        return self._fit(name) == name

    def _place(self, path: str) -> str:
        if not path:
            return ""
        parent, _, name = path.rpartition("/")
        prefix = self._folders.get(parent, parent)
        prefix = prefix + "/" if prefix else ""
        stored = prefix + self._fit(name)
        if self._plain and _MARKED.search(stored) is None:
            return path if stored == path else self._changed(path, stored)
        key = self._folded(stored)
        if key in self._taken:
            stored = prefix + self._mark(name)
            key = self._folded(stored)
        self._taken.add(key)
        return path if stored == path else self._changed(path, stored)

    def _changed(self, path: str, stored: str) -> str:
        self.changed[path] = stored
        return stored

    def _folded(self, path: str) -> str:
        """Return what two names must differ in, for the drive to tell them apart."""
        if self._plain:
            return path
        if not self._limits.tells_accents:
            path = unicodedata.normalize("NFD", path)
        return path if self._limits.tells_case else path.casefold()

    def _length(self, name: str) -> int:
        if self._limits.unit == "bytes":
            return len(name.encode("utf-8", "surrogateescape"))
        return len(name.encode("utf-16-le", "surrogatepass")) // 2

    def _fit(self, name: str) -> str:
        if not self._any_bytes and not is_text(name):
            return self._mark(name)
        if self._plain and len(name) < 64:
            return name
        limits = self._limits
        if self._length(name) > limits.longest or not limits.forbidden.isdisjoint(name):
            return self._mark(name)
        if limits.windows and (name[-1] in ". " or is_device(name)):
            return self._mark(name)
        return name

    def _mark(self, name: str) -> str:
        """Make the changed name."""
        raw = name.encode("utf-8", "surrogateescape")
        text = raw.decode("utf-8", "replace").replace("\ufffd", "_")
        text = "".join("_" if c in self._limits.forbidden else c for c in text)
        stem, dot, ending = text.rpartition(".")
        ending = ending.rstrip(" ")
        if not stem or not ending or len(ending) > 12:
            stem, dot, ending = text, "", ""
        tail = "~" + hashlib.sha256(raw).hexdigest()[:8] + dot + ending
        stem = stem.rstrip(". ") or "_"
        while self._length(stem + tail) > self._limits.longest:
            stem = stem[:-1]
        if self._limits.windows and is_device(stem + tail):
            stem = "_" + stem
        return stem + tail
