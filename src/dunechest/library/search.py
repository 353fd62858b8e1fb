"""Search whole trees for libraries, of applications first, then of open formats; and for folders that look like one."""

from __future__ import annotations

import os
import stat
from collections.abc import Collection, Iterable
from pathlib import Path
from typing import ClassVar

import msgspec
from msgspec.structs import replace

from dunechest.library.census import INNER, Census
from dunechest.library.kinds.schema import PLAIN, Kind
from dunechest.library.recognise import OF_A_HOME, Recognised, in_order, is_home, recognise
from dunechest.paths import is_folder, is_system_top, prefix_of, slashed
from dunechest.transfer.system_files import is_system_folder
from dunechest.transfer.walk import Walk
from dunechest.values import Value

#: A chest, what Dune Chest itself remembers, of whoever's, and a cache that says so (the cache directory tagging
#: convention): a search does not go into these.
_OF_A_CHEST = frozenset({"chest.json", "bags"})
_OF_OUR_OWN = frozenset({"ledger.sqlite", "ledger.lock"})
_CACHE_MARK = "CACHEDIR.TAG"

#: What lies at the top of a system, in use or left behind; three of them make one. Nobody keeps a library in them.
_SYSTEM = frozenset(
    {"bin", "boot", "dev", "etc", "lib", "lib64", "proc", "run", "sbin", "sys", "usr", "var", "lost+found", "snap"}
    | {"System", "Library", "Applications", "private", "cores"}
    | {"Windows", "Program Files", "Program Files (x86)", "ProgramData", "System Volume Information", "$Recycle.Bin"}
)
#: One of these is there: a tool that was unpacked has folders bin, etc and lib, too.
_OF_A_SYSTEM = frozenset({"usr", "boot", "System", "Windows", "proc", "sbin"})
#: What nobody keeps anything in: caches, and what was thrown away.
_NEVER = frozenset(
    {".cache", "Caches", "Cache", "GPUCache", "Code Cache", ".Trash", "Trash", "$RECYCLE.BIN", "$Recycle.Bin"}
)
#: Folders in which each folder is an application's, or a person's thing by itself.
_GATHERING = frozenset(
    {"Documents", "Pictures", "Music", "Videos", "Movies", "Desktop", "Downloads", ".local/share", ".config"}
    | {"Library/Application Support", "AppData/Roaming", "AppData/Local"}
)
#: Folders that hold other folders of all sorts.
_UNCLAIMED = frozenset({".local", ".config", "AppData", "Library"})
#: A folder in which all sorts of things are gathered is of one kind if this share of its files is.
_NEARLY_ALL = 0.8
#: A folder that no kind fits is worth naming from so many bytes on, or if so many files have one ending.
_LARGE = 50_000_000
_MANY, _ALIKE = 500, 0.8


class UnknownFolder(Value, msgspec.Struct, frozen=True):
    """A folder of no known kind that looks worth keeping: its files, bytes, and the evidence."""

    _shown: ClassVar[tuple[str, ...]] = ("path", "file_count", "size_bytes")

    path: Path
    file_count: int
    size_bytes: int
    evidence: tuple[str, ...]


class Searched(msgspec.Struct):
    """What a search found: libraries, other folders that look like one, the largest first, and what could not be listed."""

    libraries: list[Recognised] = msgspec.field(default_factory=list)
    unreadable: list[str] = msgspec.field(default_factory=list)
    unknown: list[UnknownFolder] = msgspec.field(default_factory=list)


class _Folder(msgspec.Struct):
    names: set[str]
    inner: list[str]
    former: str
    census: Census
    bytes: int = 0
    taken: int | None = None
    inside: bool = False


def search(
    root: Path,
    kinds: Iterable[Kind],
    *,
    around: Collection[str] = (),
    whole: bool = True,
) -> Searched:
    """Search a whole tree, hidden folders included, for libraries.

    It follows no link, and goes neither into a library it has recognised nor into
    a chest. In the top folder of a system, the present one or a former one that lies
    in some folder, only what people keep there is searched.

    Parameters
    ----------
    root : Path
        Where to begin.
    kinds : iterable of Kind
        What to look for.
    around : collection of str
        Folders to go around.
    whole : bool
        Whether the root itself may be a library of an open format; a home or a drive is none.
    """
    every = in_order(kinds)
    found = Searched()
    tree = _listed(str(root), [kind for kind in every if not kind.open], found, around)
    _added_up(tree)
    whole = whole and not _is_mixture(tree, every, str(root))
    _open_formats(tree, [kind for kind in every if kind.open], found, "" if whole else str(root))
    found.unknown = _unknown(tree, found.libraries, "" if whole else str(root))
    return found


