"""Find libraries: on this computer and in any place given, hidden folders included."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from dunechest.errors import DuneChestError, KindFileError, UsageError
from dunechest.jobs.known.homes import known_homes, where_moved
from dunechest.jobs.known.loose import ignored_places, is_ignored, loose_folders
from dunechest.ledger import events
from dunechest.ledger.folder import state_folder
from dunechest.ledger.ledger import open_ledger
from dunechest.library.kinds.load import kind_named, load_kinds
from dunechest.library.kinds.schema import Kind
from dunechest.library.library import Library
from dunechest.library.recognise import Recognised, recognise, usual_places
from dunechest.library.roles import role_of
from dunechest.library.search import UnknownFolder, search
from dunechest.machine.drives import Filesystem, drive_folders, filesystem, search_roots
from dunechest.machine.folders import own_home
from dunechest.machine.identity import system_name
from dunechest.model.homes import Home
from dunechest.model.look import FindResult, FoundDrive, FoundLibrary, LooseFolder
from dunechest.names import AnyPath, quoted, shown, slug
from dunechest.paths import place_key
from dunechest.progress import Progress, Step, silent
from dunechest.transfer.walk import each_file

if TYPE_CHECKING:
    pass


def find_libraries(
    places: AnyPath | Iterable[AnyPath] = (),
    *,
    kind: str | None = None,
    home: Path | None = None,
    progress: Progress = silent,
) -> FindResult:
    """Find libraries by the signs of their kinds.

    Parameters
    ----------
    places : path, or several
        Folders to search. Without any, the places the kinds name for this operating system, the whole home
        folder, and all mounted drives are searched, former systems that lie in some folder included.
    kind : str, optional
        Only this kind.
    home : Path, optional
        Whose home; one's own by default.
    progress : Progress
        Told after each library.

    Returns
    -------
    FindResult
        Sorted by name. The names are noted in the ledger, so that other commands take them.

    Raises
    ------
    UsageError
        If a place does not exist or the kind is not known.

    Examples
    --------
    >>> import tempfile
    >>> find_libraries([tempfile.mkdtemp()]).libraries
    ()
    """
    broken: list[KindFileError] = []
    places = [places] if isinstance(places, str | os.PathLike) else list(places)
    kinds = load_kinds(state_folder(), broken)
    chosen = [kind_named(kinds, kind)] if kind is not None else list(kinds.values())
    whose = home or own_home()
    found: dict[str, Recognised] = {} if places else _at_usual_places(chosen, whose)
    roots, around = ([_existing(place) for place in places], frozenset[str]()) if places else _everywhere(whose)
    searched = [search(root, chosen, around=around - {str(root)}, whole=bool(places)) for root in roots]
    found = {place_key(here.path): here for trial in searched for here in reversed(trial.libraries)} | found
    homes = known_homes()
    ignored = frozenset() if places else ignored_places()  # who names a place asks for all that is in it
    kept = [here for here in found.values() if not is_ignored(str(here.path), ignored)]
    libraries, drives = _measured(kept, whose, homes, progress)
    everywhere = not places and kind is None
    own = (f.library.path for f in libraries)
    loose = loose_folders(whose, own, around - {str(whose)}) if everywhere else ()
    unknown = [folder for trial in searched for folder in trial.unknown if not is_ignored(str(folder.path), ignored)]
    _note(libraries, loose, everywhere=everywhere)
    unreadable = tuple(sorted(path for trial in searched for path in trial.unreadable))
    return FindResult(
        libraries, tuple(roots), unreadable, _largest_first(unknown) if kind is None else (),
        tuple(error.message for error in broken), drives, homes, loose,
    )  # fmt: skip


def _largest_first(unknown: Iterable[UnknownFolder]) -> tuple[UnknownFolder, ...]:
    return tuple(sorted(dict.fromkeys(unknown), key=lambda folder: (-folder.size_bytes, str(folder.path))))


def _at_usual_places(kinds: Sequence[Kind], home: Path) -> dict[str, Recognised]:
    kinds = [kind for kind in kinds if not kind.open]
    places = {place_key(place): place for place in usual_places(kinds, home, system_name())}
    seen = {real: recognise(place, kinds) for real, place in places.items()}
    return {real: here for real, here in seen.items() if here is not None}


def _everywhere(own: Path) -> tuple[list[Path], frozenset[str]]:
    """Return where to search if no place was named, and what is not gone through from another of these places."""
    drives, around = search_roots()
    # One's own home first, so that it is not taken for a part of the drive it is on.
    roots = [own] if own.is_dir() else []
    roots += [drive for drive in drives if drive != own]
    return roots, frozenset({*around, str(own), *map(str, drives), str(state_folder())})


def _measured(
    found: Sequence[Recognised], home: Path, homes: Sequence[Home], progress: Progress
) -> tuple[tuple[FoundLibrary, ...], tuple[FoundDrive, ...]]:
    """Give each library its name and its size, sorted by name; and say what they take of their drives."""
    names = _names(found)
    asides = _asides()
    libraries = []
    drives: dict[int, Filesystem] = {}
    for number, here in enumerate(found, start=1):
        library = Library(names[here.path], here.kind, here.path, "folder", here.evidence)
        files, bytes_, rebuildable, newest_ns = _counted(here)
        place = _drive(here.path, drives)
        where = where_moved(here, homes) or asides.get(str(here.path), "") or _where(here, home)
        mount = place.mount if place is not None else Path(here.path.anchor)
        libraries.append(
            FoundLibrary(library, files, bytes_, newest_ns / 1e9, where, rebuildable, mount, here.contains)
        )
        progress(Step("finding", number, len(found), 0, 0, library.name))
    libraries.sort(key=lambda f: (f.library.name, str(f.library.path)))
    outer = {here.path for here in found}
    sums = []
    for place in dict.fromkeys(drives.values()):
        own = [f for f in libraries if f.drive == place.mount and outer.isdisjoint(f.library.path.parents)]
        essential, again = sum(f.essential for f in own), sum(f.rebuildable_bytes for f in own)
        sums.append(FoundDrive(place.mount, place.type, place.free, place.total, essential, again))
    sums.sort(key=lambda drive: (-drive.essential_bytes, str(drive.path)))
    return tuple(libraries), tuple(sums)


def _counted(here: Recognised) -> tuple[int, int, int, int]:
    """Return the number of a library's files, their bytes, those of the rebuildable ones, and the newest time."""
    files = size = again = newest = 0
    special = here.kind.not_essential
    for file in each_file(str(here.path)):
        files += 1
        size += file.size
        newest = max(newest, file.mtime_ns)
        if special.match(file.path) and role_of(here.kind, file.path) == "rebuildable":
            again += file.size
    return files, size, again, newest


