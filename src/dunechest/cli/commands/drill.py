"""``dunechest drill``."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, complete_chest, complete_held, shaped

if TYPE_CHECKING:
    pass


@shaped(
    "dunechest drill blue",
    "dunechest drill blue dune-survey",
    "dunechest drill blue dune-survey --scratch ~/Downloads",
)
@click.command("drill", cls=Command)
@click.argument("chest", metavar="CHEST", shell_complete=complete_chest)
@click.argument("libraries", metavar="[LIBRARY]...", nargs=-1, shell_complete=complete_held)
@click.option(
    "--scratch",
    "scratch",
    metavar="FOLDER",
    type=click.Path(),
    help="A folder with enough space; your cache folder by default.",
)
@common
def command(out: Out, chest: str, libraries: tuple[str, ...], scratch: str | None) -> int:
    """Test a restore: restore everything to a scratch folder, check it, and delete it.

    Every byte is read and checked, databases are tested, references are followed, and
    parts and counts are compared with the archive. A library that passed a drill is
    proven, until a check fails; `dunechest chest show` says which are.
    """
    from dunechest.cli.commands.verify import sizes_of
    from dunechest.cli.output import say_recovered
    from dunechest.cli.views import drill as view
    from dunechest.jobs.check.drill import drill
    from dunechest.jobs.known.named import resolve_chest

    source = resolve_chest(chest)
    say_recovered(out, source)
    with out.following(sizes_of(source, libraries)) as progress:
        drills = drill(source, libraries, scratch=scratch, progress=progress)
    out.problem(*(line for item in drills for line in view.problems(item)))
    out.document("drill", source, libraries=drills)
    if out.shows:
        view.show(out, drills)
    failed = [item for item in drills if not item.passed]
    return 0 if not failed else 4 if all(item.closed for item in failed) else 1
