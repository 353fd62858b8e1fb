"""``dunechest verify``."""

from __future__ import annotations

import click

from dunechest.cli.output import Out, common


@click.command("verify")
@click.argument("chest", metavar="CHEST")
@click.argument("libraries", nargs=-1, metavar="[LIBRARY]...")
@click.option("--quick", is_flag=True, help="Compare names and sizes only; reads no file's content.")
@common
def command(out: Out, chest: str, libraries: tuple[str, ...], quick: bool) -> int:
    """Check every byte of a chest, of some of its libraries, or of any single bag.

    Each file is read from the drive and compared with the digests recorded when it
    was archived. CHEST may also be the folder of any bag after RFC 8493, whoever
    made it. The status is 1 if anything is not as it should be.
    """
    from dunechest.cli import verify_view
    from dunechest.jobs.verify import verify

    with out.following() as progress:
        result = verify(chest, libraries, quick=quick, progress=progress)
    if out.json:
        out.document(verify_view.document(result))
    elif out.shows:
        verify_view.show(out, result)
    return 0 if result.well else 1