def _drive(path: Path, known: dict[int, Filesystem]) -> Filesystem | None:
    try:
        device = os.stat(path).st_dev
        if device not in known:
            known[device] = filesystem(path)
        return known[device]
    except OSError:
        return None


def _existing(place: str | os.PathLike[str]) -> Path:
    path = Path(place)
    if not path.is_dir():
        raise UsageError(f"There is no folder {shown(str(path))} to search.")
    return path.resolve()


def _names(found: Iterable[Recognised]) -> dict[Path, str]:
    """Give each library a name of its own: its folder's, with the parent's added where two are alike."""
    by_name: dict[str, list[Path]] = {}
    for here in found:
        by_name.setdefault(slug(here.path.name), []).append(here.path)
    names: dict[Path, str] = {}
    taken: set[str] = set()
    for name, paths in sorted(by_name.items()):
        for path in sorted(paths):
            own = name if len(paths) == 1 else slug(f"{name}-{path.parent.name}")
            count = 2
            base = own
            while own in taken:
                own, count = f"{base}-{count}", count + 1
            taken.add(own)
            names[path] = own
    return names


def _where(here: Recognised, home: Path) -> str:
    """Say in words where a library is, if not in one's own home."""
    if here.former:
        return f"an old system in {here.former}"
    if here.path.is_relative_to(home):
        return ""
    mounts = [m for m in drive_folders() if m != Path(home.anchor) and here.path.is_relative_to(m)]
    return f"the drive in {max(mounts, key=lambda m: len(m.parts))}" if mounts else "outside your home"


def _asides() -> dict[str, str]:
    """Return what is to be said of originals that were set aside, by path."""
    try:
        with open_ledger() as ledger:
            asides = ledger.asides()
    except DuneChestError:
        return {}
    return {
        aside.path: f"set aside when {aside.name} was moved; dunechest reclaim {quoted(aside.path)} frees its space"
        for aside in asides
    }


def _note(libraries: Iterable[FoundLibrary], loose: Iterable[LooseFolder], *, everywhere: bool) -> None:
    seen: list[tuple[str, dict[str, Any]]] = [
        ("seen", {"place": str(f.library.path), "name": f.library.name, "kind": f.library.kind.name, "gone": False})
        for f in libraries
        if str(f.library.path).isprintable() and not f.whose.startswith("set aside")
    ]
    if everywhere:
        with open_ledger() as ledger:
            before = {folder.place for folder in ledger.loose()}
        now = {str(folder.path): folder for folder in loose if str(folder.path).isprintable()}
        seen += [
            ("loose", {"place": place, "files": item.file_count, "bytes": item.size_bytes, "standard": item.standard})
            for place, item in now.items()
        ]
        nothing = {"files": 0, "bytes": 0, "standard": False}
        seen += [("loose", {"place": place} | nothing) for place in before - now.keys()]
    if seen:
        events.try_append(*seen)  # without it the names only work as paths; nothing else is lost
