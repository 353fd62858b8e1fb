"""``dunechest help``."""

from __future__ import annotations

import click

from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, shaped


@shaped("dunechest help restore", "dunechest help chest new")
@click.command("help", cls=Command)
@click.argument("words", metavar="[COMMAND]...", nargs=-1)
@common
def command(out: Out, words: tuple[str, ...]) -> int:
    """Show the help of a command, or of all."""
    from dunechest.cli.app import cli
    from dunechest.errors import UsageError
    from dunechest.names import meant, shown

    found: click.Command = cli
    context = click.Context(cli, info_name="dunechest", **cli.context_settings)
    for word in words:
        inner = found.get_command(context, word) if isinstance(found, click.Group) else None
        if inner is None:
            names = found.list_commands(context) if isinstance(found, click.Group) else []
            raise UsageError(f"There is no command {shown(word)!r}.{meant(word, names)} See: dunechest help")
        found, context = inner, click.Context(inner, info_name=word, parent=context)
    click.echo(found.get_help(context))
    return 0
