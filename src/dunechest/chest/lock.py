"""One process at a time changes a chest.

The lock is a file that the operating system unlocks when its process ends, however
it ends. Beside it lies a line of text that says who has it, for the message the
second one gets.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from dunechest.errors import ChestBusyError, ChestUnusableError, CutOffError
from dunechest.names import shown
from dunechest.transfer import safe

LOCK = ".in-use"
OWNER = ".in-use-by"


@contextmanager
def locked(folder: Path, machine: str) -> Iterator[None]:
    """Hold a chest for changing.

    Raises
    ------
    ChestBusyError
        If another process holds it.
    CutOffError
        If the drive does not let itself be written to.
    """
    from filelock import FileLock, Timeout  # only here, since reading a chest needs no lock

    _regular_or_none(folder / LOCK)
    try:
        lock = FileLock(folder / LOCK, timeout=0)
        lock.acquire()
    except Timeout as error:
        raise ChestBusyError(
            f"The chest in {shown(str(folder))} is being changed by {_owner(folder)}. "
            "Wait until that is done, then run the command again."
        ) from error
    except OSError as error:
        raise CutOffError(f"The chest in {shown(str(folder))} cannot be written to: {error.strerror}.") from error
    owner = folder / OWNER
    try:
        try:
            _say_who(owner, f"process {os.getpid()} on {machine}\n")
        except OSError:
            pass  # only for the message; a full drive may have no room for a line
        yield
    finally:
        # The lock file itself stays: unlinking one that another process has just opened
        # would let two of them in.
        try:
            owner.unlink(missing_ok=True)
        except OSError:
            pass  # the drive went away
        lock.release()


def _regular_or_none(path: Path) -> None:
    """Refuse a lock that is no regular file: opening a link would empty the file that it leads to."""
    try:
        mode = path.lstat().st_mode
    except OSError:
        return
    if not stat.S_ISREG(mode):
        raise ChestUnusableError(
            f"{shown(str(path))} is not a regular file. It was not made by Dune Chest, and nothing was touched. "
            "Inspect it, and remove it if nothing needs it."
        )


def _say_who(path: Path, text: str) -> None:
    """Write down who has the chest, in a new file: whatever has that name now is not written to."""
    path.unlink(missing_ok=True)
    fd = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0), 0o644)
    try:
        os.write(fd, text.encode("utf-8", "replace"))
    finally:
        os.close(fd)


def _owner(folder: Path) -> str:
    try:
        text = safe.read_bounded(folder / OWNER, 1000).decode("utf-8", "replace").strip()
    except (OSError, ValueError):
        text = ""
    return shown(text) or "another process"
