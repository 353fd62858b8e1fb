"""Decide what of a routine is due now: from its times, from what is remembered of it, and from which drives are there."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from dunechest.jobs.routine.memory import DAY, Memory, believed, late_key
from dunechest.model.routine import ChestDue, Routine, RoutineChest, RoutinePlan
from dunechest.model.when import following, latest, moments_of

#: By the id of a connected chest, the folders where there is one of that id.
Connected = Mapping[str, tuple[str, ...]]


def plan_due(
    routine: Routine,
    memory: Memory,
    now: float,
    connected: Connected,
    *,
    forced: bool = False,
    mains: bool = True,
) -> RoutinePlan:
    """Plan what of a routine is to be done now. Changes nothing.

    Parameters
    ----------
    routine : Routine
        The routine.
    memory : Memory
        What is remembered of it.
    now : float
        The time (seconds since 1970).
    connected : mapping of str to tuple of str
        The folders of connected chests by their ids.
    forced : bool
        Everything is due: a person asks for it.
    mains : bool
        Whether the computer is on mains power.
    """
    due = [
        item
        for chest in (*routine.chests, *routine.copy_chests)
        if (item := _chest(routine, memory, now, chest, connected, forced=forced)) is not None
    ]
    absent = tuple(item for item in due if not item.folder)
    own = {chest.id for chest in routine.chests}
    serve = tuple(item for item in due if item.folder and item.chest.id in own)
    source = next((connected[chest.id][0] for chest in routine.chests if len(connected.get(chest.id, ())) == 1), "")
    copy_to = tuple(item for item in due if item.folder and item.chest.id not in own) if source else ()
    wait, waiting = "", absent
    if routine.only_on_mains and not mains and not forced and (serve or copy_to):
        wait = "the computer runs on its battery"
        waiting = (*absent, *serve, *copy_to)
        serve = copy_to = ()
    return RoutinePlan(
        routine,
        serve,
        copy_to,
        source if copy_to else "",
        absent,
        () if forced else tuple(overdue(routine, memory, now, waiting)),
        wait,
        memory.running_since is not None,
    )


def _chest(
    routine: Routine, memory: Memory, now: float, chest: RoutineChest, connected: Connected, *, forced: bool
) -> ChestDue | None:
    """Return what is due for a chest, or None."""
    folders = connected.get(chest.id, ())
    folder = folders[0] if folders else ""
    moments = moments_of(routine.times)
    moment = latest(moments, now) if moments else None
    settled = believed(memory.settled.get(chest.id, routine.added_at or None), now)
    if forced:
        return ChestDue(chest, moment if moment is not None else now, now, folder)
    if moment is not None and (settled is None or moment > settled):
        first = following(moments, settled) if settled is not None else moment
        return ChestDue(chest, moment, min(first or moment, moment), folder)
    if not routine.when_plugged_in:
        return None
    served = believed(memory.served.get(chest.id), now)
    if served is None or chest.id in memory.away or now - served >= DAY:
        settle = moment if moment is not None else now
        return ChestDue(chest, settle, served if served is not None else (routine.added_at or now), folder)
    return None


def overdue(routine: Routine, memory: Memory, now: float, waiting: Iterable[ChestDue]) -> Iterable[ChestDue]:
    """Yield the chests that have been waiting for longer than the routine's patience, unless that was told lately."""
    patience = routine.patience * DAY
    for item in waiting:
        told = believed(memory.told.get(late_key(item.chest.id)), now)
        if now - item.since >= patience and (told is None or now - told >= patience):
            yield item


def next_time(routine: Routine, now: float) -> float | None:
    """Return the next time of a routine; None if it only waits for a drive."""
    return following(moments_of(routine.times), now)
