"""Undo what a process that is no more had begun and not finished; a deletion that had begun is finished."""

from __future__ import annotations

import os
from pathlib import Path

from dunechest.errors import DuneChestError
from dunechest.jobs.known.homes import note_aside_gone
from dunechest.jobs.undo.doing import undo_change
from dunechest.jobs.undo.forward import begun_removal, finish_removal
from dunechest.jobs.undo.planning import plan_undo
from dunechest.ledger import past_changes
from dunechest.ledger.past_changes import PastChange, Removing
from dunechest.machine.processes import lives
from dunechest.names import from_wire, shown


def cut_off() -> tuple[PastChange, ...]:
    """Return the changes that an interrupted process had begun, the latest first."""
    return tuple(
        past_change
        for past_change in past_changes.past_changes()
        if not past_change.finished and past_change.head.pid != os.getpid() and not lives(past_change.head.pid)
    )


def recover() -> tuple[PastChange, ...]:
    """Undo what an interrupted process had begun, or finish its deletion; return those changes.

    Raises
    ------
    DuneChestError
        If something of it was changed since, so that a person has to look.
    """
    found = []
    for past_change in cut_off():
        if begun_removal(past_change):
            for step in past_change.steps:
                if isinstance(step, Removing):
                    finish_removal(past_change.number, step)
            place = Path(from_wire(past_change.head.place))
            if not os.path.lexists(place):
                note_aside_gone(place)
            past_changes.close(past_change.number, "done")
            found.append(past_change)
            continue
        plan = plan_undo(past_change)
        if plan.changed_since:
            some = "; ".join(shown(what) for what in plan.changed_since[:3])
            raise DuneChestError(
                f"{begun_words(past_change)} was interrupted, and what it had begun was changed since: {some}. "
                f"Nothing was changed now. What was renamed or written is listed in {_file(past_change)}; sort that out by "
                "hand, then remove that file."
            )
        undo_change(past_change)
        found.append(past_change)
    return tuple(found)


_WORDS = {
    "restore": "A restore of {}",
    "rehome": "A move of {} to another drive",
    "rejoin": "A rejoining of {}",
    "reclaim": "A deletion of the original of {}",
}


def begun_words(past_change: PastChange) -> str:
    """Return in words what a change was."""
    return _WORDS.get(past_change.head.job, "A change of {}").format(shown(past_change.head.about))


def _file(past_change: PastChange) -> str:
    return shown(str(past_changes.kept_folder(past_change.number).with_suffix(".jsonl")))
