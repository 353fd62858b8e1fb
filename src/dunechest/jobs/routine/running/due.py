"""Run all that is due, one routine after the other, one process at a time."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from contextlib import contextmanager

from msgspec.structs import replace

from dunechest import clock
from dunechest.errors import CutOffError, DuneChestError, RefusedError
from dunechest.jobs.known.chests import list_chests
from dunechest.jobs.routine.file import routines_folder
from dunechest.jobs.routine.memory import Memory, Run, believed, recall, remember
from dunechest.jobs.routine.running.run import carry_out
from dunechest.jobs.routine.running.tell import tell, write_log
from dunechest.model.routine import Routine, RoutinePlan, RoutineRun, RoutineStep
from dunechest.names import shown
from dunechest.progress import Progress, silent
from dunechest.transfer.owner import make_own

_LOCK = ".running"


@contextmanager
def sole() -> Iterator[bool]:
    """Hold the lock of the routines while the block runs, if no other process has it; tell whether that is so.

    The system takes the lock from a process that ends, however it ends.

    Raises
    ------
    CutOffError
        If the folder of the routines cannot be written to.
    """
    from filelock import FileLock, Timeout

    folder = routines_folder()
    lock = None
    try:
        make_own(folder, 0o700)
        lock = FileLock(folder / _LOCK, timeout=0, mode=0o600)
        lock.acquire()
    except Timeout:
        yield False
        return
    except OSError as error:
        raise CutOffError(f"{shown(str(folder))} cannot be written to: {error.strerror}.") from error
    try:
        yield True
    finally:
        lock.release()


def connected_chests() -> Mapping[str, tuple[str, ...]]:
    """Return the folders of the chests that are connected, by their ids."""
    found: dict[str, tuple[str, ...]] = {}
    for chest in list_chests().chests:
        if chest.connected:
            found[chest.id] = (*found.get(chest.id, ()), str(chest.path))
    return found


def note_away(routine: Routine, memory: Memory, connected: Mapping[str, tuple[str, ...]]) -> None:
    """Remember which chests are not connected: one that is back is due, where a routine waits for that."""
    if not routine.when_plugged_in:
        return
    away = [chest.id for chest in (*routine.chests, *routine.copy_chests) if not connected.get(chest.id)]
    if more := [chest for chest in away if chest not in memory.away]:
        memory.away += more
        remember(routine.name, memory)


def run_plan(plan: RoutinePlan, progress: Progress = silent, *, telling: bool = True) -> RoutineRun:
    """Carry out what is due of one routine, write it to the log, and tell what has to be told.

    Whatever goes wrong in it is told, and is no reason for the next routine not to run.
    """
    try:
        run = carry_out(plan, progress=progress)
    except (DuneChestError, OSError) as error:
        run = _failed(plan, str(error))
    except Exception as error:  # a fault of this program: said, and the others run all the same
        run = _failed(plan, f"a fault in Dune Chest itself: {type(error).__name__}: {error}")
    if run.told and telling:
        run = replace(run, failed_ways=tell(plan.routine, run))
    if run.steps or run.failed_ways:
        why = write_log(run)
        if why:
            run = replace(run, failed_ways=(*run.failed_ways, why))
    return run


def _failed(plan: RoutinePlan, why: str) -> RoutineRun:
    name = plan.routine.name
    now = clock.now()
    text = f"The routine {name} could not run: {shown(why)}"
    command = f"dunechest routine run {name}"
    memory = recall(name)
    for item in (*plan.serve, *plan.copy_to):
        memory.settled[item.chest.id] = item.moment
    memory.running_since, memory.attempts = None, 0
    memory.runs.append(Run(now, now, "problem", text, command, (f"problem: {text}",)))
    remember(name, memory)
    return RoutineRun(name, now, now, (RoutineStep("routine", "problem", text, command=command),), told=True)


def tell_unusable(name: str, why: str) -> RoutineRun | None:
    """Tell that a routine's file is not understood, once a day; None if that was told already."""
    now = clock.now()
    memory = recall(name)
    told = believed(memory.told.get("unusable"), now)
    if told is not None and now - told < 86_400.0:
        return None
    memory.told["unusable"] = now
    remember(name, memory)
    text = f"The routine {name} cannot run: {why}"
    step = RoutineStep("routine", "problem", text, command=f"dunechest routine list {name}")
    run = RoutineRun(name, now, now, (step,), told=True)
    write_log(run)
    return run


def refuse_clones(routine: Routine, connected: Mapping[str, tuple[str, ...]]) -> None:
    """Refuse to run if two chests of one id are connected: which one is meant cannot be told.

    Raises
    ------
    RefusedError
        If that is so.
    """
    for chest in (*routine.chests, *routine.copy_chests):
        places = connected.get(chest.id, ())
        if len({os.path.realpath(place) for place in places}) > 1:
            listed = "; ".join(shown(place) for place in places)
            raise RefusedError(
                f"Two chests with the id of {shown(chest.label)} are connected: {listed}. One is a copy of the other. "
                f"Unplug one of them, or give it an id of its own: dunechest chest new-id FOLDER"
            )
