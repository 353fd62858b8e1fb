"""A Python on Linux that looks like one on macOS, as far as that can be: for ``scripts/macos.py``, which puts it on the path.

What it cannot show: the Mac's own filesystems (see `tests.support.decomposing`), its attributes, its services.
"""

from __future__ import annotations

import errno
import os
import sys
from typing import Any

_NOT_THERE = (
    "posix_fadvise", "POSIX_FADV_DONTNEED", "POSIX_FADV_WILLNEED", "O_DIRECT", "listxattr", "getxattr", "setxattr", "removexattr",
    "fdatasync", "splice", "memfd_create", "sched_getaffinity", "posix_fallocate", "copy_file_range",
)  # fmt: skip
#: fcntl.h of macOS
_NOCACHE, _FULLFSYNC = 48, 51


def _load_first() -> None:
    """Load what decides by the system while it is loaded, or would look for the other one's libraries."""
    import asyncio
    import ctypes
    import importlib.metadata
    import multiprocessing
    import pathlib
    import platform
    import shutil
    import sqlite3
    import subprocess
    import tempfile
    import uuid
    import webbrowser
    import xml.sax.saxutils  # noqa: F401

    for name in (
        "psutil",
        "sqlalchemy",
        "PIL.Image",
        "pytest",
        "hypothesis",
        "execnet",
        "send2trash",
        "filelock",
        "mfusepy",
    ):
        try:
            __import__(name)
        except ImportError:
            continue
    _ = (
        asyncio,
        ctypes,
        importlib,
        multiprocessing,
        pathlib,
        platform,
        shutil,
        sqlite3,
        subprocess,
        tempfile,
        uuid,
        webbrowser,
    )


def _calls() -> None:
    import fcntl
    import struct

    real, getlk = fcntl.fcntl, fcntl.F_GETLK

    def call(fd: Any, command: int, argument: Any = 0) -> Any:
        if command == _NOCACHE:
            return 0
        if command == _FULLFSYNC:
            os.fsync(fd)
            return 0
        if command == getlk and isinstance(argument, bytes):
            start, length, pid, kind, whence = struct.unpack("qqihh", argument)
            answer = real(fd, command, struct.pack("hhqqi", kind, whence, start, length, pid))
            kind, whence, start, length, pid = struct.unpack("hhqqi", answer)
            return struct.pack("qqihh", start, length, pid, kind, whence)
        return real(fd, command, argument)

    fcntl.fcntl = call  # type: ignore[assignment]
    for name in _NOT_THERE:
        if hasattr(os, name):
            delattr(os, name)


def _rooms() -> None:
    """Have filesystems tell 1 MiB as what is best read at once, and 4 KiB as what they hand out."""
    real = os.statvfs

    def statvfs(path: Any) -> os.statvfs_result:
        told = real(path)
        blocks = [count * told.f_frsize // 4096 for count in (told.f_blocks, told.f_bfree, told.f_bavail)]
        return os.statvfs_result((1 << 20, 4096, *blocks, *tuple(told)[5:10]))

    os.statvfs = statvfs


def _closed(places: list[str]) -> None:
    """Have the privacy settings keep folders closed."""

    def check(path: Any) -> None:
        if isinstance(path, int):
            return
        full = os.path.join(os.getcwd(), os.fsdecode(os.fspath(path)))
        if any(full == place or full.startswith(place + "/") for place in places):
            raise PermissionError(errno.EPERM, "Operation not permitted", full)

    def guarded(real: Any) -> Any:
        def call(path: Any = ".", *words: Any, **more: Any) -> Any:
            check(path)
            return real(path, *words, **more)

        return call

    for name in ("scandir", "listdir", "open", "mkdir"):
        setattr(os, name, guarded(getattr(os, name)))


if os.environ.get("DUNECHEST_SIMULATE") == "macos":
    _load_first()
    import shutil

    import psutil

    shutil._copyxattr = lambda *words, **more: None  # type: ignore[attr-defined]
    psutil.LINUX, psutil.MACOS = False, True
    _calls()
    _rooms()
    if os.environ.get("DUNECHEST_SIMULATE_CLOSED"):
        _closed(os.environ["DUNECHEST_SIMULATE_CLOSED"].split(":"))
    sys.platform = "darwin"
