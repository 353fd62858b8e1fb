"""Verify: every byte against its digest, in a chest's bags and in any RFC 8493 bag that someone else made."""

from __future__ import annotations

import datetime
import os
import time
from collections.abc import Callable, Container, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from dunechest.bag.bag import is_bag, read_bag
from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.bag_records import BagRecords, stamp
from dunechest.chest.chest import Chest
from dunechest.chest.layout import DATA, DECLARATION, FILES, JOURNAL, LIBRARY, TAGS, bag_folder
from dunechest.errors import BagUnusable, CutOff
from dunechest.jobs.checking import INTACT, Expected, FileState, compare, expected_files, payload_size
from dunechest.ledger import events, memory
from dunechest.ledger.memory import Remembered
from dunechest.machine.volumes import identity
from dunechest.names import quoted, shown
from dunechest.progress import Progress, Tally, silent
from dunechest.transfer.crew import Crew
from dunechest.transfer.tasks import DigestOutcome, DigestTask
from dunechest.words import number

if TYPE_CHECKING:
    import pandas as pd


Kind = Literal["library", "foreign bag", "unfinished", "unusable", "missing", "chest"]


@dataclass(frozen=True, slots=True)
class BagCheck:
    """What verification says of one bag.

    `sound` counts files (tag files included) that are as they should be; `states`
    lists all others; `files` and `bytes` are what was looked at. Where the time was limited, `remaining`
    files are left, from `next` on.
    """

    bag: str
    folder: Path
    kind: Kind
    quick: bool
    files: int
    bytes: int
    sound: int
    states: tuple[FileState, ...]
    seconds: float
    remaining: int = 0
    next: str = ""

    @property
    def well(self) -> bool:
        """Whether nothing is wrong with it."""
        return not any(state.state != "noted" for state in self.states)


@dataclass(frozen=True, slots=True)
class VerifyResult:
    """What verification says of a chest or bag: one `BagCheck` a bag."""

    place: Path
    chest: str
    quick: bool
    checks: tuple[BagCheck, ...]

    @property
    def well(self) -> bool:
        """Whether every bag is as it should be."""
        return all(check.well for check in self.checks)

    def to_frame(self) -> pd.DataFrame:
        """Return one row a file that is not sound: bag, path, state, why."""
        import pandas as pd

        rows = [
            {"bag": check.bag, "path": shown(s.path), "state": s.state, "why": s.why}
            for check in self.checks
            for s in check.states
        ]
        return pd.DataFrame(rows, columns=["bag", "path", "state", "why"])


def verify(
    place: Chest | str | os.PathLike[str],
    libraries: Sequence[str] = (),
    *,
    quick: bool = False,
    progress: Progress = silent,
) -> VerifyResult:
    """Check a chest, some of its libraries, or a single bag.

    Parameters
    ----------
    place : Chest or path
        A chest; or any folder with ``bagit.txt`` in it, whoever made it.
    libraries : sequence of str
        Names of bags in the chest; all of them if empty.
    quick : bool
        Compare names and sizes only, and read no payload.
    progress : Progress
        Told how far it is.

    Returns
    -------
    VerifyResult
        Damage is a result, not an error.

    Raises
    ------
    WordsOff
        If there is neither a chest nor a bag, or no library of that name.
    CutOff
        If the drive went away.
    """
    if not isinstance(place, Chest):
        folder = Path(place)
        if is_bag(folder):
            bag = folder.resolve()
            return VerifyResult(bag, "", quick, (_check_guarded(entry_at(bag), quick, progress),))
        from dunechest.jobs.named import resolve_chest

        place = resolve_chest(place)
    entries = [place.bag(name) for name in libraries] if libraries else list(place.bags())
    once = {entry.name: entry for entry in entries}
    remembered = memory.libraries_of(place.id, identity(place.folder))
    checks = [_check_guarded(entry, quick, progress) for entry in once.values()]
    if quick:
        checks = [_not_yet_mended(check, remembered.get(check.bag)) for check in checks]
    if not libraries:
        checks += missing_bags(place, remembered, once)
        checks += _own_records(place)
    if not place.folder.is_dir():
        raise CutOff(f"The chest {shown(place.label)} went away while it was verified.")
    note_results(place, checks)
    return VerifyResult(place.folder, place.label, quick, tuple(checks))


