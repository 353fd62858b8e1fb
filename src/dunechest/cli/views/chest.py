"""How chests are shown."""

from __future__ import annotations

import datetime
from typing import TYPE_CHECKING, Any

from rich import box
from rich.table import Table
from rich.text import Text

from dunechest import clock
from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.cli.output import Out, listing
from dunechest.jobs.chests import ChestContents
from dunechest.jobs.known_chests import ChestList
from dunechest.names import from_wire, quoted, shown
from dunechest.words import ago, number, size

if TYPE_CHECKING:
    from dunechest.ledger.ledger import PastCheck, PastDrill


def chest_document(chest: Chest) -> dict[str, Any]:
    """Return a chest for a JSON document."""
    return {
        "id": chest.id,
        "label": chest.label,
        "folder": str(chest.folder),
        "made": chest.record.made,
        "finished_on_opening": list(chest.recovered),
    }


def show_new(out: Out, chest: Chest) -> None:
    """Show that a chest was made."""
    label = shown(chest.label)
    out.console.print(f"Made the chest {label!r} in {shown(str(chest.folder))}", style="green", soft_wrap=True)
    out.console.print(f"Next: dunechest find, then dunechest archive NAME --to {label}", soft_wrap=True)


def list_document(result: ChestList) -> dict[str, Any]:
    """Return the JSON document of `chest list`."""
    return {
        "chests": [
            {
                "id": c.id,
                "label": c.label,
                "folder": str(c.folder),
                "present": c.present,
                "last_seen": c.seen,
                "free": c.free,
            }
            for c in result.chests
        ]
    }


def show_list(out: Out, result: ChestList) -> None:
    """Show the known chests as a table."""
    if not result.chests:
        out.console.print(
            "No chest is known yet. To make one: dunechest chest new FOLDER --label NAME", soft_wrap=True
        )
        return
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False)
    for name in ("label", "here now", "free", "last met", "folder", "id"):
        table.add_column(name, overflow="fold", justify="right" if name == "free" else "left")
    for c in result.chests:
        table.add_row(
            Text(shown(c.label), style="bold"),
            Text("yes", style="green") if c.present else Text("no", style="dim"),
            size(c.free) if c.free is not None else "-",
            ago(c.seen) if c.seen else "never",
            Text(shown(str(c.folder))),
            Text(c.id[:8]),
        )
    out.console.print(table)


def _check_document(check: PastCheck | None) -> dict[str, Any] | None:
    if check is None:
        return None
    return {
        "when": check.when,
        "quick": check.quick,
        "intact": check.intact,
        "files": check.files,
        "wrong": check.wrong,
    }


def _drill_document(past: PastDrill | None) -> dict[str, Any] | None:
    return {"when": past.when, "passed": past.passed, "edition": past.edition} if past is not None else None


def show_document(result: ChestContents) -> dict[str, Any]:
    """Return the JSON document of `chest show`."""
    libraries = []
    for bag in result.bags:
        record = bag.library
        libraries.append(
            {
                "name": bag.name,
                "state": bag.state,
                "why": bag.why,
                "kind": record.kind if record else None,
                "from_machine": record.origin.machine if record else None,
                "from_place": from_wire(record.origin.path) if record else None,
                "archived": record.archived if record else None,
                "files": record.totals.files_copied if record else None,
                "bytes": record.totals.bytes_stored if record else None,
                "left_out": record.totals.files_left_out if record else None,
                "last_check": _check_document(result.checks.get(bag.name)),
                "proven": bag.name in result.proven,
                "last_drill": _drill_document(result.drills.get(bag.name)),
            }
        )
    return {
        **chest_document(result.chest),
        "filesystem": result.filesystem,
        "free": result.free,
        "total": result.total,
        "known_before": result.known_before,
        "well": result.well,
        "missing": list(result.missing),
        "damaged": [{"path": f.path, "state": f.state, "why": f.why} for f in result.chest.faults],
        "unfinished": [{"library": name, "why": why} for name, why in result.chest.unfinished.items()],
        "libraries": libraries,
    }


def problems(result: ChestContents) -> list[str]:
    """Return a line for each thing that is wrong with a chest, as far as its records tell."""
    found = [f"{fault.path}: {fault.why}" for fault in result.chest.faults]
    found += [f"{name}: a change could not be finished: {why}" for name, why in result.chest.unfinished.items()]
    found += [f"{bag.name}: {bag.why}" for bag in result.bags if bag.state in ("damaged", "unusable")]
    return found + [f"{name}: it is missing" for name in result.missing]


#: Days after which a check of every byte should be made again.
_AGED = 90


