"""How the proof of a restore is shown: then and now, side by side."""

from __future__ import annotations

from typing import Any

from rich import box
from rich.table import Table
from rich.text import Text

from dunechest.cli.output import Out, limited
from dunechest.jobs.restore.result import Proof


def document(proof: Proof) -> dict[str, Any]:
    """Return the proof's part of the JSON document."""
    return {
        "well": proof.well,
        "lines": [
            {"what": line.what, "then": line.then, "now": line.now, "well": line.well, "why": list(line.why)}
            for line in proof.lines
        ],
    }


def show(out: Out, proof: Proof) -> None:
    """Show the proof."""
    table = Table(box=box.SIMPLE, pad_edge=False)
    table.add_column("proof")
    table.add_column("then", justify="right")
    table.add_column("now", justify="right")
    table.add_column("")
    for line in proof.lines:
        mark = Text("as it was", style="green") if line.well else Text("NOT AS IT WAS", style="bold red")
        table.add_row(line.what, line.then, line.now, mark)
    out.console.print(table)
    for line in proof.lines:
        some, more = limited(line.why, out.verbose, 5)
        for why in some:
            out.console.print(f"  {line.what}: {why}", style="red", soft_wrap=True)
        if more:
            out.console.print(f"  and {more:,} more; --verbose shows all.")
