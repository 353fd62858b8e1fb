"""Walk the library again when it is copied: what appeared, and what changed meanwhile."""

from __future__ import annotations

import os
from typing import NamedTuple

from dunechest.jobs.archive.doing.run import Run
from dunechest.jobs.archive.fingerprint import fingerprint_of_folder, fingerprint_of_total
from dunechest.library.formats.sqlite import COMPANIONS
from dunechest.model.study import same_time
from dunechest.transfer.helpers import WORTH_ASKING, Asked
from dunechest.transfer.system_files import is_of_system
from dunechest.transfer.tasks import LookJob
from dunechest.transfer.walk import each_file, entry_of


class SecondLook(NamedTuple):
    """What a second walk showed: paths of files that appeared, and of files that changed after they were copied."""

    appeared: tuple[str, ...] = ()
    moved_on: tuple[str, ...] = ()


def look_again(run: Run) -> Asked | None:
    """Have a helper walk a large library again, now that it is copied; None for one that is soon walked."""
    plan = run.plan
    if plan.library.shape == "file" or len(plan.listing.files) < WORTH_ASKING or run.restless or not run.fingerprint:
        return None
    return Asked(LookJob(os.fsencode(plan.library.path), [b""]))


def second_look(run: Run, looking: Asked | None = None) -> SecondLook:
    """Walk the library again: what appeared, and what changed after it had been copied.

    Parameters
    ----------
    run : Run
        The archive.
    looking : Asked, optional
        From `look_again`: if all was as planned, nothing is left to look at.
    """
    plan = run.plan
    if plan.library.shape == "file":
        return SecondLook()
    moved_on = []
    for outside_file in plan.archived_outside_files:
        now = entry_of(outside_file.entry.path)
        if now is None or (now.size, now.mtime_ns) != (outside_file.entry.size, outside_file.entry.mtime_ns):
            moved_on.append(outside_file.entry.path)
    if _is_as_planned(run, looking):
        return SecondLook((), tuple(sorted(moved_on)))
    databases = (*plan.databases, *plan.kept_databases)
    captured = {d.file.found_at for d in databases}
    captured.update(c.found_at for d in databases for c in d.companions)
    copied = {f.found_at: f for f in (*plan.files_to_read, *plan.kept)}
    others = {f.path for f in plan.contents.listing.files if f.path not in copied}
    appeared = []
    for entry in each_file(str(plan.library.path)):
        file = copied.get(entry.path)
        if entry.path in captured or (file is None and plan.library.kind.lock_patterns.match(entry.path)):
            continue
        if file is None:
            # Of parts only what was asked for is watched.
            new = entry.path not in others and not plan.selection.parts and not entry.path.endswith(COMPANIONS)
            if new and not is_of_system(plan.library.path, entry.path):
                appeared.append(entry.path)
            continue
        proven = run.proven.get(file.stored_as)
        if proven is not None and not (
            proven.record.size == entry.size
            and same_time(proven.record.mtime_ns, entry.mtime_ns, plan.lesser.step_ns)
        ):
            moved_on.append(entry.path)
    appeared.sort()
    moved_on.sort()
    return SecondLook(tuple(appeared), tuple(moved_on))


def _is_as_planned(run: Run, looking: Asked | None) -> bool:
    """Whether each name, size, time and mode in the library is still as the plan saw it, and each file was copied so.

    One number for each folder tells that, much sooner than a look at each file.
    """
    plan = run.plan
    if run.restless or not run.fingerprint:
        return False
    if looking is not None:
        total = looking.outcome().total
        own = (
            ""
            if total is None
            else fingerprint_of_total(plan.library.kind, plan.choice, int.from_bytes(total, "little"))
        )
        return own == run.fingerprint
    try:
        now = fingerprint_of_folder(plan.library.kind, plan.choice, str(plan.library.path), len(plan.listing.files))
        return now == run.fingerprint
    except OSError:
        return False
