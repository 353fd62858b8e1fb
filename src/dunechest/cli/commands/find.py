"""``dunechest find``."""

from __future__ import annotations

import click

from dunechest.cli.output import Out, common


@click.command("find")
@click.argument("places", nargs=-1, metavar="[PLACE]...", type=click.Path())
@click.option("--kind", metavar="K", help="Only libraries of this kind; see `dunechest kinds list`.")
@common
def command(out: Out, places: tuple[str, ...], kind: str | None) -> int:
    """List libraries: name, kind, place, size, files, last change.

    Without a PLACE it searches the places where the applications keep their
    libraries, your whole home folder with all that is hidden in it, and all drives
    that are plugged in, former systems that were left in some folder included.
    Name folders or drives to search only those.

    The names it shows can be used wherever a LIBRARY is asked for. Any other
    folder or single file can be archived too, by its path.
    """
    from dunechest.cli.views import find as find_view
    from dunechest.jobs.find import find_libraries

    with out.following() as progress:
        result = find_libraries(places, kind=kind, progress=progress)
    if out.json:
        out.document(find_view.document(result))
    elif out.shows:
        find_view.show(out, result, named=bool(places))
    return 0
