"""Walk a folder and tell what lies in it, without following a link or opening a file."""

from __future__ import annotations

import os
import stat
import sys
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator
from pathlib import Path
from typing import Any, NamedTuple

import msgspec

from dunechest.names import parents
from dunechest.paths import leads_elsewhere, respelled
from dunechest.transfer import holes
from dunechest.transfer.placeholder import LEAST, is_placeholder, stands_for_another
from dunechest.transfer.system_files import is_system_file, is_system_folder, may_be


class FileEntry(msgspec.Struct, frozen=True, gc=False):
    """A regular file as the folder shows it.

    `path` is relative to the walked root with ``/`` between its pieces, in the
    form of ``os.fsdecode``; `size` in bytes; times in nanoseconds since 1970;
    `inode` and `device` identify hard links when `names` is over one; `placeholder` says that
    the name is here and the bytes are not; `owner` are the numbers of user and group, where they were asked for; `sparse`
    says that it takes much less room than it has bytes.
    """

    path: str
    size: int
    mtime_ns: int
    mode: int
    names: int = 1
    inode: int = 0
    device: int = 0
    placeholder: bool = False
    owner: tuple[int, int] | None = None
    sparse: bool = False


class FolderEntry(msgspec.Struct, frozen=True, gc=False):
    """A folder: its relative path (the root is ``""``), time, mode, and whether nothing is in it."""

    path: str
    mtime_ns: int
    mode: int
    empty: bool


class LinkEntry(msgspec.Struct, frozen=True, gc=False):
    """A symbolic link: its relative path, its target as written, and its own time."""

    path: str
    target: str
    mtime_ns: int


class OtherEntry(NamedTuple):
    """Something that cannot be archived as a file, with the reason in words."""

    path: str
    why: str
    size: int


class Walk(msgspec.Struct, frozen=True):
    """The contents of a folder, each tuple sorted by path.

    `others` are sockets, pipes and devices; `unreadable` are folders that could
    not be listed and names that could not be asked about; `system` are an operating
    system's own files, where they are kept apart from a person's.
    """

    files: tuple[FileEntry, ...]
    folders: tuple[FolderEntry, ...]
    links: tuple[LinkEntry, ...]
    others: tuple[OtherEntry, ...]
    unreadable: tuple[OtherEntry, ...]
    system: tuple[FileEntry, ...] = ()

    @property
    def bytes(self) -> int:
        """Sum of the files' sizes."""
        return sum(f.size for f in self.files)


_OTHER = {
    stat.S_IFSOCK: "a socket: it holds no bytes",
    stat.S_IFIFO: "a pipe: it holds no bytes",
    stat.S_IFCHR: "a device: it holds no bytes of its own",
    stat.S_IFBLK: "a device: it holds no bytes of its own",
}
_JUNCTION = "a junction: it leads to another folder"


def walk(root: str, *, skip: Callable[[str], bool] | None = None) -> Walk:
    """List everything below `root`.

    Parameters
    ----------
    root : str
        A folder, or one file (its entry then has its own name as path).
    skip : callable, optional
        Asked with each folder's relative path; True leaves it out with all in it.

    Returns
    -------
    Walk

    Raises
    ------
    OSError
        If `root` itself cannot be listed.
    """
    top = os.lstat(root)
    if stat.S_ISREG(top.st_mode):
        return Walk((_file(os.path.basename(root), top, root),), (), (), (), ())
    found = _Found()
    pending = [""]
    while pending:
        folder = pending.pop()
        try:
            inner = _list(root, folder, found)
        except OSError as error:
            if not folder:
                raise
            found.unreadable.append(OtherEntry(folder, f"the folder cannot be listed: {error.strerror}", 0))
            continue
        pending.extend(path for path in inner if skip is None or not skip(path))
    by_path = lambda entry: entry.path  # noqa: E731
    return Walk(
        tuple(sorted(found.files, key=by_path)),
        tuple(sorted(found.folders, key=by_path)),
        tuple(sorted(found.links, key=by_path)),
        tuple(sorted(found.others)),
        tuple(sorted(found.unreadable)),
    )


