"""A drive on which the power can fail at any operation: what was not flushed by then is dropped or torn.

`Recorder` sits in the gate of `dunechest.transfer.disk` and notes every operation of a run. `after_power_cut`
makes of a snapshot and the first *k* of them the state in which a drive can be found:

- Names are kept in order, as filesystems with a journal do: of the operations on names all are there up to
  the last that was flushed, and of the later ones none (``least``) or all (``most``).
- Bytes are there if they were flushed; else they are dropped, or torn in the middle.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, Literal

from dunechest.transfer import disk

Names = Literal["least", "most"]
Bytes = Literal["dropped", "torn"]
#: The states that are tried for each operation. Torn bytes behind names that are not there cannot be told from dropped ones.
MODES: tuple[tuple[Names, Bytes], ...] = (("least", "dropped"), ("most", "dropped"), ("most", "torn"))


class PowerCut(BaseException):
    """The power is gone: no cleaning up is possible any more."""


class Recorder:
    """Notes operations; lets one fail, or all from one on."""

    def __init__(self, root: Path, *, fail: Callable[[int], BaseException | None] = lambda number: None) -> None:
        self.root = root
        self.fail = fail
        self.count = 0
        self.noted: list[tuple[Any, ...]] = []

    def __call__(self, operation: str, *what: Any) -> None:
        paths = [self._path(item) for item in what[: 2 if operation == "rename" else 1]]
        if not all(path.is_relative_to(self.root) for path in paths):
            return  # the computer's own disk, not the drive
        error = self.fail(self.count)
        self.count += 1
        if error is not None:
            raise error
        below = [path.relative_to(self.root).as_posix() for path in paths]
        data = (bytes(what[1]),) if operation == "write" else ()
        self.noted.append((operation, *below, *data))

    @staticmethod
    def _path(item: Any) -> Path:
        if isinstance(item, int):
            return Path(os.readlink(f"/proc/self/fd/{item}"))
        return Path(os.fsdecode(item))

    @contextmanager
    def watching(self) -> Iterator[Recorder]:
        disk.gate = self
        try:
            yield self
        finally:
            disk.gate = None


def after_power_cut(before: Path, noted: list[tuple[Any, ...]], names: Names, data: Bytes, target: Path) -> None:
    """Make in `target` what a drive in the state `before` is found to hold after those operations and a power cut."""
    inodes: dict[str, int] = {}
    content: list[bytearray] = []
    flushed: list[bytes] = []
    kept: dict[str, int | None] = {}
    for path in sorted(before.rglob("*")):
        name = path.relative_to(before).as_posix()
        if path.is_dir():
            kept[name] = None
        else:
            inodes[name] = kept[name] = len(content)
            content.append(bytearray(path.read_bytes()))
            flushed.append(bytes(content[-1]))
    steps: list[tuple[Any, ...]] = []
    durable = 0
    for operation, *what in noted:
        if operation == "create":
            if what[0] not in inodes:
                inodes[what[0]] = len(content)
                content.append(bytearray())
                flushed.append(b"")
                steps.append(("name", what[0], inodes[what[0]]))
        elif operation == "write":
            content[inodes[what[0]]] += what[1]
        elif operation == "flush":
            flushed[inodes[what[0]]] = bytes(content[inodes[what[0]]])
        elif operation == "flush-all":
            durable = len(steps)
            flushed = [bytes(item) for item in content]
        elif operation == "flush-folder":
            concerned = [
                n
                for n, step in enumerate(steps)
                if any(_parent(p) == what[0] for p in step[1:] if isinstance(p, str))
            ]
            durable = max(durable, concerned[-1] + 1 if concerned else 0)
        elif operation == "rename":
            inodes = {_moved(name, *what): number for name, number in inodes.items() if name != what[1]}
            steps.append(("rename", *what))
        elif operation == "remove":
            if inodes.pop(what[0], None) is not None:
                steps.append(("remove", what[0]))
        else:
            steps.append((operation, what[0]))
    for operation, *what in steps[: durable if names == "least" else len(steps)]:
        if operation == "name":
            kept[what[0]] = what[1]
        elif operation == "make-folder":
            kept[what[0]] = None
        elif operation == "rename":
            kept = {_moved(name, *what): number for name, number in kept.items() if name != what[1]}
        else:
            kept.pop(what[0], None)
    for name, number in sorted(kept.items()):
        place = target / name
        if number is None:
            place.mkdir(parents=True, exist_ok=True)
            continue
        place.parent.mkdir(parents=True, exist_ok=True)
        whole = bytes(content[number])
        safe = flushed[number]
        if data == "torn" and whole != safe:
            safe = whole[: len(safe) + (len(whole) - len(safe)) // 2]
        place.write_bytes(safe)


def _parent(path: str) -> str:
    return path.rpartition("/")[0] or "."


def _moved(name: str, old: str, new: str) -> str:
    return new if name == old else new + name[len(old) :] if name.startswith(old + "/") else name


def snapshot(source: Path, target: Path) -> None:
    """Copy a drive, times included."""
    shutil.copytree(source, target, symlinks=True)
