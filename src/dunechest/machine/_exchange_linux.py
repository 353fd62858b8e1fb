"""Linux: two names change places by renameat2(2) with RENAME_EXCHANGE."""

from __future__ import annotations

import os

_HERE, _EXCHANGE = -100, 2  # AT_FDCWD and RENAME_EXCHANGE, from linux/fcntl.h and linux/fs.h


def exchange(first: str, second: str) -> bool:
    """Let two names change places in one moment; False if this system or filesystem cannot."""
    import ctypes

    function = getattr(ctypes.CDLL(None, use_errno=True), "renameat2", None)
    if function is None:
        return False
    told: int = function(_HERE, os.fsencode(first), _HERE, os.fsencode(second), _EXCHANGE)
    return told == 0
