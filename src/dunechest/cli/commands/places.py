"""``dunechest places``."""

from __future__ import annotations

import click

from dunechest.cli.app import Group
from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, shaped


@click.group("places", cls=Group)
def command() -> None:
    """List or forget folders of other computers that stand for folders here.

    `dunechest restore --map OLD=NEW` remembers them, so that the next restore needs no
    --map. Forgetting one moves and deletes nothing.
    """


@shaped("dunechest places list")
@command.command("list", cls=Command)
@common
def list_all(out: Out) -> int:
    """List the folders that are remembered."""
    from dunechest.cli.views import places as view
    from dunechest.jobs.restore import mapped_places

    places = mapped_places()
    out.document("places-list", places=places)
    if out.shows:
        view.show_list(out, places)
    return 0


@shaped("dunechest places forget /home/tern/second-drive")
@command.command("forget", cls=Command)
@click.argument("folder", metavar="FOLDER")
@common
def forget(out: Out, folder: str) -> int:
    """Forget what stands for FOLDER here.

    FOLDER is the folder of the other computer, as `dunechest places list` shows it, or
    the one here.
    """
    from dunechest.cli.views import places as view
    from dunechest.jobs.restore import forget_place

    gone = forget_place(folder)
    out.document("places-forget", places=gone)
    if out.shows:
        view.show_forgotten(out, gone)
    return 0
