"""How a comparison is shown."""

from __future__ import annotations

from typing import Any

from rich.text import Text

from dunechest.cli.output import Out, limited
from dunechest.jobs.compare.result import Comparison
from dunechest.names import shown
from dunechest.words import number, size

_STYLES = {"silent": "bold red", "unreadable": "red", "other bytes": "dark_orange3"}


def document(result: Comparison) -> dict[str, Any]:
    """Return the JSON document of `compare`."""
    return {
        "first": result.first,
        "second": result.second,
        "alike": result.alike,
        "bytes": result.bytes,
        "well": result.well,
        "unlike": [{"path": u.path, "what": u.what, "why": u.why} for u in result.unlike],
        "left_out": [{"path": u.path, "what": u.what, "why": u.why} for u in result.left_out],
        "damaged_records": [{"path": f.path, "state": f.state, "why": f.why} for f in result.damage],
    }


def problems(result: Comparison) -> list[str]:
    """Return a line for each file that differs."""
    found = [f"damaged record: {fault.path}: {fault.why}" for fault in result.damage]
    return found + [f"{item.what}: {item.path}" + (f": {item.why}" if item.why else "") for item in result.unlike]


def show(out: Out, result: Comparison) -> None:
    """Show what is unlike, then the sum."""
    console = out.console
    some, more = limited(result.unlike, out.verbose)
    for item in some:
        line = Text(f"{item.what}: ", style=_STYLES.get(item.what, "yellow"))
        line.append(shown(item.path), style="default")
        line.append(f"  {shown(item.why)}" if item.why else "", style="dim")
        console.print(line, soft_wrap=True)
    if more:
        console.print(f"and {more:,} more; --verbose shows all")
    for fault in result.damage:
        console.print(
            f"Damaged record in the archive: {shown(fault.path)}  {shown(fault.why)}",
            style="bold red",
            soft_wrap=True,
        )
    if result.left_out:
        console.print(
            f"{number(len(result.left_out), 'file')} left out of the archive on purpose, so no difference:",
            style="dim",
        )
        few, rest = limited(result.left_out, out.verbose, 3)
        for item in few:
            console.print(f"  {shown(item.path)}  {shown(item.why)}", style="dim", soft_wrap=True)
        if rest:
            console.print(f"  and {rest:,} more; --verbose shows all.", style="dim")
    alike = f"{number(result.alike, 'file')} alike, {size(result.bytes)}, byte for byte"
    if result.well:
        console.print(f"The same: {alike}.", style="green")
    elif result.unlike:
        console.print(f"{number(len(result.unlike), 'file')} different; {alike}.", style="bold")
    else:
        console.print(f"No file differs ({alike}), but records of the archive are damaged.", style="bold red")
