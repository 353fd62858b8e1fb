"""What is said of a report that was written."""

from __future__ import annotations

from pathlib import Path

from dunechest.cli.layout import BAD, GOOD, say
from dunechest.cli.output import Out
from dunechest.model.overview import Overview


def show(out: Out, told: Overview, place: Path) -> None:
    """Show the verdict, and where the page is."""
    say(out.console, told.status.verdict, GOOD if told.status.safe else BAD)
    if told.note:
        say(out.console, told.note, indent=2)
    say(out.console, "The report was written; open it in a browser:", indent=2)
    out.console.print(out.place(place), soft_wrap=True)
