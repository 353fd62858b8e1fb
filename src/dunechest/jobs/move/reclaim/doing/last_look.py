"""Read every byte of what is about to be deleted, and of what stays of it elsewhere.

No sample decides a deletion. What is read lies aside already, where no application changes it, and the chests that hold the
copies are held, so that nobody else does. What is found damaged is noted before the deletion is refused.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import NamedTuple

from dunechest.chest.chest import Chest
from dunechest.errors import CutOffError, DuneChestError, RefusedError
from dunechest.jobs.known.holdings import note_damage
from dunechest.jobs.known.this_computer import machine_name
from dunechest.jobs.move.reclaim.held import Held, as_copied, held_of
from dunechest.ledger.asides import AsideFile, read_aside
from dunechest.model.reclaim import Evidence, ReclaimPlan
from dunechest.names import from_wire, quoted, shown
from dunechest.progress import Progress, Stage, Tally
from dunechest.transfer.tasks import DigestOutcome, DigestTask
from dunechest.transfer.walk import FileEntry
from dunechest.transfer.workers import Workers
from dunechest.words import number


class Wanted(NamedTuple):
    """A file to read: what it is called, where it lies, its bytes, and its BLAKE3 digest; None if only to be read."""

    name: str
    place: str
    size: int
    blake3: bytes | None


@contextmanager
def chests_held(plan: ReclaimPlan) -> Iterator[None]:
    """Hold the chests of the copies that count, so that nothing in them is changed; one that nobody can write to is safe so."""
    with ExitStack() as held:
        for folder in dict.fromkeys(copy.folder for copy in plan.copies if copy.counts):
            try:
                held.enter_context(Chest.open(folder, finish=False).changing(machine_name()))
            except CutOffError:
                if os.access(folder, os.W_OK):
                    raise
        yield


def read_all(plan: ReclaimPlan, aside: Path, progress: Progress, read: Iterable[str] = ()) -> None:
    """Read what goes, where it lies now, and what stays of it.

    Parameters
    ----------
    plan : ReclaimPlan
        What is to be deleted.
    aside : Path
        Where it lies.
    progress : Progress
        Told how far it is.
    read : iterable of str
        Labels of chests whose copies were read just now, whole, while they were held.

    Raises
    ------
    RefusedError
        If anything is not what was proven. It is noted.
    CutOffError
        If a drive is gone.
    """
    if plan.what == "set-aside":
        _read_moved(plan, aside, progress)
    else:
        _read_archived(plan, aside, progress, frozenset(read))


def _read_archived(plan: ReclaimPlan, aside: Path, progress: Progress, read: frozenset[str]) -> None:
    """Read an original, and each copy of it that counts."""
    wanted: dict[str, bytes] = {}
    kept: set[str] = set()
    for copy in plan.copies:
        if not copy.counts:
            continue
        held = _open(plan, copy)
        going = [file for file in plan.going if held.has(file)]
        digests = {file.path: digest for file in going if (digest := held.digest_of(file.path)) is not None}
        wanted |= digests
        kept |= {file.path for file in going}
        if copy.label in read:
            continue
        wrong = _read(_stored(held, plan, going), "reading-copies", plan.name, progress)
        if wrong:
            if not copy.folder.is_dir():
                raise CutOffError(f"The drive of {shown(copy.label)} is gone. Nothing was deleted.")
            note_damage(held.chest, copy.archived_as, len(wrong), always=True)
            raise RefusedError(
                f"The copy of {shown(plan.name)} in {shown(copy.label)} is damaged ({number(len(wrong), 'file')}, first "
                f"{shown(wrong[0])}), so nothing was deleted. "
                f"Run: dunechest verify {quoted(copy.label)} {quoted(copy.archived_as)}"
            )
    # What no copy has goes only because a person named it.
    files = [Wanted(f.path, str(aside / f.path), f.size, wanted.get(f.path)) for f in plan.going if f.path in kept]
    outside = _outside_digests(plan)
    files += [Wanted(file.path, file.path, file.size, outside.get(file.path)) for file in plan.outside]
    wrong = _read(files, "reading-original", plan.name, progress)
    if wrong:
        raise RefusedError(
            f"{number(len(wrong), 'file')} of {shown(plan.name)} {'is' if len(wrong) == 1 else 'are'} not as archived, "
            f"though size and date are the same, or cannot be read; first {shown(wrong[0])}. Nothing was deleted. "
            f"Archive it again: dunechest archive {quoted(str(plan.path))} --to CHEST --read-all"
        )


def _open(plan: ReclaimPlan, copy: Evidence) -> Held:
    """Open a copy, which must still be as it was planned.

    Raises
    ------
    RefusedError
        If it is not.
    """
    try:
        chest = Chest.open(copy.folder, finish=False)
        entry = chest.bag(copy.archived_as)
        held = held_of(chest, entry)
        faults = entry.records.faults()
    except DuneChestError as error:
        raise RefusedError(
            f"The copy in {shown(copy.label)} changed meanwhile ({error}). Nothing was deleted."
        ) from error
    if chest.id != copy.chest_id or held.record.edition != copy.edition or faults:
        raise RefusedError(
            f"The copy of {shown(plan.name)} in {shown(copy.label)} changed meanwhile. Nothing was deleted; run the command "
            "again."
        )
    return held


def _stored(held: Held, plan: ReclaimPlan, going: Iterable[FileEntry]) -> Iterator[Wanted]:
    """Yield the files of a copy that hold what goes: a captured database has bytes of its own."""
    own = dict.fromkeys(held.stored_at(file.path) for file in going)
    outside = {from_wire(item.path): item.stored for item in held.record.outside_files}
    own |= dict.fromkeys(outside[file.path] for file in plan.outside if file.path in outside)
    for stored in own:
        if (found := held.bytes_at(stored)) is not None:
            place, size, digest = found
            yield Wanted(stored, str(place), size, digest)


def _outside_digests(plan: ReclaimPlan) -> dict[str, bytes]:
    """Return the digests of the files stored elsewhere that go, as the copies have them."""
    found: dict[str, bytes] = {}
    for copy in plan.copies if plan.outside else ():
        if copy.counts:
            held = _open(plan, copy)
            for item in held.record.outside_files:
                if (known := held.bytes_at(item.stored)) is not None:
                    found[from_wire(item.path)] = known[2]
    return found


def _read_moved(plan: ReclaimPlan, aside: Path, progress: Progress) -> None:
    """Read an original that a move set aside, and the library that goes on elsewhere."""
    known: Mapping[str, AsideFile] = (read_aside(plan.listing) if plan.listing else None) or {}
    assert plan.in_use_path is not None
    first, second = [], []
    for file in plan.going:
        if file.placeholder:
            continue
        then = known.get(file.path)
        if then is None or (then.size, then.mtime_ns) != (file.size, file.mtime_ns):
            continue  # it goes only because a person named it
        digest = bytes.fromhex(then.blake3) if then.blake3 else None
        first.append(Wanted(file.path, str(aside / file.path), file.size, digest))
        # What a person changed since, or was updated when it was moved, has bytes of its own; it must be readable.
        place = plan.in_use_path / file.path
        if os.path.lexists(place):
            same = not then.updated and as_copied(plan.in_use_path, file)
            second.append(Wanted(file.path, str(place), file.size, digest if same else None))
    for files, whose in ((second, plan.in_use_path), (first, plan.path)):
        wrong = _read(files, "reading-original", plan.name, progress)
        if wrong and not whose.parent.is_dir():
            raise CutOffError(f"The drive of {shown(str(whose))} is gone. Nothing was deleted.")
        if wrong:
            raise RefusedError(
                f"{number(len(wrong), 'file')} in {shown(str(whose))} {'is' if len(wrong) == 1 else 'are'} not as "
                f"copied, though the date is the same, or cannot be read; first {shown(wrong[0])}. Nothing was deleted. "
                "Look at it, and at the drive."
            )


def _read(files: Iterable[Wanted], what: Stage, name: str, progress: Progress) -> list[str]:
    """Read files whole; return the names of those whose bytes are not the wanted ones, or that cannot be read."""
    every = list(files)
    total = sum(file.size for file in every)
    tally = Tally(progress, what, len(every), total, name)
    wrong: list[str] = []
    size_of: Callable[[Wanted], int] = lambda file: file.size  # noqa: E731 - typed
    with Workers.for_job(len(every), total, (), tally) as workers:
        for file, outcome in workers.digest_each(
            every, size_of, lambda file: DigestTask(os.fsencode(file.place), file.size)
        ):
            tally.files_done += 1
            if not _is_right(file, outcome):
                wrong.append(file.name)
    tally.tell()
    return wrong


def _is_right(file: Wanted, outcome: DigestOutcome) -> bool:
    return outcome.state == "ok" and (file.blake3 is None or outcome.digests[0] == file.blake3)
