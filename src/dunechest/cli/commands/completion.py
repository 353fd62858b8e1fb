"""``dunechest completion``."""

from __future__ import annotations

import click

from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, shaped
from dunechest.cli.shells import SHELLS, script


@shaped("dunechest completion bash", "dunechest completion fish")
@click.command("completion", cls=Command)
@click.argument("shell", type=click.Choice(list(SHELLS)), metavar="SHELL")
@common
def command(out: Out, shell: str) -> int:
    """Print what makes the Tab key complete commands, chests and libraries.

    SHELL is bash, zsh, fish or powershell. Add the line that it prints first to your
    shell's start-up file, or save the whole output where your shell looks for
    completions.
    """
    click.echo(script(shell))
    return 0
