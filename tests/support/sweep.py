"""The fault sweep: let every operation of an archive fail, or the power with it, and see whether anything is lost."""

from __future__ import annotations

import errno
import os
import random
import shutil
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import dunechest
from dunechest.jobs.editions.doing import carry_out
from dunechest.jobs.editions.planning import plan_drop
from dunechest.ledger.folder import state_folder
from dunechest.machine.identity import this_machine
from dunechest.transfer.tasks import WHOLE
from tests.support.power import MODES, PowerCut, Recorder, after_power_cut, snapshot
from tests.support.trees import facts

Facts = dict[bytes, tuple[Any, ...]]

#: Bytes of a file that is copied in a stream and not as a whole.
LARGE = WHOLE + 70_000


@dataclass
class Stage:
    """A drive with a chest, a library, and what each edition must give back."""

    top: Path
    truth: dict[int, Facts] = field(default_factory=dict)
    old: dict[int, Facts] = field(default_factory=dict)
    new: dict[int, Facts] = field(default_factory=dict)
    bad: set[tuple[str, str]] = field(default_factory=set)

    @property
    def library(self) -> Path:
        return self.top / "library"

    @property
    def drive(self) -> Path:
        return self.top / "drive"

    def chest(self) -> dunechest.Chest:
        return dunechest.Chest.open(self.drive)

    def archive(self, chest: dunechest.Chest | None = None) -> None:
        (account,) = dunechest.archive([self.library], chest or self.chest())
        assert account.ok
        self.truth[account.edition] = facts(self.library)


def first_library(stage: Stage) -> None:
    for folder in ("a", "b/deep", "empty"):
        (stage.library / folder).mkdir(parents=True)
    for name in ("a/one", "a/two", "a/three", "b/deep/four", "swap 1", "swap 2", "becomes a folder"):
        (stage.library / name).write_bytes(name.encode() * 50)
    (stage.library / "large").write_bytes(random.Random(7).randbytes(LARGE))
    stage.drive.mkdir()
    dunechest.Chest.create(stage.drive, "sweep")


