"""Routines: what runs by itself.

`plan_routine` and `add_routine` add one, `list_routines` says how each does, `run_routine` and `run_due` run them,
`remove_routine` removes one. What is due is decided in `planning`, and done in `running`.
"""

from __future__ import annotations

from dunechest import clock
from dunechest.errors import RefusedError, UsageError
from dunechest.jobs.routine.file import read_all, read_routine, routine_file, routine_log
from dunechest.jobs.routine.install import NONE, add_routine, plan_add, plan_routine, remove_routine, taken
from dunechest.jobs.routine.memory import DAY, recall
from dunechest.jobs.routine.planning.due import Connected, next_time, plan_due
from dunechest.jobs.routine.running.due import (
    connected_chests,
    note_away,
    refuse_clones,
    run_plan,
    sole,
    tell_unusable,
)
from dunechest.machine.effort import on_mains
from dunechest.model.routine import (
    PATIENCE,
    PATIENCE_PLUGGED,
    ChestDue,
    DueRuns,
    Routine,
    RoutineChest,
    RoutineInstallation,
    RoutineLibrary,
    RoutineOptions,
    RoutinePlan,
    RoutineRun,
    RoutineState,
    RoutineStep,
    WaitingRoutine,
)
from dunechest.progress import Progress, silent
from dunechest.words import day

__all__ = [
    "NONE",
    "PATIENCE",
    "PATIENCE_PLUGGED",
    "ChestDue",
    "DueRuns",
    "RoutineInstallation",
    "Routine",
    "RoutineChest",
    "RoutineLibrary",
    "RoutineOptions",
    "RoutinePlan",
    "RoutineRun",
    "RoutineState",
    "RoutineStep",
    "add_routine",
    "list_routines",
    "routine_log",
    "plan_add",
    "plan_due",
    "plan_routine",
    "remove_routine",
    "run_due",
    "run_routine",
]


def list_routines(name: str | None = None, *, ask_scheduler: bool = True) -> tuple[RoutineState, ...]:
    """Say how each routine does. Nothing is run.

    Parameters
    ----------
    name : str, optional
        Only this one.
    ask_scheduler : bool
        Whether the scheduler is asked if it has each.

    Raises
    ------
    UsageError
        If there is none of that name.
    """
    routines, unusable = read_all()
    if name is not None and name not in {*(item.name for item in routines), *(item.name for item in unusable)}:
        read_routine(name)
    now, connected = clock.now(), connected_chests()
    found = [_state(routine, now, connected, ask_scheduler) for routine in routines if name in (None, routine.name)]
    found += [
        RoutineState(
            item.name, None, item.why, str(routine_file(item.name)), message=item.why, last_outcome="unusable"
        )
        for item in unusable
        if name in (None, item.name)
    ]
    return tuple(sorted(found, key=lambda state: state.name))


def _state(routine: Routine, now: float, connected: Connected, ask_scheduler: bool) -> RoutineState:
    memory = recall(routine.name)
    plan = plan_due(routine, memory, now, connected)
    last = memory.last
    late = [item for item in plan.absent if now - item.since >= routine.patience * DAY]
    answer = taken(routine) if ask_scheduler else None
    message, command = (last.message, last.command) if last is not None else ("", "")
    if last is not None and last.outcome in ("problem", "blocked") and not message:
        message = next((line.partition(": ")[2] for line in last.lines), "")
    if last is not None and last.outcome == "late" and not late:
        message = command = ""  # the drive came since
    stuck = [item for item in (*plan.serve, *plan.copy_to) if now - item.since >= max(routine.patience, 1.0) * DAY]
    if answer is not None and not answer.taken:
        message, command = (
            f"It may not run by itself: {answer.sentence}.",
            f"dunechest routine add {routine.name} --again",
        )
    elif stuck and not message:
        message = f"It has been due since {day(min(item.since for item in stuck))}, and nothing started it."
        command = f"dunechest routine list {routine.name}"
    return RoutineState(
        routine.name,
        routine,
        "",
        str(routine_file(routine.name)),
        last.begun if last is not None else None,
        last.outcome if last is not None else "never run",
        message,
        command,
        last.lines if last is not None else (),
        next_time(routine, now),
        tuple(item.chest.label for item in plan.absent),
        tuple(item.chest.label for item in late),
        memory.running_since,
        answer.taken if answer is not None else True,
        answer.sentence if answer is not None else "",
    )


def run_routine(name: str, *, progress: Progress = silent, telling: bool = False) -> RoutineRun:
    """Run a routine now, whether it is due or not, for the chests that are connected.

    Parameters
    ----------
    name : str
        Which.
    progress : Progress
        Told how far it is.
    telling : bool
        Whether what is wrong is told as when it runs by itself; whoever calls this sees the result.

    Raises
    ------
    UsageError
        If there is none of that name, or its file is not understood.
    RefusedError
        If another process is running routines.
    """
    routine = read_routine(name)
    with sole() as ours:
        if not ours:
            raise RefusedError("Routines are being run by another process now. Nothing was done. Try again later.")
        memory, connected = recall(name), connected_chests()
        refuse_clones(routine, connected)
        return run_plan(plan_due(routine, memory, clock.now(), connected, forced=True), progress, telling=telling)


def run_due(*, progress: Progress = silent) -> DueRuns:
    """Run what is due of all routines, and tell of what is wrong. This is what the system's scheduler starts.

    Nothing is asked, and no blocking finding is overruled. A run that was missed is made once, later; a drive that is not
    there is waited for. If another process is at it already, nothing is done.

    Returns
    -------
    DueRuns
        The runs that did something, or had something to tell.

    Raises
    ------
    CutOffError
        If the state folder cannot be written to.
    """
    with sole() as ours:
        if not ours:
            return DueRuns(busy=True)
        runs: list[RoutineRun] = []
        done: set[str] = set()
        waiting: dict[str, str] = {}
        while (found := _next_due(done, runs, waiting)) is not None:
            done.add(found.routine.name)
            runs.append(run_plan(found, progress))
        return DueRuns(
            tuple(runs), waiting=tuple(WaitingRoutine(name, why) for name, why in waiting.items() if name not in done)
        )


def _next_due(done: set[str], runs: list[RoutineRun], waiting: dict[str, str]) -> RoutinePlan | None:
    """Return the next routine that is due and was not run yet; all are looked at again, since a run can take hours."""
    routines, unusable = read_all()
    for item in unusable:
        if item.name not in done:
            done.add(item.name)
            run = tell_unusable(item.name, item.why)
            runs += [run] if run is not None else []
    now, connected, mains = clock.now(), connected_chests(), on_mains()
    for routine in routines:
        if routine.name in done:
            continue
        memory = recall(routine.name)
        note_away(routine, memory, connected)
        alone = {key: places for key, places in connected.items() if len(places) == 1}
        plan = plan_due(routine, memory, now, alone, mains=mains)
        if not plan.nothing:
            return plan
        if plan.wait or plan.absent:
            away = ", ".join(item.chest.label for item in plan.absent)
            waiting[routine.name] = plan.wait or f"{away} is not connected"
    return None


def named_or_due(name: str | None, due: bool) -> None:
    """Refuse what is neither a name nor what is due, or both.

    Raises
    ------
    UsageError
        If so.
    """
    if (name is not None) == due:
        raise UsageError("Name a routine to run it now, or say --due for all that is due.")
