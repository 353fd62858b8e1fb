"""How a library that was looked at is shown, and the drive it is to go to."""

from __future__ import annotations

from collections import Counter
from typing import Any

from rich import box
from rich.table import Table
from rich.text import Text

from dunechest.cli.output import Out, finding_document, limited, show_findings
from dunechest.jobs.look import DriveFit, Readiness
from dunechest.names import shown
from dunechest.words import number, size

_ROLES = {
    "essential": "cannot be lost",
    "rebuildable": "the application can make it again",
    "must-not-leave": "bought or licensed, stays here",
}
_STATES = {
    "inside": "inside the library",
    "outside": "to files stored elsewhere",
    "missing": "to files that do not exist",
    "away": "to the web",
    "folder": "to folders outside it",
}


def document(result: Readiness) -> dict[str, Any]:
    """Return the JSON document of `look`."""
    states: Counter[str] = Counter(r.state for r in result.references)
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
        "parts": [
            {"what": p.what, "name": p.name, "title": p.title, "files": len(p.files), "bytes": p.bytes}
            | {"outside_files": list(p.outside_files), "needs": list(p.needs)}
            for p in result.parts
        ],
        "references": {state: states[state] for state in _STATES},
        "references_not_inside": [
            {"source": r.source, "spot": r.spot, "text": r.text, "state": r.state, "target": r.target}
            for r in result.references
            if r.state != "inside"
        ],
        "outside_files": [
            {"path": s.entry.path, "bytes": s.entry.size, "references": len(s.references), "why_not": s.why_not}
            for s in (*result.selection.outside_files, *result.selection.outside_not_taken)
        ],
        "contains": [
            {"place": str(c.path), "kind": c.kind.name, "evidence": list(c.evidence)}
            for c in result.contents.contains
        ],
        "placeholders": [f.path for f in result.contents.listing.files if f.placeholder],
        "in_use_by": [{"process": u.process, "pid": u.pid, "how": u.how} for u in result.uses],
        "drive": _fit_document(result.fit) if result.fit is not None else None,
        "findings": [finding_document(f) for f in result.findings],
    }


def _fit_document(fit: DriveFit) -> dict[str, Any]:
    limits = fit.drive.place.limits
    probed = fit.drive.probed
    return {
        "chest": fit.chest.label,
        "filesystem": fit.drive.place.type,
        "mount": str(fit.drive.place.mount),
        "devices": sorted(fit.drive.devices),
        "bag": fit.bag,
        "state": fit.state,
        "need": fit.need,
        "free": fit.free,
        "bytes_a_second": round(fit.speed),
        "longest_name": limits.longest,
        "largest_file": limits.largest,
        "tells_case": limits.tells_case,
        "symbolic_links": probed.links if probed is not None else None,
        "time_step_ns": probed.time_step_ns if probed is not None else None,
    }


def show(out: Out, result: Readiness) -> None:
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
    evidence = "; ".join(shown(e) for e in library.evidence)
    console.print(Text(f"{shown(str(library.path))}  (known by {evidence})", style="dim"), soft_wrap=True)
    if result.fit is not None:
        _show_fit(out, result.fit)
    console.print()
    if result.findings:
        show_findings(console, result.findings)
    else:
        console.print("It can be archived: no problems found.", style="green")
    _show_roles(out, result)
    _show_parts(out, result)
    if not result.parts or out.verbose:
        _show_biggest(out, result)


def _show_fit(out: Out, fit: DriveFit) -> None:
    line = Text("for ")
    line.append(shown(fit.chest.label), style="bold")
    line.append(f", {shown(fit.drive.place.type)}: {size(fit.need)} needed of {size(fit.free)} free")
    if fit.speed:
        line.append(f", writes {size(int(fit.speed))}/s")
    out.console.print(line, soft_wrap=True)


def _show_roles(out: Out, result: Readiness) -> None:
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False)
    table.add_column("role")
    table.add_column("files", justify="right")
    table.add_column("size", justify="right")
    for role in result.roles:
        table.add_row(f"{role.role} ({_ROLES[role.role]})", f"{role.files:,}", size(role.bytes))
    table.add_row("together", f"{result.files:,}", size(result.bytes), style="bold")
    out.console.print(table, end="")
    facts = [number(max(result.folders - 1, 0), "folder"), number(result.links, "symbolic link")]
    states: Counter[str] = Counter(r.state for r in result.references)
    if result.references:
        words = ", ".join(f"{states[state]:,} {what}" for state, what in _STATES.items() if states[state])
        facts.append(f"{number(len(result.references), 'reference')}: {words}")
    out.console.print("also " + "; ".join(facts), style="dim", soft_wrap=True)


def _show_parts(out: Out, result: Readiness) -> None:
    if not result.parts:
        return
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False)
    table.add_column("part", overflow="fold")
    table.add_column("name", overflow="fold")
    for column in ("files", "outside", "size"):
        table.add_column(column, justify="right")
    some, more = limited(result.parts, out.verbose, 8)
    for part in some:
        outside = f"{len(part.outside_files):,}" if part.outside_files else ""
        table.add_row(
            Text(shown(part.what)),
            Text(shown(part.title), style="bold"),
            f"{len(part.files):,}",
            outside,
            size(part.bytes),
        )
    out.console.print(table, end="")
    if more:
        out.console.print(f"and {more:,} more parts (--verbose shows them)", style="dim")
    out.console.print("To take one part alone: dunechest archive NAME --part PART --to CHEST", style="dim")


def _show_biggest(out: Out, result: Readiness) -> None:
    if not result.biggest:
        return
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False)
    table.add_column("biggest things", overflow="fold")
    table.add_column("role")
    table.add_column("files", justify="right")
    table.add_column("size", justify="right")
    for thing in result.biggest:
        table.add_row(Text(shown(thing.path)), thing.role, f"{thing.files:,}", size(thing.bytes))
    out.console.print(table, end="")
