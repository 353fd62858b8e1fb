"""``dunechest report``."""

from __future__ import annotations

import logging
import os

import click

from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, shaped


@shaped("dunechest report", "dunechest report --write ~/Documents/chests.html", "dunechest report --json")
@click.command("report", cls=Command)
@click.option("--write", "path", metavar="FILE", type=click.Path(), help="Write the page to this file.")
@click.option("--everyone", is_flag=True, help="Answer for all computers whose drives this one has seen.")
@click.option("--office", is_flag=True, help="Answer for all computers of the office.")
@click.option("--computer", metavar="NAME", help="Answer for this computer of the office.")
@common
def command(out: Out, path: str | None, everyone: bool, office: bool, computer: str | None) -> int:
    """Write one HTML page with figures: what is safe, what is not, and what to do.

    The page is dune-chest-report.html in the current folder unless --write names another
    file. It needs no network and can be printed, mailed or kept. Like `dunechest status`
    it answers from what this computer has seen, and the exit status is 1 if a library is
    not safe. With --json a page is written only if --write names one.
    """
    from dunechest.cli.views import report as view
    from dunechest.cli.views import status as protection
    from dunechest.jobs.overview.growth import overview
    from dunechest.report import NAME, write_report

    logging.getLogger("matplotlib").setLevel(logging.ERROR)  # its remarks on fonts are nothing to a person
    told = overview(office=office, computer=computer, everyone=everyone)
    wanted = path if path is not None or out.json else NAME
    place = write_report(os.path.expanduser(wanted), told) if wanted is not None else None
    out.problem(*protection.problems(told.status))
    out.document("report", told=told, path=str(place) if place is not None else None)
    if out.shows and place is not None:
        view.show(out, told, place)
    return 0 if told.status.safe else 1
