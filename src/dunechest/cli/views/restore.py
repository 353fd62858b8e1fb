"""How offers, plans and accounts of a restore are shown."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from rich.text import Text

from dunechest.chest.chest import Chest
from dunechest.cli.output import Out, finding_document, limited, show_findings
from dunechest.cli.views import proof
from dunechest.cli.views.restore_lists import (
    by_hand_document,
    not_done_document,
    old_place_document,
    setting_document,
    show_by_hand,
    show_damage,
    show_not_done,
    show_outside_files,
    show_renamed,
)
from dunechest.jobs.restore.result import RestoreResult
from dunechest.ledger.deeds import Deed
from dunechest.names import shown
from dunechest.words import duration, number


def say_taken_back(out: Out, deed: Deed) -> None:
    """Say that something cut off was taken back, on standard error where a document goes to standard output."""
    if out.shows:
        out.console.print(
            f"A restore of {shown(deed.head.about)} had been interrupted; what it had begun was taken back.",
            style="yellow",
            soft_wrap=True,
        )


def problems(result: RestoreResult) -> list[str]:
    """Return a line for each thing that keeps a restore from being well."""
    found = [f"{result.bag}: {fault.path}: {fault.why}" for fault in result.damage]
    found += [f"{result.bag}: {item.path}: {item.why}" for item in result.not_done if item.fault]
    found += [
        f"{result.bag}: {line.what}: {line.then} then, {line.now} now" for line in result.proof.lines if not line.well
    ]
    return found


def result_document(result: RestoreResult) -> dict[str, Any]:
    """Return one account's part of the JSON document."""
    return {
        "bag": result.bag,
        "edition": result.edition,
        "place": str(result.place),
        "well": result.well,
        "parts": list(result.parts),
        "files_listed": result.files_listed,
        "files": result.files,
        "already_here": result.same,
        "left_as_here": list(result.kept),
        "replaced": list(result.replaced),
        "under_another_name": [{"path": a, "becomes": b} for a, b in result.beside],
        "joined": [
            {"path": b.path, "added": b.added, "differ": list(b.differ), "taken_out": b.taken} for b in result.merged
        ],
        "bytes": result.bytes,
        "folders": result.folders,
        "links": result.links,
        "set_aside": [{"was": str(old), "becomes": str(new)} for old, new in result.set_aside],
        "outside_files": [{"was": origin, "place": str(place)} for origin, place in result.outside_files],
        "references": {
            "updated": [{"file": r.source, "spot": r.spot, "old": r.old, "new": r.new} for r in result.updated],
            "by_hand": by_hand_document(result.by_hand),
        },
        "settings": [{**setting_document(change), "written": not why, "why": why} for change, why in result.settings],
        "proof": proof.document(result.proof),
        "not_done": not_done_document(result.not_done),
        "damaged_records": [{"path": f.path, "state": f.state, "why": f.why} for f in result.damage],
        "renamed": [{"path": a, "here": b} for a, b in result.renamed],
        "application": result.application or None,
        "seconds": round(result.seconds, 3),
        "old_place": old_place_document(result.old_place),
        "findings": [finding_document(f) for f in result.findings],
    }


def results_document(
    chest: Chest, results: Sequence[RestoreResult], left: Sequence[tuple[str, str]] = ()
) -> dict[str, Any]:
    """Return the JSON document of `restore`."""
    return {
        "chest": chest.id,
        "libraries": [result_document(result) for result in results],
        "left_behind": [{"library": name, "why": why} for name, why in left],
        "well": all(result.well for result in results) and not left,
    }


def show_result(out: Out, result: RestoreResult) -> None:
    """Show the account of a restore."""
    console = out.console
    if result.files < result.files_listed and not result.well:
        title = (
            f"INCOMPLETE: {result.files:,} of {number(result.files_listed, 'file')} of {shown(result.bag)} restored to "
            f"{shown(str(result.place))}"
        )
    elif not result.well:
        title = f"Restored {shown(result.bag)} to {shown(str(result.place))}, WITH PROBLEMS"
    else:
        title = f"Restored {shown(result.bag)} to {shown(str(result.place))}"
    head = Text(title, style="green" if result.well else "bold red")
    head.append(f"  ({duration(result.seconds)})", style="dim")
    console.print(head, soft_wrap=True)
    show_damage(out, result.damage)
    console.print(
        f"{result.files:,} of {number(result.files_listed, 'file')}, {result.bytes:,} bytes, each checked by digest"
        f"{_how(result)}; {number(result.folders, 'folder')}, {number(result.links, 'symbolic link')}.",
        soft_wrap=True,
    )
    for old, new in result.set_aside:
        console.print(f"Set aside: {shown(str(old))} is now {shown(str(new))}", soft_wrap=True)
    _show_joining(out, result)
    show_outside_files(out, result.outside_files)
    show_not_done(out, result.not_done)
    show_renamed(out, result.renamed)
    if result.updated:
        files = len({update.source for update in result.updated})
        console.print(
            f"{number(len(result.updated), 'reference')} in {number(files, 'file')} updated for this computer.",
            soft_wrap=True,
        )
    show_by_hand(out, result.by_hand)
    for change, why in result.settings:
        console.print(
            f"Not written: {why}" if why else f"{shown(str(change.file))} names the library's place now.",
            style="yellow" if why else "",
            soft_wrap=True,
        )
    proof.show(out, result.proof)
    show_findings(console, result.findings)
    if result.application and result.well:
        opens = "" if result.settings else f" and let it open {shown(str(result.place))}"
        console.print(f"Next: start {shown(result.application)}{opens}.", soft_wrap=True)


def _how(result: RestoreResult) -> str:
    if result.same:
        return f" as it was written, or (of {result.same:,}) where it was already"
    return " as it was written"


def _show_joining(out: Out, result: RestoreResult) -> None:
    console = out.console
    for brought in result.merged:
        if brought.taken:
            words = f"{shown(brought.path)}: {brought.taken:,} entries of other parts were left out"
        elif brought.added:
            words = (
                f"{shown(brought.path)}: {number(brought.added, 'entry', 'entries')} joined to those that were here"
            )
        else:
            words = f"{shown(brought.path)}: nothing in it was missing here"
        console.print(words + ".", soft_wrap=True)
        if brought.differ:
            some = ", ".join(shown(name) for name in brought.differ[:5])
            console.print(
                f"  {number(len(brought.differ), 'entry', 'entries')} in both that differ: {some}", soft_wrap=True
            )
    if result.beside:
        console.print(f"{number(len(result.beside), 'file')} of a name that is taken here, kept beside:")
        some_files, more = limited(result.beside, out.verbose, 5)
        for path, other in some_files:
            console.print(f"  {shown(path)} -> {shown(other)}", soft_wrap=True)
        if more:
            console.print(f"  and {more:,} more; --verbose shows all.")
    for words, paths in (("left as they are here", result.kept), ("replaced, the old ones kept", result.replaced)):
        if paths:
            console.print(f"{number(len(paths), 'file')} {words}, the first: {shown(paths[0])}", soft_wrap=True)


def show_last(out: Out, results: Sequence[RestoreResult]) -> None:
    """Say at the end what can be done if it was not what was wanted."""
    if any(result.undoable for result in results):
        out.console.print("To undo this restore: dunechest undo", style="dim")
