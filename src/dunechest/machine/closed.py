"""Places that the system keeps closed to this program, and what a person can do about it."""

from __future__ import annotations

import errno
import os
import sys
from pathlib import Path

from dunechest.names import shown
from dunechest.transfer.closed import owner_of

#: What macOS calls it, and where it is given.
_FULL_ACCESS = (
    "macOS keeps it closed to this program. Give the terminal that you use Full Disk Access (System Settings, Privacy & "
    "Security, Full Disk Access), and open it again"
)


def advice_on(error: OSError) -> str:
    """Return what a person can do about an error of the system, as a sentence without its stop; empty if nothing is known."""
    if sys.platform == "darwin" and error.errno == errno.EPERM:
        return _FULL_ACCESS
    if error.errno in (errno.EACCES, errno.EPERM):
        return "You may not read it; run the command as a user who may, or as administrator"
    return ""


def why_closed(place: Path) -> str:
    """Say why a folder that is there cannot be looked into; empty if it can, or is not there."""
    try:
        with os.scandir(place):
            return ""
    except (FileNotFoundError, NotADirectoryError):
        return ""
    except OSError as error:
        advice = advice_on(error)
        owner = owner_of(place)
        whose = f"; it belongs to {shown(owner)}" if owner else ""
        return f"{shown(str(place))} cannot be read: {error.strerror}{whose}." + (f" {advice}." if advice else "")
