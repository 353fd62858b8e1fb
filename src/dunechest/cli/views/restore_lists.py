"""Lists that plans and results of a restore have in common."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from rich.text import Text

from dunechest.chest.tag_lists import RecordFault
from dunechest.cli.output import Out, limited
from dunechest.jobs.restore.plan import ByHand, NotDone, SettingChange
from dunechest.library.still_named import OldPlace
from dunechest.names import shown
from dunechest.words import number


def not_done_document(items: Sequence[NotDone]) -> list[dict[str, Any]]:
    """Return what is not brought back, for the document."""
    return [{"path": n.path, "why": n.why, "fault": n.fault} for n in items]


def old_place_document(old: OldPlace) -> dict[str, Any]:
    """Return for a JSON document what names an old place."""
    return {
        "names": [shown(name) for name in old.names],
        "files": [{"path": shown(one.path), "count": one.count} for one in old.files],
    }


def by_hand_document(items: Sequence[ByHand]) -> list[dict[str, Any]]:
    """Return what a person has to look at, for the document."""
    return [{"file": b.source, "spot": b.spot, "text": b.text, "do": b.why} for b in items]


def setting_document(change: SettingChange) -> dict[str, Any]:
    """Return a setting of the application, for the document."""
    return {"file": str(change.file), "key": change.key, "old": change.old or None, "new": change.new}


def show_by_hand(out: Out, items: Sequence[ByHand]) -> None:
    """Show references that a person has to look at."""
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


def show_outside_files(out: Out, outside_files: Sequence[tuple[str, Path]]) -> None:
    """Show where files from outside the library were, and where they are now."""
    if not outside_files:
        return
    where = "it goes" if len(outside_files) == 1 else "they go"
    out.console.print(
        f"{number(len(outside_files), 'file')} from outside the library, and where {where}:", soft_wrap=True
    )
    some, more = limited(outside_files, out.verbose, 5)
    for origin, place in some:
        if not origin or str(place) == origin:
            out.console.print(f"  {shown(str(place))}", soft_wrap=True)
            continue
        line = Text(f"  {shown(origin)}")
        out.console.print(line.append(f"\n    -> {shown(str(place))}", style="dim"), soft_wrap=True)
    if more:
        out.console.print(f"  and {more:,} more; --verbose shows all.")


def show_not_done(out: Out, items: Sequence[NotDone]) -> None:
    """Show what is not brought back, and why."""
    if not items:
        return
    out.console.print("Not restored:")
    some, more = limited(sorted(items, key=lambda n: (not n.fault, n.path)), out.verbose)
    for item in some:
        line = Text("  ")
        line.append(shown(item.path), style="red" if item.fault else "")
        line.append(f"  {shown(item.why)}", style="dim")
        out.console.print(line, soft_wrap=True)
    if more:
        out.console.print(f"  and {more:,} more; --verbose shows all.")


def show_renamed(out: Out, items: Sequence[tuple[str, str]]) -> None:
    """Show what has another name here."""
    if not items:
        return
    out.console.print(f"{number(len(items), 'name')} cannot be had here and get another:")
    some, more = limited(items, out.verbose)
    for path, here in some:
        out.console.print(f"  {shown(path)} -> {shown(here)}", soft_wrap=True)
    if more:
        out.console.print(f"  and {more:,} more; --verbose shows all.")


def show_damage(out: Out, damage: Sequence[RecordFault]) -> None:
    """Show which records of an archive are damaged."""
    for fault in damage:
        line = Text(f"Damaged record in the archive: {shown(fault.path)}", style="red")
        line.append(f"  {shown(fault.why)}", style="dim")
        out.console.print(line, soft_wrap=True)


def show_left_behind(out: Out, items: Sequence[tuple[str, str]]) -> None:
    """Name the libraries that a restore of all leaves out."""
    for name, why in items:
        out.console.print(f"NOT RESTORED: {shown(name)}: {shown(why)}", style="bold red", soft_wrap=True)
        out.console.print(
            "-> What is intact of it can be restored by itself, with --into FOLDER; dunechest verify says what is not.",
            soft_wrap=True,
        )
