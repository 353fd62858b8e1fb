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
from dunechest.names import quoted, shown
from dunechest.transfer.closed import is_administrator, may_read, owner_of
from dunechest.transfer.walk import each_file
from dunechest.words import number

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
        advice = "Restore to a folder nearer to the top of the drive, with --into."
        found += length_findings(working, (file.path for file in plan.files), advice)
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
            Finding(
                "set-aside",
                "info",
                f"{shown(str(old))} will be called {shown(str(new))}"
                + (f", and {more:,} more likewise." if more else "."),
                "Nothing in it is changed. Look through it after the restore, and remove it yourself.",
            )
        )
    if plan.record.kind != "folder" and plan.record.application:
        found.append(
            Finding(
                "first",
                "info",
                f"It belongs to the application {shown(plan.record.application)}.",
                "Install it first, and do not start it until the restore is done.",
            )
        )
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
    into = f" --into {quoted(str(plan.path))}" if plan.path is not None else ""
    command = f"sudo dunechest restore {quoted(str(plan.chest.folder))} {quoted(plan.name)}{into}"
    return [
        Finding(
            CLOSED,
            "warning",
            f"{number(len(closed), 'file')} in this chest may not be read by this user{whose}: {shown(closed[0].path)}"
            f"{', ...' if len(closed) > 1 else ''}. That is no damage; everything else is restored.",
            f"Restore as administrator: {command}. What is restored so will belong to you.",
        )
    ]


def _owners(plan: RestorePlan) -> list[Finding]:
    """Say whose files will be another's here, before it is done."""
    names = sorted({name for owner in plan.record.owners for name in (owner.user, owner.group) if name})
    if not names:
        return []
    whose = ", ".join(map(shown, names[:4]))
    if hasattr(os, "geteuid") and os.geteuid() == 0:
        return [
            Finding(
                "owners",
                "info",
                f"Some of it belonged to {whose}, and will again, as far as they exist here.",
                "The summary lists files where that was not possible.",
            )
        ]
    return [
        Finding(
            "owners",
            "warning",
            f"Some of it belonged to {whose}; here it will belong to you.",
            "If that matters, as for a server's data, run the restore as administrator.",
        )
    ]


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
    return [
        Finding(
            "in-use",
            "blocks",
            f"The application is open: {who}.",
            f"Close {what} first, and start it only when the restore is done.",
        )
    ]


def _about_the_archive(plan: RestorePlan) -> list[Finding]:
    record = plan.record
    found = []
    if record.kind not in ("folder", plan.kind.name):
        found.append(
            Finding(
                "kind-unknown",
                "warning",
                f"It is of the kind {shown(record.kind)}, which this computer does not know.",
                "Its files are restored; to have references and settings updated, put the kind file into the "
                "folder kinds of this computer's state first (dunechest kinds list says which are known).",
            )
        )
    if record.partial:
        found.append(
            Finding(
                "partial",
                "info",
                f"This archive holds only a part of the library: {', '.join(shown(p) for p in record.partial)}.",
                "The rest of the library is not in it.",
            )
        )
    if record.incomplete:
        lost = [left for left in record.left_out if left.why.startswith("only a placeholder")]
        found.append(
            Finding(
                "incomplete",
                "warning",
                f"This archive is incomplete: {number(len(record.left_out), 'file')} could not be archived"
                + (f", {len(lost)} of them because they were only placeholders" if lost else "")
                + ".",
                "dune/library.json in the bag lists them under left_out, with the reasons.",
            )
        )
    return found


def _references(plan: RestorePlan) -> list[Finding]:
    found = []
    lost = plan.references.lost
    if lost:
        found.append(
            Finding(
                "references-lost",
                "warning",
                f"{number(len(lost), 'reference')} will lead to nothing here; the first: "
                f"{shown(lost[0].text)} in {shown(lost[0].file)}.",
                "The plan lists them, each with what to do.",
            )
        )
    for change in plan.unchanged_settings:
        found.append(
            Finding(
                "another-library",
                "warning",
                f"{shown(plan.record.application or plan.kind.title)} uses another library now: {shown(change.old_text)}. "
                "Its setting is not changed."
                if change.old_text
                else f"{shown(plan.record.application or plan.kind.title)} used another library on the old computer, so "
                "its setting is not updated to this one.",
                "To use the restored one, choose it in the application's settings, or restore with --update-settings.",
            )
        )
    return found
