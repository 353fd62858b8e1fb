"""Making a drive safe to unplug: who uses it, writing out what waits in memory, and unmounting it."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from dunechest.errors import DuneChestError
from dunechest.machine.mounts import mounts
from dunechest.machine.processes import Opener, name_of, openers
from dunechest.machine.system_command import order
from dunechest.machine.volumes import disks
from dunechest.names import quoted, shown
from dunechest.paths import prefix_of
from dunechest.transfer import medium

if TYPE_CHECKING:
    import psutil

if sys.platform == "win32":
    from dunechest.machine._unplug_windows import commands
elif sys.platform == "darwin":
    from dunechest.machine._unplug_macos import commands
else:
    from dunechest.machine._unplug_linux import commands


class Unmounted(msgspec.Struct, frozen=True):
    """Whether a drive is unmounted now, as the system shows it; the command that does it, and why that failed if it did."""

    done: bool
    command: str
    why: str = ""


def users(mount: Path) -> tuple[Opener, ...]:
    """Find the processes that use a drive: with an open file, a folder that they are in, or a program that they run.

    This process is passed over. Another person's processes can only be seen by an administrator.
    """
    found = {item.pid: item for item in openers(mount)}
    own = os.getpid()
    real = os.path.realpath(mount)
    below = prefix_of(real)
    import psutil

    for process in psutil.process_iter():
        if process.pid in found or process.pid == own:
            continue
        for path in _standing(process):
            if path == real or path.startswith(below):
                found[process.pid] = Opener(process.pid, name_of(process.pid), path)
                break
    return tuple(found[pid] for pid in sorted(found))


def _standing(process: psutil.Process) -> Iterator[str]:
    """Yield the folder that a process is in, and the program that it runs, as far as they may be seen."""
    import psutil

    for ask in (process.cwd, process.exe):
        try:
            path = ask()
        except (psutil.Error, OSError):
            continue
        if path:
            yield path


def flush(mount: Path) -> None:
    """Return when all that was written to a drive is on it.

    Raises
    ------
    OSError
        If the drive reports that something could not be written.
    """
    if sys.platform == "win32":
        return  # unmounting writes it out; every file of ours was flushed by itself
    fd = os.open(mount, os.O_RDONLY)
    try:
        if not medium.flush_filesystem(fd):
            os.sync()
            os.fsync(fd)
    finally:
        os.close(fd)


def is_mounted(mount: Path) -> bool:
    """Whether a drive is mounted in a folder."""
    real = os.path.realpath(mount)
    return any(os.path.realpath(part.mountpoint) == real for part in mounts())


def beside(mount: Path) -> tuple[Path, ...]:
    """Return where else parts of the same physical drive are mounted: it must not be unplugged before these are released."""
    own = disks(mount)
    if not own:
        return ()
    real = os.path.realpath(mount)
    found = []
    for part in mounts(drives_only=True):
        other = Path(part.mountpoint)
        try:
            if os.path.realpath(other) != real and disks(other) & own:
                found.append(other)
        except OSError:
            continue
    return tuple(dict.fromkeys(found))


def unmount(mount: Path) -> Unmounted:
    """Unmount a drive by the system's own commands, the first that succeeds; nothing is forced.

    Whether it is unmounted is then asked of the system, and not believed of the command.
    """
    device, kind = "", ""
    real = os.path.realpath(mount)
    for part in mounts():
        if os.path.realpath(part.mountpoint) == real:
            device, kind = part.device, part.fstype
    whys: list[str] = []
    last = ""
    for words in commands(real, device, kind):
        last = " ".join(map(quoted, words))
        why = _order(words)
        if not is_mounted(mount):
            return Unmounted(True, last)
        if why:
            whys.append(why)
    return Unmounted(False, last, "; ".join(dict.fromkeys(whys)) or "the system gives no command for it")


def _order(words: Sequence[str]) -> str:
    try:
        # What waits in memory is written out by it: to a slow drive that takes its time.
        done = order(words, check=False, patience=600.0)
    except DuneChestError as error:
        return str(error)
    return shown((done.stderr or done.stdout).strip())[:300] if done.returncode else ""
