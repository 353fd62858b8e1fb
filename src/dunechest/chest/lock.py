"""One process at a time changes a chest.

The lock is a file that the operating system unlocks when its process ends, however
it ends. Beside it lies a line of text that says who has it, for the message the
second one gets. On a network share, where other computers may not see such a lock,
there is a lease, too (`dunechest.chest.lease`).
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from dunechest.chest.layout import BAGS
from dunechest.chest.lease import Lease, fence
from dunechest.errors import ChestBusyError, ChestUnusableError, CutOffError, DuneChestError
from dunechest.machine.drives import filesystem
from dunechest.machine.identity import this_run
from dunechest.machine.volumes import is_network
from dunechest.names import shown
from dunechest.transfer import disk, elsewhere, safe

#: What a share says that knows no locks.
_NO_LOCKS = frozenset({errno.ENOSYS, errno.ENOLCK, errno.EOPNOTSUPP, errno.EINVAL})
LOCK = ".in-use"
OWNER = ".in-use-by"


@contextmanager
def locked(folder: Path, machine: str) -> Iterator[None]:
    """Hold a chest for changing.

    Parameters
    ----------
    folder : Path
        The chest's folder.
    machine : str
        Name of this computer.

    Raises
    ------
    ChestBusyError
        If another process holds it.
    CutOffError
        If the drive does not let itself be written to.
    """
    place = elsewhere.place_of(folder)
    if place is not None:
        with place.hold(f"process {os.getpid()} on {machine}"):
            yield
        return
    shared = is_network(_kind(folder))
    with _locked_by_system(folder, machine, shared=shared), _leased(folder, machine, shared=shared):
        yield


def _kind(folder: Path) -> str:
    try:
        return filesystem(folder).type
    except OSError:
        return ""


@contextmanager
def _leased(folder: Path, machine: str, *, shared: bool) -> Iterator[None]:
    """Hold a chest on a network share by a lease; elsewhere there is nothing to do."""
    if not shared:
        yield
        return
    lease = Lease(folder, f"process {os.getpid()} on {machine}", this_run())
    over = lease.take()
    try:
        with disk.held(folder, lease.check):
            if over:
                for name in sorted(os.listdir(folder / BAGS)):
                    fence(folder / BAGS / name, disk.remove_tree)
            yield
    except OSError as error:
        if isinstance(error, DuneChestError):
            raise
        lease.check()  # what was refused may have been so because another computer has the chest
        raise
    finally:
        lease.give_up()


@contextmanager
def _locked_by_system(folder: Path, machine: str, *, shared: bool) -> Iterator[None]:
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
    except (OSError, NotImplementedError) as error:
        if shared and getattr(error, "errno", errno.ENOSYS) in _NO_LOCKS:
            yield  # a share that knows no locks: there the lease alone holds
            return
        raise CutOffError(
            f"The chest in {shown(str(folder))} cannot be written to: {getattr(error, 'strerror', error)}."
        ) from error
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
