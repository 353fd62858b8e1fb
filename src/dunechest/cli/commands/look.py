"""``dunechest look``."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from dunechest.cli.output import Out, common

if TYPE_CHECKING:
    from dunechest.library.library import Library


@click.command("look")
@click.argument("library", metavar="LIBRARY")
@click.option("--kind", metavar="K", help="Take it for a library of this kind; see `dunechest kinds list`.")
@click.option("--on", "chest", metavar="CHEST", help="Also look at the drive of this chest.")
@click.option(
    "--watch", is_flag=True, help="Go on looking until every placeholder is filled and the application is closed."
)
@common
def command(out: Out, library: str, chest: str | None, kind: str | None, watch: bool) -> int:
    """Look at one library before a byte moves.

    It shows what is in it by role, its parts, what it refers to inside and outside,
    placeholders, and who has it open; with --on also whether that drive suits it:
    room, names, sizes, and whether it is a drive of its own at all. What is found is
    listed most serious first, each with what to do.

    LIBRARY is a path, or a name that `dunechest find` showed. Nothing is changed;
    with --on a few empty files and a few megabytes are written to a folder of
    their own in the chest, and removed at once. The status is 3 if a finding would
    stop `dunechest archive`.

    With --watch it shows, while an application brings originals here or gathers
    media: placeholders left, size, rate and time left. It says when nothing has
    moved for a while, and ends when the library is whole and closed.
    """
    from dunechest.cli.views import look as look_view
    from dunechest.findings import blocking
    from dunechest.jobs.look import look
    from dunechest.jobs.named import resolve_chest, resolve_library

    if watch:
        return _watch(out, resolve_library(library, kind=kind), chest)
    target = resolve_chest(chest) if chest is not None else None
    result = look(resolve_library(library, kind=kind), chest=target)
    if out.json:
        out.document(look_view.document(result))
    elif out.shows:
        look_view.show(out, result)
    return 3 if blocking(result.findings) else 0


def _watch(out: Out, library: Library, chest: str | None) -> int:
    from dunechest.cli.views import watch as watch_view
    from dunechest.errors import UsageError
    from dunechest.jobs.watch import watch

    if chest is not None:
        raise UsageError("--watch looks at the library alone; leave --on away.")
    last = watch_view.follow(out, library.name, watch(library))
    if out.json:
        out.document(watch_view.document(library.name, last))
    return 0
