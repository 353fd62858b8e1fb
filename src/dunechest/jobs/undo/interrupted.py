"""Undo what a process that is no more had begun and not finished; a deletion that had begun is finished."""

from __future__ import annotations

import os
from pathlib import Path

from dunechest.errors import DuneChestError
from dunechest.jobs.known.homes import note_aside_gone
from dunechest.jobs.undo.doing import undo_change
from dunechest.jobs.undo.forward import begun_removal, finish_removal
from dunechest.jobs.undo.planning import plan_undo
from dunechest.ledger import deeds
from dunechest.ledger.deeds import Deed, Removing
from dunechest.machine.processes import lives
from dunechest.names import from_wire, shown


def cut_off() -> tuple[Deed, ...]:
    """Return the changes that an interrupted process had begun, the latest first."""
    return tuple(
        deed
        for deed in deeds.deeds()
        if not deed.finished and deed.head.pid != os.getpid() and not lives(deed.head.pid)
    )


def recover() -> tuple[Deed, ...]:
    """Undo what an interrupted process had begun, or finish its deletion; return those changes.

    Raises
    ------
    DuneChestError
        If something of it was changed since, so that a person has to look.
    """
    found = []
    for deed in cut_off():
        if begun_removal(deed):
            for step in deed.steps:
                if isinstance(step, Removing):
                    finish_removal(deed.number, step)
            place = Path(from_wire(deed.head.place))
            if not os.path.lexists(place):
                note_aside_gone(place)
            deeds.close(deed.number, "done")
            found.append(deed)
            continue
        plan = plan_undo(deed)
        if plan.changed_since:
            some = "; ".join(shown(what) for what in plan.changed_since[:3])
            raise DuneChestError(
                f"{begun_words(deed)} was interrupted, and what it had begun was changed since: {some}. "
                f"Nothing was changed now. What was renamed or written is listed in {_file(deed)}; sort that out by "
                "hand, then remove that file."
            )
        undo_change(deed)
        found.append(deed)
    return tuple(found)


_WORDS = {
    "restore": "A restore of {}",
    "rehome": "A move of {} to another drive",
    "rejoin": "A rejoining of {}",
    "reclaim": "A deletion of the original of {}",
}


def begun_words(deed: Deed) -> str:
    """Return in words what a change was."""
    return _WORDS.get(deed.head.job, "A change of {}").format(shown(deed.head.about))


def _file(deed: Deed) -> str:
    return shown(str(deeds.kept_folder(deed.number).with_suffix(".jsonl")))
