"""How plans of a restore are shown."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

import msgspec
from rich import box
from rich.table import Table
from rich.text import Text

from dunechest.chest.chest import Chest
from dunechest.cli.output import Out, finding_document, limited, show_findings
from dunechest.cli.views.restore_lists import (
    by_hand_document,
    not_done_document,
    old_place_document,
    setting_document,
    show_by_hand,
    show_damage,
    show_left_behind,
    show_not_done,
    show_outside_files,
    show_renamed,
)
from dunechest.findings import blocking
from dunechest.jobs.restore.plan import RestorePlan
from dunechest.jobs.restore.planning.saved_plan import saved_plan
from dunechest.names import from_wire, shown
from dunechest.words import number, size


def plan_document(plan: RestorePlan) -> dict[str, Any]:
    """Return one plan's part of the JSON document."""
    existing = plan.existing
    return {
        "bag": plan.bag,
        "edition": plan.record.edition,
        "place": str(plan.place) if plan.place is not None else None,
        "how_known": plan.placement.how,
        "parts": [part.name for part in plan.parts],
        "files": len(plan.files),
        "bytes": plan.bytes,
        "folders": len(plan.folders),
        "links": len(plan.links),
        "in_the_way": existing.mode,
        "set_aside": [{"was": str(old), "becomes": str(new)} for old, new in existing.set_aside],
        "already_here": len(existing.same) + len(existing.rewritten),
        "left_as_here": [file.path for file in existing.kept],
        "replaced": [file.path for file in existing.replaced],
        "under_another_name": [{"path": file.path, "becomes": other} for file, other in existing.beside],
        "joined": [file.path for file in existing.merged],
        "outside_files": [
            {"was": s.origin, "goes": str(s.place), "bytes": s.file.size, "there": s.there}
            for s in plan.outside_files
        ],
        "references": {
            "stay": plan.references.stay,
            "updated": [
                {"file": r.source, "spot": r.spot, "old": r.old, "new": r.new} for r in plan.references.updates
            ],
            "by_hand": by_hand_document(plan.references.lost),
        },
        "settings": [setting_document(change) for change in plan.settings],
        "settings_left": [setting_document(change) for change in plan.settings_left],
        "partial": list(plan.record.partial),
        "need": plan.room.need,
        "free": plan.room.free,
        "not_done": not_done_document(plan.not_done),
        "damaged_records": [{"path": f.path, "state": f.state, "why": f.why} for f in plan.damage],
        "renamed": [{"path": a, "here": b} for a, b in plan.renamed],
        "old_place": old_place_document(plan.old_place),
        "findings": [finding_document(f) for f in plan.findings],
        "would_run": not blocking(plan.findings),
    }


def plans_document(chest: Chest, plans: Sequence[RestorePlan]) -> dict[str, Any]:
    """Return the JSON document of `restore --plan`, which `--apply-plan` takes again."""
    return {
        "chest": chest.id,
        "libraries": [plan_document(plan) for plan in plans],
        "would_run": not any(blocking(plan.findings) for plan in plans),
        "kept": msgspec.to_builtins(saved_plan(chest, plans)),
    }


def show_plans(out: Out, chest: Chest, plans: Sequence[RestorePlan], *, asking: bool = False) -> None:
    """Show plans, one below the other."""
    for plan in plans:
        show_plan(out, plan)
    console = out.console
    if any(blocking(plan.findings) for plan in plans):
        console.print("As it stands, the restore would be refused.", style="bold red")
    if len(plans) > 1:
        files = sum(len(plan.files) + len(plan.outside_files) for plan in plans)
        console.print(
            f"Together: {number(len(plans), 'library', 'libraries')}, {number(files, 'file')}, "
            f"{size(sum(plan.bytes for plan in plans))}."
        )
    if not asking:
        console.print("This is a plan: nothing was changed.", style="dim")


