"""Linux: the commands that unmount a drive, the gentlest first."""

from __future__ import annotations

import shutil
from collections.abc import Iterator

from dunechest.machine._accounts import own_number


def commands(mount: str, device: str, kind: str) -> Iterator[list[str]]:
    """Yield commands: the desktop's own service, that of a filesystem in a process, and the administrator's."""
    if device.startswith("/dev/") and own_number() != 0 and shutil.which("udisksctl"):
        yield ["udisksctl", "unmount", "--no-user-interaction", "--block-device", device]
    if kind.startswith("fuse") and own_number() != 0:
        for name in ("fusermount3", "fusermount"):
            if shutil.which(name):
                yield [name, "-u", mount]
                break
    yield ["umount", mount]
