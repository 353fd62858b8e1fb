"""A hold on a chest on a network share, where several computers write and a lock of the operating system may be none.

Who holds the chest has a small file in it, made in a way that lets only one of two succeed (``O_EXCL``, which NFS from
version 3 on and SMB keep). The holder writes into it every few seconds, to say that it is at work. If nothing comes for as
long as the *lease* lasts, another computer may take over.

**Clocks are not believed.** Whether a lease has run out is told by the server's clock alone (the time that it gave the file,
and one that it gives a new file now), and then by watching the file for a while: one that changes is held. The holder
measures its own time by a clock that goes on while the computer sleeps.

**Who lost the hold changes nothing more.** Before each change in the chest the holder looks whether its lease lasts
(`Lease.check`, called by `dunechest.transfer.disk`); a process that was stopped, and goes on after its lease ran out, ends
there. Who takes over finishes a change that was decided, and removes what was pending, so that a path that the former holder
has in hand leads to nothing. What remains is a single call that was on its way to the server when the connection was lost.
"""

from __future__ import annotations

import os
import sys
import threading
import time
import uuid
from collections.abc import Callable
from pathlib import Path

import msgspec

from dunechest.errors import ChestBusyError, CutOffError, LeaseLostError
from dunechest.machine import processes
from dunechest.names import shown
from dunechest.transfer import disk, safe

NAME = ".in-use-lease"
#: Names another length of a lease in seconds, for a network on which answers take longer.
LENGTH = "DUNECHEST_LEASE"
_USUAL = 90.0
_LEAST, _MOST = 2.0, 3600.0
_SIZE = 1024
#: The holder says so many times in a lease that it is at work.
_BEATS = 6
_NEW = os.O_RDWR | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_CLOEXEC", 0)


class _Record(msgspec.Struct, frozen=True):
    """What the file says: who holds the chest, on which computer and in which process, for how many seconds, and a count."""

    token: str
    owner: str
    machine: str
    process: int
    seconds: float
    beat: int


def length() -> float:
    """Return how many seconds a lease lasts."""
    try:
        told = float(os.environ.get(LENGTH, ""))
    except ValueError:
        return _USUAL
    return min(max(told, _LEAST), _MOST) if told == told else _USUAL  # noqa: PLR0124 - not a number


def awake_or_asleep() -> float:
    """Return seconds by a clock that no one sets and that goes on while the computer sleeps."""
    if sys.platform == "linux":
        return time.clock_gettime(time.CLOCK_BOOTTIME)
    if sys.platform == "darwin":
        return time.clock_gettime(time.CLOCK_MONOTONIC)
    return time.monotonic()


