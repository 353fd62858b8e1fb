"""How the plan and the account of an archive are shown."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import msgspec
from rich import box
from rich.table import Table
from rich.text import Text

from dunechest.chest.chest import Chest
from dunechest.chest.records import ChangeCounts
from dunechest.cli.output import Out, finding_document, limited, show_findings
from dunechest.cli.views.chest import chest_document
from dunechest.findings import blocking
from dunechest.jobs.archive.plan import ArchivePlan
from dunechest.jobs.archive.result import ArchiveResult
from dunechest.jobs.study.selection import LeftBehind
from dunechest.names import shown
from dunechest.words import duration, number, size

_STATES = {
    "new": "will be archived",
    "unchanged": "nothing has changed since it was archived; nothing will be done",
    "next": "will get its next edition",
    "barred": "cannot be archived under this name",
}


def _left_document(left: Sequence[LeftBehind]) -> list[dict[str, Any]]:
    return [{"path": o.path, "bytes": o.size, "why": o.why, "fault": o.fault} for o in left]


def plans_document(plans: Sequence[ArchivePlan], despite: Sequence[str]) -> dict[str, Any]:
    """Return the JSON document of `archive --plan`."""
    return {
        "plan": [
            {
                "library": plan.library.name,
                "kind": plan.library.kind.name,
                "place": str(plan.library.path),
                "bag": plan.bag,
                "state": plan.state,
                "edition": plan.edition,
                "files_kept": len(plan.kept) + len(plan.kept_databases),
                "files_dropped": len(plan.previous.dropped) if plan.previous is not None else 0,
                "parts": [part.title for part in plan.selection.parts],
                "outside_files": [{"path": s.entry.path, "bytes": s.entry.size} for s in plan.outside_files],
                "outside_files_not_archived": [
                    {"path": s.entry.path, "bytes": s.entry.size, "why": s.why_not}
                    for s in plan.selection.outside_not_taken
                ],
                "files_found": plan.files_found,
                "bytes_found": plan.bytes_found,
                "files_to_copy": len(plan.files) + len(plan.databases),
                "bytes_to_copy": plan.bytes_to_copy,
                "databases_to_capture": [d.file.entry.path for d in plan.databases],
                "left_out": _left_document(
                    [
                        *plan.left_out,
                        *(_held(c.entry.path, c.entry.size) for d in plan.databases for c in d.companions),
                    ]
                ),
                "changed_names": [{"path": a, "stored": b} for a, b in sorted(plan.changed_names.items())],
                "links": len(plan.listing.links),
                "folders": len(plan.listing.folders),
                "need": plan.room.need,
                "free": plan.room.free,
                "files": [
                    {"path": f.entry.path, "stored": f.stored, "bytes": f.entry.size, "role": f.role}
                    for f in sorted((*plan.files, *(d.file for d in plan.databases)), key=lambda f: f.stored)
                ],
                "findings": [finding_document(f) for f in plan.findings],
            }
            for plan in plans
        ],
        "would_run": not any(blocking(plan.findings, despite) for plan in plans),
    }


def _held(path: str, count: int) -> LeftBehind:
    return LeftBehind(path, count, "its content comes along in the captured database", False)


def show_plans(out: Out, plans: Sequence[ArchivePlan], despite: Sequence[str]) -> None:
    """Show `archive --plan`."""
    console = out.console
    for plan in plans:
        console.print()
        head = Text(plan.library.name, style="bold")
        head.append(f" -> {shown(plan.chest.label)}/{shown(plan.bag)}: {_STATES[plan.state]}", style="not bold")
        console.print(head, soft_wrap=True)
        _show_parts(out, [part.title for part in plan.selection.parts])
        show_findings(console, plan.findings)
        table = Table(box=box.SIMPLE, show_header=False, pad_edge=False)
        held = [_held(c.entry.path, c.entry.size) for d in plan.databases for c in d.companions]
        left = [*plan.left_out, *held]
        copies = len(plan.files) + len(plan.databases)
        kept = len(plan.kept) + len(plan.kept_databases)
        table.add_row("found", number(plan.files_found, "file"), size(plan.bytes_found))
        if plan.state == "next" and plan.previous is not None:
            table.add_row(
                "as before", number(kept, "file"), "not read" if not plan.options.read_all else "read again"
            )
            table.add_row("new or changed", number(copies, "file"), size(plan.bytes_to_copy))
            table.add_row("gone since", number(len(plan.previous.dropped), "file"), "kept in the earlier edition")
        else:
            table.add_row("to copy", number(copies, "file"), size(plan.bytes_to_copy))
        if plan.outside_files:
            table.add_row(
                "of it from outside",
                number(len(plan.outside_files), "file"),
                size(sum(s.entry.size for s in plan.outside_files)),
            )
        table.add_row("left out", number(len(left), "file"), size(sum(o.size for o in left)))
        if plan.databases:
            table.add_row("captured by SQLite", number(len(plan.databases), "database"), "")
        if plan.listing.links:
            table.add_row("recorded", number(len(plan.listing.links), "symbolic link"), "")
        if plan.state in ("new", "next"):
            table.add_row("room needed", size(plan.room.need), f"of {size(plan.room.free)} free")
        console.print(table)
        _show_left(out, left)
        _show_names(out, sorted(plan.changed_names.items()))
    if any(blocking(plan.findings, despite) for plan in plans):
        console.print("As it stands, the archive would be refused.", style="bold red")
    console.print("This is a plan: nothing was written.", style="dim")


def _show_parts(out: Out, parts: Sequence[str]) -> None:
    if parts:
        out.console.print(
            f"Only {', '.join(shown(part) for part in parts)}, and what that needs: the copy is partial.",
            style="yellow",
            soft_wrap=True,
        )


def _show_left(out: Out, left: Sequence[LeftBehind]) -> None:
    if not left:
        return
    console = out.console
    console.print("Left out, and why:")
    some, more = limited(sorted(left, key=lambda o: (not o.fault, o.path)), out.verbose)
    for item in some:
        line = Text("  ")
        line.append(shown(item.path), style="red" if item.fault else "")
        line.append(f"  {size(item.size)}: {shown(item.why)}", style="dim")
        console.print(line, soft_wrap=True)
    if more:
        console.print(f"  and {more:,} more; --verbose shows all, and dune/library.json in the bag lists them.")


def _show_names(out: Out, names: Sequence[tuple[str, str]]) -> None:
    if not names:
        return
    out.console.print(
        f"{number(len(names), 'name')} cannot be kept on this drive or in a manifest as written; restoring brings "
        "the true ones back:",
        soft_wrap=True,
    )
    some, more = limited(names, out.verbose, 5)
    for path, stored in some:
        out.console.print(f"  {shown(path)} -> {shown(stored)}", soft_wrap=True, style="dim")
    if more:
        out.console.print(f"  and {more:,} more; --verbose shows all.")


def results_document(results: Sequence[ArchiveResult], chest: Chest) -> dict[str, Any]:
    """Return the JSON document of `archive`."""
    return {
        "chest": chest_document(chest),
        "archived": [
            {
                "library": r.library,
                "bag": r.bag,
                "folder": str(r.folder),
                "state": r.state,
                "edition": r.edition,
                "files_kept": r.kept,
                "changes": msgspec.to_builtins(r.changes) if r.changes is not None else None,
                "silent_changes": list(r.silent),
                "healed": list(r.healed),
                "lost": [{"path": path, "why": why} for path, why in r.lost],
                "well": r.well,
                "files_found": r.files_found,
                "bytes_found": r.bytes_found,
                "files_copied": r.files_copied,
                "bytes_copied": r.bytes_copied,
                "bytes_stored": r.bytes_stored,
                "left_out": _left_document(r.left_out),
                "parts": list(r.parts),
                "outside_files": r.outside_files,
                "outside_bytes": r.outside_bytes,
                "outside_files_not_archived": r.outside_left,
                "folders": r.folders,
                "links": r.links,
                "databases_captured": r.databases,
                "changed_names": [{"path": a, "stored": b} for a, b in r.changed_names],
                "read_again": list(r.again),
                "broken_databases": [{"path": a, "why": b} for a, b in r.broken],
                "appeared_meanwhile": list(r.appeared),
                "changed_meanwhile": list(r.moved_on),
                "taken_up_from_before": r.resumed,
                "seconds": round(r.seconds, 3),
                "findings": [finding_document(f) for f in r.findings],
            }
            for r in results
        ],
    }


def changes_in_words(changes: ChangeCounts) -> str:
    """Say in words what an edition changed."""
    counts = (
        (changes.added, "added"),
        (changes.changed, "changed"),
        (changes.moved, "moved"),
        (changes.dropped, "dropped"),
    )
    words = ", ".join(f"{count:,} {what}" for count, what in counts if count)
    return f"since the edition before: {words or 'no file was added, changed, moved or dropped'}"


def problems(result: ArchiveResult) -> list[str]:
    """Return a line for each thing that keeps an archive from being well."""
    name = result.library
    found = [f"{name}: {file.path}: left out: {file.why}" for file in result.left_out if file.fault]
    found += [f"{name}: {path}: {why}" for path, why in result.broken]
    found += [f"{name}: {path}: it came after the archive had begun" for path in result.appeared]
    found += [f"{name}: {path}: it changed after it was copied" for path in result.moved_on]
    found += [f"{name}: {path}: its content changed without a new size or date" for path in result.silent]
    return found + [f"{name}: {path}: lost in the chest: {why}" for path, why in result.lost]


def _show_mended(out: Out, result: ArchiveResult, name: str) -> None:
    """Say what the chest had lost, and whether the library could give it back."""
    for paths, words, style in (
        (result.healed, f"had gone from {name}, or had another size there; copied again, byte for byte", "yellow"),
        (tuple(path for path, _ in result.lost), f"LOST from {name}: the library has other bytes by now", "bold red"),
    ):
        if paths:
            out.console.print(f"{number(len(paths), 'file')} {words}:", style=style, soft_wrap=True)
            some, more = limited(paths, out.verbose, 5)
            for path in some:
                out.console.print(f"  {shown(path)}", soft_wrap=True)
            if more:
                out.console.print(f"  and {more:,} more; --verbose shows all.")


def tell(out: Out, result: ArchiveResult, chest: Chest) -> None:
    """Note what is wrong with a result, and show it where results are shown in words."""
    out.problem(*problems(result))
    if out.shows:
        show_result(out, result, chest)


def show_result(out: Out, result: ArchiveResult, chest: Chest) -> None:
    """Show the account of one library."""
    console = out.console
    console.print()
    name = f"{shown(chest.label)}/{shown(result.bag)}"
    _show_mended(out, result, name)
    if result.state == "unchanged":
        console.print(
            f"{shown(result.library)}: nothing has changed since it was archived in {name}.",
            style="green",
            soft_wrap=True,
        )
        console.print(
            f"{number(result.files_found, 'file')} compared by name, size and time; names and sizes in the chest fit, too. "
            "dunechest verify looks at every byte.",
            style="dim",
        )
        return
    rate = f", {size(int(result.bytes_copied / result.seconds))}/s" if result.seconds > 1 else ""
    edition = f", edition {result.edition}" if result.edition > 1 else ""
    head = Text(f"Archived {shown(result.library)} in {name}{edition}", style="green" if result.well else "yellow")
    head.append(f"  ({duration(result.seconds)}{rate})", style="dim")
    console.print(head, soft_wrap=True)
    _show_parts(out, result.parts)
    show_findings(console, result.findings)
    console.print(_sums(result))
    for extra in _extras(result):
        console.print(f"  {extra}", style="dim", soft_wrap=True)
    _show_left(out, result.left_out)
    _show_names(out, result.changed_names)
    _warnings(out, "SQLite is not content with these databases:", [f"{a}: {b}" for a, b in result.broken])
    _warnings(out, "These appeared after the run began and are not in the archive:", result.appeared)
    _warnings(out, "Silent changes: other bytes, though size and time are the same:", result.silent)
    _warnings(out, "These changed after they had been copied:", result.moved_on)


def _sums(result: ArchiveResult) -> Table:
    """Return the table of what was found, copied and left out."""
    table = Table(box=box.SIMPLE, show_header=False, pad_edge=False)
    table.add_column()
    table.add_column(justify="right")
    table.add_column(justify="right")
    table.add_column()
    table.add_row("found", number(result.files_found, "file"), f"{result.bytes_found:,} bytes", "")
    written, copied = result.files_copied, result.bytes_copied
    if result.changes is not None:
        written, copied = written - result.kept, result.changes.bytes_added
        table.add_row("as before", number(result.kept, "file"), "", "on the drive already")
    table.add_row("copied", number(written, "file"), f"{copied:,} bytes", "each read back and compared")
    if result.outside_files:
        outside_files = number(result.outside_files, "file")
        whole = "of these" if result.changes is None else "of all"
        table.add_row(whole, outside_files, f"{result.outside_bytes:,} bytes", "gathered from outside the library")
    table.add_row("left out", number(len(result.left_out), "file"), f"{result.bytes_left_out:,} bytes", "")
    return table


def _extras(result: ArchiveResult) -> Iterator[str]:
    """Yield what else there is to say, a line each."""
    if result.changes is not None:
        yield changes_in_words(result.changes)
    if result.databases:
        yield f"{number(result.databases, 'database')} captured by SQLite, with what was in the log"
    if result.links:
        yield f"{number(result.links, 'symbolic link')} recorded"
    if result.resumed:
        yield f"{number(result.resumed, 'file')} taken up from a run that was interrupted"
    if result.again:
        yield f"{number(len(result.again), 'file')} changed while being read and read again"


def _warnings(out: Out, title: str, lines: Sequence[str]) -> None:
    if not lines:
        return
    out.console.print(title, style="yellow")
    some, more = limited(lines, out.verbose)
    for line in some:
        out.console.print(f"  {shown(line)}", soft_wrap=True)
    if more:
        out.console.print(f"  and {more:,} more; --verbose shows all.")
