"""Files of a person's own that lie in no library: how many, and in which folders; and what is not worth protecting.

The standard folders (documents, pictures, music, videos, desktop) count as things to protect, whatever lies in them. Of what
else lies under the home only the amount is told.
"""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable
from pathlib import Path

from dunechest.errors import UsageError
from dunechest.ledger.settings import put_table, read_settings, table_of
from dunechest.machine.folders import standard_folders
from dunechest.model.look import LooseFolder
from dunechest.names import AnyPath, shown
from dunechest.paths import is_folder, prefix_of
from dunechest.transfer.system_files import is_system_file, is_system_folder

#: The table of the settings: folders that a person says need no protection.
IGNORED = "ignored-places"
_STANDARD = ("documents", "pictures", "music", "videos", "desktop")
#: What programs and developers' tools make again, and what was thrown away.
_MADE_AGAIN = frozenset(
    {
        "node_modules",
        "__pycache__",
        "venv",
        "site-packages",
        "target",
        "build",
        "dist",
        "snap",
        "Trash",
        "Library",
        "AppData",
    }
)
_MARKS = frozenset({"CACHEDIR.TAG", "pyvenv.cfg"})


def loose_folders(home: Path, libraries: Iterable[Path], around: Collection[str] = ()) -> tuple[LooseFolder, ...]:
    """Return the folders of a home in which files lie that are in no library, those with most files first.

    Hidden folders are programs' own, and are left to the search for libraries.

    Parameters
    ----------
    home : Path
        The home folder.
    libraries : iterable of Path
        Where libraries were found.
    around : collection of str
        Folders to go around: other drives, and this program's own.
    """
    folders = standard_folders(home)
    standard = {str(folders[name]) for name in _STANDARD if folders[name] != home}
    ignored = ignored_places()
    stops = {str(place) for place in libraries} | set(around) | ignored
    found: list[LooseFolder] = []
    try:
        top = [entry.name for entry in os.scandir(home) if not entry.name.startswith(".")]
    except OSError:
        return ()
    places = {prefix_of(str(home)) + name for name in top} | {place for place in standard if os.path.isdir(place)}
    for place in sorted(places):
        if place not in stops and not any(place.startswith(prefix_of(stop)) for stop in ignored):
            files, size = _counted(place, stops | (standard - {place}))
            if files:
                found.append(LooseFolder(Path(place), files, size, place in standard))
    return tuple(sorted(found, key=lambda folder: (not folder.standard, -folder.file_count, str(folder.path))))


def _counted(top: str, stops: Collection[str]) -> tuple[int, int]:
    """Return the number and bytes of the files in a folder, without what lies in libraries and what is made again."""
    files = size = 0
    if not os.path.isdir(top) or os.path.islink(top):
        return 0, 0
    pending = [top]
    while pending:
        place = pending.pop()
        try:
            with os.scandir(place) as scan:
                entries = list(scan)
        except OSError:
            continue
        if _MARKS & {entry.name for entry in entries} or {"chest.json", "bags"} <= {entry.name for entry in entries}:
            continue
        for entry in entries:
            if entry.name.startswith(".") or entry.path in stops:
                continue
            if is_folder(entry):
                if entry.name not in _MADE_AGAIN and not is_system_folder(entry.name):
                    pending.append(entry.path)
            elif entry.is_file(follow_symlinks=False) and not is_system_file(Path(entry.path)):
                files += 1
                size += entry.stat(follow_symlinks=False).st_size
    return files, size


# What is not worth protecting.


def ignored_places() -> frozenset[str]:
    """Return the folders that a person said are not worth protecting; none if the settings cannot be read."""
    try:
        return frozenset(table_of(read_settings(), IGNORED))
    except UsageError:
        return frozenset()


def is_ignored(place: str, ignored: Collection[str]) -> bool:
    """Whether a folder is one of those that need no protection, or lies in one."""
    return any(place == folder or place.startswith(prefix_of(folder)) for folder in ignored)


def ignore_place(place: AnyPath, *, ignored: bool = True) -> Path:
    """Remember that a folder is not worth protecting: it leaves every count. Nothing that is archived changes.

    Parameters
    ----------
    place : path
        The folder, which need not be there any more.
    ignored : bool
        Whether it is not worth it; False takes that back.

    Returns
    -------
    Path
        The folder, in full.

    Raises
    ------
    UsageError
        If the settings cannot be read, the folder's name cannot be written down, or it was never ignored.
    CutOffError
        If the settings cannot be written.
    """
    full = os.path.abspath(os.path.expanduser(place))
    if shown(full) != full:
        raise UsageError(f"The name {shown(full)} cannot be written into the settings.")
    names = dict(table_of(read_settings(), IGNORED))
    if not ignored and full not in names:
        raise UsageError(
            f"{shown(full)} was not ignored. Ignored are: {', '.join(map(shown, sorted(names))) or 'none'}."
        )
    names = {key: value for key, value in names.items() if key != full} | (
        {full: "not worth protecting"} if ignored else {}
    )
    put_table(IGNORED, names or None)
    return Path(full)
