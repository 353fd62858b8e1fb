"""Paths of this computer: one place for what a system does differently with them.

Inside the program a path below a library or a bag has ``/`` between its pieces, on every system. A path of *this*
computer is a `Path`, or a text as the system writes it. What a person types, what a setting holds and where the two
meet is asked here: drive letters, network places, junctions, case, and the length of a path.
"""

from __future__ import annotations

import os
import stat
import sys
import unicodedata
from collections.abc import Iterable
from pathlib import Path, PureWindowsPath

from dunechest.names import is_device
from dunechest.regex import late

AnyPath = str | os.PathLike[str]

#: Characters of a path, the NUL at its end not counted, that Windows takes where long paths are not switched on; of a folder.
WINDOWS_LONGEST, WINDOWS_LONGEST_FOLDER = 259, 247

#: The top of all folders, or of the drive that this process is on.
TOP = Path(os.sep)
#: Whether this system divides paths by backslashes, and takes slashes for the same.
BACKSLASHES = os.sep == "\\"
#: What no name holds on Windows.
_NOT_IN_WINDOWS = frozenset('"*:<>?\\|') | frozenset(map(chr, range(32)))
#: Whether names that differ in case alone usually mean the same file on this system.
CASE_BLIND = sys.platform in ("win32", "darwin")

_DRIVE = late(r"[A-Za-z]:[\\/]")
_SHARE = late(r"(?:\\\\|//)[^\\/?]+[\\/][^\\/]+")
# <winnt.h>, IsReparseTagNameSurrogate: what stands for another place, as junctions and links do, and not placeholders.
_SURROGATE = 0x20000000


def true_path(path: AnyPath) -> Path:
    """Return a path without links, spelled as the drive spells it.

    On a drive that does not tell cases or accents apart, a person may write a name in another way than it is kept;
    only one spelling is kept in records. What is not there is spelled as it was given.

    Raises
    ------
    OSError
        If links lead in a circle.
    """
    real = os.path.realpath(path)
    if sys.platform == "win32" or not os.path.lexists(real):
        return Path(real)  # there, realpath asks the system for the name itself
    found = Path(real).anchor
    for piece in Path(real).parts[1:]:
        found = os.path.join(found, _spelled(found, piece))
    return Path(found)


def _spelled(folder: str, name: str) -> str:
    """Return how a folder spells the name of something that is in it."""
    other = name.swapcase()
    form = unicodedata.normalize("NFD", name)
    form = unicodedata.normalize("NFC", name) if form == name else form
    if not any(os.path.lexists(os.path.join(folder, one)) for one in {other, form} - {name}):
        return name  # this drive tells them apart: it is spelled like this
    try:
        names = os.listdir(folder)
    except OSError:
        return name
    if name in names:
        return name
    wanted = folded(name)
    return next((one for one in names if folded(one) == wanted), name)  # it is there, and not listed under this name


def folded(name: str) -> str:
    """Return what two names have in common if they differ in case or in the form of accents alone."""
    return unicodedata.normalize("NFC", unicodedata.normalize("NFC", name).casefold())


def takes_other_forms(names: Iterable[str], top: Path) -> bool:
    """Whether a drive finds a name in another form than it lists it, asked of the first name of a folder that has two forms."""
    for name in names:
        if name.isascii():
            continue
        other = unicodedata.normalize("NFD", name)
        other = unicodedata.normalize("NFC", name) if other == name else other
        if other != name:
            return os.path.lexists(os.path.join(top, other))
    return False


def respelled(found: Iterable[str], wanted: Iterable[str], top: Path) -> dict[str, str]:
    """Return how names that a drive spells in its own form are spelled where they are expected.

    Some drives keep the accents of a letter apart from it, and find a name in either form all the same.

    Parameters
    ----------
    found : iterable of str
        Paths below `top` as the drive lists them.
    wanted : iterable of str
        Paths that should be there.
    top : Path
        The folder. It is asked for each such path by its own name, so that two files never become one.

    Returns
    -------
    dict
        Listed path and expected path, for those that differ.
    """
    listed = {path for path in found if not path.isascii()}
    if not listed:
        return {}
    expected = {path for path in wanted if not path.isascii()}
    by_form = {unicodedata.normalize("NFC", path): path for path in listed - expected}
    pairs = {}
    for path in expected - listed:
        here = by_form.get(unicodedata.normalize("NFC", path))
        # It is found by a name that is not listed: so the drive takes one form for the other.
        if here is not None and os.path.lexists(os.path.join(top, path)):
            pairs[here] = path
    return pairs


def key(path: AnyPath) -> str:
    """Return what two paths have in common if they are the same place: links followed, and case where the system ignores it."""
    return os.path.normcase(os.path.realpath(path))