def entry_at(bag: Path) -> BagEntry:
    """Return the entry of a bag by its folder, wherever it lies."""
    own = any(os.path.lexists(bag / name) for name in (TAGS, LIBRARY, FILES))
    return BagEntry(bag.name, bag, "whole" if own else "foreign")


def missing_bags(chest: Chest, remembered: Mapping[str, Remembered], there: Container[str]) -> list[BagCheck]:
    """Name what this machine archived to a chest, or checked in it, and what is no longer there."""
    found = []
    for bag in sorted(remembered):
        if bag not in there:
            day = datetime.datetime.fromtimestamp(remembered[bag].met).astimezone().date().isoformat()
            why = (
                f"this computer last met it here on {day}, and its folder is gone or was renamed. If you removed it "
                f"yourself: dunechest chest forget {quoted(chest.label)} {quoted(bag)}"
            )
            folder = bag_folder(chest.folder, bag)
            found.append(BagCheck(bag, folder, "missing", False, 0, 0, 0, (FileState("", "missing", why),), 0.0))
    return found


def _own_records(chest: Chest) -> list[BagCheck]:
    """Name what is damaged of the chest's own records."""
    if not chest.faults:
        return []
    how = f"; to write it again: dunechest chest rebuild {quoted(str(chest.folder))}"
    states = tuple(FileState(fault.path, fault.state, fault.why + how) for fault in chest.faults)
    return [BagCheck("the chest itself", chest.folder, "chest", False, 3, 0, 3 - len(states), states, 0.0)]


def _not_yet_mended(check: BagCheck, before: Remembered | None) -> BagCheck:
    """Remind of what the last check of every byte found: names and sizes cannot take it back."""
    if before is None or before.checked is None or not before.wrong:
        return check
    day = datetime.datetime.fromtimestamp(before.checked).astimezone().date().isoformat()
    why = (
        f"the last check of every byte ({day}) found {number(before.wrong, 'fault')} here. Names and sizes cannot tell "
        "whether they are mended: verify it without --quick"
    )
    return replace(check, states=(*check.states, FileState("", "changed", why)))


def note_results(chest: Chest, checks: Iterable[BagCheck]) -> None:
    """Note in the ledger what checks found."""
    items = [
        check_event(
            chest,
            check.bag,
            quick=check.quick,
            files=check.files,
            wrong=sum(s.state != "noted" for s in check.states),
        )
        for check in checks
        if check.kind in ("library", "foreign bag", "unusable")
    ]
    if items:
        events.try_append(*items)  # the result is shown; without this only the memory of it is missing


def check_event(chest: Chest, bag: str, *, quick: bool, files: int, wrong: int) -> tuple[str, dict[str, Any]]:
    """Return the event that a library was checked."""
    facts = {"chest": chest.id, "bag": bag, "quick": quick, "sound": not wrong, "files": files, "wrong": wrong}
    return "check", {**facts, "where": identity(chest.folder)}


def check_part(entry: BagEntry, first: str, until: float, progress: Progress) -> BagCheck:
    """Check the files of a bag from the one called `first` on, until a moment (of `time.monotonic`).

    At least one batch of files is checked.
    """
    return _check_guarded(entry, False, progress, first, until)


