"""Windows: a junction leads to a folder; unlike a symbolic link, everybody may make one."""

from __future__ import annotations

import os
import sys


def make(place: str, target: str) -> None:
    """Make a junction to a folder."""
    if sys.platform == "win32":
        import _winapi

        _winapi.CreateJunction(target, place)


def target_of(place: str) -> str:
    """Return where a junction or link leads; empty if there is none."""
    try:
        told = os.readlink(place)
    except OSError:
        return ""
    return told.removeprefix("\\\\?\\")
