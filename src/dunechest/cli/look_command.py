"""``dunechest look``."""

from __future__ import annotations

import click

from dunechest.cli.output import Out, common


@click.command("look")
@click.argument("library", metavar="LIBRARY")
@common
def command(out: Out, library: str) -> int:
    """Look at one library: what is in it by role, the biggest things, who has it open.

    LIBRARY is a path, or a name that `dunechest find` showed. Nothing is changed.
    The status is 3 if a finding would stop `dunechest archive`.
    """
    from dunechest.cli import find_view
    from dunechest.findings import stops
    from dunechest.jobs.find import resolve_library
    from dunechest.jobs.look import look

    result = look(resolve_library(library))
    if out.json:
        out.document(find_view.look_document(result))
    elif out.shows:
        find_view.show_look(out, result)
    return 3 if stops(result.findings) else 0
