"""``dunechest find``."""

from __future__ import annotations

import click

from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, complete_kind, shaped


@shaped("dunechest find", "dunechest find ~/Pictures /media/sand", "dunechest find --ignore ~/Downloads")
@click.command("find", cls=Command)
@click.argument("places", nargs=-1, metavar="[PLACE]...", type=click.Path())
@click.option(
    "--kind",
    metavar="K",
    help="Only libraries of this kind; see `dunechest kinds list`.",
    shell_complete=complete_kind,
)
@click.option(
    "--ignore",
    metavar="FOLDER",
    multiple=True,
    type=click.Path(),
    help="Remember that FOLDER is not worth protecting: it leaves every count.",
)
@click.option(
    "--no-ignore", metavar="FOLDER", multiple=True, type=click.Path(), help="Take that back: FOLDER counts again."
)
@common
def command(
    out: Out, places: tuple[str, ...], kind: str | None, ignore: tuple[str, ...], no_ignore: tuple[str, ...]
) -> int:
    """Find libraries on this computer and its drives.

    Without a PLACE it searches your whole home folder, hidden folders included, and
    all connected drives, including old systems kept in some folder. Name folders or
    drives to search only those. Libraries are recognised by what is in them; large
    folders that are not recognised are listed too.

    Files in your documents, pictures, music, videos and on your desktop that lie in no
    library are listed as well. What is not worth protecting leaves every list and count
    with --ignore.

    Use the names it shows wherever a command asks for a LIBRARY. Any other folder or
    file can be archived by its path.
    """
    from dunechest.cli.views import find as view
    from dunechest.jobs.find import find_libraries
    from dunechest.jobs.known.loose import ignore_place

    for folder in ignore:
        ignore_place(folder)
    for folder in no_ignore:
        ignore_place(folder, ignored=False)
    with out.following() as progress:
        result = find_libraries(places, kind=kind, progress=progress)
    out.document("find", told=result)
    if out.shows:
        view.show(out, result, named=bool(places))
    return 0
