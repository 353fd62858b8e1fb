"""Standard folders: where a person's pictures, settings and data are, on each operating system.

A library is archived with its place relative to one of these, so that it can go
to the same one on a computer with another user name or another system.
"""

from __future__ import annotations

import os
import re
from pathlib import Path

from dunechest.errors import no_home
from dunechest.machine.identity import system_name
from dunechest.paths import key
from dunechest.regex import late

#: From the most special to the most general: the first that holds a path is the one that counts.
ORDER = ("pictures", "music", "videos", "documents", "desktop", "configuration", "data", "home")

_LINUX = {
    "pictures": "Pictures",
    "music": "Music",
    "videos": "Videos",
    "documents": "Documents",
    "desktop": "Desktop",
    "configuration": ".config",
    "data": ".local/share",
    "home": "",
}
_BY_SYSTEM = {
    "linux": _LINUX,
    "macos": {
        **_LINUX,
        "videos": "Movies",
        "configuration": "Library/Preferences",
        "data": "Library/Application Support",
    },
    "windows": {**_LINUX, "configuration": "AppData/Roaming", "data": "AppData/Local"},
}

# <user-dirs.dirs>, the freedesktop.org file of folder names in the person's language.
_USER_DIR = late(r'^XDG_(PICTURES|MUSIC|VIDEOS|DOCUMENTS|DESKTOP)_DIR="(.*)"\s*$', re.MULTILINE)


def own_home() -> Path:
    """Return the home folder of the person who runs this.

    Raises
    ------
    UsageError
        If the system does not know it: no HOME, and no account of that number.
    """
    try:
        return Path.home()
    except RuntimeError as error:
        raise no_home() from error


def standard_folders(home: Path, system: str | None = None) -> dict[str, Path]:
    """Return the standard folders of a home, which need not exist and need not be one's own.

    Parameters
    ----------
    home : Path
        A home folder.
    system : {"linux", "macos", "windows"}, optional
        Whose conventions; this computer's by default.
    """
    system = system or system_name()
    folders = {name: home / below if below else home for name, below in _BY_SYSTEM[system].items()}
    if system == "windows" and system_name() == "windows":
        from dunechest.machine import _folders_windows

        if key(home) == key(_folders_windows.profile() or home.anchor):
            folders |= {name: Path(place) for name, place in _folders_windows.asked().items() if place}
    if system == "linux":
        folders.update(_from_user_dirs(home))
        if home == own_home():
            for name, variable in (("configuration", "XDG_CONFIG_HOME"), ("data", "XDG_DATA_HOME")):
                named = os.environ.get(variable, "")
                if named.startswith("/"):
                    folders[name] = Path(named)
    return folders


def usual_below(standard: str, system: str) -> str | None:
    """Return where below a home a standard folder usually is on a system; None for what is neither.

    >>> usual_below("videos", "macos"), usual_below("home", "linux"), usual_below("barn", "linux")
    ('Movies', '', None)
    """
    return _BY_SYSTEM.get(system, {}).get(standard)


def _from_user_dirs(home: Path) -> dict[str, Path]:
    try:
        text = (home / ".config" / "user-dirs.dirs").read_text(encoding="utf-8", errors="surrogateescape")
    except OSError:
        return {}
    folders = {}
    for name, value in _USER_DIR.findall(text[:65536]):
        path = Path(value.replace("$HOME", str(home), 1) if value.startswith("$HOME") else value)
        if path.is_absolute() and path != home:
            folders[name.lower()] = path
    return folders


def place_of(path: Path, home: Path) -> tuple[str, str] | None:
    """Say where a path lies relative to the standard folders of a home.

    Returns
    -------
    tuple or None
        Name of the standard folder and the rest of the path with ``/`` between
        pieces; None if it lies in none of them, on another drive for example.
    """
    folders = standard_folders(home)
    for name in ORDER:
        try:
            rest = path.relative_to(folders[name])
        except ValueError:
            continue
        if rest.parts:
            return name, rest.as_posix()
    return None