def _is_mixture(tree: dict[str, _Folder], kinds: Collection[Kind], root: str) -> bool:
    """Whether most of a folder lies in libraries of several sorts: then it holds libraries, and is none as a whole."""
    top = tree.get(root)
    kinds = [kind for kind in kinds if kind.open]
    here = recognise(Path(root), kinds, top.names, top.inner, top.census) if top is not None else None
    if top is None or here is None or not any(sign.endings for sign in here.kind.signs):
        return False
    trial = Searched()
    _open_formats(tree, kinds, trial, "")
    held = sum(tree[str(inner.path)].census.files for found in trial.libraries for inner in found.contains)
    for folder in tree.values():
        folder.taken, folder.inside = None, False
    return held > top.census.files / 2


def inside(place: Path, kind: Kind, listing: Walk, kinds: Iterable[Kind]) -> tuple[Recognised, ...]:
    """Return the libraries of other kinds that a library contains, from the top down; what lies in one of these is not told.

    Parameters
    ----------
    place : Path
        The library.
    kind : Kind
        Its kind. What an application keeps in a library of its own is no other library.
    listing : Walk
        What lies in it.
    kinds : iterable of Kind
        What to look for.
    """
    if not (kind.open or kind.name == PLAIN):
        return ()
    tree = _tree_of(str(place), listing)
    _added_up(tree)
    tree[str(place)].taken = 0
    found = Searched(libraries=[Recognised(place, kind, ())])
    _open_formats(tree, in_order(kinds), found, "")
    return found.libraries[0].contains


def _tree_of(top: str, listing: Walk) -> dict[str, _Folder]:
    """Return the folders of a listing; one stands before those in it."""
    tree = {top: _Folder(set(), [], "", Census())}
    for folder in listing.folders:
        if folder.path:
            tree[f"{top}/{folder.path}"] = _Folder(set(), [], "", Census())
    for place in tree:
        above = tree.get(os.path.dirname(place)) if place != top else None
        if above is not None:
            above.names.add(os.path.basename(place))
            above.inner.append(os.path.basename(place))
    files: dict[str, list[str]] = {}
    for file in listing.files:
        folder_path, slash, name = file.path.rpartition("/")
        place = top + slash + folder_path
        files.setdefault(place, []).append(name)
        tree[place].bytes += file.size
    for place, names in files.items():
        tree[place].names.update(names)
        tree[place].census.count(place, names)
    return tree


def _listed(
    top: str,
    kinds: Collection[Kind],
    found: Searched,
    around: Collection[str],
) -> dict[str, _Folder]:
    """List a tree; what is an application's library is found on the way, and not gone into."""
    tree: dict[str, _Folder] = {}
    pending = [(top, "")]
    while pending:
        place, former = pending.pop()
        names: set[str] = set()
        inner: list[str] = []
        files: list[str] = []
        size = 0
        try:
            with os.scandir(place) as entries:
                for entry in entries:
                    names.add(entry.name)
                    if is_folder(entry):
                        inner.append(entry.name)
                        continue
                    try:
                        info = entry.stat(follow_symlinks=False)
                    except OSError:
                        continue
                    if stat.S_ISREG(info.st_mode):
                        files.append(entry.name)
                        size += info.st_size
        except OSError:
            found.unreadable.append(place)
            continue
        if names >= _OF_A_CHEST or names >= _OF_OUR_OWN or _CACHE_MARK in names:
            continue
        here = recognise(Path(place), kinds, names, inner)
        if here is not None:
            found.libraries.append(replace(here, former=former))
            continue
        if len(_SYSTEM & names) >= 3 and names & _OF_A_SYSTEM:
            inner = [name for name in inner if name not in _SYSTEM]
            former = former or ("" if is_system_top(place) else place)
        tree[place] = folder = _Folder(names, inner, former, Census(), size)
        folder.census.count(place, files)
        below = prefix_of(place)
        for name in sorted(inner, reverse=True):
            if below + name not in around and name not in _NEVER and not is_system_folder(name):
                pending.append((below + name, former))
    return tree


