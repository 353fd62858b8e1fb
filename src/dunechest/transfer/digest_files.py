"""Digest files as the medium holds them."""

from __future__ import annotations

import os
import stat
from collections.abc import Sequence
from pathlib import Path

from blake3 import blake3

from dunechest.transfer import digests, medium, safe, stream
from dunechest.transfer.closed import why_closed
from dunechest.transfer.tasks import AROUND, WHOLE, DigestOutcome, DigestTask, Tell
from dunechest.transfer.whole_files import READING, read_whole, system_words


def digest_files(tasks: Sequence[DigestTask], tell: Tell) -> list[DigestOutcome]:
    """Digest a batch of files as the medium holds them; one outcome a task, in order."""
    opened = [_open_to_digest(task) for task in tasks]
    outcomes = []
    try:
        for place, task in enumerate(tasks):
            item = opened[place]
            if isinstance(item, DigestOutcome):
                outcomes.append(item)
                continue
            try:
                outcomes.append(_digest_one(*item, task, tell))
            except OSError as error:
                outcomes.append(DigestOutcome("unreadable", why=system_words(error)))
            os.close(item[0])
            opened[place] = outcomes[-1]
    finally:
        for item in opened:
            if not isinstance(item, DigestOutcome):
                os.close(item[0])
    return outcomes


def _open_to_digest(task: DigestTask) -> tuple[int, int] | DigestOutcome:
    """Open a file and have the system start to read it; return the descriptor and the size."""
    try:
        fd = os.open(task.path, READING)
    except FileNotFoundError:
        return DigestOutcome("vanished", why="there is no such file")
    except PermissionError:
        return DigestOutcome("closed", why=why_closed(task.path))
    except OSError as error:
        return DigestOutcome("unreadable", why=system_words(error))
    try:
        info = os.fstat(fd)
        if not stat.S_ISREG(info.st_mode):
            os.close(fd)
            return DigestOutcome("unreadable", why="it is not a regular file")
        medium.forget(fd)
        if info.st_size < AROUND:
            medium.expect(fd)
    except OSError as error:
        os.close(fd)
        return DigestOutcome("unreadable", why=system_words(error))
    return fd, info.st_size


def _digest_one(fd: int, size: int, task: DigestTask, tell: Tell) -> DigestOutcome:
    if size > WHOLE:
        size, results = stream.digest(fd, task.algorithms, tell)
        return DigestOutcome("ok", size, results)
    if size >= AROUND:
        medium.bypass(fd, True)
    data = read_whole(fd, size)
    tell(len(data))
    return DigestOutcome("ok", len(data), tuple([digests.once(name, data) for name in task.algorithms]))


def digest_of(path: Path) -> str:
    """Return a file's BLAKE3 digest in hexadecimal."""
    whole = blake3()
    with os.fdopen(safe.open_regular(path), "rb") as file:
        while piece := file.read(1 << 20):
            whole.update(piece)
    return whole.hexdigest()
