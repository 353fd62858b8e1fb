"""How found libraries are shown."""

from __future__ import annotations

from typing import Any

from dunechest.cli.output import Out, limited, listing
from dunechest.jobs.find import FindResult
from dunechest.names import shown
from dunechest.words import day, number, size


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
                "where": found.where,
                "evidence": list(found.library.evidence),
            }
            for found in result.libraries
        ],
        "searched": [str(path) for path in result.searched],
        "unreadable": list(result.unreadable),
        "broken_kinds": list(result.broken_kinds),
        "unknown": [
            {"place": str(one.path), "files": one.files, "bytes": one.bytes, "evidence": list(one.evidence)}
            for one in result.unknown
        ],
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
        places = [
            shown(str(found.library.path)) + (f"  ({shown(found.where)})" if found.where else "")
            for found in result.libraries
        ]
        listing(console, ("name", "kind", "size", "files", "last change"), rows, places, right=(2, 3))
        console.print("Next: dunechest look NAME, then dunechest archive NAME --to CHEST.", soft_wrap=True)
    else:
        where = ", ".join(shown(str(path)) for path in result.searched)
        console.print(f"No library of a known kind was found in {where}.", soft_wrap=True)
        console.print("Any folder or file can be archived by its path all the same.", soft_wrap=True)
    _show_unknown(out, result)
    for mistakes in result.broken_kinds:
        console.print("A kind file of yours has a mistake, and was passed over:", style="yellow")
        for text in mistakes.split("\n"):
            console.print(f"  {shown(text)}", soft_wrap=True)
    if not named:
        console.print("To search only some folder or drive: dunechest find PLACE", style="dim", soft_wrap=True)
    if result.unreadable:
        shown_ones, more = limited(result.unreadable, out.verbose, 5)
        console.print(f"{number(len(result.unreadable), 'folder')} could not be listed:", style="yellow")
        for path in shown_ones:
            console.print(f"  {shown(path)}", soft_wrap=True)
        if more:
            console.print(f"  and {more:,} more (--verbose shows them)")


def _show_unknown(out: Out, result: FindResult) -> None:
    """Show the folders that no kind fits."""
    if not result.unknown:
        return
    console = out.console
    some, more = limited(result.unknown, out.verbose, 12)
    console.print()
    console.print("No kind is known for these folders. Any of them can be archived by its path:", soft_wrap=True)
    rows = [(size(one.bytes), f"{one.files:,}", "; ".join(one.evidence)) for one in some]
    listing(console, ("size", "files", "why"), rows, [shown(str(one.path)) for one in some], right=(0, 1))
    if more:
        console.print(f"  and {more:,} more (--verbose shows them)")
    console.print("To describe such a folder: dunechest kinds draft FOLDER", style="dim", soft_wrap=True)
