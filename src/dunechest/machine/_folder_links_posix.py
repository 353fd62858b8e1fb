"""Systems where a symbolic link leads to a folder."""

from __future__ import annotations

import os


def make(place: str, target: str) -> None:
    """Make a link to a folder, which need not be there."""
    os.symlink(target, place)


def target_of(place: str) -> str:
    """Return where a link leads, as it is written; empty if there is none."""
    try:
        return os.readlink(place)
    except OSError:
        return ""
