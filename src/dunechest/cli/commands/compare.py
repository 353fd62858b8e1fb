"""``dunechest compare``."""

from __future__ import annotations

import click

from dunechest.cli.output import Out, common
from dunechest.cli.parts import NUMBER, Command, complete_library, shaped


@shaped(
    "dunechest compare dune-survey blue/dune-survey",
    "dunechest compare blue/marram-papers blue/marram-papers --edition 1 --edition 2",
    "dunechest compare blue sand",
)
@click.command("compare", cls=Command)
@click.argument("first", metavar="A", shell_complete=complete_library)
@click.argument("second", metavar="B", shell_complete=complete_library)
@click.option(
    "--edition",
    "editions",
    type=NUMBER,
    multiple=True,
    metavar="N",
    help="Edition of what a chest holds; if both A and B are in a chest, give it for A and again for B.",
)
@common
def command(out: Out, first: str, second: str, editions: tuple[int, ...]) -> int:
    """Compare two places file by file, every byte.

    A and B are each a folder, a name that `dunechest find` showed, or what a chest
    holds: CHEST/LIBRARY. Or both are chests: then all libraries are compared. Files
    whose content changed without a new size or date are named as such. The exit status
    is 1 if the places differ.
    """
    from dunechest.cli.views import compare as view
    from dunechest.errors import UsageError
    from dunechest.jobs.check.compare import compare, compare_chests, names_a_chest

    if names_a_chest(first) and names_a_chest(second):
        out.expect("compare-chests")
        if editions:
            raise UsageError("--edition is for one library: name CHEST/LIBRARY twice.")
        with out.following() as progress:
            chests = compare_chests(first, second, progress=progress)
        out.problem(*view.problems_of_chests(chests))
        out.document("compare-chests", told=chests)
        if out.shows:
            view.show_chests(out, chests)
        return 0 if chests.same else 1
    with out.following() as progress:
        result = compare(first, second, editions=editions, progress=progress)
    out.problem(*view.problems(result))
    out.document("compare", told=result)
    if out.shows:
        view.show(out, result)
    return 0 if result.same else 1
