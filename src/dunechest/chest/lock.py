"""One process at a time changes a chest.

The lock is a file that the operating system unlocks when its process ends, however
it ends. Beside it lies a line of text that says who has it, for the message the
second one gets.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from dunechest.errors import ChestBusy, CutOff
from dunechest.names import shown
from dunechest.transfer import safe

LOCK = ".in-use"
OWNER = ".in-use-by"


@contextmanager
def locked(folder: Path, machine: str) -> Iterator[None]:
    """Hold a chest for changing.

    Raises
    ------
    ChestBusy
        If another process holds it.
    CutOff
        If the drive does not let itself be written to.
    """
    from filelock import FileLock, Timeout  # only here, since reading a chest needs no lock

    try:
        lock = FileLock(folder / LOCK, timeout=0)
        lock.acquire()
    except Timeout as error:
        raise ChestBusy(
            f"The chest in {shown(str(folder))} is being changed by {_owner(folder)}. "
            "Wait until that is done, then run the command again."
        ) from error
    except OSError as error:
        raise CutOff(f"The chest in {shown(str(folder))} cannot be written to: {error.strerror}.") from error
    owner = folder / OWNER
    try:
        try:
            owner.write_text(f"process {os.getpid()} on {machine}\n", encoding="utf-8")
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


def _owner(folder: Path) -> str:
    try:
        text = safe.read_bounded(folder / OWNER, 1000).decode("utf-8", "replace").strip()
    except (OSError, ValueError):
        text = ""
    return shown(text) or "another process"
