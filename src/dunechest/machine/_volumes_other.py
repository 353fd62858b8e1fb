"""macOS and Windows: a volume stands for its device; whether it can be unplugged is what the system lists."""

from __future__ import annotations

from pathlib import Path

import psutil


def disks(path: Path) -> frozenset[str]:
    """Return nothing: which disk a folder lies on is not asked for here."""
    return frozenset()


def devices(path: Path) -> frozenset[str]:
    """Return a name for the volume that a folder lies on."""
    return frozenset({f"volume {path.stat().st_dev}"})


def removable(names: frozenset[str]) -> bool:
    """Whether one of the volumes is listed as removable."""
    for part in psutil.disk_partitions(all=False):
        if "removable" in part.opts.split(","):
            try:
                if devices(Path(part.mountpoint)) & names:
                    return True
            except OSError:
                continue
    return False


def uuid_of(path: Path) -> str:
    """Return nothing: such systems tell a filesystem by its own number."""
    return ""
