"""True names of what lies in a place that cannot hold them: a restore gave it others there."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from dunechest.chest.records import LibraryRecord
from dunechest.chest.stored_names import StoredNames
from dunechest.machine.drives import Limits
from dunechest.names import from_wire


def true_names(record: LibraryRecord, files: Iterable[str], limits: Limits, there: Collection[str]) -> dict[str, str]:
    """Return, by the path that a restore of an edition gives in such a place, the true path, of what lies there.

    Parameters
    ----------
    record : LibraryRecord
        The edition.
    files : iterable of str
        The library's own paths of its files.
    limits : Limits
        What names the place can hold.
    there : collection of str
        Paths of the files, folders and links in the place. What lies there under its true name has no other.
    """
    names = StoredNames(limits, any_bytes=True)
    every = [from_wire(folder.path) for folder in record.folders]
    names.folders(every)
    found = {names.folder(path): path for path in every}
    found |= {names.file(path): path for path in files}
    found |= {names.file(path): path for path in (from_wire(link.path) for link in record.links)}
    return {here: path for here, path in found.items() if here != path and here in there and path not in there}
