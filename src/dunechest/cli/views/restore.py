"""How offers, plans and accounts of a restore are shown."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

import msgspec
from rich import box
from rich.table import Table
from rich.text import Text

from dunechest.chest.chest import Chest
from dunechest.chest.tag_lists import RecordFault
from dunechest.cli.output import Out, finding_document, limited, show_findings
from dunechest.cli.views import proof
from dunechest.findings import stops
from dunechest.jobs.restore.plan import ByHand, NotDone, RestorePlan, SettingChange
from dunechest.jobs.restore.planning.saved_plan import saved_plan
from dunechest.jobs.restore.result import RestoreResult
from dunechest.ledger.deeds import Deed
from dunechest.names import from_wire, shown
from dunechest.words import duration, number, size


def say_taken_back(out: Out, deed: Deed) -> None:
    """Say that something cut off was taken back, on standard error where a document goes to standard output."""
    if out.shows:
        out.console.print(
            f"A restore of {shown(deed.head.about)} had been cut off; what it had begun was taken back.",
            style="yellow",
            soft_wrap=True,
        )


def _not_done_document(items: Sequence[NotDone]) -> list[dict[str, Any]]:
    return [{"path": n.path, "why": n.why, "fault": n.fault} for n in items]


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
        "strays": [
            {"was": s.origin, "goes": str(s.place), "bytes": s.file.size, "there": s.there} for s in plan.strays
        ],
        "references": {
            "stay": plan.references.stay,
            "anew": [{"file": r.source, "spot": r.spot, "old": r.old, "new": r.new} for r in plan.references.updates],
            "by_hand": _by_hand_document(plan.references.lost),
        },
        "settings": [_setting_document(change) for change in plan.settings],
        "settings_left": [_setting_document(change) for change in plan.settings_left],
        "partial": list(plan.record.partial),
        "need": plan.room.need,
        "free": plan.room.free,
        "not_done": _not_done_document(plan.not_done),
        "damaged_records": [{"path": f.path, "state": f.state, "why": f.why} for f in plan.damage],
        "renamed": [{"path": a, "here": b} for a, b in plan.renamed],
        "findings": [finding_document(f) for f in plan.findings],
        "would_run": not stops(plan.findings),
    }


def _by_hand_document(items: Sequence[ByHand]) -> list[dict[str, Any]]:
    return [{"file": b.source, "spot": b.spot, "text": b.text, "do": b.why} for b in items]


def _setting_document(change: SettingChange) -> dict[str, Any]:
    return {"file": str(change.file), "key": change.key, "old": change.old or None, "new": change.new}


def plans_document(chest: Chest, plans: Sequence[RestorePlan]) -> dict[str, Any]:
    """Return the JSON document of `restore --plan`, which `--follow` takes again."""
    return {
        "chest": chest.id,
        "libraries": [plan_document(plan) for plan in plans],
        "would_run": not any(stops(plan.findings) for plan in plans),
        "kept": msgspec.to_builtins(saved_plan(chest, plans)),
    }


def show_plans(out: Out, chest: Chest, plans: Sequence[RestorePlan], *, asking: bool = False) -> None:
    """Show plans, one below the other."""
    for plan in plans:
        show_plan(out, plan)
    console = out.console
    if any(stops(plan.findings) for plan in plans):
        console.print("As it stands, the restore would be refused.", style="bold red")
    if len(plans) > 1:
        files = sum(len(plan.files) + len(plan.strays) for plan in plans)
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
    table.add_row("to restore", number(len(plan.files) + len(plan.strays), "file"), size(plan.bytes))
    for words, count in (
        (
            "here already, only checked",
            len(existing.same) + len(existing.rewritten) + sum(s.there for s in plan.strays),
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
        said = f"{len(updates):,} written anew in {number(files, 'file')}" if updates else "none has to change"
        table.add_row("references", said, f"{plan.references.stay:,} are right as they are")
    console.print(table)
    for change in plan.settings:
        console.print(f"Setting of the application, to name the new place: {shown(str(change.file))}", soft_wrap=True)
    _show_anew(out, plan)
    _show_by_hand(out, plan.references.lost)
    _show_strays(out, [(s.origin, s.place) for s in plan.strays])
    _show_not_done(out, plan.not_done)
    _show_renamed(out, plan.renamed)
    if record.application and not stops(plan.findings):
        name = shown(record.application)
        console.print(f"First: install {name}, and do not start it. Last: start it; {_look(plan)}", soft_wrap=True)
    console.print()


def _look(plan: RestorePlan) -> str:
    if plan.settings or not plan.kind.settings:
        return f"it should show what it showed on {shown(plan.record.origin.machine)}."
    return f"let it open {shown(str(plan.place))}."


def _show_anew(out: Out, plan: RestorePlan) -> None:
    updates = plan.references.updates
    if not updates:
        return
    some, more = limited(updates, out.verbose, 3)
    out.console.print(f"{number(len(updates), 'reference')} to be written anew, the first:", soft_wrap=True)
    for item in some:
        line = Text(f"  {shown(item.old)}")
        line.append(f"\n    -> {shown(item.new)}", style="dim")
        out.console.print(line, soft_wrap=True)
    if more:
        out.console.print(f"  and {more:,} more; --verbose shows all.", style="dim")


def _show_by_hand(out: Out, items: Sequence[ByHand]) -> None:
    if not items:
        return
    out.console.print(f"{number(len(items), 'reference')} to look at by hand:", soft_wrap=True)
    some, more = limited(items, out.verbose, 5)
    for item in some:
        line = Text(f"  {shown(item.text)}")
        line.append(f"  in {shown(item.source)}, {shown(item.spot)}: {shown(item.why)}.", style="dim")
        out.console.print(line, soft_wrap=True)
    if more:
        out.console.print(f"  and {more:,} more; --verbose shows all.")


def _show_strays(out: Out, strays: Sequence[tuple[str, Path]]) -> None:
    if not strays:
        return
    where = "it goes" if len(strays) == 1 else "they go"
    out.console.print(f"{number(len(strays), 'file')} from outside the library, and where {where}:", soft_wrap=True)
    some, more = limited(strays, out.verbose, 5)
    for origin, place in some:
        if not origin or str(place) == origin:
            out.console.print(f"  {shown(str(place))}", soft_wrap=True)
            continue
        line = Text(f"  {shown(origin)}")
        out.console.print(line.append(f"\n    -> {shown(str(place))}", style="dim"), soft_wrap=True)
    if more:
        out.console.print(f"  and {more:,} more; --verbose shows all.")


def _show_not_done(out: Out, items: Sequence[NotDone]) -> None:
    if not items:
        return
    out.console.print("Not brought back as it was, and why:")
    some, more = limited(sorted(items, key=lambda n: (not n.fault, n.path)), out.verbose)
    for item in some:
        line = Text("  ")
        line.append(shown(item.path), style="red" if item.fault else "")
        line.append(f"  {shown(item.why)}", style="dim")
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


def problems(result: RestoreResult) -> list[str]:
    """Return a line for each thing that keeps a restore from being well."""
    found = [f"{result.bag}: {fault.path}: {fault.why}" for fault in result.damage]
    found += [f"{result.bag}: {item.path}: {item.why}" for item in result.not_done if item.fault]
    found += [
        f"{result.bag}: {line.what}: {line.then} then, {line.now} now" for line in result.proof.lines if not line.well
    ]
    return found


def show_damage(out: Out, damage: Sequence[RecordFault]) -> None:
    """Show which records of an archive are damaged."""
    for fault in damage:
        line = Text(f"Damaged record in the archive: {shown(fault.path)}", style="red")
        line.append(f"  {shown(fault.why)}", style="dim")
        out.console.print(line, soft_wrap=True)


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
        "strays": [{"was": origin, "place": str(place)} for origin, place in result.strays],
        "references": {
            "anew": [{"file": r.source, "spot": r.spot, "old": r.old, "new": r.new} for r in result.updated],
            "by_hand": _by_hand_document(result.by_hand),
        },
        "settings": [
            {**_setting_document(change), "written": not why, "why": why} for change, why in result.settings
        ],
        "proof": proof.document(result.proof),
        "not_done": _not_done_document(result.not_done),
        "damaged_records": [{"path": f.path, "state": f.state, "why": f.why} for f in result.damage],
        "renamed": [{"path": a, "here": b} for a, b in result.renamed],
        "application": result.application or None,
        "seconds": round(result.seconds, 3),
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
    _show_strays(out, result.strays)
    _show_not_done(out, result.not_done)
    _show_renamed(out, result.renamed)
    if result.updated:
        files = len({update.source for update in result.updated})
        console.print(
            f"{number(len(result.updated), 'reference')} in {number(files, 'file')} written anew for this machine.",
            soft_wrap=True,
        )
    _show_by_hand(out, result.by_hand)
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


def show_left_behind(out: Out, items: Sequence[tuple[str, str]]) -> None:
    """Name the libraries that a restore of all leaves out."""
    for name, why in items:
        out.console.print(f"NOT RESTORED: {shown(name)}: {shown(why)}", style="bold red", soft_wrap=True)
        out.console.print(
            "-> What is intact of it can be restored by itself, with --into FOLDER; dunechest verify says what is not.",
            soft_wrap=True,
        )