def _aged(bag: BagEntry, check: PastCheck | None) -> str:
    """Suggest a check where the last one of every byte, or the archive itself, is long ago."""
    if bag.library is None:
        return ""
    moments = [datetime.datetime.fromisoformat(bag.library.archived).timestamp()]
    if check is not None and not check.quick:
        moments.append(check.when)
    days = int((clock.now() - max(moments)) // 86_400)
    if days <= _AGED:
        return ""
    return f"\n{days} days since every byte was looked at: verify it again, an evening at a time with --on 20min"


def _checked(check: PastCheck | None) -> str:
    if check is None:
        return "not yet verified on this machine"
    how = ", names and sizes only" if check.quick else ""
    if check.intact:
        return f"last verified {ago(check.when)}{how}: intact"
    return f"last verified {ago(check.when)}{how}: problems found, {number(check.wrong, 'fault')}"


def _row(bag: BagEntry) -> tuple[str, str, str, str, str]:
    """Return a bag's columns: name, kind, size, files, day of archiving."""
    record = bag.library
    if record is None:
        words = {
            "unfinished": "cut off",
            "foreign": "another program's bag",
            "unusable": "not usable",
            "damaged": "DAMAGED",
        }
        return shown(bag.name), words.get(bag.state, bag.state), "", "", ""
    totals = record.totals
    return (
        shown(bag.name),
        shown(record.kind_title),
        size(totals.bytes_stored),
        f"{totals.files_copied:,}",
        record.archived[:10],
    )


def _drilled(bag: BagEntry, past: PastDrill | None, proven: bool) -> str:
    """Say whether the copy is proven by a rehearsal."""
    if bag.library is None or past is None:
        return ""
    if proven:
        return f"\nproven: a rehearsed restore passed {ago(past.when)}"
    if not past.passed:
        return f"\nthe restore rehearsed {ago(past.when)}: problems found"
    return f"\na restore was rehearsed {ago(past.when)}; the library has changed since: drill it again"


def _below(bag: BagEntry, check: PastCheck | None, past: PastDrill | None, proven: bool) -> str:
    """Return what stands below a bag: where it came from and its last check, or what is the matter."""
    record = bag.library
    if bag.state == "unfinished":
        return "an archive was interrupted here; archive the library again to finish it"
    if record is None:
        return shown(bag.why) or _checked(check)
    came = f"from {shown(record.origin.machine)}, {shown(from_wire(record.origin.path))}"
    return f"{came}\n{_checked(check)}{_aged(bag, check)}{_drilled(bag, past, proven)}"


def show_contents(out: Out, result: ChestContents) -> None:
    """Show `chest show`."""
    chest, console = result.chest, out.console
    head = Text(shown(chest.label), style="bold")
    head.append(f"  chest {chest.id[:8]}, made {chest.record.made[:10]}", style="not bold")
    console.print(head, soft_wrap=True)
    console.print(Text(shown(str(chest.folder)), style="dim"), soft_wrap=True)
    console.print(f"{size(result.free)} of {size(result.total)} free, filesystem {result.filesystem}", style="dim")
    if not result.known_before:
        console.print("This machine meets this chest for the first time, and will remember it.", style="cyan")
    for name in chest.recovered:
        console.print(f"A cut-off change in {shown(name)} was finished.", style="yellow")
    for name, why in chest.unfinished.items():
        console.print(
            f"A change in {shown(name)} could not be finished: {shown(why)}", style="yellow", soft_wrap=True
        )
    for fault in chest.faults:
        console.print(
            f"The chest's own record {fault.path} is damaged: {shown(fault.why)}", style="bold red", soft_wrap=True
        )
        console.print(f"-> dunechest chest rebuild {quoted(str(chest.folder))}", soft_wrap=True)
    for name in result.missing:
        console.print(
            f"MISSING: {shown(name)}; this computer met it here, and its folder is gone or was renamed.",
            style="bold red",
            soft_wrap=True,
        )
        console.print(
            f"-> If you removed it yourself: dunechest chest forget {quoted(chest.label)} {quoted(name)}",
            soft_wrap=True,
        )
    if not result.bags:
        console.print(
            "It holds nothing yet. To archive: dunechest archive NAME --to " + shown(chest.label),
            soft_wrap=True,
        )
        return
    console.print()
    listing(
        console,
        ("library", "kind", "size", "files", "archived"),
        [_row(bag) for bag in result.bags],
        [
            _below(bag, result.checks.get(bag.name), result.drills.get(bag.name), bag.name in result.proven)
            for bag in result.bags
        ],
        right=(2, 3),
    )