def walk_own(root: str) -> Walk:
    """List everything below a folder that is a person's: what is an operating system's own is kept apart.

    Raises
    ------
    OSError
        If `root` itself cannot be listed.
    """
    listing = walk(root)
    tops = {folder.path for folder in listing.folders if is_system_folder(folder.path.rpartition("/")[2])}
    system = [
        file
        for file in listing.files
        if may_be(file.path[file.path.rfind("/") + 1 :])
        and not file.placeholder
        and not _lies_in(file.path, tops)
        and is_system_file(os.path.join(root, file.path))
    ]
    if not system and not tops:
        return listing
    gone = {file.path for file in system}
    files = tuple(file for file in listing.files if file.path not in gone and not _lies_in(file.path, tops))
    links, others, unreadable = (
        tuple(entry for entry in entries if not _lies_in(entry.path, tops))
        for entries in (listing.links, listing.others, listing.unreadable)
    )
    folders = [folder for folder in listing.folders if not _lies_in(folder.path, tops)]
    emptied = {path.rpartition("/")[0] for path in (*gone, *tops)}
    filled = {
        entry.path.rpartition("/")[0]
        for entries in (files, links, others, unreadable, folders)
        for entry in entries
        if entry.path
    }
    folders = [
        msgspec.structs.replace(folder, empty=True) if folder.path in emptied - filled else folder
        for folder in folders
    ]
    system += [FileEntry(path, 0, 0, 0) for path in sorted(tops) if not any(above in tops for above in parents(path))]
    return Walk(files, tuple(folders), links, others, unreadable, tuple(system))  # type: ignore[arg-type]


def as_expected(listing: Walk, wanted: Iterable[str], root: Path) -> Walk:
    """Return a listing in which what is expected is spelled as it is expected, where the drive has a form of its own."""
    files = {file.path for file in listing.files}
    every = {*wanted}
    names = respelled(files, every, root)
    if not names:
        return listing
    above = {folder for path in every for folder in parents(path)}
    names |= respelled((folder.path for folder in listing.folders), above, root)

    def spelled(entries: Any) -> Any:
        return tuple(
            msgspec.structs.replace(entry, path=names[entry.path]) if entry.path in names else entry
            for entry in entries
        )

    return msgspec.structs.replace(listing, files=spelled(listing.files), folders=spelled(listing.folders))


def _lies_in(path: str, tops: Collection[str]) -> bool:
    return bool(tops) and (path in tops or any(above in tops for above in parents(path)))


def each_file(root: str) -> Iterator[FileEntry]:
    """Yield the regular files below a folder, in no order; what cannot be listed is passed over."""
    pending = [""]
    while pending:
        found = _Found()
        try:
            pending += _list(root, pending.pop(), found)
        except OSError:
            continue
        yield from found.files


def sizes_below(root: str) -> Iterator[tuple[str, int]]:
    """Yield path and bytes of each regular file below a folder, in no order; what cannot be listed is passed over."""
    return ((path, info.st_size) for path, info in _infos_below(root))


def sizes_by_folder(root: str, pending: list[str] | None = None) -> Iterator[tuple[str, list[tuple[str, int]]]]:
    """Yield the path of each folder, with name and bytes of each regular file in it; see `sizes_below`.

    Parameters
    ----------
    root : str
        The folder.
    pending : list of str, optional
        As for `look_over`.
    """
    pending = [""] if pending is None else pending
    while pending:
        folder = pending.pop()
        yield folder, [(name, info.st_size) for name, info in _infos_in(root, folder, pending)]


def _infos_below(root: str) -> Iterator[tuple[str, os.stat_result]]:
    pending = [""]
    while pending:
        folder = pending.pop()
        prefix = folder + "/" if folder else ""
        for name, info in _infos_in(root, folder, pending):
            yield prefix + name, info


def _infos_in(root: str, folder: str, pending: list[str]) -> Iterator[tuple[str, os.stat_result]]:
    """Yield the regular files of a folder; the folders in it are added to those that are pending."""
    is_directory, is_file, asked = stat.S_IFDIR, stat.S_IFREG, _ASKED
    prefix = folder + "/" if folder else ""
    try:
        with os.scandir(os.path.join(root, folder)) as entries:
            for entry in entries:
                try:
                    info = asked(entry, follow_symlinks=False)
                except OSError:
                    continue
                kind = info.st_mode & 0o170000
                if kind == is_file:
                    yield entry.name, info
                elif kind == is_directory and not leads_elsewhere(info):
                    pending.append(prefix + entry.name)
    except OSError:
        return


