"""Names and numbers of users and groups."""

from __future__ import annotations

import functools

try:
    import grp
    import pwd
except ImportError:  # a system without such numbers
    grp = pwd = None  # type: ignore[assignment]


@functools.lru_cache(maxsize=4096)
def user_name(number: int) -> str:
    """Return the name of a user, or ``#`` and the number if it has none that could stand in a list."""
    try:
        name = pwd.getpwuid(number).pw_name
    except (AttributeError, KeyError, OverflowError):
        return f"#{number}"
    return name if name.isprintable() and not set(name) & set(",:#") else f"#{number}"


@functools.lru_cache(maxsize=4096)
def group_name(number: int) -> str:
    """Return the name of a group, or ``#`` and the number if it has none that could stand in a list."""
    try:
        name = grp.getgrgid(number).gr_name
    except (AttributeError, KeyError, OverflowError):
        return f"#{number}"
    return name if name.isprintable() and not set(name) & set(",:#") else f"#{number}"


@functools.lru_cache(maxsize=4096)
def user_number(name: str) -> int | None:
    """Return the number of a user, or None if there is none of that name here; a number alone stands for nobody."""
    try:
        return pwd.getpwnam(name).pw_uid
    except (AttributeError, KeyError, ValueError):
        return None


@functools.lru_cache(maxsize=4096)
def group_number(name: str) -> int | None:
    """Return the number of a group, or None if there is none of that name here."""
    try:
        return grp.getgrnam(name).gr_gid
    except (AttributeError, KeyError, ValueError):
        return None
