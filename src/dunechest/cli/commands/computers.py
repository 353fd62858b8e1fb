"""``dunechest computers``."""

from __future__ import annotations

import click

from dunechest.cli.app import Group
from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, shaped


@click.group("computers", cls=Group)
def command() -> None:
    """List other computers that use the same drives, and say which are yours.

    Each chest keeps a log of what every computer did there. What your own computers archived
    and checked counts on all of them. Of a computer that is not yours, only the damage that
    it found counts.
    """


@shaped("dunechest computers list")
@command.command("list", cls=Command)
@common
def list_all(out: Out) -> int:
    """List the computers that were met on drives."""
    from dunechest.cli.views import computers as view
    from dunechest.jobs.known.computers import list_computers

    computers = list_computers()
    out.document("computers-list", computers=computers)
    if out.shows:
        view.show_list(out, computers)
    return 0


@shaped("dunechest computers mine laptop")
@command.command("mine", cls=Command)
@click.argument("computer", metavar="COMPUTER")
@common
def mine(out: Out, computer: str) -> int:
    """Say that COMPUTER is yours: what it checked counts here.

    COMPUTER is its name or its id, as `dunechest computers list` shows it.
    """
    return _say(out, computer, mine=True)


@shaped("dunechest computers not-mine laptop")
@command.command("not-mine", cls=Command)
@click.argument("computer", metavar="COMPUTER")
@common
def not_mine(out: Out, computer: str) -> int:
    """Say that COMPUTER is not yours: only damage that it found counts.

    COMPUTER is its name or its id, as `dunechest computers list` shows it.
    """
    return _say(out, computer, mine=False)


def _say(out: Out, computer: str, *, mine: bool) -> int:
    from dunechest.cli.views import computers as view
    from dunechest.jobs.known.computers import say_computer

    told = say_computer(computer, mine=mine)
    out.document("computers-mine" if mine else "computers-not-mine", computers=[told])
    if out.shows:
        view.show_said(out, told)
    return 0