def lines_of(listing: Walk) -> Iterator[str]:
    """Yield a text for each folder of a listing, in no order: what `look_over` says of the same."""
    folders: dict[str, list[str]] = {folder.path: [] for folder in listing.folders}
    for folder in listing.folders:
        if folder.path:
            above, _, name = folder.path.rpartition("/")
            folders.setdefault(above, []).append(f"{name}\0{folder.mode}")
    for link in listing.links:
        above, _, name = link.path.rpartition("/")
        folders.setdefault(above, []).append(f"{name}\0{link.target}\0")
    for other in listing.others:
        above, _, name = other.path.rpartition("/")
        folders.setdefault(above, []).append(f"{name}\0other")
    # A folder's lines go as soon as its last file is met: those of half a million files take memory.
    remaining = Counter(f.path.rpartition("/")[0] for f in listing.files)
    for f in listing.files:
        above, _, name = f.path.rpartition("/")
        folders.setdefault(above, []).append(f"{name}\0{f.size}\0{f.mtime_ns}\0{f.mode}\0{f.placeholder}")
        remaining[above] -= 1
        if not remaining[above]:
            yield _of_folder(above, folders.pop(above))
    for path, lines in folders.items():
        yield _of_folder(path, lines)


def _of_folder(path: str, lines: list[str]) -> str:
    lines.sort()
    return path + "\0\0" + "\0\0".join(lines)


def look_over(root: str, pending: list[str] | None = None) -> Iterator[str]:
    """Yield a text for each folder, itself first, as quickly as the system tells what is in it; see `lines_of`.

    Parameters
    ----------
    root : str
        The folder.
    pending : list of str, optional
        Folders in it to look at, with all below them; instead of all. What is still to be looked at stands in it at
        each step.

    Raises
    ------
    OSError
        If anything cannot be listed or asked about.
    """
    is_link, is_directory, is_file, asked = stat.S_IFLNK, stat.S_IFDIR, stat.S_IFREG, _ASKED
    pending = [""] if pending is None else pending
    while pending:
        folder = pending.pop()
        prefix = folder + "/" if folder else ""
        lines = []
        with os.scandir(os.path.join(root, folder)) as entries:
            for entry in entries:
                info = asked(entry, follow_symlinks=False)
                mode = info.st_mode
                kind = mode & 0o170000  # what stat.S_IFMT does, without a call for each of many files
                if kind == is_file:
                    if may_be(entry.name) and is_system_file(entry.path):
                        continue
                    size = info.st_size
                    placeholder = size > LEAST and is_placeholder(entry.path, info)
                    lines.append(f"{entry.name}\0{size}\0{info.st_mtime_ns}\0{mode & 0o7777}\0{placeholder}")
                elif kind == is_directory and is_system_folder(entry.name) and not leads_elsewhere(info):
                    continue
                elif kind == is_directory and not leads_elsewhere(info):
                    pending.append(prefix + entry.name)
                    lines.append(f"{entry.name}\0{mode & 0o7777}")
                elif kind == is_link:
                    lines.append(f"{entry.name}\0{os.readlink(entry.path)}\0")
                else:
                    lines.append(f"{entry.name}\0other")
        yield _of_folder(folder, lines)


def _as_the_file_has_it(entry: os.DirEntry[str], *, follow_symlinks: bool) -> os.stat_result:
    """Return what the system says of a file itself.

    A folder of Windows remembers the size and time of a file, not how many names it has; and where it has two, what was
    written through one is not seen in the folder of the other.
    """
    return os.stat(entry.path, follow_symlinks=follow_symlinks)


#: Asks about an entry of a folder; elsewhere than on Windows the entry's own method, without a call in between.
_ASKED: Callable[..., os.stat_result] = os.DirEntry.stat if sys.platform != "win32" else _as_the_file_has_it


