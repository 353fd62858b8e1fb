"""Decide what undoing the last command means. Nothing here changes anything."""

from __future__ import annotations

import itertools
from collections.abc import Iterable

from dunechest.errors import UsageError
from dunechest.jobs.known.homes import list_homes
from dunechest.jobs.undo.as_left import rewritten_in
from dunechest.jobs.undo.steps import Later, undo_steps
from dunechest.ledger import past_changes
from dunechest.ledger.past_changes import PastChange, Working
from dunechest.model.undo import UndoAction, UndoPlan
from dunechest.names import to_wire


def last_command() -> tuple[PastChange, ...]:
    """Return the changes of the last command that stands, the latest first.

    Raises
    ------
    UsageError
        If there is none.
    """
    standing = (
        past_change
        for past_change in past_changes.past_changes()
        if past_change.how != "undone" and any(not isinstance(step, Working) for step in past_change.steps)
    )
    found = list(itertools.islice(standing, 1))
    if not found:
        raise UsageError("Nothing to undo.")
    command = found[0].head.command
    found += itertools.takewhile(lambda past_change: command and past_change.head.command == command, standing)
    return tuple(found)


def _away(every: Iterable[PastChange]) -> Iterable[str]:
    """Yield what cannot be seen of moved libraries: what was done with them on a drive that is not connected stays."""
    moves = {
        past_change.head.place
        for past_change in every
        if past_change.finished and past_change.head.job in ("rehome", "rejoin")
    }
    for home in list_homes() if moves else ():
        if to_wire(str(home.old_path)) in moves and not home.connected:
            yield f"{home.path} is not there: the drive {home.drive} is not connected"


def plan_undo(past_change: PastChange | None = None, *, only_references: bool = False) -> UndoPlan:
    """Plan to undo the last command. Changes nothing.

    Parameters
    ----------
    past_change : PastChange, optional
        Only this past_change.
    only_references : bool
        Only what was updated: references and settings.

    Raises
    ------
    UsageError
        If there is nothing to undo.
    """
    every = (past_change,) if past_change is not None else last_command()
    changed = list(_away(every))
    actions: list[UndoAction] = []
    later = Later()
    steps = 0
    for known in every:
        for step in undo_steps(known, rewritten_in(known), only_references=only_references):
            steps += 1
            look = step.look(later)
            changed += look.changed
            if look.action is not None:
                actions.append(look.action)
            step.note(later)
    if only_references and not steps:
        raise UsageError("The last change on this computer updated no references or settings.")
    return UndoPlan(every, tuple(actions), tuple(changed), only_references)
