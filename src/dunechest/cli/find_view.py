"""How found libraries, and one looked at, are shown."""

from __future__ import annotations

from typing import Any

from rich import box
from rich.table import Table
from rich.text import Text

from dunechest.cli.output import Out, finding_document, limited, listing, show_findings
from dunechest.jobs.find import FindResult
from dunechest.jobs.look import Readiness
from dunechest.names import shown
from dunechest.report.words import day, number, size


def document(result: FindResult) -> dict[str, Any]:
    """Return the JSON document of `find`."""
    return {
        "libraries": [
            {
                "name": found.library.name,
                "kind": found.library.kind.name,
                "place": str(found.library.path),
                "files": found.files,
                "bytes": found.bytes,
                "changed": found.changed,
                "evidence": list(found.library.evidence),
            }
            for found in result.libraries
        ],
        "searched": [str(path) for path in result.searched],
        "unreadable": list(result.unreadable),
    }


def show(out: Out, result: FindResult, *, named: bool) -> None:
    """Show `find` as a table."""
    console = out.console
    if result.libraries:
        rows = [
            (
                found.library.name,
                shown(found.library.kind.title),
                size(found.bytes),
                f"{found.files:,}",
                day(found.changed),
            )
            for found in result.libraries
        ]
        places = [shown(str(found.library.path)) for found in result.libraries]
        listing(console, ("name", "kind", "size", "files", "last change"), rows, places, right=(2, 3))
        console.print("Next: dunechest look NAME, then dunechest archive NAME --to CHEST.", soft_wrap=True)
    else:
        where = ", ".join(shown(str(path)) for path in result.searched)
        console.print(f"No library of a known kind was found in {where}.", soft_wrap=True)
        console.print("Any folder or file can be archived by its path all the same.", soft_wrap=True)
    if not named:
        console.print("To search another drive or folder too: dunechest find PLACE", style="dim", soft_wrap=True)
    if result.unreadable:
        shown_ones, more = limited(result.unreadable, out.verbose, 5)
        console.print(f"{number(len(result.unreadable), 'folder')} could not be listed:", style="yellow")
        for path in shown_ones:
            console.print(f"  {shown(path)}", soft_wrap=True)
        if more:
            console.print(f"  and {more:,} more (--verbose shows them)")


def look_document(result: Readiness) -> dict[str, Any]:
    """Return the JSON document of `look`."""
    return {
        "name": result.library.name,
        "kind": result.library.kind.name,
        "place": str(result.library.path),
        "evidence": list(result.library.evidence),
        "files": result.files,
        "bytes": result.bytes,
        "folders": result.folders,
        "links": result.links,
        "roles": [{"role": r.role, "files": r.files, "bytes": r.bytes} for r in result.roles],
        "biggest": [{"path": b.path, "role": b.role, "files": b.files, "bytes": b.bytes} for b in result.biggest],
        "in_use_by": [{"process": u.process, "pid": u.pid, "how": u.how} for u in result.uses],
        "findings": [finding_document(f) for f in result.findings],
    }


def show_look(out: Out, result: Readiness) -> None:
    """Show `look`: findings first, then what is in the library."""
    console = out.console
    library = result.library
    head = Text(library.name, style="bold")
    kind = library.kind
    head.append(
        f"  {shown(kind.title)}" + (f", kept by {shown(kind.application)}" if kind.application else ""),
        style="not bold",
    )
    console.print(head, soft_wrap=True)
    console.print(Text(shown(str(library.path)), style="dim"), soft_wrap=True)
    console.print(Text("known by: " + "; ".join(shown(e) for e in library.evidence), style="dim"), soft_wrap=True)
    console.print()
    if result.findings:
        show_findings(console, result.findings)
    else:
        console.print("Nothing stands in the way of archiving it.", style="green")
    console.print()
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False)
    table.add_column("role")
    table.add_column("files", justify="right")
    table.add_column("size", justify="right")
    for role in result.roles:
        what = "cannot be lost" if role.role == "essential" else "the application can make it again"
        table.add_row(f"{role.role} ({what})", f"{role.files:,}", size(role.bytes))
    table.add_row("together", f"{result.files:,}", size(result.bytes), style="bold")
    console.print(table)
    folders = number(max(result.folders - 1, 0), "folder")
    console.print(f"also {folders} and {number(result.links, 'symbolic link')}", style="dim")
    if result.biggest:
        table = Table(box=box.SIMPLE_HEAD, pad_edge=False)
        table.add_column("biggest things", overflow="fold")
        table.add_column("role")
        table.add_column("files", justify="right")
        table.add_column("size", justify="right")
        for thing in result.biggest:
            table.add_row(Text(shown(thing.path)), thing.role, f"{thing.files:,}", size(thing.bytes))
        console.print(table)
