"""How the checks of a restore are shown: before and after, side by side."""

from __future__ import annotations

from rich.text import Text

from dunechest.cli.layout import BAD, GOOD, columns, say
from dunechest.cli.output import Out, limited
from dunechest.model.restore import Proof
from dunechest.names import shown


def show(out: Out, proof: Proof) -> None:
    """Show the checks; what did not pass comes first, with details."""
    console = out.console
    lines = sorted(proof.lines, key=lambda line: line.passed)
    if not lines:
        return
    table = columns(
        [("check", "before", "after"), *((line.what, line.before, line.after) for line in lines)], right=(1, 2)
    )
    say(console, table[0], indent=2)
    for row, line in zip(table[1:], lines, strict=True):
        text = Text(row).append("  ok" if line.passed else "  DIFFERENT", style=GOOD if line.passed else BAD)
        say(console, text, indent=2)
        some, more = limited(line.details, out.verbose, 5)
        for why in some:
            say(console, shown(why), indent=6)
        if more:
            say(console, f"and {more:,} more (--verbose shows all)", indent=6)
