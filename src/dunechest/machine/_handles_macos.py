"""macOS: open files as psutil gathers them."""

from __future__ import annotations

import os
from collections.abc import Iterator

import psutil


def open_files() -> Iterator[tuple[int, str]]:
    """Yield a process number and the path of a file it has open, for all that may be seen."""
    for process in psutil.process_iter():
        try:
            handles = process.open_files()
        except (psutil.Error, OSError):
            continue
        for handle in handles:
            yield process.pid, os.path.realpath(handle.path)