def show_plan(out: Out, plan: RestorePlan) -> None:
    """Show one plan: where from, where to, what is in the way, what is written anew, what to do first and last."""
    console = out.console
    record, existing = plan.record, plan.existing
    where = shown(str(plan.place)) if plan.place is not None else "(no place known)"
    console.print(Text(shown(record.name), style="bold").append(f" -> {where}", style="not bold"), soft_wrap=True)
    edition = f", edition {record.edition}" if record.edition > 1 or plan.options.edition else ""
    console.print(
        f"from {shown(record.origin.machine)}, {shown(from_wire(record.origin.path))}, "
        f"archived {record.archived[:10]}{edition}",
        style="dim",
        soft_wrap=True,
    )
    show_damage(out, plan.damage)
    # What to do first stands below, with what to do last.
    show_findings(console, [finding for finding in plan.findings if finding.code != "first"])
    table = Table(box=box.SIMPLE, show_header=False, pad_edge=False)
    if plan.options.parts:
        table.add_row("only", ", ".join(shown(part.title) for part in plan.parts), "")
    table.add_row("to restore", number(len(plan.files) + len(plan.outside_files), "file"), size(plan.bytes))
    for words, count in (
        (
            "here already, only checked",
            len(existing.same) + len(existing.rewritten) + sum(s.there for s in plan.outside_files),
        ),
        ("left as they are here", len(existing.kept)),
        ("replaced, the old ones kept", len(existing.replaced)),
        ("come under another name", len(existing.beside)),
        ("made one with those here", len(existing.merged)),
    ):
        if count:
            table.add_row("  of them", number(count, "file"), words)
    table.add_row("", number(len(plan.folders), "folder"), number(len(plan.links), "symbolic link"))
    table.add_row("room needed", size(plan.room.need), f"of {size(plan.room.free)} free")
    updates = plan.references.updates
    if plan.kind.references:
        files = len({update.source for update in updates})
        said = f"{len(updates):,} updated in {number(files, 'file')}" if updates else "none to update"
        table.add_row("references", said, f"{plan.references.stay:,} correct")
    console.print(table)
    for change in plan.settings:
        console.print(f"Setting of the application, to name the new place: {shown(str(change.file))}", soft_wrap=True)
    _show_updates(out, plan)
    show_by_hand(out, plan.references.lost)
    show_outside_files(out, [(s.origin, s.place) for s in plan.outside_files])
    show_not_done(out, plan.not_done)
    show_renamed(out, plan.renamed)
    if record.application and not blocking(plan.findings):
        name = shown(record.application)
        console.print(f"First: install {name}, and do not start it. Last: start it; {_look(plan)}", soft_wrap=True)
    console.print()


def _look(plan: RestorePlan) -> str:
    if plan.settings or not plan.kind.settings:
        return f"it should show what it showed on {shown(plan.record.origin.machine)}."
    return f"let it open {shown(str(plan.place))}."


def _show_updates(out: Out, plan: RestorePlan) -> None:
    updates = plan.references.updates
    if not updates:
        return
    some, more = limited(updates, out.verbose, 3)
    out.console.print(f"{number(len(updates), 'reference')} to be updated, the first:", soft_wrap=True)
    for item in some:
        line = Text(f"  {shown(item.old)}")
        line.append(f"\n    -> {shown(item.new)}", style="dim")
        out.console.print(line, soft_wrap=True)
    if more:
        out.console.print(f"  and {more:,} more; --verbose shows all.", style="dim")


def problems_of_plans(plans: Iterable[RestorePlan]) -> list[str]:
    """Return a line for each thing that cannot come back as it was."""
    found = []
    for plan in plans:
        found += [f"{plan.bag}: {fault.path}: {fault.why}" for fault in plan.damage]
        found += [f"{plan.bag}: {item.path}: {item.why}" for item in plan.not_done if item.fault]
    return found


def show_planned(out: Out, source: Chest, plans: Sequence[RestorePlan], left: Sequence[tuple[str, str]]) -> None:
    """Show plans that are not carried out: as a document, or in words."""
    if out.json:
        out.document(plans_document(source, plans))
    elif out.shows:
        show_plans(out, source, plans)
        show_left_behind(out, left)
