"""Windows: reading a placeholder recalls it from elsewhere, and its attributes say so.

The attributes are FILE_ATTRIBUTE_OFFLINE, FILE_ATTRIBUTE_RECALL_ON_OPEN and
FILE_ATTRIBUTE_RECALL_ON_DATA_ACCESS of the Windows file attribute constants.
"""

from __future__ import annotations

import os

_OFFLINE = 0x1000
_RECALL_ON_OPEN = 0x40000
_RECALL_ON_DATA_ACCESS = 0x400000


#: Bytes: of a file that is not larger nothing need be asked.
LEAST = -1


def is_placeholder(path: str, info: os.stat_result) -> bool:
    """Whether a regular file's bytes are not here, by what `os.stat` says of it; it is not opened."""
    attributes = getattr(info, "st_file_attributes", 0)
    return bool(attributes & (_OFFLINE | _RECALL_ON_OPEN | _RECALL_ON_DATA_ACCESS))
