"""Lists that plans and results of a restore have in common."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from rich.text import Text

from dunechest.chest.tag_lists import RecordFault
from dunechest.cli.layout import BAD, say
from dunechest.cli.output import Out, show_list
from dunechest.model.restore import ByHand, LeftBehind, NotDone
from dunechest.names import shown
from dunechest.values import RenamedPath
from dunechest.words import number


def show_by_hand(out: Out, items: Sequence[ByHand]) -> None:
    """Show references that a person has to look at."""
    lines = [
        f"{shown(item.text)}  in {shown(item.file)}, {shown(item.spot)}: {shown(item.action)}." for item in items
    ]
    show_list(out, f"{number(len(items), 'reference')} to check by hand:", lines, most=5)


def show_outside_files(out: Out, outside_files: Sequence[tuple[str, Path]]) -> None:
    """Show where files stored outside the library were, and where they are now."""
    title = f"{number(len(outside_files), 'file')} stored outside the library:"
    out.show_pairs(title, [(origin, str(place)) for origin, place in outside_files])


def show_not_done(out: Out, items: Sequence[NotDone], *, only_faults: bool = False) -> None:
    """Show what is not restored, and why."""
    lines = []
    for item in sorted(items, key=lambda n: (not n.fault, n.path)):
        if only_faults and not item.fault:
            continue
        line = Text(shown(item.path), style=BAD if item.fault else "")
        lines.append(line.append(f"  {shown(item.why)}", style="not bold default"))
    show_list(out, "NOT RESTORED:" if only_faults else "Not restored:", lines, style=BAD if only_faults else "")


def show_renamed(out: Out, items: Sequence[RenamedPath]) -> None:
    """Show what has another name here."""
    title = f"{number(len(items), 'name')} not possible on this drive; restored as:"
    show_list(out, title, [f"{shown(path)} -> {shown(here)}" for path, here in items])


def show_damage(out: Out, damage: Sequence[RecordFault]) -> None:
    """Show which records of an archive are damaged."""
    for fault in damage:
        line = Text(f"Damaged record in the archive: {shown(fault.path)}", style=BAD)
        say(out.console, line.append(f"  {shown(fault.why)}", style="not bold default"), indent=2)


def show_left_behind(out: Out, items: Sequence[LeftBehind]) -> None:
    """Name the libraries that a restore of all leaves out."""
    for name, why in items:
        say(out.console, f"NOT RESTORED: {shown(name)}: {shown(why)}", BAD)
