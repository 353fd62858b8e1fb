"""Compare two places file by file, by their bytes."""

from __future__ import annotations

import os
import time
import unicodedata
from collections.abc import Mapping, Sequence
from pathlib import Path

import msgspec

from dunechest.chest.bag_records import stamp
from dunechest.chest.true_names import true_names
from dunechest.errors import ChestBusyError, RecordDamagedError, UsageError
from dunechest.jobs.check.compare.places import Place, is_archived, place_named
from dunechest.jobs.known.named import AnyLibrary
from dunechest.ledger.folder import state_folder
from dunechest.library.formats.sqlite import COMPANIONS, databases_differ
from dunechest.library.library import Library
from dunechest.machine.drives import filesystem
from dunechest.machine.identity import this_machine
from dunechest.model.compare import Comparison, Mismatch
from dunechest.names import from_wire, shown
from dunechest.progress import Progress, Step, Tally, silent
from dunechest.transfer.tasks import DigestTask
from dunechest.transfer.walk import entry_of
from dunechest.transfer.workers import Workers


def compare(
    first: AnyLibrary, second: AnyLibrary, *, editions: Sequence[int] = (), progress: Progress = silent
) -> Comparison:
    """Compare two places, every byte.

    Parameters
    ----------
    first, second : Library, path or str
        Each a library; a folder; a name that `find` showed; ``CHEST/LIBRARY`` for what a chest holds, by the chest's
        label or place.
    editions : sequence of int
        Which editions of what a chest holds: one, if only one of the two is archived; else one for each. The current
        ones if empty.
    progress : Progress
        Told how far it is.

    Raises
    ------
    UsageError
        If one of them is nothing that can be compared.
    CutOffError
        If one cannot be listed.
    """
    names = [str(place.path) if isinstance(place, Library) else os.fspath(place) for place in (first, second)]
    numbers = _numbers(names, editions)
    for again in range(_TIMES):
        # An archive that commits meanwhile would make everything look wrong: then it is begun again.
        try:
            progress(Step("listing", 0, 0, 0, 0))
            left, right = place_named(names[0], numbers[0]), place_named(names[1], numbers[1])
            result = _compare(left, right, progress)
        except RecordDamagedError:
            if again + 1 == _TIMES:
                raise
            time.sleep(0.1 * (again + 1))
            continue
        if result.same or all(
            place.stamp == stamp(place.folder) for place in (left, right) if place.folder and place.record
        ):
            return result
        time.sleep(0.2 * (again + 1))
    raise ChestBusyError(f"{shown(names[0])} or {shown(names[1])} keeps changing. Compare them when that is done.")


def _numbers(names: Sequence[str], editions: Sequence[int]) -> tuple[int | None, int | None]:
    """Return which edition is meant of each of two places."""
    if len(editions) == 2:
        return editions[0], editions[1]
    if not editions:
        return None, None
    first, second = (is_archived(name) for name in names)
    if len(editions) > 2 or first == second:
        raise UsageError(
            "--edition is given once if only one of the two is in a chest, and twice (for A, then for B) if both are."
        )
    return (editions[0], None) if first else (None, editions[0])


#: So many times it is begun again where an archive is changed meanwhile.
_TIMES = 5


def _compare(first: Place, second: Place, progress: Progress) -> Comparison:
    first, second = _with_true_names(first, second), _with_true_names(second, first)
    first, second = _with_outside_files(first, _spelled_alike(first, second))
    captured, left = _on_purpose(first, second)
    both = sorted(first.files.keys() & second.files.keys())
    unlike = [Mismatch(path, "only in the first") for path in first.files.keys() - second.files.keys() - left.keys()]
    unlike += [
        Mismatch(path, "only in the second") for path in second.files.keys() - first.files.keys() - left.keys()
    ]
    same_size: list[str] = []
    same_rows: list[str] = []
    for path in both:
        sizes = first.files[path][1], second.files[path][1]
        if path in captured and path not in first.put_together and path not in second.put_together:
            why = _other_than_recorded(first, path) or _other_than_recorded(second, path)
            why = why or databases_differ(first.files[path][0], second.files[path][0])
            if why:
                unlike.append(Mismatch(path, "other bytes", why))
            else:
                same_rows.append(path)
        elif sizes[0] != sizes[1]:
            unlike.append(Mismatch(path, "other bytes", f"{sizes[0]:,} and {sizes[1]:,} bytes"))
        else:
            same_size.append(path)
    pairs = [(place, path) for path in same_size for place in (first, second) if path not in place.put_together]
    wanted = [(place.files[path][0], place.files[path][1]) for place, path in pairs]
    digests = _digests(wanted, progress)
    alike, size = len(same_rows), sum(first.files[path][1] for path in same_rows)
    for path in same_size:
        pair = [
            p.put_together[path] if path in p.put_together else digests[p.files[path][0]] for p in (first, second)
        ]
        times = {place.files[path][2] for place in (first, second)} - {None}
        if bad := next((why for state, why in pair if state == "unreadable"), None):
            unlike.append(Mismatch(path, "unreadable", bad))
        elif pair[0] == pair[1]:
            alike, size = alike + 1, size + first.files[path][1]
        elif len(times) == 1:
            unlike.append(Mismatch(path, "silent", "same size and date, different content"))
        else:
            unlike.append(Mismatch(path, "other bytes", "of the same size"))
    there = {
        **dict.fromkeys(first.files, "only in the first"),
        **dict.fromkeys(second.files, "only in the second"),
    }
    left_out = [Mismatch(path, there[path], why) for path, why in left.items() if path in there]  # type: ignore[arg-type]
    return Comparison(
        first.name,
        second.name,
        alike,
        size,
        tuple(sorted(unlike, key=lambda u: u.path)),
        tuple(sorted(left_out, key=lambda u: u.path)),
        tuple(dict.fromkeys((*first.damage, *second.damage))),
    )


