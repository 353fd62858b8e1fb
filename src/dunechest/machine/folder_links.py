"""Links that lead to a folder, and the change of places that puts one in a folder's place."""

from __future__ import annotations

import os
import sys

if sys.platform == "win32":
    from dunechest.machine import _folder_links_windows as _here
else:
    from dunechest.machine import _folder_links_posix as _here
if sys.platform == "linux":
    from dunechest.machine._exchange_linux import exchange as _exchange
elif sys.platform == "darwin":
    from dunechest.machine._exchange_macos import exchange as _exchange
else:
    from dunechest.machine._exchange_other import exchange as _exchange
from dunechest.transfer import disk

_Path = str | os.PathLike[str]


def make_link(place: _Path, target: _Path) -> None:
    """Make a link to a folder: a symbolic link, on Windows a junction.

    Raises
    ------
    OSError
        If something has the name, or the filesystem holds no links.
    """
    disk.announce("link", place, target)
    _here.make(os.fspath(place), os.fspath(target))


def target_of(place: _Path) -> str:
    """Return where a link leads, as it is written; empty if there is no link."""
    return _here.target_of(os.fspath(place))


def is_link_to(place: _Path, target: _Path) -> bool:
    """Whether there is a link that names just this target."""
    return bool(os.fspath(target)) and target_of(place) == os.fspath(target)


def exchange(first: _Path, second: _Path) -> bool:
    """Let two names on one filesystem change places in one moment; False if the system cannot, and nothing was done."""
    disk.announce("exchange", first, second)
    return _exchange(os.fspath(first), os.fspath(second))


def remove_link(place: _Path) -> None:
    """Remove a link, and nothing that it leads to."""
    disk.announce("remove", place)
    if os.path.isdir(place) and not os.path.islink(place):
        os.rmdir(place)  # a junction is removed as a folder is, and keeps what it leads to
    else:
        os.unlink(place)
