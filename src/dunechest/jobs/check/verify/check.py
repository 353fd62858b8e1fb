"""Check one bag: every byte against its digest, or names and sizes only."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Sequence
from contextlib import nullcontext
from pathlib import Path

from msgspec.structs import replace

from dunechest.bag.bag import Bag, read_bag
from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.bag_records import BagRecords, stamp
from dunechest.chest.layout import DATA, DECLARATION, EARLIER, FILES, JOURNAL, LIBRARY, TAGS
from dunechest.errors import BagUnusableError
from dunechest.jobs.check.verify.expected import Expected, expected_files
from dunechest.jobs.check.verify.judge import INTACT, judge
from dunechest.model.verify import BagCheck, FileState, Kind
from dunechest.progress import Progress, Step, Tally
from dunechest.transfer.tasks import DigestOutcome, DigestTask
from dunechest.transfer.workers import Workers


def entry_at(bag: Path) -> BagEntry:
    """Return the entry of a bag by its folder, wherever it lies."""
    own = any(os.path.lexists(bag / name) for name in (TAGS, LIBRARY, FILES))
    return BagEntry(bag.name, bag, "whole" if own else "foreign")


def check_part(entry: BagEntry, first: str, until: float, progress: Progress) -> BagCheck:
    """Check the files of a bag from the one called `first` on, until a moment (of `time.monotonic`).

    At least one batch of files is checked.
    """
    return check_bag(entry, False, progress, first, until)


def check_bag(
    entry: BagEntry, quick: bool, progress: Progress, first: str = "", until: float = float("inf")
) -> BagCheck:
    """Check one bag; one that cannot be understood is a result among others."""
    begun = time.monotonic()
    if entry.state == "unfinished":
        why = "an archive was interrupted here; archive the library again to finish it"
        return _only(entry, "unfinished", quick, FileState("", "unfinished", why))
    own = entry.state != "foreign"
    if entry.closed:
        return _only(entry, "unusable", quick, FileState("", "no-access", entry.why))
    if entry.state == "unusable" and not entry.is_ours:
        return _only(entry, "unusable", quick, FileState("", "unlisted", f"{entry.why}; it is left alone"))
    try:
        # An archive that commits meanwhile would make everything look wrong: then this bag is begun again.
        for again in range(_TIMES):
            before = stamp(entry.folder)
            entry = replace(entry, _records=None)  # what was read of it earlier may be of before
            check = _check(entry, quick, progress, begun, own, first, until)
            if check.ok or stamp(entry.folder) == before or first or until < float("inf"):
                return check
            time.sleep(0.2 * again)
        why = "it keeps changing; verify it when that is done"
        return _only(entry, "unfinished", quick, FileState("", "unfinished", why))
    except BagUnusableError as error:
        return _only(entry, "unusable", quick, FileState(DECLARATION, "changed", str(error)))


#: So many times a bag is begun again that changes while it is read.
_TIMES = 6


def _only(entry: BagEntry, kind: Kind, quick: bool, state: FileState) -> BagCheck:
    """Return the outcome for a bag of which nothing could be checked."""
    return BagCheck(entry.name, entry.folder, kind, quick, 0, 0, 0, (state,), 0.0)


def _check(
    entry: BagEntry, quick: bool, progress: Progress, begun: float, own: bool, first: str, until: float
) -> BagCheck:
    records = entry.records if own else None
    progress(Step("reading-records", 0, 0, 0, 0, entry.name))
    told = _Told()
    totals = entry.library.totals if entry.library is not None and not quick else None
    files, size = (totals.files_stored, totals.bytes_stored) if totals is not None else (0, 0)
    # Helpers start while the records are read. How many is taken from what a record claims, and nothing else is.
    with Workers.for_job(files, size, (entry.folder,), told) as early:
        bag = _bag_of(entry, records)
        expected = expected_files(bag, records)
        if first or until < float("inf"):
            for path in [path for path in expected.files if path < first]:
                del expected.files[path]
        there = sorted(path for path in expected.files if path in expected.lying.files)
        total = sum(map(expected.lying.files.__getitem__, there))
        outcomes: dict[str, DigestOutcome] = {}
        if not quick:
            told.tally = Tally(progress, "verifying", len(there), total, entry.name)
            workers = early if early.processes else Workers.for_job(len(there), total, (entry.folder,), told)
            outcomes = _digest(workers, told.tally, entry, records, expected, there, until)
    left = [path for path in there if path not in outcomes] if not quick and len(outcomes) < len(there) else []
    if left:
        for path in left:
            del expected.files[path]
        there = [path for path in there if path in outcomes]
        total = sum(map(expected.lying.files.__getitem__, there))
    second = {} if quick else _second_reading(entry, records, expected, outcomes)
    states = judge(bag, expected, outcomes, second=second, quick=quick, part=bool(first or left), own=records)
    if records is not None:
        states += _of_records(records, states, quick)
    wrong = {s.path for s in states if s.state != "noted"}
    kind: Kind = "library" if expected.own else "foreign bag"
    intact = sum(path not in wrong for path in there) if wrong else len(there)
    return BagCheck(
        entry.name,
        entry.folder,
        kind,
        quick,
        len(expected.files),
        total,
        intact,
        tuple(sorted(states, key=lambda s: (s.path, s.state))),
        time.monotonic() - begun,
        len(left),
        left[0] if left else "",
        sum(not path.startswith((DATA, EARLIER)) for path in expected.files),
        sum(path.startswith(EARLIER) for path in expected.files),
    )


def _of_records(records: BagRecords, states: Sequence[FileState], quick: bool) -> list[FileState]:
    """Say what is not proven of the records, where only names and sizes were looked at; and what waits to be done."""
    named = {state.path for state in states}
    found = []
    if quick:
        found = [FileState(f.path, f.state, f.why) for f in records.faults() if f.path not in named]
    if records.view.decided:
        why = "an interrupted change is waiting to be finished; it was checked as it will be then"
        found.append(FileState("", "unfinished", why))
    if records.view.why_not:
        found.append(FileState(JOURNAL, "changed", records.view.why_not))
    return found


def _bag_of(entry: BagEntry, records: BagRecords | None) -> Bag:
    if records is None:
        return read_bag(entry.folder)
    names = [path for path in records.lying.files if "/" not in path]
    return read_bag(entry.folder, assume=True, at=records.at, names=names)


class _Told:
    """Takes the numbers of bytes from helpers that start before it is known what they will read."""

    tally: Tally | None = None

    def __call__(self, count: int) -> None:
        if self.tally is not None:
            self.tally(count)


def _digest(
    workers: Workers,
    tally: Tally,
    entry: BagEntry,
    records: BagRecords | None,
    expected: Expected,
    paths: Sequence[str],
    until: float,
) -> dict[str, DigestOutcome]:
    """Read every file that is both expected and there, with the digests that decide about it; until a moment."""
    tally.tell()
    outcomes: dict[str, DigestOutcome] = {}
    folder = os.fsencode(entry.folder) + b"/"
    place = records.view.place if records is not None and records.view.moved else None
    sizes, algorithms, fits = expected.lying.files, expected.files.algorithms, expected.files.fits

    def task(path: str) -> DigestTask:
        here = path if place is None else place(path)
        return DigestTask(folder + here.encode("utf-8", "surrogateescape"), sizes[path], algorithms(path))

    with workers if not workers.processes else nullcontext():
        for path, outcome in workers.digest_each(paths, sizes.__getitem__, task, until=until):
            well = path.startswith(DATA) and outcome.state == "ok" and fits(path, outcome)
            outcomes[path] = INTACT if well else outcome
            tally.files_done = len(outcomes)
    tally.tell()
    return outcomes


def _second_reading(
    entry: BagEntry, records: BagRecords | None, expected: Expected, outcomes: dict[str, DigestOutcome]
) -> dict[str, bool]:
    """Where the fast digest does not fit, ask the other one which of file and record is damaged."""
    from dunechest.transfer.digest_files import digest_files

    found: dict[str, bool] = {}
    quiet: Callable[[int], None] = lambda count: None  # noqa: E731
    for path, outcome in outcomes.items():
        if outcome is INTACT or outcome.state != "ok" or (wanted := expected.files.get(path)) is None:
            continue
        other = wanted.other
        if other is None or wanted.fits(outcome):
            continue
        place = records.at(path) if records is not None else entry.folder / path
        task = DigestTask(os.fsencode(place), outcome.size, (other[0],))
        (again,) = digest_files([task], quiet)
        if again.state == "ok":
            found[path] = again.digests[0].hex() == other[1]
    return found
