"""macOS: a placeholder carries the dataless flag (``sys/stat.h``, SF_DATALESS)."""

from __future__ import annotations

import os

_DATALESS = 0x40000000


#: Bytes: of a file that is not larger nothing need be asked.
LEAST = -1


def is_placeholder(path: str, info: os.stat_result) -> bool:
    """Whether a regular file's bytes are not here, by what `os.stat` says of it; it is not opened."""
    return bool(getattr(info, "st_flags", 0) & _DATALESS)
