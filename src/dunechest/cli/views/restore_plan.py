"""How plans of a restore are shown."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Any

import msgspec
from rich.text import Text

from dunechest.chest.chest import Chest
from dunechest.cli.layout import BAD, GOOD, facts, homely, say
from dunechest.cli.output import Out, show_findings
from dunechest.cli.views.restore_lists import (
    show_by_hand,
    show_damage,
    show_left_behind,
    show_not_done,
    show_outside_files,
    show_renamed,
)
from dunechest.findings import blocking
from dunechest.jobs.restore.planning.saved_plan import saved_plan
from dunechest.model.restore import LeftBehind, RestorePlan
from dunechest.names import from_wire, shown
from dunechest.words import local, number, size


def note_plans(out: Out, chest: Chest, plans: Sequence[RestorePlan], left: Sequence[LeftBehind]) -> None:
    """Note the document of `restore --plan`, which `--apply-plan` takes."""
    if not out.json:
        return
    saved: Any = msgspec.to_builtins(saved_plan(chest, plans)) if plans else {}
    would_run = all(plan.would_run for plan in plans)
    behind = [{"name": name, "why": why} for name, why in left]
    out.document("restore-plan", chest, libraries=plans, left_behind=behind, would_run=would_run, saved_plan=saved)
    for plan in plans:
        out.note_findings(plan.findings, plan.name)


def show_plans(out: Out, plans: Sequence[RestorePlan], *, asking: bool = False) -> None:
    """Show plans, one below the other."""
    console = out.console
    refused = [plan.record.name for plan in plans if not plan.would_run]
    if refused:
        say(console, f"This would be refused: {', '.join(map(shown, refused))} cannot be restored like this.", BAD)
    elif not asking:
        say(console, "This is a plan; nothing was changed.", GOOD)
    for plan in plans:
        show_plan(out, plan)
    if len(plans) > 1:
        files = sum(len(plan.files) + len(plan.outside_files) for plan in plans)
        total = size(sum(plan.size_bytes for plan in plans))
        say(console, f"{number(len(plans), 'library', 'libraries')}, {number(files, 'file')}, {total}.", "bold")


def show_plan(out: Out, plan: RestorePlan) -> None:
    """Show one plan: where from, where to, what already exists, what is updated, what to do first and last."""
    console = out.console
    record = plan.record
    console.print()
    say(console, Text(shown(record.name), style="bold"))
    if plan.path is not None:
        console.print(out.place(plan.path, before="to "), soft_wrap=True)
    else:
        say(console, "to: destination unknown", BAD, indent=4)
    edition = f", edition {record.edition}" if record.edition > 1 or plan.options.edition else ""
    origin = from_wire(record.origin.path)
    console.print(out.place(origin, before=f"from {shown(record.origin.machine)}, "), soft_wrap=True)
    say(console, f"archived {local(record.archived)}{edition}", indent=4)
    show_damage(out, plan.damaged_records)
    show_not_done(out, plan.not_restored, only_faults=True)
    # What to do first stands below, with what to do last.
    show_findings(out, [finding for finding in plan.findings if finding.code != "first"])
    facts(console, list(_facts(plan)))
    for change in plan.settings:
        say(console, f"Library location to be updated in: {homely(change.file)}", indent=2)
    _show_updates(out, plan)
    show_by_hand(out, plan.references.lost)
    show_outside_files(out, [(s.path, s.new_path) for s in plan.outside_files])
    show_not_done(out, [item for item in plan.not_restored if not item.fault])
    show_renamed(out, plan.renamed)
    if record.application and not blocking(plan.findings) and not plan.options.files:
        name = shown(record.application)
        say(console, f"First: install {name}, and do not start it. Last: start it; {_look(plan)}")


def _facts(plan: RestorePlan) -> Iterator[tuple[str, str, str]]:
    existing = plan.existing
    if plan.options.parts:
        yield "only", ", ".join(shown(part.title) for part in plan.chosen_parts), ""
    yield "to restore", number(len(plan.files) + len(plan.outside_files), "file"), size(plan.size_bytes)
    for words, count in (
        ("already exist, only checked", existing.there + sum(s.exists for s in plan.outside_files)),
        ("kept as they are here", len(existing.kept)),
        ("replaced; your files are kept", len(existing.replaced)),
        ("restored under another name", len(existing.beside)),
        ("merged with yours", len(existing.merged)),
    ):
        if count:
            yield "  of these", number(count, "file"), words
    if plan.folders:
        yield "folders", number(len(plan.folders), "folder"), ""
    if plan.links:
        yield "links", number(len(plan.links), "symbolic link"), ""
    yield "space needed", size(plan.room.need), f"of {size(plan.room.free)} free"
    updates = plan.references.updates
    if updates:
        files = len({update.file for update in updates})
        yield (
            "references",
            f"{len(updates):,} to update",
            f"in {number(files, 'file')}; {plan.references.stay:,} correct",
        )
    elif plan.kind.references:
        yield "references", "none to update", f"{plan.references.stay:,} correct"


def _look(plan: RestorePlan) -> str:
    if plan.settings or not plan.kind.settings:
        return f"it should show what it showed on {shown(plan.record.origin.machine)}."
    return f"let it open {homely(str(plan.path))}."


def _show_updates(out: Out, plan: RestorePlan) -> None:
    updates = plan.references.updates
    title = f"{number(len(updates), 'reference')} to be updated:"
    out.show_pairs(title, [(item.old, item.new) for item in updates], most=3)


def problems_of_plans(plans: Iterable[RestorePlan]) -> list[str]:
    """Return a line for each thing that cannot be restored as it was."""
    found = []
    for plan in plans:
        found += [f"{plan.name}: {fault.path}: {fault.why}" for fault in plan.damaged_records]
        found += [f"{plan.name}: {item.path}: {item.why}" for item in plan.not_restored if item.fault]
    return found


def show_planned(out: Out, source: Chest, plans: Sequence[RestorePlan], left: Sequence[LeftBehind]) -> None:
    """Show plans that are not carried out: as a document, or in words."""
    note_plans(out, source, plans, left)
    if out.shows:
        show_plans(out, plans)
        show_left_behind(out, left)
