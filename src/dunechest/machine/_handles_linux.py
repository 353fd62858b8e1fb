"""Linux: open files as the kernel lists them, a link an open file under each process."""

from __future__ import annotations

import os
from collections.abc import Iterator


def open_files() -> Iterator[tuple[int, str]]:
    """Yield a process number and the path of a file or folder it has open, for all that may be seen."""
    for entry in os.listdir("/proc"):
        if not entry.isdecimal():
            continue
        folder = f"/proc/{entry}/fd"
        try:
            handles = os.listdir(folder)
        except OSError:  # it ended meanwhile, or is someone else's
            continue
        for handle in handles:
            try:
                path = os.readlink(f"{folder}/{handle}")
            except OSError:
                continue
            if path.startswith("/"):
                yield int(entry), path