def changed_library(stage: Stage) -> None:
    """Add, change, move, drop; two files swap names; a file becomes a folder; a folder goes."""
    library = stage.library
    (library / "a" / "new").write_text("new")
    (library / "a" / "one").write_text("changed")
    (library / "a" / "two").rename(library / "a" / "moved")
    (library / "a" / "three").unlink()
    (library / "swap 1").rename(library / "between")
    (library / "swap 2").rename(library / "swap 1")
    (library / "between").rename(library / "swap 2")
    (library / "becomes a folder").unlink()
    (library / "becomes a folder").mkdir()
    (library / "becomes a folder" / "inner").write_text("inner")
    shutil.rmtree(library / "b")
    with (library / "large").open("r+b") as file:
        file.seek(LARGE // 2)
        file.write(b"another middle")


def third_library(stage: Stage) -> None:
    (stage.library / "a" / "one").write_text("changed again")
    (stage.library / "a" / "new").unlink()


@dataclass(frozen=True)
class Job:
    """A job whose every operation is let fail.

    Attributes
    ----------
    prepare : callable
        Makes library and drive.
    act : callable
        Does the job on the chest, which may lie elsewhere.
    before, after : callable
        Return which editions the chest holds at first, and when the job is done.
    damaged : bool
        Whether files in the chest are damaged at first.
    """

    name: str
    prepare: Callable[[Stage], None]
    act: Callable[[dunechest.Chest, Stage], object] = lambda chest, stage: dunechest.archive([stage.library], chest)
    before: Callable[[Stage], dict[int, Facts]] = lambda stage: dict(stage.truth)
    after: Callable[[Stage], dict[int, Facts]] = lambda stage: (
        stage.truth | {max(stage.truth, default=0) + 1: facts(stage.library)}
    )
    damaged: bool = False


def _second(stage: Stage) -> None:
    first_library(stage)
    stage.archive()
    changed_library(stage)


def _third(stage: Stage) -> None:
    _second(stage)
    stage.archive()
    third_library(stage)
    stage.archive()


def _elsewhere(stage: Stage) -> Path:
    """Return the drive that is copied from, or that helps to mend."""
    return stage.top / "elsewhere"


def _to_copy(stage: Stage) -> None:
    """Two editions on another drive, and an empty chest on this one."""
    _second(stage)
    stage.archive()
    stage.drive.rename(_elsewhere(stage))
    stage.drive.mkdir()
    dunechest.Chest.create(stage.drive, "other")


def _to_copy_more(stage: Stage) -> None:
    _to_copy(stage)
    dunechest.copy_chest(_elsewhere(stage), stage.drive)
    third_library(stage)
    stage.archive(dunechest.Chest.open(_elsewhere(stage)))


def _to_mend(stage: Stage) -> None:
    """Damage a file and a record, lose a file and a record, of a chest that is copied elsewhere."""
    _second(stage)
    stage.archive()
    _elsewhere(stage).mkdir()
    dunechest.Chest.create(_elsewhere(stage), "other")
    dunechest.copy_chest(stage.drive, _elsewhere(stage))
    bag = stage.chest().bag("library").folder
    for path in ("data/library/a/new", "data/library/large", "dune/files.jsonl", "dune/editions/0001/library.json"):
        (bag / path).write_bytes((bag / path).read_bytes()[:-3] + b"???")
    for path in ("data/library/a/one", "bag-info.txt"):
        (bag / path).unlink()


def _last_two(stage: Stage) -> dict[int, Facts]:
    return {number: stage.truth[number] for number in sorted(stage.truth)[:2]}


def _same(stage: Stage) -> dict[int, Facts]:
    return dict(stage.truth)


JOBS = {
    job.name: job
    for job in (
        Job("first archive", first_library),
        Job("next edition", _second),
        Job(
            "dropping",
            _third,
            lambda chest, stage: carry_out(plan_drop(chest, "library", "the last 1")),
            after=lambda stage: {max(stage.truth): stage.truth[max(stage.truth)]},
        ),
        Job(
            "copy",
            _to_copy,
            lambda chest, stage: dunechest.copy_chest(_elsewhere(stage), chest),
            lambda stage: {},
            _same,
        ),
        Job(
            "copy of more",
            _to_copy_more,
            lambda chest, stage: dunechest.copy_chest(_elsewhere(stage), chest),
            _last_two,
            _same,
        ),
        Job(
            "mend",
            _to_mend,
            lambda chest, stage: dunechest.mend(chest, helpers=[_elsewhere(stage)]),
            _same,
            _same,
            damaged=True,
        ),
        Job("rename", _second, lambda chest, stage: dunechest.rename_chest(chest, "harbour"), _same, _same),
    )
}


@dataclass
class Outcome:
    """What a sweep found: operations of the run, states tried, and the losses in words."""

    job: str
    operations: int = 0
    tried: int = 0
    losses: list[str] = field(default_factory=list)


def sweep(job: Job, top: Path, *, some: int | None = None, offset: int = 0) -> Outcome:
    """Try every operation of a job, or some that lie evenly apart, in each of the ways it can go wrong."""
    stage = Stage(top / "stage")
    stage.top.mkdir(parents=True)
    job.prepare(stage)
    before = top / "before"
    snapshot(stage.drive, before)
    # What this computer remembers goes back with the drive: a run that failed has noted nothing that came after.
    remembered = top / "remembered"
    this_machine(state_folder())
    shutil.copytree(state_folder(), remembered)
    stage.old, stage.new = job.before(stage), job.after(stage)
    if job.damaged:
        stage.bad = _bad(dunechest.Chest.open(stage.drive))
        assert stage.bad
    recorder = Recorder(stage.drive)
    with recorder.watching():
        job.act(stage.chest(), stage)
    outcome = Outcome(job.name, recorder.count)
    count = recorder.count + 1
    for k in range(count) if some is None else sorted({(offset + n * count // some) % count for n in range(some)}):
        for names, data in MODES:
            found = top / "found"
            after_power_cut(before, recorder.noted[:k], names, data, found)
            _remember(remembered)
            _check(outcome, f"power cut at {k} ({names}, {data})", found, stage, job)
            shutil.rmtree(found)
        for kind in ("full", "gone"):
            found = top / "found"
            snapshot(before, found)
            _remember(remembered)
            _fail(found, k, kind, stage, job)
            _check(outcome, f"{kind} at {k}", found, stage, job)
            shutil.rmtree(found)
    return outcome


def full_ledger_sweep(job: Job, top: Path) -> Outcome:
    """Do a job with this computer's own disk full at each of its writes in turn, once or from there on.

    The chest holds what it held or what the job makes of it, and the same job afterwards ends well.
    """
    stage = Stage(top / "stage")
    stage.top.mkdir(parents=True)
    job.prepare(stage)
    before, remembered = top / "before", top / "remembered"
    snapshot(stage.drive, before)
    this_machine(state_folder())
    shutil.copytree(state_folder(), remembered)
    stage.old, stage.new = job.before(stage), job.after(stage)
    if job.damaged:
        stage.bad = _bad(dunechest.Chest.open(stage.drive))
    found = top / "found"
    outcome = Outcome(job.name)
    k = 0
    while True:
        for lasting in (False, True):
            snapshot(before, found)
            _remember(remembered)

            def full(number: int, k: int = k, lasting: bool = lasting) -> BaseException | None:
                if number == k or (lasting and number > k):
                    return OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
                return None

            ledger = Recorder(state_folder(), fail=full)
            with ledger.watching():
                try:
                    job.act(dunechest.Chest.open(found), stage)
                except (dunechest.DuneChestError, OSError):
                    pass
            if ledger.count <= k:
                shutil.rmtree(found)
                return outcome
            outcome.operations = k + 1
            _check(outcome, f"ledger full at {k}{' and after' if lasting else ''}", found, stage, job)
            shutil.rmtree(found)
        k += 1


def _remember(remembered: Path) -> None:
    shutil.rmtree(state_folder())
    shutil.copytree(remembered, state_folder())


def _fail(drive: Path, k: int, kind: str, stage: Stage, job: Job) -> None:
    """Let the drive be full once at operation `k`, or gone from there on."""

    def fail(number: int) -> BaseException | None:
        if kind == "full" and number == k:
            return OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        if kind == "gone" and number >= k:
            return OSError(errno.EIO, os.strerror(errno.EIO))
        return None

    with Recorder(drive, fail=fail).watching():
        try:
            job.act(dunechest.Chest.open(drive), stage)
        except (dunechest.DuneChestError, OSError, PowerCut):
            return


def _check(outcome: Outcome, case: str, drive: Path, stage: Stage, job: Job) -> None:
    """The chest must be intact and hold the old state or the new one, and a further run must end well."""
    outcome.tried += 1
    try:
        chest = dunechest.Chest.open(drive)
        if job.damaged:
            worse = _bad(chest) - stage.bad
            assert not worse, f"worse than before: {sorted(worse)[:3]}"
        else:
            _all_there(chest, _held(chest, stage), stage)
        job.act(dunechest.Chest.open(drive), stage)
        _all_there(dunechest.Chest.open(drive), stage.new, stage)
    except Exception as error:
        outcome.losses.append(f"{outcome.job}, {case}: {type(error).__name__}: {error}")


def _held(chest: dunechest.Chest, stage: Stage) -> dict[int, Facts]:
    """Say which editions must be there: all of before, or all of after."""
    whole = [entry for entry in chest.bags() if entry.state == "whole"]
    if not whole:
        assert not stage.old, "the bag is gone"
        return {}
    listed = [edition.edition for edition in dunechest.list_editions(chest, "library").editions]
    assert listed in (sorted(stage.old), sorted(stage.new)), f"editions {listed}"
    return stage.old if listed == sorted(stage.old) else stage.new


def _bad(chest: dunechest.Chest) -> set[tuple[str, str]]:
    """Return what is damaged in a chest: path and state."""
    return {
        (state.path, state.state)
        for check in dunechest.verify(chest).libraries
        for state in check.problems
        if state.state not in ("noted", "unfinished")
    }


def _all_there(chest: dunechest.Chest, wanted: dict[int, Facts], stage: Stage) -> None:
    bad = _bad(chest)
    assert not bad, f"not intact: {sorted(bad)[:3]}"
    for number, content in wanted.items():
        place = stage.top / "back"
        result = dunechest.restore(chest, "library", dunechest.RestoreOptions(into=str(place), edition=number))
        try:
            assert result.ok, f"edition {number}: {result.not_restored[:3]}"
            assert facts(place) == content, f"edition {number} came back otherwise"
        finally:
            shutil.rmtree(place, ignore_errors=True)


def kill_sweep(top: Path, times: int) -> Outcome:
    """Kill the program while it makes an edition, at random moments; each time the next opening must find all there."""
    stage = Stage(top)
    stage.library.mkdir(parents=True)
    stage.drive.mkdir()
    rng = random.Random(30)
    for number in range(60):
        (stage.library / f"{number:02}").write_bytes(rng.randbytes(30_000))
    dunechest.Chest.create(stage.drive, "kill")
    stage.archive()
    words = [
        sys.executable,
        "-m",
        "dunechest",
        "archive",
        stage.library,
        "--to",
        stage.drive,
        "--quiet",
        "--ignore",
        "mass-change",
    ]
    begun = time.monotonic()
    subprocess.run([*words, "--plan"], check=True)
    whole = (time.monotonic() - begun) * 1.7
    outcome = Outcome("kill")
    for _ in range(times):
        for number in rng.sample(range(60), 30):
            (stage.library / f"{number:02}").write_bytes(rng.randbytes(30_000))
        process = subprocess.Popen(words, stderr=subprocess.DEVNULL)
        time.sleep(rng.uniform(0.4, 1.0) * whole)
        process.kill()
        process.wait()
        outcome.tried += 1
        try:
            chest = stage.chest()
            record = chest.bag("library").library
            assert record is not None
            assert record.edition in (max(stage.truth), max(stage.truth) + 1)
            stage.truth.setdefault(record.edition, facts(stage.library))
            newest = sorted(stage.truth)[-3:]
            _all_there(chest, {number: stage.truth[number] for number in [1, *newest]}, stage)
        except Exception as error:
            outcome.losses.append(f"kill {outcome.tried}: {type(error).__name__}: {error}")
    outcome.operations = max(stage.truth)
    if subprocess.run(words, check=False, capture_output=True).returncode:
        outcome.losses.append("the run after the last kill did not end well")
    return outcome
