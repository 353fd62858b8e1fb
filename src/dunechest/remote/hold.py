"""A hold on a chest on a server: a small file there says who has it, and says it again every few seconds."""

from __future__ import annotations

import errno
import os
import threading
import time
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager

import msgspec

from dunechest.chest.lease import awake_or_asleep, length
from dunechest.errors import ChestBusyError, LeaseLostError, ServerError
from dunechest.machine import processes
from dunechest.machine.identity import this_run
from dunechest.names import shown
from dunechest.remote.store import Store

NAME = ".in-use-lease"
_BEATS = 6
#: Seconds after which somebody who wrote the file at the same moment has done so.
_SETTLES = 2.0


class _Record(msgspec.Struct, frozen=True):
    token: str
    owner: str
    machine: str
    process: int
    seconds: float
    beat: int


@contextmanager
def hold(store: Store, owner: str, checked: Callable[[Callable[[], None]], None]) -> Iterator[None]:
    """Hold a chest on a server.

    Parameters
    ----------
    store : Store
        The folder of the chest.
    owner : str
        Who holds it, for the message that others get.
    checked : callable
        Gets what makes sure that the hold lasts.

    Raises
    ------
    ChestBusyError
        If another computer holds it.
    ServerError
        If the server does not do what it is asked for.
    """
    held = _Hold(store, owner)
    held.take()
    checked(held.check)
    try:
        yield
    finally:
        checked(lambda: None)
        held.give_up()


class _Hold:
    def __init__(self, store: Store, owner: str) -> None:
        self._store = store
        self._own = _Record(uuid.uuid4().hex, owner, this_run(), os.getpid(), length(), 0)
        self._until = 0.0
        self._lost = False
        self._ended = threading.Event()
        self._thread: threading.Thread | None = None

    def take(self) -> None:
        begun = awake_or_asleep()
        if not self._store.create(NAME, self._content(0)):
            self._take_over()
            begun = awake_or_asleep()
            self._write(0)
            time.sleep(min(_SETTLES, self._own.seconds / 4))
        if self._token() != self._own.token:
            raise self._busy(self._read())
        self._until = begun + self._own.seconds
        self._thread = threading.Thread(target=self._beat, daemon=True)
        self._thread.start()

    def check(self) -> None:
        """Make sure that the hold lasts."""
        if self._lost or awake_or_asleep() >= self._until:
            self._lost = True
            raise LeaseLostError(
                f"This computer lost its hold on the chest on {shown(self._store.address.server)}: for {self._own.seconds:.0f} "
                "seconds it could not say that it is at work, so another computer may be changing the chest by now. Nothing "
                "more was changed. Run the same command again."
            )

    def give_up(self) -> None:
        self._ended.set()
        if self._thread is not None:
            self._thread.join()
        try:
            self.check()
            if self._token() == self._own.token:
                self._store.remove(NAME)
        except (LeaseLostError, ServerError):
            pass  # it runs out by itself

    def _take_over(self) -> None:
        """Make sure that the one who holds the chest is gone."""
        content = self._read()
        record = _decoded(content)
        here = record is not None and bool(record.machine) and record.machine == self._own.machine
        if here and record is not None and (record.process == os.getpid() or not processes.lives(record.process)):
            return
        seconds = min(max(record.seconds if record is not None else length(), 2.0), 3600.0)
        ends = awake_or_asleep() + seconds
        while awake_or_asleep() < ends:
            time.sleep(min(2.0, seconds / 10))
            now = self._read()
            if now != content:
                raise self._busy(now)

    def _beat(self) -> None:
        beat = 0
        while not self._ended.wait(self._own.seconds / _BEATS):
            begun = awake_or_asleep()
            try:
                self.check()
                if self._token() != self._own.token:
                    self._lost = True
                    return
                beat += 1
                self._write(beat)
                self.check()
            except LeaseLostError:
                return
            except (ServerError, OSError):
                continue
            self._until = begun + self._own.seconds

    def _content(self, beat: int) -> bytes:
        return msgspec.json.encode(msgspec.structs.replace(self._own, beat=beat))

    def _write(self, beat: int) -> None:
        content = self._content(beat)
        self._store.write(NAME, iter([content]), len(content))

    def _read(self) -> bytes:
        try:
            return b"".join(self._store.read(NAME))[: 1 << 16]
        except FileNotFoundError:
            return b""
        except ServerError as error:
            if error.errno == errno.ENOENT:
                return b""
            raise

    def _token(self) -> str:
        record = _decoded(self._read())
        return record.token if record is not None else ""

    def _busy(self, content: bytes) -> ChestBusyError:
        record = _decoded(content)
        who = shown(record.owner) if record is not None and record.owner else "another process"
        return ChestBusyError(
            f"The chest on {shown(self._store.address.server)} is being changed by {who}. Wait until that is done, then run the "
            "command again."
        )


def _decoded(content: bytes) -> _Record | None:
    try:
        return msgspec.json.decode(content, type=_Record)
    except (msgspec.MsgspecError, UnicodeDecodeError):
        return None
