"""Whether an archive would be refused because much of a library vanished or changed, seen before it is proposed.

What the catalogue remembers of the newest state is held against what lies in the library's folder now; no chest is needed.
"""

from __future__ import annotations

import os
import stat
from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping
from pathlib import Path

import msgspec

from dunechest.chest.chest import Chest
from dunechest.errors import DuneChestError
from dunechest.findings import Finding
from dunechest.jobs.archive.planning.surprise import are_as_before, surprises, told
from dunechest.ledger.catalogue import open_catalogue
from dunechest.ledger.catalogue_rows import CURRENT, Row
from dunechest.machine.closed import why_closed
from dunechest.model.overview import Copy, ProtectedLibrary
from dunechest.names import shown
from dunechest.paths import prefix_of
from dunechest.words import day

#: So many files are looked at, evenly spread: what is asked is whether most of them are there.
_MOST = 20_000
#: What is seen here, whatever was found when it was archived last.
SEEN = frozenset({"mass-change", "not-in-chest"})
#: Some filesystems keep times to two seconds, and others in the time of a place.
_SAME_TIME = 2


class Foresight(msgspec.Struct, frozen=True):
    """What is seen of a library beforehand.

    `surprise` is what an archive to any chest would be refused for; None if much of it is as it was. `unseen` are the files
    that `held` has and that may be where they were, but cannot be seen now.
    """

    held: Copy
    surprise: Finding | None = None
    unseen: tuple[str, ...] = ()

    def refusal(self, library: ProtectedLibrary, chest: str, label: str) -> Finding | None:
        """Return what an archive of the library to a chest, given by id and label, would be refused for; None if for nothing."""
        if self.surprise is not None or not self.unseen or any(copy.chest_id == chest for copy in library.copies):
            return self.surprise
        from dunechest.jobs.archive.planning.newest import not_in_chest

        return not_in_chest(self.held.label, self.held.archived_as, self.unseen, label)


def foresee(library: ProtectedLibrary, folder: str, chests: Mapping[str, Path]) -> Foresight | None:
    """Return what is seen of a library beforehand; None if nobody knows how it was.

    Parameters
    ----------
    library : ProtectedLibrary
        The library, with its copies.
    folder : str
        Where it is now.
    chests : mapping of str to Path
        The folders of chests that are connected, by id: they say where drives were mounted in the library.
    """
    held = _newest(library.copies)
    if held is None or not os.path.isdir(folder):
        return None
    try:
        files = dict(_remembered(held))
    except DuneChestError:
        return None
    step = max(1, len(files) // _MOST)
    vanished, changed = _compared(folder, dict(list(files.items())[::step]))
    unseen = _unseen(folder, vanished, _away(held, chests)) if vanished else set()
    if not surprises(len(files) // step, len(vanished) - len(unseen), len(changed)):
        return Foresight(held, None, tuple(sorted(unseen)))
    # Most of what seems to be gone may only have another name or place.
    arrived = _arrived(folder, files) if vanished else set()
    vanished = [path for path in vanished if files[path][:2] not in arrived and path not in unseen]
    touched = [path for path in changed if _size(folder, path) == files[path][0]]
    if touched and are_as_before([(os.path.join(folder, path), files[path][0], files[path][2]) for path in touched]):
        changed = sorted(set(changed) - set(touched))
    databases = _databases(folder, changed)
    changed = [path for path in changed if path not in databases]
    if not surprises(len(files) // step, len(vanished), len(changed)):
        return Foresight(held, None, tuple(sorted(unseen)))
    then = f"{shown(held.label)}, edition {held.edition}, archived {day(held.archived_at)}"
    back = held.label, held.archived_as, folder
    return Foresight(held, told(len(files), len(vanished) * step, len(changed) * step, then, back))


def _newest(copies: Iterable[Copy]) -> Copy | None:
    there = [copy for copy in copies if copy.state != "missing"]
    current = [copy for copy in there if copy.state != "behind"] or there
    return max(current, key=lambda copy: (not copy.diverged, copy.archived_at), default=None)


def _remembered(held: Copy) -> Iterator[tuple[str, tuple[int, int, str]]]:
    """Yield the files of a copy as the catalogue remembers them: path, bytes, time in seconds, beginning of the digest."""
    with open_catalogue() as catalogue:
        key = next(
            (key for key in catalogue.bags() if (key.chest, key.bag) == (held.chest_id, held.archived_as)), None
        )
        for row in catalogue.rows_of(key) if key is not None and key.edition == held.edition else ():
            if row.last == CURRENT:
                yield _path(row), (row.size, row.mtime, row.digest.to_bytes(8, "big", signed=True).hex())


def _path(row: Row) -> str:
    return f"{row.folder}/{row.name}" if row.folder else row.name


def _away(held: Copy, chests: Mapping[str, Path]) -> list[str]:
    """Return where drives were mounted in a library that are not there now, as far as its chest can be asked."""
    if held.chest_id not in chests:
        return []
    from dunechest.jobs.archive.planning.unseen import away_places

    try:
        record = Chest.open(chests[held.chest_id], finish=False).bag(held.archived_as).library
    except (DuneChestError, OSError):
        return []
    return [place for place, _ in away_places(record.places)] if record is not None else []


def _unseen(folder: str, paths: Iterable[str], away: Iterable[str]) -> set[str]:
    """Return which files that are not found may be where they were: on a drive that is away, or in a folder that is closed."""
    inside: dict[str, list[str]] = defaultdict(list)
    for path in paths:
        inside[os.path.dirname(os.path.join(folder, path))].append(path)
    found: set[str] = set()
    for above, own in inside.items():
        outside = os.path.isabs(own[0]) and not os.path.isdir(above)
        if outside or why_closed(Path(above)) or any(f"{above}/".startswith(prefix_of(place)) for place in away):
            found.update(own)
    return found


def _compared(folder: str, files: dict[str, tuple[int, int, str]]) -> tuple[list[str], list[str]]:
    """Return the paths that are gone, and those with another size or time."""
    vanished, changed = [], []
    for path, (size, moment, _) in files.items():
        try:
            facts = os.lstat(os.path.join(folder, path))
        except OSError:
            vanished.append(path)
            continue
        if not stat.S_ISREG(facts.st_mode):
            vanished.append(path)
        elif facts.st_size != size or abs(facts.st_mtime_ns // 1_000_000_000 - moment) > _SAME_TIME:
            changed.append(path)
    return vanished, changed


def _arrived(folder: str, files: dict[str, tuple[int, int, str]]) -> set[tuple[int, int]]:
    """Return sizes and times of what has another name than anything had."""
    found = set()
    for place, _, names in os.walk(folder):
        for name in names:
            path = os.path.join(place, name)
            if os.path.relpath(path, folder) not in files:
                try:
                    facts = os.lstat(path)
                except OSError:
                    continue
                found.add((facts.st_size, facts.st_mtime_ns // 1_000_000_000))
    return found


def _size(folder: str, path: str) -> int:
    try:
        return os.lstat(os.path.join(folder, path)).st_size
    except OSError:
        return -1


def _databases(folder: str, paths: Collection[str]) -> set[str]:
    """Return which are databases of the library's application: they change as long as it is used."""
    if not paths:
        return set()
    from dunechest.jobs.known.named import get_library

    try:
        return set(get_library(Path(folder)).kind.database_patterns.among(paths))
    except (DuneChestError, OSError):
        return set()
