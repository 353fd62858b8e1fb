"""The steps of a routine that do not end well: each is said with the command for it, and the other steps are done."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

import pytest

import dunechest
from dunechest import clock
from dunechest.chest.lock import locked
from dunechest.model.routine import Routine
from tests.support.trees import bag_of, flip

HOUR = 3600.0
Run = Callable[[float], dunechest.model.RoutineRun]


@pytest.fixture
def hourly(library: Path, chests: dict[str, dunechest.Chest], monkeypatch: pytest.MonkeyPatch) -> Run:
    """A routine with every kind of step is added; the function runs what is due so many hours later."""
    options = dunechest.RoutineOptions(scheduler="none", notify=False, verify_minutes=5.0, drill=True, patience=1.0)
    dunechest.routines.add_routine(
        dunechest.routines.plan_routine("all", library, ["blue"], "every hour", options, copy_to=["sand"])
    )
    start = clock.now()

    def run(hours: float) -> dunechest.model.RoutineRun:
        monkeypatch.setattr(clock, "now", lambda: start + hours * HOUR)
        (done,) = dunechest.routines.run_due().runs
        return done

    return run


def outcomes(run: dunechest.model.RoutineRun) -> dict[tuple[str, str], str]:
    return {(step.what, step.chest_label): step.outcome for step in run.steps}


def test_a_damaged_database_is_told_and_the_rest_is_archived(hourly: Run, library: Path) -> None:
    assert hourly(1).outcome == "ok"
    (library / "index.db").write_bytes(b"SQLite format 3\0" + os.urandom(5000))
    (library / "index.db-wal").write_bytes(os.urandom(500))  # as if it was open when the power failed
    run = hourly(2)
    assert (run.outcome, run.told) == ("problem", True)
    assert "index.db is damaged" in run.message
    assert outcomes(run)["copy", "sand"] == outcomes(run)["verify", "blue"] == "done"


@pytest.mark.skipif(os.name != "nt" and os.geteuid() == 0, reason="root may read everything")
def test_a_file_that_may_not_be_read_is_named(hourly: Run, library: Path) -> None:
    (library / "secret").write_text("secret")
    (library / "secret").chmod(0)
    run = hourly(1)
    assert (run.outcome, run.told) == ("problem", True)
    assert "could not be read, first secret" in run.message


def test_a_chest_that_another_program_changes_is_tried_again_and_told_after_the_patience(
    hourly: Run, chests: dict[str, dunechest.Chest]
) -> None:
    with locked(chests["blue"].folder, "desk"):
        told = [hour for hour in (1, 2, 24, 25, 26, 48, 49, 50) if hourly(hour).told]
        (state,) = dunechest.routines.list_routines()
    assert told == [25, 49]  # a day after the first time it was due, and each day from then on
    assert not state.ok and "could not finish" in dunechest.routines.routine_log().read_text()
    assert hourly(60).outcome == "ok"


def test_a_record_that_is_torn_keeps_the_other_chest_from_nothing(
    library: Path, chests: dict[str, dunechest.Chest], monkeypatch: pytest.MonkeyPatch
) -> None:
    options = dunechest.RoutineOptions(scheduler="none", notify=False)
    dunechest.routines.add_routine(
        dunechest.routines.plan_routine("both", library, ["blue", "sand"], "every hour", options)
    )
    record = next(path for path in chests["blue"].folder.iterdir() if path.suffix == ".json")
    record.write_bytes(record.read_bytes()[:40])
    start = clock.now()
    monkeypatch.setattr(clock, "now", lambda: start + HOUR)
    runs = dunechest.routines.run_due().runs
    assert [step.chest_label for run in runs for step in run.steps if step.outcome == "done"] == ["sand"]
    assert len(list(chests["sand"].bags())) == 1


def test_a_drill_that_fails_names_its_command(hourly: Run, chests: dict[str, dunechest.Chest]) -> None:
    assert hourly(1).outcome == "ok"
    flip(bag_of(chests["blue"], "shed") / "data" / "library" / "rope.txt")
    run = hourly(31 * 24)  # another month: time for a drill
    wrong = {(step.what, step.command) for step in run.steps if step.outcome == "problem"}
    assert ("verify", "dunechest mend blue") in wrong and ("drill", "dunechest drill blue shed") in wrong
    assert outcomes(run)["drill", "sand"] == "done"
    assert (run.outcome, run.told, run.worst is not None and run.worst.what) == ("problem", True, "verify")


def test_what_is_not_copied_is_told(hourly: Run, library: Path, chests: dict[str, dunechest.Chest]) -> None:
    assert hourly(1).outcome == "ok"
    (library / "new.txt").write_text("new")
    dunechest.archive(library, chests["blue"])
    flip(bag_of(chests["blue"], "shed") / "data" / "library" / "new.txt")
    run = hourly(2)
    wrong = [step for step in run.steps if (step.what, step.outcome) == ("copy", "problem")]
    assert [step.command for step in wrong] == ["dunechest copy blue sand"]
    assert "not copied to sand completely" in wrong[0].message


@pytest.mark.parametrize("gone", ["blue", "sand"])
def test_a_drive_that_is_pulled_in_the_middle_is_continued_when_it_is_back(
    gone: str, hourly: Run, chests: dict[str, dunechest.Chest], monkeypatch: pytest.MonkeyPatch
) -> None:
    from dunechest.jobs.routine.running import run as running

    drive = chests[gone].folder.parent
    away = drive.with_name("drawer")
    archive_all = running._archive_all

    def pulled(routine: Routine, *rest: object) -> object:
        steps = list(archive_all(routine, *rest))  # type: ignore[arg-type]
        drive.rename(away)
        return steps

    with monkeypatch.context() as patch:
        patch.setattr(running, "_archive_all", pulled)
        run = hourly(1)
    assert not run.told and run.outcome == "interrupted"
    assert {step.outcome for step in run.steps} <= {"done", "unchanged", "interrupted"}
    away.rename(drive)
    again = hourly(1.01)
    assert again.outcome == "ok" and not again.told
    assert len(list(chests["sand"].bags())) == 1


def test_a_fault_of_the_program_itself_stops_no_other_routine(
    hourly: Run, library: Path, chests: dict[str, dunechest.Chest], monkeypatch: pytest.MonkeyPatch
) -> None:
    from dunechest.jobs.routine.running import run as running

    options = dunechest.RoutineOptions(scheduler="none", notify=False)
    dunechest.routines.add_routine(dunechest.routines.plan_routine("other", library, "sand", "every hour", options))
    carry = running._steps

    def broken(plan: dunechest.model.RoutinePlan, *rest: object) -> object:
        if plan.routine.name == "all":
            raise ValueError("a thing\x1b[31m nobody thought of")
        return carry(plan, *rest)  # type: ignore[arg-type]

    monkeypatch.setattr(running, "_steps", broken)
    start = clock.now()
    monkeypatch.setattr(clock, "now", lambda: start + HOUR)
    runs = {run.name: run for run in dunechest.routines.run_due().runs}
    assert (runs["all"].outcome, runs["all"].told, runs["other"].outcome) == ("problem", True, "ok")
    assert "a fault in Dune Chest itself: ValueError" in runs["all"].message and "\x1b" not in runs["all"].message
    assert dunechest.routines.run_due().runs == ()
    monkeypatch.setattr(running, "_steps", carry)
    monkeypatch.setattr(clock, "now", lambda: start + 2 * HOUR)
    assert {run.outcome for run in dunechest.routines.run_due().runs} == {"ok"}
