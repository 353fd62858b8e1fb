"""Processes: who lives, and who has a file open."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from dunechest import paths
from dunechest.paths import prefix_of

if TYPE_CHECKING:
    import psutil

if sys.platform == "linux":
    from dunechest.machine._handles_linux import open_files
elif sys.platform == "darwin":
    from dunechest.machine._handles_macos import open_files
else:
    from dunechest.machine._handles_windows import users_of


class Opener(msgspec.Struct, frozen=True):
    """A process that has a file open: its number, its name, and the file."""

    pid: int
    name: str
    path: str


def lives(pid: int) -> bool:
    """Whether a process of that number runs (one that ended and was not yet collected does not)."""
    import psutil  # it takes long to load, and most commands ask for no process

    if not 0 < pid < 1 << 31:
        return False
    if sys.platform == "win32":  # nothing waits there to be collected, and asking for more may be refused
        return psutil.pid_exists(pid)
    try:
        return psutil.Process(pid).status() != psutil.STATUS_ZOMBIE
    except psutil.NoSuchProcess:
        return False
    except psutil.Error:  # it lives, but is someone else's
        return True


def named(names: tuple[str, ...], home: Path) -> Iterator[tuple[int, str]]:
    """Yield number and name of the processes with one of those names; an ending such as ``.exe`` does not count.

    One that is known to run for another home is another person's, who has other libraries.
    """
    import psutil

    wanted = {name.casefold() for name in names}
    own = os.getpid()
    for process in psutil.process_iter():
        try:
            name = process.name()
        except (psutil.Error, OSError):
            continue
        if (
            process.pid != own
            and {name.casefold(), name.rpartition(".")[0].casefold()} & wanted
            and lives(process.pid)
            and _runs_for(process, home)
        ):
            yield process.pid, name


def _runs_for(process: psutil.Process, home: Path) -> bool:
    """Whether a process runs for a home; yes where the system does not tell."""
    import psutil

    for again in (True, False):
        try:
            environment = process.environ()
        except psutil.NoSuchProcess:
            return False
        except (psutil.Error, OSError):
            return True
        if environment or not again:
            break
        time.sleep(0.05)  # one that just ends has none any more, and is gone in a moment
        if not lives(process.pid):
            return False
    own = environment.get("USERPROFILE" if os.name == "nt" else "HOME")
    return not own or paths.key(own) == paths.key(home)


def name_of(pid: int) -> str:
    """Return a process's name, or its number in words where the system does not tell."""
    import psutil

    if pid < 0:
        return "another process"
    try:
        return psutil.Process(pid).name()
    except (psutil.Error, OSError):
        return f"process {pid}"


def openers(place: Path, files: Iterable[str] = ()) -> tuple[Opener, ...]:
    """Find the processes that have a file at or below `place` open.

    This process is passed over. Another person's processes can only be seen by an
    administrator; they are silently absent.

    Parameters
    ----------
    place : Path
        A file or folder.
    files : iterable of str
        Paths of the files below it. Windows is asked about them, one by one; elsewhere they are not needed.
    """
    found: dict[int, str] = {}
    own = os.getpid()
    if sys.platform == "win32":
        for pid, path in users_of([str(place / file) for file in files] or [str(place)]):
            if pid != own:
                found.setdefault(pid, path)
    else:
        real = os.path.realpath(place)
        below = prefix_of(real)
        for pid, path in open_files():
            if pid != own and (path == real or path.startswith(below)):
                found.setdefault(pid, path)
    return tuple(Opener(pid, name_of(pid), path) for pid, path in sorted(found.items()))
