"""``dunechest status``."""

from __future__ import annotations

import click

from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, shaped


@shaped("dunechest status", "dunechest status --everyone", "dunechest status --office")
@click.command("status", cls=Command)
@click.option("--everyone", is_flag=True, help="Answer for all computers whose drives this one has seen.")
@click.option("--office", is_flag=True, help="Answer for all computers of the office.")
@click.option("--computer", metavar="NAME", help="Answer for this computer of the office.")
@common
def command(out: Out, everyone: bool, office: bool, computer: str | None) -> int:
    """Show how well each library is protected, and what to do next.

    It answers from what this computer has seen; no drive need be connected. A library is
    safe with two current copies on two drives, each fully checked within 90 days;
    settings.toml in the state folder can ask for more. The exit status is 1 if a library
    is not safe, those that `dunechest find` showed and that are in no chest included.

    It shows the libraries of this computer. With --everyone it shows those of all computers
    that use the same drives, as far as the drives' own logs tell.

    With --office the answer is what all computers of the office know together. If its
    server cannot be reached, the last answer is shown, and when that was.
    """
    from dunechest.cli.views import status as view
    from dunechest.jobs.overview.status import status

    result = status(office=office, computer=computer, everyone=everyone)
    out.problem(*view.problems(result))
    out.document("status", told=result)
    if out.shows:
        view.show(out, result)
    return 0 if result.safe else 1
