"""Verify: every byte against its digest, in a chest's bags and in any RFC 8493 bag that someone else made."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from dunechest.bag.bag import is_bag, read_bag
from dunechest.chest.chest import BagEntry, Chest
from dunechest.errors import BagUnusable, CutOff, DuneChestError
from dunechest.jobs.checking import SOUND, Expected, FileState, compare, expected_files, payload_size
from dunechest.ledger import notes
from dunechest.names import shown
from dunechest.progress import Progress, Step, silent
from dunechest.transfer.crew import Crew, batches
from dunechest.transfer.tasks import DigestJob, DigestOutcome, DigestTask

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True, slots=True)
class BagCheck:
    """What verification says of one bag.

    `sound` counts files (tag files included) that are as they should be; `states`
    lists all others; `files` and `bytes` are what was looked at. Where the time was limited, `remaining`
    files are left, from `next` on.
    """

    bag: str
    folder: Path
    kind: Literal["library", "foreign bag", "unfinished", "unusable"]
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
            entry = BagEntry(bag.name, bag, "whole" if (bag / "dune").is_dir() else "foreign")
            return VerifyResult(bag, "", quick, (_check_guarded(entry, quick, progress),))
        from dunechest.jobs.chests import resolve_chest

        place = resolve_chest(place)
    entries = [place.bag(name) for name in libraries] if libraries else list(place.bags())
    once = {entry.name: entry for entry in entries}
    checks = tuple(_check_guarded(entry, quick, progress) for entry in once.values())
    if not place.folder.is_dir():
        raise CutOff(f"The chest {shown(place.label)} went away while it was verified.")
    _note(place, checks)
    return VerifyResult(place.folder, place.label, quick, checks)


def _note(chest: Chest, checks: Iterable[BagCheck]) -> None:
    items = [
        (
            "check",
            {
                "chest": chest.id,
                "bag": check.bag,
                "quick": check.quick,
                "sound": check.well,
                "files": check.files,
                "wrong": sum(s.state != "noted" for s in check.states),
            },
        )
        for check in checks
        if check.kind in ("library", "foreign bag")
    ]
    if items:
        try:
            notes.append_many(items)
        except DuneChestError:
            pass  # the result is shown; only the memory of it is missing


def note_checks(chest: Chest, bag: str, *, quick: bool, files: int, wrong: int) -> None:
    """Note in the ledger that a library was checked.

    Raises
    ------
    DuneChestError
        If the ledger cannot be written.
    """
    notes.append("check", chest=chest.id, bag=bag, quick=quick, sound=not wrong, files=files, wrong=wrong)


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
        why = "an archive was cut off here; nothing is lost, archive the library again to finish it"
        state = FileState("", "noted", why)
        return BagCheck(entry.name, entry.folder, "unfinished", quick, 0, 0, 0, (state,), 0.0)
    own = (entry.folder / "dune").is_dir()
    if not own and not is_bag(entry.folder):
        state = FileState("", "unlisted", "this folder in bags/ is not a bag; it is left alone")
        return BagCheck(entry.name, entry.folder, "unusable", quick, 0, 0, 0, (state,), 0.0)
    try:
        return _check(entry, quick, progress, begun, own, first, until)
    except BagUnusable as error:
        bag_file = FileState("bagit.txt", "changed", str(error))
        return BagCheck(entry.name, entry.folder, "unusable", quick, 0, 0, 0, (bag_file,), 0.0)


def _check(
    entry: BagEntry, quick: bool, progress: Progress, begun: float, own: bool, first: str, until: float
) -> BagCheck:
    bag = read_bag(entry.folder, assume=own)
    expected = expected_files(bag)
    left: list[str] = []
    outcomes: dict[str, DigestOutcome] = {}
    if first or until < float("inf"):
        for path in [path for path in expected.files if path < first]:
            del expected.files[path]
    total = payload_size(expected)
    if not quick:
        outcomes = _digest(entry, expected, total, progress, until)
        left = sorted(path for path in expected.files if path in expected.lying.files and path not in outcomes)
        for path in left:
            del expected.files[path]
        total = payload_size(expected)
        _second_reading(entry, expected, outcomes)
    states = compare(bag, expected, outcomes, quick=quick, part=bool(first or left))
    wrong = {s.path for s in states if s.state != "noted"}
    looked = [path for path in expected.files if path in expected.lying.files]
    kind: Literal["library", "foreign bag"] = "library" if expected.own else "foreign bag"
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


def _digest(
    entry: BagEntry, expected: Expected, total: int, progress: Progress, until: float
) -> dict[str, DigestOutcome]:
    """Read every file that is both expected and there, with the digests that decide about it; until a moment."""
    paths = sorted(path for path in expected.files if path in expected.lying.files)
    done_bytes = 0
    done_files = 0

    def tell(count: int) -> None:
        nonlocal done_bytes
        done_bytes += count
        report()

    def report() -> None:
        progress(Step("verifying", done_files, len(paths), min(done_bytes, total), total, entry.name))

    report()
    outcomes: dict[str, DigestOutcome] = {}
    folder = os.fsencode(entry.folder) + b"/"
    sizes = expected.lying.files
    sent: dict[int, list[str]] = {}

    def jobs() -> Iterator[DigestJob]:
        for number, batch in enumerate(batches(paths, sizes.__getitem__)):
            if number and time.monotonic() >= until:
                return
            sent[number] = batch
            yield DigestJob(
                [
                    DigestTask(folder + p.encode("utf-8", "surrogateescape"), sizes[p], expected.files[p].algorithms)
                    for p in batch
                ]
            )

    with Crew.for_job(len(paths), total, (entry.folder,), tell) as crew:
        for done in crew.run(jobs()):
            for path, outcome in zip(sent.pop(done.number), done.digests or (), strict=True):
                fits = path.startswith("data/") and outcome.state == "ok" and expected.files[path].fits(outcome)
                outcomes[path] = SOUND if fits else outcome
            done_files = len(outcomes)
    report()
    return outcomes


def _second_reading(entry: BagEntry, expected: Expected, outcomes: dict[str, DigestOutcome]) -> None:
    """Where the fast digest does not fit, ask the other one which of file and record is damaged."""
    from dunechest.transfer.copying import digest_files

    quiet: Callable[[int], None] = lambda count: None  # noqa: E731
    for path, outcome in outcomes.items():
        if outcome is SOUND or outcome.state != "ok" or (wanted := expected.files.get(path)) is None:
            continue
        other = wanted.other
        if other is None or wanted.fits(outcome):
            continue
        task = DigestTask(os.fsencode(entry.folder / path), outcome.size, (other[0],))
        (again,) = digest_files([task], quiet)
        if again.state == "ok":
            expected.second[path] = again.digests[0].hex() == other[1]
