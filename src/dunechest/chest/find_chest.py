"""Know a chest by its own records."""

from __future__ import annotations

import stat
from pathlib import Path

from dunechest.chest import chest_record
from dunechest.chest.layout import BAGS, CHEST, CHEST_RECORD, CHEST_SUMS, READ_ME
from dunechest.paths import is_link
from dunechest.transfer import safe


def find_chest(place: Path) -> Path | None:
    """Return the chest's folder if `place` is one, or lies at its top; else None.

    A chest is known by any of its own records beside the folder of its bags.
    """
    for folder in (place, place / CHEST):
        try:
            if is_regular(folder / CHEST_RECORD):
                return folder.resolve()
            if not (folder / BAGS).is_dir() or is_link(folder / BAGS):
                continue
            if is_regular(folder / CHEST_SUMS) or _says_chest(folder / READ_ME):
                return folder.resolve()
        except (OSError, ValueError):
            continue
    return None


def is_regular(path: Path) -> bool:
    """Whether a path is a regular file, and no link."""
    try:
        return stat.S_ISREG(path.lstat().st_mode)
    except OSError:
        return False


def _says_chest(path: Path) -> bool:
    """Whether a text is that of a chest: another program's folder may have one of that name beside a ``bags``."""
    try:
        return chest_record.label_in(safe.read_bounded(path, 1 << 20).decode("utf-8", "replace")) is not None
    except (OSError, ValueError):
        return False