class Lease:
    """A hold on a chest, from `take` to `give_up`.

    Parameters
    ----------
    folder : Path
        The chest's folder.
    owner : str
        Who holds it, for the message that others get.
    machine : str
        From `dunechest.machine.identity.this_run`.
    """

    def __init__(self, folder: Path, owner: str, machine: str) -> None:
        self._folder = folder
        self._place = folder / NAME
        self._own = _Record(uuid.uuid4().hex, owner, machine, os.getpid(), length(), 0)
        self._fd = -1
        self._until = 0.0
        self._until_by_clock = 0.0
        self._lost = False
        self._ended = threading.Event()
        self._thread: threading.Thread | None = None

    def take(self) -> bool:
        """Take hold of the chest; return whether it was taken over from a holder that is gone.

        Raises
        ------
        ChestBusyError
            If another process holds it.
        CutOffError
            If the share does not let itself be written to.
        """
        over = False
        try:
            for _ in range(10):
                begun = awake_or_asleep(), time.time()
                if self._made():
                    self._lasts_from(*begun)
                    self._thread = threading.Thread(target=self._beat, daemon=True)
                    self._thread.start()
                    return over
                over |= self._take_away()
        except OSError as error:
            raise CutOffError(
                f"The chest in {shown(str(self._folder))} cannot be written to: {error.strerror}."
            ) from error
        raise self._busy(self._read())

    def check(self) -> None:
        """Make sure that the hold lasts.

        Raises
        ------
        LeaseLostError
            If it does not.
        """
        if self._lost or awake_or_asleep() >= self._until or time.time() >= self._until_by_clock:
            self._lost = True
            raise LeaseLostError(
                f"This computer lost its hold on the chest in {shown(str(self._folder))}: for {self._own.seconds:.0f} seconds it "
                "could not say that it is at work, so another computer may be changing the chest by now. Nothing more was "
                "changed. Run the same command again."
            )

    def give_up(self) -> None:
        """Let others have the chest."""
        self._ended.set()
        if self._thread is not None:
            self._thread.join()
        try:
            self.check()
            away = self._away()
            os.rename(self._place, away)
            if _token(away) == self._own.token:
                os.unlink(away)
            else:
                _put_back(away, self._place)
        except (LeaseLostError, OSError):
            pass  # it runs out by itself
        if self._fd >= 0:
            os.close(self._fd)
            self._fd = -1

    def _lasts_from(self, moment: float, clock: float) -> None:
        self._until = moment + self._own.seconds
        # The clock may be set meanwhile: that only ends a lease too early, and never too late.
        self._until_by_clock = clock + self._own.seconds

    def _made(self) -> bool:
        """Make the file; False if there is one."""
        try:
            fd = os.open(self._place, _NEW, 0o644)
        except FileExistsError:
            return False
        self._fd = fd
        self._write(0)
        # Some servers answer a lost request by making it again: what counts is whose it is.
        if _token(self._place) != self._own.token:
            os.close(fd)
            self._fd = -1
            return False
        return True

    def _write(self, beat: int) -> None:
        content = msgspec.json.encode(msgspec.structs.replace(self._own, beat=beat)).ljust(_SIZE - 1) + b"\n"
        os.lseek(self._fd, 0, os.SEEK_SET)
        safe.write_all(self._fd, content)
        os.fsync(self._fd)

    def _beat(self) -> None:
        """Say every few seconds that this process is at work, as long as the file is its own."""
        beat = 0
        while not self._ended.wait(self._own.seconds / _BEATS):
            begun = awake_or_asleep(), time.time()
            try:
                self.check()
                if _token(self._place) != self._own.token:
                    self._lost = True
                    return
                beat += 1
                self._write(beat)
            except LeaseLostError:
                return
            except OSError:
                continue  # the share does not answer; if that lasts, the lease runs out
            if self._lasts(begun):
                self._lasts_from(*begun)

    def _lasts(self, begun: tuple[float, float]) -> bool:
        """Whether the lease still lasts after something was written: a process may have been stopped meanwhile."""
        try:
            self.check()
        except LeaseLostError:
            return False
        return begun[0] <= awake_or_asleep()

    def _take_away(self) -> bool:
        """Take the file of a holder that is gone away; False if it was taken away meanwhile.

        Raises
        ------
        ChestBusyError
            If it is held.
        """
        content = self._read()
        if content is None:
            return False
        record = _decoded(content)
        seconds = min(max(record.seconds, _LEAST), _MOST) if record is not None else _USUAL
        if not self._ended_here(record):
            if self._age() < seconds:
                raise self._busy(content)
            self._watch(content, seconds)
        away = self._away()
        try:
            os.rename(self._place, away)
        except FileNotFoundError:
            return False
        if _content(away) != content:  # another process took over just before
            _put_back(away, self._place)
            raise self._busy(self._read())
        os.unlink(away)
        return True

    def _ended_here(self, record: _Record | None) -> bool:
        """Whether the holder was a process of this computer that runs no more."""
        return bool(
            record is not None
            and record.machine
            and record.machine == self._own.machine
            and record.process != os.getpid()
            and not processes.lives(record.process)
        )

    def _age(self) -> float:
        """Return for how many seconds the holder has not said anything, by the server's clock."""
        probe = self._folder / f"{NAME}-now-{self._own.token[:12]}"
        fd = os.open(probe, _NEW, 0o600)
        try:
            safe.write_all(fd, b"?")
            os.fsync(fd)
            now = os.fstat(fd).st_mtime
        finally:
            os.close(fd)
            probe.unlink(missing_ok=True)
        try:
            return now - self._place.lstat().st_mtime
        except FileNotFoundError:
            return 0.0

    def _watch(self, content: bytes, seconds: float) -> None:
        """Watch the file for longer than two of its beats."""
        ends = awake_or_asleep() + seconds / 2
        while awake_or_asleep() < ends:
            time.sleep(min(0.5, seconds / 20))
            now = self._read()
            if now != content:
                raise self._busy(now)

    def _read(self) -> bytes | None:
        return _content(self._place)

    def _away(self) -> Path:
        return self._folder / f"{NAME}-gone-{uuid.uuid4().hex[:12]}"

    def _busy(self, content: bytes | None) -> ChestBusyError:
        record = _decoded(content or b"")
        who = shown(record.owner) if record is not None and record.owner else "another process"
        seconds = record.seconds if record is not None else _USUAL
        return ChestBusyError(
            f"The chest in {shown(str(self._folder))} is being changed by {who}. Wait until that is done, then run the command "
            f"again. If that computer was switched off meanwhile, the chest is free {seconds:.0f} seconds later."
        )


def _content(path: Path) -> bytes | None:
    """Return what a file holds now; a new look at its name, since what a network share remembers may be old."""
    try:
        return safe.read_bounded(path, 1 << 16)
    except FileNotFoundError:
        return None
    except ValueError:
        return b""


def _decoded(content: bytes) -> _Record | None:
    try:
        return msgspec.json.decode(content, type=_Record)
    except (msgspec.MsgspecError, UnicodeDecodeError):
        return None


def _token(path: Path) -> str:
    record = _decoded(_content(path) or b"")
    return record.token if record is not None else ""


def _put_back(away: Path, place: Path) -> None:
    """Give a file its name back, unless another one has it by now."""
    try:
        os.link(away, place)
    except FileExistsError:
        pass
    except OSError:  # a share without hard links
        if not os.path.lexists(place):
            os.rename(away, place)
            return
    away.unlink(missing_ok=True)


def fence(bag: Path, clear: Callable[[Path], None]) -> None:
    """Have nothing pending in a bag that a former holder could go on with; a decided change is left to be finished.

    Parameters
    ----------
    bag : Path
        The bag's folder.
    clear : callable
        Removes what is pending in the folder that it gets.
    """
    from dunechest.chest.layout import JOURNAL, PENDING

    pending = bag / PENDING
    if os.path.lexists(bag / JOURNAL) or not pending.is_dir() or pending.is_symlink():
        return
    away = pending.with_name(f"pending-gone-{uuid.uuid4().hex[:12]}")
    disk.rename(pending, away)
    clear(away)