class _Found:
    def __init__(self) -> None:
        self.files: list[FileEntry] = []
        self.folders: list[FolderEntry] = []
        self.links: list[LinkEntry] = []
        self.others: list[OtherEntry] = []
        self.unreadable: list[OtherEntry] = []


#: One number object for all files of a mode, and one pair for all files of an owner, instead of one each.
_MODES: dict[int, int] = {}
_OWNERS: dict[tuple[int, int], tuple[int, int]] = {}


def _file(path: str, info: os.stat_result, place: str) -> FileEntry:
    names = info.st_nlink
    placeholder = info.st_size > LEAST and is_placeholder(place, info)
    mode = stat.S_IMODE(info.st_mode)
    owner = info.st_uid, info.st_gid
    return FileEntry(
        path,
        info.st_size,
        info.st_mtime_ns,
        _MODES.setdefault(mode, mode),
        names,
        info.st_ino if names > 1 else 0,
        info.st_dev if names > 1 else 0,
        placeholder,
        _OWNERS.setdefault(owner, owner),
        info.st_size > holes.LEAST and not placeholder and holes.is_sparse(info),
    )


def entry_of(path: str) -> FileEntry | None:
    """Return the entry of one regular file by its full path; None if there is no such file."""
    try:
        info = os.stat(path)
    except (OSError, ValueError):
        return None
    return _file(path, info, path) if stat.S_ISREG(info.st_mode) else None


class Sum(NamedTuple):
    """How many files lie in a folder, their bytes, and the newest one's time in nanoseconds."""

    files: int
    bytes: int
    newest_ns: int


def count(root: str) -> Sum:
    """Count what lies below a folder; what cannot be read does not count."""
    files = size = newest = 0
    pending = [""]
    while pending:
        for _, info in _infos_in(root, pending.pop(), pending):
            files += 1
            size += info.st_size
            newest = max(newest, info.st_mtime_ns)
    return Sum(files, size, newest)


def _list(root: str, folder: str, found: _Found) -> list[str]:
    """Sort one folder's entries into `found`; return the paths of the folders in it."""
    place = os.path.join(root, folder) if folder else root
    own = os.lstat(place)
    prefix = folder + "/" if folder else ""
    inner: list[str] = []
    count = 0
    is_file, asked, modes, owners = stat.S_IFREG, _ASKED, _MODES, _OWNERS
    is_sparse, sparse_from = holes.is_sparse, holes.LEAST
    with os.scandir(place) as entries:
        for entry in entries:
            count += 1
            path = prefix + entry.name
            try:
                info = asked(entry, follow_symlinks=False)
                mode = info.st_mode
                kind = mode & 0o170000  # what stat.S_IFMT does, without a call for each of many files
                if kind == is_file:
                    names, owner, size = info.st_nlink, (info.st_uid, info.st_gid), info.st_size
                    placeholder = size > LEAST and is_placeholder(entry.path, info)
                    file = FileEntry(
                        path,
                        size,
                        info.st_mtime_ns,
                        modes.setdefault(mode & 0o7777, mode & 0o7777),
                        names,
                        info.st_ino if names > 1 else 0,
                        info.st_dev if names > 1 else 0,
                        placeholder,
                        owners.setdefault(owner, owner),
                        size > sparse_from and not placeholder and is_sparse(info),
                    )
                    if entry.name[0] == "." and stands_for_another(entry.path, size):
                        file = msgspec.structs.replace(file, placeholder=True)
                    found.files.append(file)
                elif kind == stat.S_IFDIR and leads_elsewhere(info):
                    found.others.append(OtherEntry(path, _JUNCTION, 0))
                elif kind == stat.S_IFDIR:
                    inner.append(path)
                elif kind == stat.S_IFLNK:
                    found.links.append(LinkEntry(path, os.readlink(entry.path), info.st_mtime_ns))
                else:
                    why = _OTHER.get(kind, "neither a file nor a folder")
                    found.others.append(OtherEntry(path, why, 0))
            except OSError as error:
                found.unreadable.append(OtherEntry(path, f"it cannot be asked about: {error.strerror}", 0))
    found.folders.append(FolderEntry(folder, own.st_mtime_ns, stat.S_IMODE(own.st_mode), count == 0))
    return inner
