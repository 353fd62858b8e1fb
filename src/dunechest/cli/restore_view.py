"""How the plan and the account of a restore are shown."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from rich import box
from rich.table import Table
from rich.text import Text

from dunechest.cli.output import Out, finding_document, limited, show_findings
from dunechest.findings import stops
from dunechest.jobs.restore import RestorePlan
from dunechest.jobs.restore_contents import NotDone
from dunechest.jobs.restoring import RestoreResult
from dunechest.names import from_wire, shown
from dunechest.words import duration, number, size


def _not_done_document(items: Sequence[NotDone]) -> list[dict[str, Any]]:
    return [{"path": n.path, "why": n.why, "fault": n.fault} for n in items]


def plan_document(plan: RestorePlan) -> dict[str, Any]:
    """Return the JSON document of `restore --plan`."""
    return {
        "bag": plan.bag,
        "place": str(plan.place) if plan.place is not None else None,
        "files": len(plan.files),
        "bytes": plan.bytes,
        "folders": len(plan.folders),
        "links": len(plan.links),
        "strays": [{"was": s.origin, "goes": str(s.places[0]), "bytes": s.file.size} for s in plan.strays],
        "partial": list(plan.record.partial),
        "need": plan.need,
        "free": plan.free,
        "not_done": _not_done_document(plan.not_done),
        "renamed": [{"path": a, "here": b} for a, b in plan.renamed],
        "findings": [finding_document(f) for f in plan.findings],
        "would_run": not stops(plan.findings),
    }


def show_plan(out: Out, plan: RestorePlan) -> None:
    """Show `restore --plan`."""
    console = out.console
    record = plan.record
    where = shown(str(plan.place)) if plan.place is not None else "(no place known)"
    console.print(Text(shown(record.name), style="bold").append(f" -> {where}", style="not bold"), soft_wrap=True)
    console.print(
        f"from {shown(record.origin.machine)}, {shown(from_wire(record.origin.path))}, archived {record.archived}",
        style="dim",
        soft_wrap=True,
    )
    show_findings(console, plan.findings)
    table = Table(box=box.SIMPLE, show_header=False, pad_edge=False)
    table.add_row("to restore", number(len(plan.files) + len(plan.strays), "file"), size(plan.bytes))
    table.add_row("", number(len(plan.folders), "folder"), number(len(plan.links), "symbolic link"))
    table.add_row("room needed", size(plan.need), f"of {size(plan.free)} free")
    console.print(table)
    _show_strays(out, [(s.origin, s.places[0]) for s in plan.strays])
    _show_not_done(out, plan.not_done)
    _show_renamed(out, plan.renamed)
    if stops(plan.findings):
        console.print("As it stands, the restore would be refused.", style="bold red")
    console.print("This is a plan: nothing was written.", style="dim")


def _show_strays(out: Out, strays: Sequence[tuple[str, Path]]) -> None:
    if not strays:
        return
    out.console.print(f"{number(len(strays), 'file')} from outside the library, and where they go:", soft_wrap=True)
    some, more = limited(strays, out.verbose, 5)
    for origin, place in some:
        where = "" if str(place) == origin else f"  (was {shown(origin)})"
        out.console.print(Text(f"  {shown(str(place))}").append(where, style="dim"), soft_wrap=True)
    if more:
        out.console.print(f"  and {more:,} more; --verbose shows all.")


def _show_not_done(out: Out, items: Sequence[NotDone]) -> None:
    if not items:
        return
    out.console.print("Not brought back as it was, and why:")
    some, more = limited(sorted(items, key=lambda n: (not n.fault, n.path)), out.verbose)
    for one in some:
        line = Text("  ")
        line.append(shown(one.path), style="red" if one.fault else "")
        line.append(f"  {shown(one.why)}", style="dim")
        out.console.print(line, soft_wrap=True)
    if more:
        out.console.print(f"  and {more:,} more; --verbose shows all.")


def _show_renamed(out: Out, items: Sequence[tuple[str, str]]) -> None:
    if not items:
        return
    out.console.print(f"{number(len(items), 'name')} cannot be had here and get another:")
    some, more = limited(items, out.verbose)
    for path, here in some:
        out.console.print(f"  {shown(path)} -> {shown(here)}", soft_wrap=True)
    if more:
        out.console.print(f"  and {more:,} more; --verbose shows all.")


def result_document(result: RestoreResult) -> dict[str, Any]:
    """Return the JSON document of `restore`."""
    return {
        "bag": result.bag,
        "place": str(result.place),
        "well": result.well,
        "files_listed": result.files_listed,
        "files": result.files,
        "bytes": result.bytes,
        "folders": result.folders,
        "links": result.links,
        "strays": [{"was": origin, "place": str(place)} for origin, place in result.strays],
        "not_done": _not_done_document(result.not_done),
        "renamed": [{"path": a, "here": b} for a, b in result.renamed],
        "application": result.application or None,
        "seconds": round(result.seconds, 3),
        "findings": [finding_document(f) for f in result.findings],
    }


def show_result(out: Out, result: RestoreResult) -> None:
    """Show the account of a restore."""
    console = out.console
    if result.files or not result.files_listed:
        title = f"Restored {shown(result.bag)} to {shown(str(result.place))}"
    else:
        title = f"Nothing of {shown(result.bag)} could be restored"
    head = Text(title, style="green" if result.well else "yellow")
    head.append(f"  ({duration(result.seconds)})", style="dim")
    console.print(head, soft_wrap=True)
    console.print(
        f"{result.files:,} of {number(result.files_listed, 'file')}, {result.bytes:,} bytes, each checked by digest "
        f"as it was written; {number(result.folders, 'folder')}, {number(result.links, 'symbolic link')}.",
        soft_wrap=True,
    )
    _show_strays(out, result.strays)
    _show_not_done(out, result.not_done)
    _show_renamed(out, result.renamed)
    show_findings(console, result.findings)
    if result.application:
        console.print(f"Next: start {shown(result.application)} and let it open this place.", soft_wrap=True)