def _check_guarded(
    entry: BagEntry, quick: bool, progress: Progress, first: str = "", until: float = float("inf")
) -> BagCheck:
    """Check one bag; one that cannot be understood is a result among others."""
    begun = time.monotonic()
    if entry.state == "unfinished":
        why = "an archive was cut off here before it was whole; archive the library again to finish it"
        return _only(entry, "unfinished", quick, FileState("", "unfinished", why))
    own = entry.state != "foreign"
    if entry.state == "unusable" and not entry.is_ours:
        return _only(entry, "unusable", quick, FileState("", "unlisted", f"{entry.why}; it is left alone"))
    try:
        # An archive that commits meanwhile would make everything look wrong: then this bag is begun again.
        for again in range(_TIMES):
            before = stamp(entry.folder)
            entry = replace(entry, _records=None)  # what was read of it earlier may be of before
            check = _check(entry, quick, progress, begun, own, first, until)
            if check.well or stamp(entry.folder) == before or first or until < float("inf"):
                return check
            time.sleep(0.2 * again)
        why = "it was being changed all the time; verify it when that is done"
        return _only(entry, "unfinished", quick, FileState("", "unfinished", why))
    except BagUnusable as error:
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
    if records is not None:
        names = [path for path in records.lying.files if "/" not in path]
        bag = read_bag(entry.folder, assume=True, at=records.at, names=names)
    else:
        bag = read_bag(entry.folder)
    expected = expected_files(bag, records)
    left: list[str] = []
    outcomes: dict[str, DigestOutcome] = {}
    if first or until < float("inf"):
        for path in [path for path in expected.files if path < first]:
            del expected.files[path]
    total = payload_size(expected)
    if not quick:
        outcomes = _digest(entry, records, expected, total, progress, until)
        left = sorted(path for path in expected.files if path in expected.lying.files and path not in outcomes)
        for path in left:
            del expected.files[path]
        total = payload_size(expected)
        _second_reading(entry, records, expected, outcomes)
    states = compare(bag, expected, outcomes, quick=quick, part=bool(first or left), own=records)
    if records is not None:
        states += _of_records(records, states, quick)
    wrong = {s.path for s in states if s.state != "noted"}
    looked = [path for path in expected.files if path in expected.lying.files]
    kind: Kind = "library" if expected.own else "foreign bag"
    sound = sum(path not in wrong for path in looked)
    return BagCheck(
        entry.name,
        entry.folder,
        kind,
        quick,
        len(expected.files),
        total,
        sound,
        tuple(sorted(states, key=lambda s: (s.path, s.state))),
        time.monotonic() - begun,
        len(left),
        left[0] if left else "",
    )


def _of_records(records: BagRecords, states: Sequence[FileState], quick: bool) -> list[FileState]:
    """Say what is not proven of the records, where only names and sizes were looked at; and what waits to be done."""
    named = {state.path for state in states}
    found = []
    if quick:
        found = [FileState(f.path, f.state, f.why) for f in records.faults() if f.path not in named]
    if records.view.decided:
        why = "a decided change waits to be finished; it was checked as it will be then"
        found.append(FileState("", "unfinished", why))
    if records.view.why_not:
        found.append(FileState(JOURNAL, "changed", records.view.why_not))
    return found


def _digest(
    entry: BagEntry, records: BagRecords | None, expected: Expected, total: int, progress: Progress, until: float
) -> dict[str, DigestOutcome]:
    """Read every file that is both expected and there, with the digests that decide about it; until a moment."""
    paths = sorted(path for path in expected.files if path in expected.lying.files)
    tally = Tally(progress, "verifying", len(paths), total, entry.name)
    tally.tell()
    outcomes: dict[str, DigestOutcome] = {}
    folder = os.fsencode(entry.folder) + b"/"
    place = records.view.place if records is not None and records.view.moved else str
    sizes = expected.lying.files

    def task(path: str) -> DigestTask:
        here = folder + place(path).encode("utf-8", "surrogateescape")
        return DigestTask(here, sizes[path], expected.files[path].algorithms)

    with Crew.for_job(len(paths), total, (entry.folder,), tally) as crew:
        for path, outcome in crew.digest_each(paths, sizes.__getitem__, task, until=until):
            fits = path.startswith(DATA) and outcome.state == "ok" and expected.files[path].fits(outcome)
            outcomes[path] = INTACT if fits else outcome
            tally.files_done = len(outcomes)
    tally.tell()
    return outcomes


def _second_reading(
    entry: BagEntry, records: BagRecords | None, expected: Expected, outcomes: dict[str, DigestOutcome]
) -> None:
    """Where the fast digest does not fit, ask the other one which of file and record is damaged."""
    from dunechest.transfer.digest_files import digest_files

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
            expected.second[path] = again.digests[0].hex() == other[1]
