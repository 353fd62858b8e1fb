"""How found libraries are shown."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from rich.text import Text

from dunechest.cli.output import Out, limited, listing
from dunechest.jobs.find import FindResult, FoundDrive, FoundLibrary
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
                "rebuildable": found.rebuildable,
                "drive": str(found.drive),
                "changed": found.changed,
                "where": found.where,
                "evidence": list(found.library.evidence),
                "contains": [{"place": str(inner.path), "kind": inner.kind.name} for inner in found.contains],
            }
            for found in result.libraries
        ],
        "drives": [
            {
                "place": str(drive.place),
                "filesystem": drive.filesystem,
                "free": drive.free,
                "total": drive.total,
                "essential": drive.essential,
                "rebuildable": drive.rebuildable,
            }
            for drive in result.drives
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
    """Show `find`: a table for each drive, and the folders that no kind fits."""
    console = out.console
    if result.libraries:
        for drive in result.drives:
            _show_drive(out, drive, [found for found in result.libraries if found.drive == drive.place])
        of_none = [found for found in result.libraries if found.drive not in {drive.place for drive in result.drives}]
        _show_libraries(out, of_none)
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


def _show_drive(out: Out, drive: FoundDrive, libraries: Sequence[FoundLibrary]) -> None:
    room = f"{size(drive.free)} free of {size(drive.total)}"
    takes = f"the libraries here take {size(drive.essential + drive.rebuildable)}"
    if drive.rebuildable:
        takes += f", {size(drive.rebuildable)} of which can be made again"
    text = Text(f"Drive {shown(str(drive.place))}", style="bold").append(f"  {room}; {takes}", style="not bold")
    out.console.print(text, soft_wrap=True)
    _show_libraries(out, libraries)


def _show_libraries(out: Out, libraries: Sequence[FoundLibrary]) -> None:
    if not libraries:
        return
    rows = [
        (
            found.library.name,
            shown(found.library.kind.title),
            size(found.essential),
            size(found.rebuildable) if found.rebuildable else "",
            f"{found.files:,}",
            day(found.changed),
        )
        for found in libraries
    ]
    places = []
    for found in libraries:
        told = found.where and found.where != f"the drive in {found.drive}"
        place = shown(str(found.library.path)) + (f"  ({shown(found.where)})" if told else "")
        if found.library.kind.open:
            place += f"\nknown by {shown('; '.join(found.library.evidence))}"
        if found.contains:
            some, more = limited(found.contains, out.verbose, 4)
            names = ", ".join(f"{one.path.relative_to(found.library.path)} ({one.kind.title})" for one in some)
            place += f"\ncontains {shown(names)}" + (f" and {more} more" if more else "")
        places.append(place)
    heads = ("name", "kind", "essential", "rebuildable", "files", "last change")
    listing(out.console, heads, rows, places, right=(2, 3, 4))


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
