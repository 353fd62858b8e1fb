"""Every change that an archive makes on a drive goes through here: make, write, rename, remove, flush.

Each function is the system's own call, after a look at `gate`, which in ordinary life is None. A test
puts something there that counts the operations and lets one of them fail, or lets the power fail: what
was not flushed by then is dropped or torn. So it can be tried for every operation of a run, one by
one, that nothing is lost. Reading goes its own ways; it changes nothing.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from dunechest.paths import is_folder, prefix_of
from dunechest.transfer import elsewhere, medium, patient
from dunechest.transfer.below import folders_in
from dunechest.transfer.system_files import is_system_file

AnyPath = str | bytes | os.PathLike[str]

#: Called before each operation with its name and what it is about; what it raises happens instead.
gate: Callable[..., None] | None = None
#: Folders that are held by a lease, and what makes sure that it lasts: called before each operation on a path below.
_held: dict[str, Callable[[], None]] = {}


def announce(operation: str, *what: Any) -> None:
    """Let whoever watches see an operation that is about to be made elsewhere."""
    if gate is not None:
        gate(operation, *what)
    if _held:
        _check(what)
    if elsewhere.registered() and what and not isinstance(what[0], int):
        place = elsewhere.place_of(what[0])
        if place is not None:
            place.change(operation, *map(os.fsdecode, what[:2]))


@contextmanager
def held(folder: Path, check: Callable[[], None]) -> Iterator[None]:
    """Have something checked before each operation on a path below a folder, and on any open file, while the block runs.

    Parameters
    ----------
    folder : Path
        The folder.
    check : callable
        What it raises happens instead of the operation.
    """
    key = os.fspath(folder)
    _held[key] = check
    try:
        yield
    finally:
        del _held[key]


def _check(what: tuple[Any, ...]) -> None:
    for folder, check in list(_held.items()):
        below = prefix_of(folder)
        if any(isinstance(item, int) or os.fsdecode(item).startswith(below) for item in what[:2] if _is_place(item)):
            check()


def _is_place(item: Any) -> bool:
    """Whether it is an open file or a path; a view of what is written is neither."""
    return isinstance(item, int | str | bytes | os.PathLike)


def create(path: AnyPath, flags: int, mode: int) -> int:
    """Open a file for writing, making it; return the descriptor."""
    announce("create", path)
    return os.open(path, flags, mode)


def write(fd: int, data: bytes | memoryview) -> int:
    """Write as much of `data` as the system takes at once; return how much."""
    if gate is not None or _held:
        announce("write", fd, data)
    return os.write(fd, data)


def write_at(fd: int, data: memoryview, offset: int) -> int:
    """Write at a place in a file; return how much the system took."""
    if gate is not None or _held:
        announce("write", fd, data)
    if sys.platform == "win32":
        os.lseek(fd, offset, os.SEEK_SET)
        return os.write(fd, data)
    return os.pwrite(fd, data, offset)


def set_size(fd: int, size: int) -> None:
    """Give an open file its size; what was not written of it is a hole where the filesystem has such."""
    announce("write", fd, b"")
    os.ftruncate(fd, size)


def rename(old: AnyPath, new: AnyPath) -> None:
    """Rename a file or folder; a file in the new place is replaced."""
    announce("rename", old, new)
    patient.replace(old, new)


def remove(path: AnyPath, *, missing_ok: bool = False) -> None:
    """Remove a file."""
    announce("remove", path)
    patient.unlink(path, missing_ok=missing_ok)


def make_folder(path: Path) -> None:
    """Make a folder and those above it, if they are not there."""
    missing = []
    while not path.is_dir():
        missing.append(path)
        path = path.parent
    for folder in reversed(missing):
        announce("make-folder", folder)
        folder.mkdir(exist_ok=True)


def remove_folder(path: AnyPath) -> None:
    """Remove an empty folder."""
    announce("remove-folder", path)
    patient.rmdir(path)


def remove_bare_folder(path: Path) -> None:
    """Remove a folder in which nothing is, or only an operating system's own files; these go with it.

    Raises
    ------
    OSError
        If anything else is in it, or the system refuses.
    """
    names = os.listdir(path)
    if all(is_system_file(path / name) for name in names):
        for name in names:
            remove(path / name, missing_ok=True)
    remove_folder(path)


def remove_tree(path: Path) -> None:
    """Remove a folder with all in it, however deep, following no link; what is missing already is passed over."""
    for folder in reversed(folders_in(path)):
        with os.scandir(folder) as entries:
            others = [entry.path for entry in entries if not is_folder(entry)]
        for other in others:
            remove(other, missing_ok=True)
        remove_folder(folder)


def flush_file(fd: int) -> None:
    """Return when the bytes and the size of the open file are on the medium."""
    announce("flush", fd)
    medium.flush_file(fd)


def flush_files(fds: Sequence[int]) -> None:
    """Return when the bytes and sizes of several open files of one drive are on the medium."""
    for fd in fds[:-1]:
        announce("flush", fd)
        medium.hand_over(fd)
    if fds:
        flush_file(fds[-1])


def flush_folder(path: AnyPath) -> None:
    """Return when the names in a folder are on the medium."""
    announce("flush-folder", path)
    medium.flush_folder(os.fsdecode(path))


def flush_filesystem(fd: int) -> bool:
    """Flush the whole filesystem that `fd` lies on; False if that is not available."""
    announce("flush-all", fd)
    return medium.flush_filesystem(fd)
