"""Files that this user may not read: nothing is known of their bytes, and that is no damage."""

from __future__ import annotations

import errno
import os
import sys
from pathlib import Path

AnyPath = str | bytes | os.PathLike[str]

#: What a system says of what is closed to a user.
CLOSED = (errno.EACCES, errno.EPERM)


def owner_of(path: AnyPath) -> str:
    """Return whose a file or folder is: a name, or a number that nobody here has; empty if the system does not tell."""
    if sys.platform == "win32":
        return ""
    import pwd

    try:
        number = os.lstat(path).st_uid
    except OSError:
        return ""
    try:
        return pwd.getpwuid(number).pw_name
    except (KeyError, OverflowError):
        return f"user number {number}"


def why_closed(path: AnyPath) -> str:
    """Say that this user may not read a file, and whose it is, or whose the folder is that it cannot be reached in."""
    place = Path(os.fsdecode(path))
    while not (owner := owner_of(place)) and place != place.parent:
        place = place.parent
    return f"this user may not read it; it belongs to {owner}" if owner else "this user may not read it"


def may_read(path: AnyPath) -> bool:
    """Whether this user may read a file; what is not there is somebody else's concern."""
    return os.access(path, os.R_OK) or not os.path.lexists(path)


def is_administrator() -> bool:
    """Whether this process may read whatever is there."""
    return sys.platform == "win32" or os.geteuid() == 0
