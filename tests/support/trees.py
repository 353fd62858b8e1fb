"""Trees of files: everything that must come back, and small harms."""

from __future__ import annotations

import os
import stat
import subprocess
from pathlib import Path
from typing import Any

import dunechest

#: What `facts` returns.
Facts = dict[bytes, tuple[Any, ...]]


def facts(root: Path, *, times: bool = True) -> Facts:
    """Everything about a tree that must come back: types, bytes, targets, modes, times."""
    found: dict[bytes, tuple[Any, ...]] = {}
    base = os.fsencode(root)

    def note(path: bytes) -> None:
        info = os.lstat(path)
        name = os.path.relpath(path, base)
        when = info.st_mtime_ns if times else 0
        if stat.S_ISLNK(info.st_mode):
            found[name] = ("link", os.readlink(path), when)
        elif stat.S_ISDIR(info.st_mode):
            found[name] = ("folder", stat.S_IMODE(info.st_mode), when)
        else:
            with open(path, "rb") as file:
                found[name] = ("file", file.read(), stat.S_IMODE(info.st_mode), when)

    note(base)
    for folder, inner, files in os.walk(base):
        for name in [*inner, *files]:
            note(os.path.join(folder, name))
    return found


def flip(path: Path, at: int | None = None, bit: int = 0x01) -> None:
    """Change one bit of a file, and neither its size nor its time."""
    info = path.stat()
    content = bytearray(path.read_bytes())
    place = len(content) // 2 if at is None else at
    content[place] ^= bit
    path.write_bytes(bytes(content))
    os.utime(path, ns=(info.st_atime_ns, info.st_mtime_ns))


def bag_of(chest: dunechest.Chest, name: str) -> Path:
    return chest.folder / "bags" / name


def sha512sum(bag: Path) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        ["sha512sum", "--quiet", "-c", "manifest-sha512.txt"], cwd=bag, capture_output=True, text=True, check=False
    )
