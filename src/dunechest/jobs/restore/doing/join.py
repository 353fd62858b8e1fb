"""Merge the catalogues, bibliographies and indexes of two libraries, or take out of one what belongs to other parts."""

from __future__ import annotations

import shutil
from collections.abc import Iterator, Mapping
from pathlib import Path

from dunechest.errors import RefusedError
from dunechest.jobs.restore.doing.run import Run
from dunechest.library.capture import NotCapturedError, capture
from dunechest.library.join.files import NotMergedError, join, joins_of, only_parts
from dunechest.library.kinds.patterns import Patterns
from dunechest.model.restore import MergeResult, RestorePlan
from dunechest.names import shown


def merge_files(run: Run, staged: Mapping[str, Path]) -> tuple[MergeResult, ...]:
    """Merge files that are in both libraries, in the folder to work in; nothing in its place is changed.

    Parameters
    ----------
    run : Run
        The restore.
    staged : mapping
        Where files of the archive are now, by their paths in the library.

    Raises
    ------
    RefusedError
        If one of them cannot be joined.
    """
    plan, place, staging = run.plan, run.place, run.staging
    found = []
    parts = plan.part_names
    ours = {path for part in plan.chosen_parts for path in part.files}
    for number, file in enumerate(plan.existing.merged):
        if file.own not in staged:  # it was not intact in the chest, and is in the summary
            continue
        spec = joins_of(plan.kind, file.own)
        assert spec is not None
        target = staging / f"joined-{number}"
        here = place / file.path
        theirs = plan.options.on_conflict == "keep-archived" or (
            plan.options.on_conflict == "keep-newer" and file.mtime_ns > here.stat().st_mtime_ns
        )
        try:
            if spec.form == "sqlite":
                capture(here, target, staging)
            else:
                shutil.copy2(here, target)
            target.chmod(here.stat().st_mode & 0o777 | 0o600)
            joined = join(plan.kind, spec, target, staged[file.own], parts, ours, theirs=theirs)
        except (NotMergedError, NotCapturedError) as error:
            raise RefusedError(
                f"{shown(file.path)} is in both libraries, and the two cannot be merged: {shown(str(error))}. "
                "Use --if-exists set-aside, or --on-conflict keep-mine."
            ) from error
        changed = joined.added or (theirs and joined.differ)
        found.append(MergeResult(file.path, joined.added, joined.differ, target if changed else None))
    return tuple(found)


def only_those(plan: RestorePlan, staged: Mapping[str, Path]) -> Iterator[MergeResult]:
    """Take from catalogues and the like what belongs to other parts than those that are restored."""
    ours = {path for part in plan.chosen_parts for path in part.files}
    for spec in plan.kind.joins:
        for own in Patterns(spec.files).among(staged):
            try:
                taken = only_parts(plan.kind, spec, staged[own], plan.part_names, ours)
            except NotMergedError:
                continue  # then the application sees the others, too, and misses their files
            if taken:
                yield MergeResult(own, 0, (), taken_out_count=taken)
