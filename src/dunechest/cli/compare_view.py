"""How a comparison is shown."""

from __future__ import annotations

from typing import Any

from rich.text import Text

from dunechest.cli.output import Out, limited
from dunechest.jobs.compare import Comparison
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
    }


def problems(result: Comparison) -> list[str]:
    """Return a line for each file that differs."""
    return [f"{one.what}: {one.path}" + (f": {one.why}" if one.why else "") for one in result.unlike]


def show(out: Out, result: Comparison) -> None:
    """Show what is unlike, then the sum."""
    console = out.console
    some, more = limited(result.unlike, out.verbose)
    for one in some:
        line = Text(f"{one.what}: ", style=_STYLES.get(one.what, "yellow"))
        line.append(shown(one.path), style="default")
        line.append(f"  {shown(one.why)}" if one.why else "", style="dim")
        console.print(line, soft_wrap=True)
    if more:
        console.print(f"and {more:,} more; --verbose shows all")
    alike = f"{number(result.alike, 'file')} alike, {size(result.bytes)}, byte for byte"
    if result.well:
        console.print(f"The same: {alike}.", style="green")
    else:
        console.print(f"{number(len(result.unlike), 'file')} unlike; {alike}.", style="bold")
