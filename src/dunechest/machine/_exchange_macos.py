"""macOS: two names change places by renamex_np(2) with RENAME_SWAP, where the filesystem can (APFS)."""

from __future__ import annotations

import ctypes
import os

_SWAP = 2  # RENAME_SWAP, from sys/stdio.h


def exchange(first: str, second: str) -> bool:
    """Let two names change places in one moment; False if this system or filesystem cannot."""
    function = getattr(ctypes.CDLL(None, use_errno=True), "renamex_np", None)
    if function is None:
        return False
    told: int = function(os.fsencode(first), os.fsencode(second), _SWAP)
    return told == 0
