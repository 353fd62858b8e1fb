"""What there is to say of a restore before it is done: what stops it, what to know, what to do first and last."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING

from dunechest.chest.layout import bag_folder
from dunechest.findings import Finding
from dunechest.jobs.restore.old_place import old_place_findings
from dunechest.jobs.restore.planning.room import room_findings
from dunechest.jobs.study.path_length import length_findings
from dunechest.library.in_use import in_use
from dunechest.machine import processes
from dunechest.model.findings import finding_of
from dunechest.names import shown
from dunechest.transfer.closed import is_administrator, may_read, owner_of
from dunechest.transfer.walk import each_file

if TYPE_CHECKING:
    from dunechest.model.restore import RestorePlan


def findings_of(plan: RestorePlan) -> list[Finding]:
    """Return the findings of a plan, but for its place not being known."""
    found = list(plan.existing.findings)
    place = plan.path
    if place is not None:
        found += room_findings(plan, place)
        # The folder to work in lies beside the place, and its name is longer.
        working = place.parent / f".dune-restore-{plan.chest.id[:8]}-{plan.name}" / "tree"
        found += length_findings(working, (file.path for file in plan.files), "path-length/restore")
        found += _open(plan, place)
    found += closed_findings(plan)
    if plan.options.files:
        return found
    found += _about_the_archive(plan)
    found += _references(plan)
    found += old_place_findings(plan.old_place)
    found += _owners(plan)
    if plan.existing.set_aside:
        old, new = plan.existing.set_aside[0]
        more = len(plan.existing.set_aside) - 1
        found.append(
            finding_of(
                "set-aside", old=str(old), new=str(new), more=f", and {more:,} more likewise." if more else "."
            )
        )
    if plan.record.kind != "folder" and plan.record.application:
        found.append(finding_of("first", application=plan.record.application))
    return found


CLOSED = "no-access-to-files"


def closed_findings(plan: RestorePlan) -> list[Finding]:
    """Say which files of the chest this user may not read, whose they are, and who can restore them."""
    if is_administrator():
        return []
    bag = bag_folder(plan.chest.folder, plan.name)
    wanted = (*plan.existing.to_write, *(item.file for item in plan.outside_files if not item.exists))
    closed = [file for file in wanted if not file.pieces and not may_read(bag / file.source)]
    if not closed:
        return []
    owners = sorted({owner for file in closed if (owner := owner_of(bag / file.source))})
    whose = (
        f"; {'it belongs' if len(closed) == 1 else 'they belong'} to {shown(', '.join(owners[:3]))}" if owners else ""
    )
    return [
        finding_of(
            "no-access-to-files",
            files=len(closed),
            whose=whose,
            first=closed[0].path,
            more=", ..." if len(closed) > 1 else "",
            folder=str(plan.chest.folder),
            plan=plan.name,
            path_2=str(plan.path),
        )
    ]


def _owners(plan: RestorePlan) -> list[Finding]:
    """Say whose files will be another's here, before it is done."""
    names = sorted({name for owner in plan.record.owners for name in (owner.user, owner.group) if name})
    if not names:
        return []
    whose = ", ".join(map(shown, names[:4]))
    if hasattr(os, "geteuid") and os.geteuid() == 0:
        return [finding_of("owners/restore", whose=whose)]
    return [finding_of("owners/lost", whose=whose)]


def _open(plan: RestorePlan, place: Path) -> list[Finding]:
    """Stop if the application is open: it would make a new library, or write over its settings, while we do."""
    users = {}
    if plan.options.files and not any(plan.kind.database_patterns.match(file.own) for file in plan.files):
        return []  # one picture more does no harm; a database does
    if os.path.lexists(place) and plan.existing.mode in ("merge", "set-aside"):
        paths = [file.path for file in each_file(str(place))]
        users = {use.process_id: use.process for use in in_use(place, plan.kind, paths, plan.options.home_folder)}
    if plan.kind.in_use.processes:
        users |= dict(processes.named(plan.kind.in_use.processes, plan.options.home_folder))
    if not users:
        return []
    who = ", ".join(f"{shown(name)} (process {pid})" for pid, name in sorted(users.items())[:5])
    what = shown(plan.record.application) if plan.record.application else "whatever has it open"
    return [finding_of("in-use/restore", who=who, what=what)]


def _about_the_archive(plan: RestorePlan) -> list[Finding]:
    record = plan.record
    found = []
    if record.kind not in ("folder", plan.kind.name):
        found.append(finding_of("kind-unknown", kind=record.kind))
    if record.partial:
        found.append(finding_of("partial", parts=", ".join(shown(p) for p in record.partial)))
    if record.incomplete:
        lost = [left for left in record.left_out if left.why.startswith("only a placeholder")]
        found.append(
            finding_of(
                "incomplete",
                files=len(record.left_out),
                placeholders=f", {len(lost)} of them because they were only placeholders" if lost else "",
            )
        )
    return found


def _references(plan: RestorePlan) -> list[Finding]:
    found = []
    lost = plan.references.lost
    if lost:
        found.append(
            finding_of("references-lost/restore", references=len(lost), text=lost[0].text, file=lost[0].file)
        )
    for change in plan.unchanged_settings:
        found.append(
            finding_of(
                "another-library/restore",
                application=plan.record.application or plan.kind.title,
                old_text=change.old_text,
            )
            if change.old_text
            else finding_of("another-library/old-computer", application=plan.record.application or plan.kind.title)
        )
    return found
