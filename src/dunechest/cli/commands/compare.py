"""``dunechest compare``."""

from __future__ import annotations

import click

from dunechest.cli.output import Out, common


@click.command("compare")
@click.argument("first", metavar="A")
@click.argument("second", metavar="B")
@common
def command(out: Out, first: str, second: str) -> int:
    """Compare two places file by file, every byte.

    A and B are each a folder, a name that `dunechest find` showed, or what a chest
    holds: CHEST/LIBRARY, with @N added for its edition N. Content that changed
    without a new size or date is called a silent change. The exit status is 1 if
    they differ.
    """
    from dunechest.cli.views import compare as compare_view
    from dunechest.jobs.compare import compare

    with out.following() as progress:
        result = compare(first, second, progress=progress)
    out.problem(*compare_view.problems(result))
    if out.json:
        out.document(compare_view.document(result))
    elif out.shows:
        compare_view.show(out, result)
    return 0 if result.well else 1