def place_key(path: AnyPath) -> str:
    """Return what two paths have in common if they lead to the same folder or file, by whatever way.

    macOS shows its data volume in two places, and neither is a link.
    """
    try:
        info = os.stat(path)
    except (OSError, ValueError):
        return key(path)
    return f"{info.st_dev:x}:{info.st_ino:x}" if info.st_ino else key(path)


def prefix_of(folder: AnyPath) -> str:
    """Return what the path of everything below a folder begins with."""
    return os.fspath(folder).rstrip(os.sep) + os.sep


def slashed(path: AnyPath) -> str:
    """Return a path of this computer with ``/`` between its pieces, as records and other systems have it."""
    return os.fspath(path).replace(os.sep, "/")


def divides(name: str) -> bool:
    """Whether a name holds what no name may hold: something that divides paths, or ends texts."""
    return bool(set(name) & {"/", "\0", os.sep})


def is_below(place: AnyPath, folder: AnyPath) -> bool:
    """Whether a place is a folder or lies in it; links are followed."""
    inner, outer = key(place), key(folder)
    return inner == outer or inner.startswith(outer.rstrip(os.sep) + os.sep)


def leads_elsewhere(info: os.stat_result) -> bool:
    """Whether what `os.lstat` says is of a junction or another folder that stands for a place elsewhere (Windows).

    Python does not call a junction a link. A folder of placeholders has a tag too, but holds what it shows.
    """
    return bool(getattr(info, "st_reparse_tag", 0) & _SURROGATE)


def is_link(place: Path | os.DirEntry[str]) -> bool:
    """Whether something is a link, or a junction, which leads elsewhere like one. What is not there is none."""
    try:
        info = place.stat(follow_symlinks=False) if isinstance(place, os.DirEntry) else os.lstat(place)
    except (OSError, ValueError):
        return False
    return stat.S_ISLNK(info.st_mode) or leads_elsewhere(info)


def is_folder(entry: os.DirEntry[str]) -> bool:
    """Whether an entry of a folder is a folder itself, neither a link nor a junction to one."""
    if not entry.is_dir(follow_symlinks=False):
        return False
    return sys.platform != "win32" or not leads_elsewhere(entry.stat(follow_symlinks=False))


def is_foreign(text: str) -> bool:
    r"""Whether a text is a whole path as the other family of systems writes it.

    >>> is_foreign("relative/path")
    False
    """
    if os.sep == "/":
        return bool(_DRIVE.match(text) or text.startswith("\\\\"))
    return text.startswith("/") and not text.startswith("//")


def pieces_of(text: str, system: str) -> list[str]:
    r"""Return the pieces of a path that a computer wrote, split as that system splits, without its drive.

    Parameters
    ----------
    text : str
        The path.
    system : {"linux", "macos", "windows"}
        Whose it is.

    >>> pieces_of(r"C:\Users\tern\a/b.jpg", "windows"), pieces_of(r"/home/tern/a\b.jpg", "linux")
    (['Users', 'tern', 'a', 'b.jpg'], ['home', 'tern', 'a\\b.jpg'])
    """
    if system == "windows":
        path = PureWindowsPath(text)
        return list(path.parts[1:] if path.anchor else path.parts)
    return [piece for piece in text.split("/") if piece not in ("", ".")]


def is_system_top(place: str) -> bool:
    """Whether a folder is the top of the system that runs here."""
    if sys.platform == "win32":
        return place.rstrip("\\").upper() == os.environ.get("SYSTEMDRIVE", "C:").upper()
    return place == os.sep


def can_be_here(path: str) -> bool:
    """Whether a path of a library, with ``/`` between its pieces, can be one of this computer as it is.

    On Windows some characters lead elsewhere, some names are devices, and some ends are dropped.
    """
    if os.sep == "/":
        return True
    pieces = path.split("/")
    return not any(
        not piece or piece[-1] in ". " or is_device(piece) or not _NOT_IN_WINDOWS.isdisjoint(piece)
        for piece in pieces
    )


def is_whole(text: str) -> bool:
    r"""Whether a text is a whole path on any system: from the top, with a drive letter, or of a network place.

    >>> is_whole("/home/tern"), is_whole("C:/Users/tern"), is_whole(r"\\box\pictures"), is_whole("C:pictures")
    (True, True, True, False)
    """
    return text.startswith("/") or _DRIVE.match(text) is not None or _SHARE.match(text) is not None


def longest_here() -> int | None:
    """Return how many characters a path may have on this computer; None where length is no matter.

    Windows takes long paths only where an administrator has switched them on.
    """
    if sys.platform != "win32":
        return None
    import winreg

    try:
        with winreg.OpenKey(winreg.HKEY_LOCAL_MACHINE, r"SYSTEM\CurrentControlSet\Control\FileSystem") as found:
            switched_on, _ = winreg.QueryValueEx(found, "LongPathsEnabled")
    except OSError:
        return WINDOWS_LONGEST
    return None if switched_on == 1 else WINDOWS_LONGEST
