"""``dunechest look``."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, complete_chest, complete_kind, complete_library, shaped

if TYPE_CHECKING:
    from dunechest.library.library import Library


@shaped("dunechest look dune-survey", "dunechest look dune-survey --on blue", "dunechest look ~/Documents/letters")
@click.command("look", cls=Command)
@click.argument("library", metavar="LIBRARY", shell_complete=complete_library)
@click.option(
    "--kind",
    metavar="K",
    help="Treat it as this kind of library; see `dunechest kinds list`.",
    shell_complete=complete_kind,
)
@click.option(
    "--on", "chest", metavar="CHEST", help="Also check the drive of this chest.", shell_complete=complete_chest
)
@click.option(
    "--watch", is_flag=True, help="Keep looking until no placeholder is left and the application is closed."
)
@common
def command(out: Out, library: str, chest: str | None, kind: str | None, watch: bool) -> int:
    """Inspect a library before anything is copied.

    It shows what the library contains, its parts, the files it uses elsewhere, its
    placeholders, and who has it open. With --on it also checks whether that drive
    suits it: space, names, file sizes, and whether it is a separate drive at all.
    Problems are listed most serious first, each with what to do.

    LIBRARY is a path, or a name that `dunechest find` showed. Nothing is changed;
    with --on a few small files are written to the chest and removed at once. The
    exit status is 3 if something would block `dunechest archive`.

    With --watch it keeps looking while an application downloads originals or gathers
    media: placeholders left, size, rate and time left. It says when nothing has
    changed for a while, and ends when the library is complete and closed.
    """
    from dunechest.cli.views import look as view
    from dunechest.findings import blocking
    from dunechest.jobs.known.named import resolve_chest, resolve_library
    from dunechest.jobs.look import look
    from dunechest.progress import Step

    if watch:
        out.expect("look-watch")
        return _watch(out, resolve_library(library, kind=kind), chest)
    target = resolve_chest(chest) if chest is not None else None
    with out.following() as progress:
        progress(Step("reading", 0, 0, 0, 0, library))
        result = look(resolve_library(library, kind=kind), chest=target)
    out.document("look", target, libraries=[result])
    out.note_findings(result.findings, result.library.name)
    if out.shows:
        view.show(out, result)
    return 3 if blocking(result.findings) else 0


def _watch(out: Out, library: Library, chest: str | None) -> int:
    from dunechest.cli.views import watch as watch_view
    from dunechest.errors import UsageError
    from dunechest.jobs.watch import watch

    if chest is not None:
        raise UsageError("--watch looks at the library alone; leave --on out.")
    last = watch_view.follow(out, library.name, watch(library))
    out.document("look-watch", libraries=[last])
    return 0