def _spelled_alike(first: Place, second: Place) -> Place:
    """Return the second place with the names of the first where they differ only in the form of accents.

    A drive that has a form of its own gave them that. Where either place has both forms, they are two files.
    """
    ours = {unicodedata.normalize("NFC", path): path for path in first.files.keys() - second.files.keys()}
    theirs = {unicodedata.normalize("NFC", path): path for path in second.files.keys() - first.files.keys()}
    return _renamed(second, {theirs[form]: ours[form] for form in ours.keys() & theirs.keys()})


def _with_true_names(place: Place, edition: Place) -> Place:
    """Return a place whose files have the names of an edition where its filesystem cannot hold these."""
    if place.record is not None or edition.record is None or place.folder is None:
        return place
    try:
        limits = filesystem(place.folder).limits
    except OSError:
        return place
    return _renamed(place, true_names(edition.record, edition.files, limits, place.files))


def _renamed(place: Place, names: Mapping[str, str]) -> Place:
    if not names:
        return place
    return msgspec.structs.replace(
        place,
        files={names.get(path, path): facts for path, facts in place.files.items()},
        put_together={names.get(path, path): facts for path, facts in place.put_together.items()},
        proofs={names.get(path, path): digest for path, digest in place.proofs.items()},
    )


def _other_than_recorded(place: Place, path: str) -> str:
    """Say if a captured database in an archive has other bytes than were recorded: its rows alone do not tell."""
    wanted = place.proofs.get(path)
    if wanted is None:
        return ""
    file, size, _ = place.files[path]
    state, digest = _digests([(file, size)], silent)[file]
    if state != "ok":
        return digest
    return "" if digest == wanted else "its content in the archive is not what was recorded"


def _on_purpose(first: Place, second: Place) -> tuple[set[str], dict[str, str]]:
    """Return, where a library is compared with an edition, the captured databases and what was left out, and why."""
    records = [place.record for place in (first, second) if place.record is not None]
    captured = {from_wire(database.path) for record in records for database in record.databases}
    left: dict[str, str] = {}
    if len(records) == 1:
        left = {from_wire(file.path): file.why for file in records[0].left_out if not file.fault}
        for database in records[0].databases:
            for companion in COMPANIONS:
                left.setdefault(from_wire(database.path) + companion, "its content is in the copied database")
        both = first.files.keys() & second.files.keys()
        left = {path: why for path, why in left.items() if path not in both}
    return captured, left


def _with_outside_files(first: Place, second: Place) -> tuple[Place, Place]:
    """Have outside files compared, too: those of two editions, or of an edition and of what it was made from."""
    if first.record is not None and second.record is not None:
        return _with(first, first.outside), _with(second, second.outside)
    edition, library = (first, second) if first.record is not None else (second, first)
    if edition.record is None or library.record is not None or library.folder is None:
        return first, second
    origin = edition.record.origin
    if from_wire(origin.path) != str(library.folder) or origin.machine_id != this_machine(state_folder()).id:
        return first, second
    here: dict[str, tuple[Path, int, int | None]] = {}
    for path in edition.outside:
        entry = entry_of(path)
        if entry is not None:
            here[path] = (Path(path), entry.size, entry.mtime_ns)
    both = _with(edition, edition.outside), _with(library, here)
    return both if edition is first else (both[1], both[0])


def _with(place: Place, outside: Mapping[str, tuple[Path, int, int | None]]) -> Place:
    return msgspec.structs.replace(place, files={**place.files, **outside})


def _digests(files: list[tuple[Path, int]], progress: Progress) -> dict[Path, tuple[str, str]]:
    """Read files; return for each state and digest, or state and why it has none."""
    found: dict[Path, tuple[str, str]] = {}
    total = sum(size for _, size in files)
    tally = Tally(progress, "comparing", len(files), total)
    folders = {path.parent for path, _ in files[:1]}
    items = dict(files).items()
    with Workers.for_job(len(files), total, folders, tally) as workers:
        for (path, _), outcome in workers.digest_each(
            items, lambda item: item[1], lambda item: DigestTask(os.fsencode(item[0]), item[1])
        ):
            ok = outcome.state == "ok"
            found[path] = ("ok", outcome.digests[0].hex()) if ok else ("unreadable", outcome.why or outcome.state)
            tally.files_done = len(found)
    return found