def _added_up(tree: dict[str, _Folder]) -> None:
    """Add to each folder what is below it; a folder stands before those in it."""
    for place in reversed(tree):
        above = tree.get(os.path.dirname(place))
        if above is not None and place != os.path.dirname(place) and os.path.basename(place) not in INNER:
            above.census.add(tree[place].census)
            above.bytes += tree[place].bytes


def _open_formats(tree: dict[str, _Folder], kinds: Collection[Kind], found: Searched, home: str) -> None:
    """Recognise libraries of open formats from the top down; one that lies in another is told there, and not listed again."""
    others = [kind for kind in kinds if not any(sign.endings for sign in kind.signs)]
    strict = [_strict(kind) for kind in kinds]
    contains: dict[int, list[Recognised]] = {}
    for place, folder in tree.items():
        above = tree.get(os.path.dirname(place)) if place != os.path.dirname(place) else None
        name = os.path.basename(place)
        if above is not None:
            folder.taken, folder.inside = above.taken, above.inside or name in INNER
        if folder.inside or name in INNER or not (folder.names and folder.census.files + len(folder.inner)):
            continue
        tried = kinds
        if place == home or is_home(folder.names) or name in _UNCLAIMED:
            tried = others
        elif _gathers(place):
            tried = strict
        if folder.taken is not None:
            taker = found.libraries[folder.taken]
            if str(taker.path) == place:
                continue
            within = slashed(os.path.relpath(place, taker.path))
            if _CACHE_MARK in folder.names or taker.kind.rebuildable.match(f"{within}/"):
                folder.inside = True
                continue
            tried = [kind for kind in tried if kind.name != taker.kind.name]
        here = recognise(Path(place), tried, folder.names, folder.inner, folder.census)
        if here is None:
            continue
        here = replace(here, kind=next(kind for kind in kinds if kind.name == here.kind.name), former=folder.former)
        if folder.taken is not None:
            contains.setdefault(folder.taken, []).append(here)
            folder.inside = True
        else:
            folder.taken = len(found.libraries)
            found.libraries.append(here)
    for number, taker in enumerate(found.libraries):
        inner = contains.get(number, [])
        if taker.kind.open:  # an application's library in it is there already, and has not been gone into
            inner += [here for here in found.libraries if not here.kind.open and taker.path in here.path.parents]
        found.libraries[number] = replace(taker, contains=tuple(sorted(inner, key=lambda here: here.path)))


def _strict(kind: Kind) -> Kind:
    """Return a kind for folders that gather all sorts of things: what makes one of it must be nearly all that is there."""
    signs = tuple(msgspec.structs.replace(sign, share=_NEARLY_ALL) if sign.endings else sign for sign in kind.signs)
    return msgspec.structs.replace(kind, signs=signs)


def _gathers(place: str) -> bool:
    return slashed(place).endswith(tuple("/" + name for name in _GATHERING))


def _unknown(tree: dict[str, _Folder], libraries: Iterable[Recognised], home: str) -> list[UnknownFolder]:
    """Return the folders that no kind fits and that are large, or hold many files of one shape; the largest first."""
    holding = {str(above) for here in libraries for above in here.path.parents}
    found = []
    for place, folder in tree.items():
        above = os.path.dirname(place)
        if folder.taken is not None or place in holding or above not in tree or os.path.basename(place) in INNER:
            continue
        parent = tree[above]
        if not (above == home or _gathers(above) or is_home(parent.names)):
            continue
        if os.path.basename(place) in OF_A_HOME:
            continue
        evidence = _looks(folder)
        if evidence:
            found.append(UnknownFolder(Path(place), folder.census.files, folder.bytes, evidence))
    return sorted(found, key=lambda unknown: (-unknown.size_bytes, str(unknown.path)))


def _looks(folder: _Folder) -> tuple[str, ...]:
    evidence = []
    if folder.bytes >= _LARGE:
        evidence.append("it is large")
    ending, number = folder.census.endings.most_common(1)[0] if folder.census.endings else ("", 0)
    if number >= _MANY and number >= _ALIKE * folder.census.files:
        evidence.append(f"{number:,} of {folder.census.files:,} files are {ending or 'without an ending'}")
    return tuple(evidence)
