"""Whether a library is in use: an open file handle in it, or a lock mark whose process lives."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from dunechest.library.kinds import Kind
from dunechest.machine import processes
from dunechest.transfer import safe


@dataclass(frozen=True, slots=True)
class Use:
    """A process that has a library open, and how that is known."""

    pid: int
    process: str
    how: str


def in_use(place: Path, kind: Kind, paths: Iterable[str]) -> tuple[Use, ...]:
    """Find the processes that have a library open.

    Parameters
    ----------
    place : Path
        The library.
    kind : Kind
        Its kind, which knows the lock marks.
    paths : iterable of str
        Relative paths of its files, from a walk.
    """
    uses = {
        opener.pid: Use(opener.pid, opener.name, f"it has {opener.path} open") for opener in processes.openers(place)
    }
    for path in paths:
        if kind.lock_patterns.match(path):
            pid = _pid_in(place / path)
            if pid is not None and pid not in uses and processes.lives(pid):
                uses[pid] = Use(pid, processes.name_of(pid), f"its lock mark is {path}")
    return tuple(uses.values())


def _pid_in(mark: Path) -> int | None:
    """Read the process number out of a lock mark: the first number in it."""
    try:
        content = safe.read_bounded(mark, 4096)
    except (OSError, ValueError):
        return None
    found = re.search(rb"\d{1,10}", content)
    return int(found.group()) if found else None
