"""Owners, access lists and extended attributes of files and folders: what they are, and giving them back.

Owners and access lists are kept by name: on another computer the same number is somebody else's.
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

from dunechest.machine import _accounts
from dunechest.transfer.owner import owner_above

if sys.platform == "linux":
    from dunechest.machine import _attributes_linux as _here
elif sys.platform == "darwin":
    from dunechest.machine import _attributes_macos as _here
else:
    from dunechest.machine import _attributes_windows as _here

#: Accounts of people have this number or a higher one; those below are the system's and its servers'.
_PEOPLE = 500 if sys.platform == "darwin" else 1000


def attributes_of(path: bytes) -> tuple[tuple[str, str], ...]:
    """Return the attributes of a file or folder: (name, value), sorted.

    Names are ``user.*`` with the value in base64, and ``access`` and ``default`` with an access list in words; on macOS those
    of tags, comments, icons and the resource fork, on Windows ``stream:NAME`` for further streams of a file. Others, which
    the system keeps for itself or which give rights, are not among them.
    """
    return _here.read(path)


def give_attribute(path: bytes, name: str, value: str) -> str:
    """Give a file or folder one attribute; return in words what cannot be so here, or nothing."""
    return _here.write(path, name, value)


def own_numbers(place: Path) -> tuple[int, int] | None:
    """Return user and group that what lies in a place is expected to have: this person's, or of whose home it is.

    Of a summary that stands for no person, such as a server's, nothing is expected: on another computer it has to be said.
    None where the system has no such owners.
    """
    if sys.platform == "win32":
        return None
    above = owner_above(place)
    if above is not None and above[0] >= _PEOPLE:
        return above
    return (os.geteuid(), os.getegid()) if os.geteuid() == 0 or os.geteuid() >= _PEOPLE else (-1, -1)


def owner_names(path: bytes, usual: tuple[int, int], owner: tuple[int, int] | None = None) -> tuple[str, str]:
    """Return the names of a file's user and group; empty where they are the usual ones.

    `owner` are their numbers, where the system has told them already.
    """
    if owner == usual:
        return "", ""
    if owner is None:
        try:
            info = os.lstat(path)
        except OSError:
            return "", ""
        owner = info.st_uid, info.st_gid
    user = "" if owner[0] == usual[0] else _accounts.user_name(owner[0])
    group = "" if owner[1] == usual[1] else _accounts.group_name(owner[1])
    return user, group


def give_owner(path: bytes, user: str, group: str) -> str:
    """Give a file or folder to a user and a group, by name; return in words what cannot be so here, or nothing.

    Nothing is ever given to the administrator: that would be a right taken from a drive.
    """
    numbers = []
    for kind, name, number in (
        ("user", user, _accounts.user_number(user) if user else -1),
        ("group", group, _accounts.group_number(group) if group else -1),
    ):
        if number is None:
            return f"there is no {kind} {name} here"
        numbers.append(-1 if number == 0 else number)
    if sys.platform == "win32":
        return "files have no such owners here"
    try:
        os.chown(path, numbers[0], numbers[1], follow_symlinks=False)
    except OSError:
        return "only the administrator can give files to others"
    return ""
