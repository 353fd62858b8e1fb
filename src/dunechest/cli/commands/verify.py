"""``dunechest verify``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import click

from dunechest.cli.commands.release import releasing
from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, complete_chest, complete_held, shaped

if TYPE_CHECKING:
    from dunechest.chest.chest import Chest


@shaped(
    "dunechest verify blue",
    "dunechest verify blue dune-survey --quick",
    "dunechest verify blue --time-limit 20min",
)
@click.command("verify", cls=Command)
@click.argument("chest", metavar="CHEST", shell_complete=complete_chest)
@click.argument("libraries", nargs=-1, metavar="[LIBRARY]...", shell_complete=complete_held)
@click.option("--quick", is_flag=True, help="Compare names and sizes only, without reading any content.")
@click.option("--time-limit", "span", metavar="TIME", help="Stop after 20min or 2h; the next run continues.")
@common
@releasing
def command(out: Out, chest: str, libraries: tuple[str, ...], quick: bool, span: str | None) -> int:
    """Check that every file of a chest, of some of its libraries, or of any bag is intact.

    Each file is read from the drive and compared with the digests recorded when it
    was archived. CHEST may also be the folder of any RFC 8493 bag. The exit status
    is 1 if there are problems, and 4 if nothing is wrong but some files may not be read
    by this user.

    With --time-limit a large drive is checked in instalments, least recently checked
    first; the next run continues.
    """
    from pathlib import Path

    from dunechest.bag.bag import is_bag
    from dunechest.chest.chest import Chest
    from dunechest.cli.output import say_recovered
    from dunechest.cli.views import verify as view
    from dunechest.errors import UsageError
    from dunechest.jobs.check.verify import verify
    from dunechest.jobs.known.named import resolve_chest
    from dunechest.words import seconds_of

    seconds = seconds_of(span) if span is not None else None
    if span is not None and (seconds is None or quick or is_bag(Path(chest))):
        raise UsageError("--time-limit takes a time such as 20min or 2h, a chest, and does not go with --quick.")
    target = chest if is_bag(Path(chest)) else resolve_chest(chest)
    whole: Mapping[str, int] | None = None
    if isinstance(target, Chest):
        out.chests.append(target)
        say_recovered(out, target)
        whole = sizes_of(target, libraries) if not quick else None
    with out.following(whole) as progress:
        result = verify(target, libraries, quick=quick, seconds=seconds, progress=progress)
    out.problem(*view.problems(result))
    out.document("verify", target if isinstance(target, Chest) else None, told=result, released_drives=[])
    if out.shows:
        view.show(out, result)
    if result.damaged:
        return 1
    return 0 if result.ok else 4


def sizes_of(chest: Chest, libraries: tuple[str, ...]) -> dict[str, int]:
    """Return the bytes of a chest's libraries, as their records tell; nothing depends on them but progress."""
    wanted = {name.casefold() for name in libraries}
    return {
        entry.name: entry.library.totals.bytes_stored if entry.library is not None else 0
        for entry in chest.bags()
        if not wanted or entry.name.casefold() in wanted
    }
