"""``dunechest verify``."""

from __future__ import annotations

import click

from dunechest.cli.output import Out, common


@click.command("verify")
@click.argument("chest", metavar="CHEST")
@click.argument("libraries", nargs=-1, metavar="[LIBRARY]...")
@click.option("--quick", is_flag=True, help="Compare names and sizes only, without reading any content.")
@click.option("--time-limit", "span", metavar="TIME", help="Stop after 20min or 2h; the next run continues.")
@common
def command(out: Out, chest: str, libraries: tuple[str, ...], quick: bool, span: str | None) -> int:
    """Check that every file of a chest, of some of its libraries, or of any bag is intact.

    Each file is read from the drive and compared with the digests recorded when it
    was archived. CHEST may also be the folder of any RFC 8493 bag. The exit status
    is 1 if there are problems.

    With --time-limit a large drive is checked in instalments, least recently checked
    first; the next run continues.
    """
    from pathlib import Path

    from dunechest.bag.bag import is_bag
    from dunechest.chest.chest import Chest
    from dunechest.cli.output import say_recovered
    from dunechest.cli.views import verify as verify_view
    from dunechest.errors import UsageError
    from dunechest.jobs.named import resolve_chest
    from dunechest.jobs.verify import verify
    from dunechest.words import seconds_of

    seconds = seconds_of(span) if span is not None else None
    if span is not None and (seconds is None or quick or is_bag(Path(chest))):
        raise UsageError("--time-limit takes a time such as 20min or 2h, a chest, and does not go with --quick.")
    target = chest if is_bag(Path(chest)) else resolve_chest(chest)
    if isinstance(target, Chest):
        say_recovered(out, target)
    with out.following() as progress:
        result = verify(target, libraries, quick=quick, seconds=seconds, progress=progress)
    out.problem(*verify_view.problems(result))
    if out.json:
        out.document(verify_view.document(result))
    elif out.shows:
        verify_view.show(out, result)
    return 0 if result.well else 1
