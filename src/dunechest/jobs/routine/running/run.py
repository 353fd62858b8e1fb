"""Carry out what is due of one routine, and remember what came of it."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence

from msgspec.structs import replace

from dunechest import clock
from dunechest.chest.chest import Chest
from dunechest.errors import DuneChestError
from dunechest.jobs.find import find_libraries
from dunechest.jobs.known.homes import list_homes
from dunechest.jobs.known.named import library_at
from dunechest.jobs.known.this_computer import machine_name
from dunechest.jobs.routine.memory import DAY, Memory, Run, believed, late_key, recall, remember
from dunechest.jobs.routine.running.steps import (
    PASSING,
    archive_step,
    copy_step,
    drill_step,
    drop_step,
    open_chest,
    verify_step,
)
from dunechest.ledger import events
from dunechest.library.library import Library
from dunechest.machine.folders import own_home
from dunechest.model.routine import ChestDue, Routine, RoutineLibrary, RoutinePlan, RoutineRun, RoutineStep
from dunechest.names import quoted, shown
from dunechest.progress import Progress, silent
from dunechest.transfer.pace import limited
from dunechest.words import ago, duration

#: A run that was interrupted so often is told of.
_CUT_OFF_OFTEN = 3
#: What was told is forgotten after so many seconds: a year.
_FORGET = 366 * 86_400.0


def carry_out(plan: RoutinePlan, *, progress: Progress = silent) -> RoutineRun:
    """Carry out what is due of a routine. Whoever calls this holds the lock of the routines.

    Parameters
    ----------
    plan : RoutinePlan
        From `plan_due`.
    progress : Progress
        Told how far it is.

    Returns
    -------
    RoutineRun
        Nobody was told of it yet.
    """
    routine = plan.routine
    memory = recall(routine.name)
    begun = clock.now()
    steps: list[RoutineStep] = []
    chests: dict[str, Chest] = {}
    if plan.serve or plan.copy_to:
        if memory.attempts >= _CUT_OFF_OFTEN:
            steps.append(_cut_off_often(routine, memory))
        memory.running_since = begun
        memory.attempts += 1
        remember(routine.name, memory)
        with limited(routine.limit_bytes):
            steps += _steps(plan, chests, memory, progress)
    _settle(plan, memory, begun, steps, chests)
    for item in plan.overdue:
        steps.append(_late(routine, item, plan.wait if item.folder else ""))
        memory.told[late_key(item.chest.id)] = clock.now()
    steps += _still_open(plan, memory)
    # A state folder that is full: what was done is done, and nobody would know of it.
    steps += [RoutineStep("routine", "problem", why, command="dunechest status") for why in events.lost_so_far()]
    run = RoutineRun(
        routine.name,
        begun,
        clock.now(),
        tuple(steps),
        absent_labels=tuple(item.chest.label for item in plan.absent),
        waiting_for=plan.wait,
    )
    run = replace(run, told=_to_tell(run, plan, memory))
    _note(plan, memory, run)
    remember(routine.name, memory)
    return run


def _cut_off_often(routine: Routine, memory: Memory) -> RoutineStep:
    when = ago(memory.running_since) if memory.running_since else "lately"
    return RoutineStep(
        "routine",
        "problem",
        f"The routine {routine.name} was interrupted {memory.attempts} times in a row, the last time {when}. "
        "It continues where it was each time.",
        command=f"dunechest routine run {routine.name}",
    )


def _late(routine: Routine, item: ChestDue, wait: str) -> RoutineStep:
    since = _long(clock.now() - item.since)
    if wait:
        text = (
            f"The routine {routine.name} has been due for {since}, and {wait} whenever it could run. Plug the computer in for "
            "a while, and it catches up by itself."
        )
    elif _retired(item.chest.id):
        text = (
            f"{shown(item.chest.label)} was retired, and the routine {routine.name} still waits for it. Tell the routine which "
            "chest to use instead."
        )
    else:
        text = (
            f"{shown(item.chest.label)} has been expected for {since} ({routine.words}) and is not connected. Connect it, and "
            f"the routine {routine.name} catches up by itself."
        )
    return RoutineStep("wait", "late", text, item.chest.label)


def _retired(chest: str) -> bool:
    from dunechest.ledger.ledger import open_ledger

    with open_ledger() as ledger:
        return any(known.id == chest and known.retired is not None for known in ledger.chests())


def _still_open(plan: RoutinePlan, memory: Memory) -> Iterator[RoutineStep]:
    """Yield what has been tried for longer than the patience and was interrupted, or kept from it, each time."""
    now = clock.now()
    for item in (*plan.serve, *plan.copy_to):
        told = believed(memory.told.get(late_key(item.chest.id)), now)
        patience = plan.routine.patience * DAY
        settled = memory.settled.get(item.chest.id) == item.moment
        if settled or now - item.since < patience or (told is not None and now - told < patience):
            continue
        memory.told[late_key(item.chest.id)] = now
        text = f"The routine {plan.routine.name} could not finish with {shown(item.chest.label)} for {_long(now - item.since)}."
        command = f"dunechest routine run {plan.routine.name}"
        yield RoutineStep("wait", "late", text, item.chest.label, command=command)


def _long(seconds: float) -> str:
    if seconds < 86_400:
        return duration(seconds)
    count = int(seconds // 86_400)
    return "1 day" if count == 1 else f"{count} days"


def _steps(plan: RoutinePlan, chests: dict[str, Chest], memory: Memory, progress: Progress) -> Iterator[RoutineStep]:
    """Do what is due; `chests` gets the chests that could be opened, by their ids."""
    routine, machine = plan.routine, machine_name()
    for item in (*plan.serve, *plan.copy_to):
        try:
            chest = open_chest(item.folder, item.chest.id, machine)
        except DuneChestError as error:
            yield RoutineStep(
                "routine", "problem", str(error), item.chest.label, command=f"dunechest verify {quoted(item.folder)}"
            )
            continue
        if chest is None:
            text = f"{shown(item.chest.label)} was disconnected before anything was done."
            yield RoutineStep("routine", "interrupted", text, item.chest.label)
            continue
        chests[item.chest.id] = chest
    serve = [chests[item.chest.id] for item in plan.serve if item.chest.id in chests]
    bags: dict[str, set[str]] = {}
    if serve and routine.archives:
        for step in _archive_all(routine, serve, progress):
            if step.what == "archive" and step.outcome in ("done", "unchanged"):
                bags.setdefault(step.chest_label, set()).add(step.library)
            yield step
    if plan.copy_to:
        yield from _copies(plan, chests, machine, progress)
    every = [chests[item.chest.id] for item in (*plan.serve, *plan.copy_to) if item.chest.id in chests]
    yield from _afterwards(routine, every, bags, memory, progress)


def _archive_all(routine: Routine, chests: list[Chest], progress: Progress) -> Iterator[RoutineStep]:
    known: dict[str, Library] = {}
    for library in _wanted(routine):
        if isinstance(library, RoutineStep):
            yield library
        elif os.path.realpath(library.path) not in known:
            known[os.path.realpath(library.path)] = library
            yield from archive_step(library, chests, progress)


def _wanted(routine: Routine) -> Iterator[Library | RoutineStep]:
    """Yield the libraries of a routine; of what is not there, a step that says so."""
    for named in routine.named_libraries:
        yield _named(routine, named)
    if not (routine.all_libraries_in_home or routine.kinds):
        return
    try:
        found = find_libraries([own_home()]).libraries
        moved = [library_at(home.path) for home in list_homes() if home.connected and home.second is None]
    except DuneChestError as error:
        yield RoutineStep("find", "problem", str(error), command="dunechest find")
        return
    for library in [*(item.library for item in found if not item.whose), *moved]:
        if routine.all_libraries_in_home or library.kind.name in routine.kinds:
            yield library


def _named(routine: Routine, named: RoutineLibrary) -> Library | RoutineStep:
    place = named.path
    home = next((home for home in list_homes() if str(home.old_path) == place or str(home.path) == place), None)
    if home is not None and home.second is not None:
        text = f"{shown(named.name)}: {home.message}"
        return RoutineStep("archive", "blocked", text, library=named.name, command=home.command, codes=("two",))
    if home is not None and not home.connected:
        # Its own drive is away, and so nothing can have changed in it.
        text = f"{shown(named.name)}: {home.message}"
        return RoutineStep("archive", "unchanged", text, library=named.name)
    if home is not None:
        place = str(home.path)
    if not os.path.exists(place):
        text = (
            f"{shown(named.name)} is no longer in {shown(named.path)}. Nothing was changed in the chests. Connect its drive; or "
            "change its place in the routine's file."
        )
        command = f"dunechest routine list {routine.name}"
        return RoutineStep("archive", "blocked", text, library=named.name, command=command, codes=("gone",))
    try:
        library = library_at(place)
    except DuneChestError as error:
        return RoutineStep("archive", "problem", str(error), library=named.name)
    return replace(library, name=named.name)


def _copies(plan: RoutinePlan, chests: dict[str, Chest], machine: str, progress: Progress) -> Iterator[RoutineStep]:
    source = None
    try:
        if os.path.isdir(plan.source):
            source = Chest.open(plan.source, machine=machine)
    except DuneChestError as error:
        yield RoutineStep("copy", "problem", str(error), command=f"dunechest verify {quoted(plan.source)}")
        return
    if source is None or source.id not in {chest.id for chest in plan.routine.chests}:
        for item in plan.copy_to:
            text = f"The chest to copy to {shown(item.chest.label)} from was disconnected before anything was copied."
            yield RoutineStep("copy", "interrupted", text, item.chest.label)
        return
    for item in plan.copy_to:
        if item.chest.id in chests:
            yield from copy_step(source, chests[item.chest.id], progress)


def _afterwards(
    routine: Routine, chests: Sequence[Chest], bags: dict[str, set[str]], memory: Memory, progress: Progress
) -> Iterator[RoutineStep]:
    """Drop editions by the rule, verify for the time that is given, and drill once a month."""
    if routine.retention_rule:
        for chest in chests:
            for bag in sorted(bags.get(chest.label, ())):
                yield from drop_step(chest, bag, routine.retention_rule)
    if routine.verify_minutes:
        for chest in chests:
            yield from verify_step(chest, routine.verify_minutes, progress)
    if routine.drills_monthly:
        import datetime

        month = datetime.datetime.fromtimestamp(clock.now()).strftime("%Y-%m")
        for chest in chests:
            if memory.drilled.get(chest.id) == month:
                continue
            done = list(drill_step(chest, progress))
            if not any(step.outcome in ("interrupted", "busy") for step in done):
                memory.drilled[chest.id] = month
            yield from done


def _to_tell(run: RoutineRun, plan: RoutinePlan, memory: Memory) -> bool:
    """Whether the person is to be told: of what passes by itself only once for each time it was due."""
    worst = run.worst
    if worst is None:
        return False
    if worst.outcome == "blocked" and set(worst.codes) <= PASSING and worst.codes:
        moment = max((item.moment for item in plan.serve), default=run.begun_at)
        if memory.told.get("passing") == moment:
            return False
        memory.told["passing"] = moment
    return True


def _settle(
    plan: RoutinePlan, memory: Memory, begun: float, steps: Sequence[RoutineStep], chests: dict[str, Chest]
) -> None:
    """Write down for which chests the time that was due is settled: what was interrupted or passes by itself is tried again."""
    again = {step.chest_label for step in steps if step.outcome in ("interrupted", "busy")}
    again |= {step.chest_label for step in steps if step.codes and set(step.codes) <= PASSING}
    for item in (*plan.serve, *plan.copy_to):
        # It may have another label by now than the routine knows.
        labels = {item.chest.label} | ({chests[item.chest.id].label} if item.chest.id in chests else set())
        if labels & again:
            continue
        memory.settled[item.chest.id] = item.moment
        memory.served[item.chest.id] = begun
        memory.told.pop(late_key(item.chest.id), None)
        memory.away = [chest for chest in memory.away if chest != item.chest.id]


def _note(plan: RoutinePlan, memory: Memory, run: RoutineRun) -> None:
    """Note that the run ended, and what came of it."""
    memory.told = {what: when for what, when in memory.told.items() if run.ended_at - when < _FORGET}
    if plan.serve or plan.copy_to:
        memory.running_since = None
        memory.attempts = 0
    if run.steps:
        worst = run.worst
        memory.runs.append(
            Run(
                run.begun_at,
                run.ended_at,
                run.outcome,
                run.message if run.told else "",
                worst.command if worst is not None else "",
                tuple(line for step in _some(run.steps) for line in [f"{step.outcome}: {step.message}"]),
            )
        )


def _some(steps: Iterable[RoutineStep]) -> list[RoutineStep]:
    return [step for step in steps if step.outcome != "unchanged"][:20]
