"""Whether a library is in use.

It is if a process has a file in it open or a database in it locked, if a lock mark's
process lives, or if the application itself runs and its setting points here.
"""

from __future__ import annotations

import os
import re
from collections.abc import Collection, Iterable
from pathlib import Path

import msgspec

from dunechest.library.formats.base import UnreadableError
from dunechest.library.formats.keyed import document_of, values
from dunechest.library.kinds.schema import Kind
from dunechest.library.recognise import expand
from dunechest.machine import locks, processes
from dunechest.machine.folders import standard_folders
from dunechest.paths import key
from dunechest.transfer import safe
from dunechest.transfer.walk import FileEntry

#: Bytes: no lock mark is larger.
_LARGEST_MARK = 512


class Use(msgspec.Struct, frozen=True):
    """A process that has a library open, and how that is known."""

    process_id: int
    process: str
    how: str


def in_use(place: Path, kind: Kind, paths: Collection[str], home: Path) -> tuple[Use, ...]:
    """Find the processes that have a library open.

    Parameters
    ----------
    place : Path
        The library.
    kind : Kind
        Its kind, which knows the lock marks.
    paths : collection of str
        Relative paths of its files that may be opened, from a walk.
    home : Path
        Whose settings the application reads.
    """
    uses = {
        opener.pid: Use(opener.pid, opener.name, f"it has {opener.path} open")
        for opener in processes.openers(place, paths)
    }
    for use in marked(place, kind, paths, uses.values()):
        uses[use.process_id] = use
    if kind.in_use.processes and points_here(kind, place, home) is not False:
        for pid, name in processes.named(kind.in_use.processes, home):
            uses.setdefault(pid, Use(pid, name, "the application runs, and this is the library it keeps"))
    return tuple(uses.values())


def marked(place: Path, kind: Kind, paths: Collection[str], known: Collection[Use] = ()) -> tuple[Use, ...]:
    """Return the processes, besides those that are `known`, that lock marks and locks on databases speak of."""
    uses = {use.process_id: use for use in known}
    before = set(uses)
    for path in kind.lock_patterns.among(paths):
        pid = _pid_in(place / path)
        if pid is not None and pid not in uses and processes.lives(pid):
            uses[pid] = Use(pid, processes.name_of(pid), f"its lock mark is {path}")
    for path in kind.locked_databases.among(paths):
        pid = locks.database_holder(place / path)
        if pid is not None and pid not in uses:
            uses[pid] = Use(pid, processes.name_of(pid), f"it holds a lock on the database {path}")
    return tuple(use for pid, use in uses.items() if pid not in before)


def points_here(kind: Kind, place: Path, home: Path) -> bool | None:
    """Say whether the application's own setting names a library; None if no setting can be read."""
    folders = standard_folders(home)
    answer: bool | None = None
    for setting in kind.settings:
        for path in expand(setting.file, folders):
            form = {".json": "json", ".ini": "ini"}.get(path.suffix, "toml")
            try:
                # A person's own settings may be kept elsewhere, with a link to them.
                document = document_of(Path(os.path.realpath(path)), form)
            except UnreadableError:
                continue
            for _, value in values(document, tuple(setting.key.split(".")), ()):
                answer = bool(answer) or key(os.path.expanduser(value)) == key(place)
    return answer


def lock_marks(place: Path, kind: Kind, files: Iterable[FileEntry]) -> frozenset[str]:
    """Return the files that are lock marks and nothing else: their kind says so, and so does what is in them.

    A pattern of lock marks can match what somebody wrote. So a mark is small, and empty or a few lines of text with the
    number of a process in them; whatever else has its name is a file like others.
    """
    paths = kind.lock_patterns.among([f.path for f in files if not f.placeholder])
    return frozenset(path for path in paths if _is_mark(place / path))


def _is_mark(path: Path) -> bool:
    try:
        content = safe.read_bounded(path, _LARGEST_MARK)
    except (OSError, ValueError):
        return False
    return not content or (_number_in(content) is not None and content.decode("ascii", "replace").isascii())


def _pid_in(mark: Path) -> int | None:
    """Read the process number out of a lock mark: the first number in it."""
    try:
        return _number_in(safe.read_bounded(mark, _LARGEST_MARK))
    except (OSError, ValueError):
        return None


def _number_in(content: bytes) -> int | None:
    found = re.search(rb"\d{1,10}", content)
    return int(found.group()) if found else None
