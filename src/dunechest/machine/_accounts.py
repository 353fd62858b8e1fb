"""Names and numbers of users and groups."""

from __future__ import annotations

import functools
import os
import sys

if sys.platform != "win32":
    import grp
    import pwd


def own_number() -> int:
    """Return the number of the user that this process runs for; -1 on a system without such numbers."""
    if sys.platform != "win32":
        return os.geteuid()
    return -1


@functools.lru_cache(maxsize=4096)
def user_name(number: int) -> str:
    """Return the name of a user, or ``#`` and the number if it has none that could stand in a list."""
    name = ""
    if sys.platform != "win32":
        try:
            name = pwd.getpwuid(number).pw_name
        except (KeyError, OverflowError):
            pass
    return _listed(name, number)


@functools.lru_cache(maxsize=4096)
def group_name(number: int) -> str:
    """Return the name of a group, or ``#`` and the number if it has none that could stand in a list."""
    name = ""
    if sys.platform != "win32":
        try:
            name = grp.getgrgid(number).gr_name
        except (KeyError, OverflowError):
            pass
    return _listed(name, number)


def _listed(name: str, number: int) -> str:
    return name if name and name.isprintable() and not set(name) & set(",:#") else f"#{number}"


@functools.lru_cache(maxsize=4096)
def user_number(name: str) -> int | None:
    """Return the number of a user, or None if there is none of that name here; a number alone stands for nobody."""
    if sys.platform != "win32":
        try:
            return pwd.getpwnam(name).pw_uid
        except (KeyError, ValueError):
            pass
    return None


@functools.lru_cache(maxsize=4096)
def group_number(name: str) -> int | None:
    """Return the number of a group, or None if there is none of that name here."""
    if sys.platform != "win32":
        try:
            return grp.getgrnam(name).gr_gid
        except (KeyError, ValueError):
            pass
    return None
