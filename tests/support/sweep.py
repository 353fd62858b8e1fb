"""The fault sweep: let every operation of an archive fail, or the power with it, and see whether anything is lost."""

from __future__ import annotations

import errno
import os
import random
import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import dunechest
from dunechest.jobs.editions.doing import carry_out
from dunechest.jobs.editions.planning import plan_drop
from dunechest.ledger.folder import state_folder
from dunechest.machine.identity import this_machine
from tests.support.power import MODES, PowerCut, Recorder, after_power_cut, snapshot
from tests.support.trees import facts

Facts = dict[bytes, tuple[Any, ...]]
Act = Callable[[dunechest.Chest], object]


@dataclass
class Stage:
    """A drive with a chest, a library, and what each edition must give back."""

    top: Path
    truth: dict[int, Facts] = field(default_factory=dict)

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
        assert account.well
        self.truth[account.edition] = facts(self.library)


def first_library(stage: Stage) -> None:
    for folder in ("a", "b/deep", "empty"):
        (stage.library / folder).mkdir(parents=True)
    for name in ("a/one", "a/two", "a/three", "b/deep/four", "swap 1", "swap 2", "becomes a folder"):
        (stage.library / name).write_bytes(name.encode() * 50)
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


def third_library(stage: Stage) -> None:
    (stage.library / "a" / "one").write_text("changed again")
    (stage.library / "a" / "new").unlink()


def jobs() -> Iterator[tuple[str, Callable[[Stage], None], Act | None]]:
    """Yield name, preparation, and what is done on the chest (None: the library is archived)."""

    def nothing(stage: Stage) -> None:
        first_library(stage)

    def item(stage: Stage) -> None:
        first_library(stage)
        stage.archive()
        changed_library(stage)

    def three(stage: Stage) -> None:
        item(stage)
        stage.archive()
        third_library(stage)
        stage.archive()

    yield "first archive", nothing, None
    yield "next edition", item, None
    yield "thinning", three, lambda chest: carry_out(plan_drop(chest, "library", "the last 1"))


@dataclass
class Outcome:
    """What a sweep found: operations of the run, states tried, and the losses in words."""

    job: str
    operations: int = 0
    tried: int = 0
    losses: list[str] = field(default_factory=list)


def sweep(
    name: str, prepare: Callable[[Stage], None], act: Act | None, top: Path, *, every: int = 1, offset: int = 0
) -> Outcome:
    """Try every operation (or every so many) of a job, in each of the ways it can go wrong."""
    stage = Stage(top / "stage")
    stage.top.mkdir(parents=True)
    prepare(stage)
    before = top / "before"
    snapshot(stage.drive, before)
    # What this computer remembers goes back with the drive: a run that failed has noted nothing that came after.
    remembered = top / "remembered"
    this_machine(state_folder())
    shutil.copytree(state_folder(), remembered)
    old = dict(stage.truth)
    new = dict(old)
    if act is None:
        new[max(old, default=0) + 1] = facts(stage.library)
    recorder = Recorder(stage.drive)
    with recorder.watching():
        _do(stage, act)
    outcome = Outcome(name, recorder.count)
    for k in range(offset % every, recorder.count + 1, every):
        for names, data in MODES:
            found = top / "found"
            after_power_cut(before, recorder.noted[:k], names, data, found)
            _remember(remembered)
            _check(outcome, f"power cut at {k} ({names}, {data})", found, stage, old, new, act)
            shutil.rmtree(found)
        for kind in ("full", "gone"):
            found = top / "found"
            snapshot(before, found)
            _remember(remembered)
            _fail(found, k, kind, stage, act)
            _check(outcome, f"{kind} at {k}", found, stage, old, new, act)
            shutil.rmtree(found)
    return outcome


def _remember(remembered: Path) -> None:
    shutil.rmtree(state_folder())
    shutil.copytree(remembered, state_folder())


def _do(stage: Stage, act: Act | None, drive: Path | None = None) -> None:
    chest = dunechest.Chest.open(drive or stage.drive)
    if act is not None:
        act(chest)
    else:
        dunechest.archive([stage.library], chest)


def _fail(drive: Path, k: int, kind: str, stage: Stage, act: Act | None) -> None:
    """Let the drive be full once at operation `k`, or gone from there on."""

    def fail(number: int) -> BaseException | None:
        if kind == "full" and number == k:
            return OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        if kind == "gone" and number >= k:
            return OSError(errno.EIO, os.strerror(errno.EIO))
        return None

    with Recorder(drive, fail=fail).watching():
        try:
            _do(stage, act, drive)
        except (dunechest.DuneChestError, OSError, PowerCut):
            return


def _check(
    outcome: Outcome,
    case: str,
    drive: Path,
    stage: Stage,
    old: dict[int, Facts],
    new: dict[int, Facts],
    act: Act | None,
) -> None:
    """The chest must be intact and hold the old state or the new one, and a further run must end well."""
    outcome.tried += 1
    try:
        chest = dunechest.Chest.open(drive)
        wanted = _held(chest, old, new, act)
        _all_there(chest, wanted, stage)
        _do(stage, act, drive)
        _all_there(dunechest.Chest.open(drive), new if act is None else {max(new): new[max(new)]}, stage)
    except Exception as error:
        outcome.losses.append(f"{outcome.job}, {case}: {type(error).__name__}: {error}")


def _held(chest: dunechest.Chest, old: dict[int, Facts], new: dict[int, Facts], act: Act | None) -> dict[int, Facts]:
    """Say which editions must be there, by the number of the current one and what is kept."""
    whole = [entry for entry in chest.bags() if entry.state == "whole"]
    if not whole:
        assert not old, "the bag is gone"
        return {}
    assert whole[0].library is not None
    current = whole[0].library.edition
    assert current in (max(old, default=0), max(new)), f"edition {current}"
    if act is not None:  # thinned or not: the current one is there in any case
        listed = [e.number for e in dunechest.list_editions(chest, "library").editions]
        assert listed in ([*sorted(old)], [current]), f"editions {listed}"
        return {number: old[number] for number in listed}
    return {number: content for number, content in new.items() if number <= current}


def _all_there(chest: dunechest.Chest, wanted: dict[int, Facts], stage: Stage) -> None:
    checked = dunechest.verify(chest)
    bad = [state for check in checked.checks for state in check.states if state.state not in ("noted", "unfinished")]
    assert not bad, f"not intact: {bad[:3]}"
    for number, content in wanted.items():
        place = stage.top / "back"
        result = dunechest.restore(chest, "library", dunechest.RestoreOptions(into=str(place), edition=number))
        try:
            assert result.well, f"edition {number}: {result.not_done[:3]}"
            assert facts(place) == content, f"edition {number} came back otherwise"
        finally:
            shutil.rmtree(place, ignore_errors=True)


def kill_sweep(top: Path, times: int) -> Outcome:
    """Kill the program while it makes an edition, at random moments; each time the next opening must find all there."""
    stage = Stage(top)
    stage.library.mkdir(parents=True)
    stage.drive.mkdir()
    rng = random.Random()
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
