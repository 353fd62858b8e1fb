"""``dunechest demo``."""

from __future__ import annotations

import click

from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, shaped


@shaped("dunechest demo", "dunechest demo ~/tour --size 0.1", "dunechest demo --office")
@click.command("demo", cls=Command)
@click.argument("folder", required=False, metavar="[FOLDER]", type=click.Path())
@click.option("--size", default=1.0, show_default=True, metavar="X", help="Scale of the sample data.")
@click.option("--only-world", is_flag=True, help="Make the sample world and stop there.")
@click.option("--office", is_flag=True, help="The week of an office instead: three computers and two servers.")
@common
def command(out: Out, folder: str | None, size: float, only_world: bool, office: bool) -> int:
    """Take a guided tour on sample data: Marram Point, a made-up world.

    It is made in FOLDER (by default ./marram-point); nothing outside it is touched.
    Every step is a real command, shown before it runs.
    """
    if office:
        from dunechest.cli.demo_office import tell_office

        return tell_office(out, folder or "marram-office")
    from dunechest.cli.demo_story import tell

    return tell(out, folder or "marram-point", size, only_world)
