"""``dunechest office``."""

from __future__ import annotations

import sys
from collections.abc import Callable
from typing import TYPE_CHECKING, TypeVar

import click

from dunechest.cli.app import Group
from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, shaped

if TYPE_CHECKING:
    from dunechest.model.office import ComputerAdded

_R = TypeVar("_R")
#: Where the password of whoever looks after the server comes from, and that of a computer.
_OWNER = "A command that prints the database owner's password. Otherwise it is asked for, if it is needed."
_OWN = "A command that prints the password each time, instead of the system's keyring."


@click.group("office", cls=Group)
def command() -> None:
    """Share with other computers what is safe: one view of all drives and libraries.

    The computers of an office tell a PostgreSQL database what they did. Each goes on by
    itself when the server cannot be reached, and tells it later. `dunechest status`,
    `search` and `report` answer for all of them with --office.

    ADDRESS is postgresql+psycopg://ROLE@HOST/DATABASE. There is never a password in it.
    """


@shaped("dunechest office set-up postgresql+psycopg://keeper@ledger.example/office")
@command.command("set-up", cls=Command)
@click.argument("address", metavar="ADDRESS")
@click.option("--password-from", metavar="COMMAND", help=_OWNER)
@common
def set_up(out: Out, address: str, password_from: str | None) -> int:
    """Make the ledger of an office in a database that is there, or bring it up to date.

    ROLE owns the database and may make roles. Nothing that is in the ledger is lost.
    """
    from dunechest.cli.views import office as view
    from dunechest.jobs.office.look_after import set_up_office

    made = _as_owner(lambda password: set_up_office(address, password), password_from)
    out.document("office-set-up", told=made)
    if out.shows:
        view.show_made(out, made, address)
    return 0


@shaped("dunechest office add postgresql+psycopg://keeper@ledger.example/office office-pc")
@command.command("add", cls=Command)
@click.argument("address", metavar="ADDRESS")
@click.argument("name", metavar="NAME")
@click.option("--password-from", metavar="COMMAND", help=_OWNER)
@click.option(
    "--secret-from",
    metavar="COMMAND",
    help="A command that prints the new password. Otherwise one is made and shown once.",
)
@common
def add(out: Out, address: str, name: str, password_from: str | None, secret_from: str | None) -> int:
    """Let a computer into the office, or in again under a new password.

    It can add to what it said, and read what all computers know; it can change nothing
    that another computer said. The new password is shown once, on the terminal alone.
    """
    from dunechest.cli.views import office as view
    from dunechest.errors import UsageError
    from dunechest.jobs.office.look_after import add_office_computer

    if secret_from is None and (out.json or out.quiet or not sys.stdout.isatty()):
        raise UsageError("A new password is shown on a terminal only. Elsewhere: --secret-from COMMAND")
    secret = _from(secret_from) if secret_from is not None else _made_up()

    def put(password: str | None) -> ComputerAdded:
        return add_office_computer(address, name, secret, password)

    added = _as_owner(put, password_from)
    out.document("office-add", told=added)
    if out.shows:
        view.show_added(out, added, secret if secret_from is None else None)
    return 0


@shaped("dunechest office remove postgresql+psycopg://keeper@ledger.example/office new-laptop")
@command.command("remove", cls=Command)
@click.argument("address", metavar="ADDRESS")
@click.argument("name", metavar="NAME")
@click.option("--password-from", metavar="COMMAND", help=_OWNER)
@common
def remove(out: Out, address: str, name: str, password_from: str | None) -> int:
    """Shut a computer out of the office: it is stolen, sold or broken.

    Its connections end at once. What it told the office stays there.
    """
    from dunechest.cli.views import office as view
    from dunechest.jobs.office.look_after import remove_office_computer

    _as_owner(lambda password: remove_office_computer(address, name, password), password_from)
    out.document("office-remove", name=name)
    if out.shows:
        view.show_removed(out, name)
    return 0


@shaped(
    "dunechest office join postgresql+psycopg://office-office-pc@ledger.example/office",
    "dunechest office join postgresql+psycopg://role@ledger.example/office --password-from show-it",
)
@command.command("join", cls=Command)
@click.argument("address", metavar="ADDRESS")
@click.option("--password-from", metavar="COMMAND", help=_OWN)
@common
def join(out: Out, address: str, password_from: str | None) -> int:
    """Join an office: tell it all that this computer knows, and from now on what is new.

    The password is asked for and kept in the system's keyring. What this computer notes
    goes on being kept here, too. A computer that lost its own ledger gets back what it
    told the office before.
    """
    from dunechest.cli.views import office as view
    from dunechest.errors import OfficeUnreachableError
    from dunechest.jobs.office.join import join_office

    with out.following() as progress:
        try:
            joined = join_office(address, command=password_from, progress=progress)
        except OfficeUnreachableError as error:
            if password_from is not None or not _wants_password(error):
                raise
            joined = None
    if joined is None:
        secret = _ask("Password of this computer")
        with out.following() as progress:
            joined = join_office(address, secret, progress=progress)
    out.document("office-join", told=joined)
    if out.shows:
        view.show_joined(out, joined)
    return 0


@shaped("dunechest office leave")
@command.command("leave", cls=Command)
@common
def leave(out: Out) -> int:
    """Leave the office: this computer goes on with its own ledger alone.

    What is not sent yet is sent first, if the server can be reached. What this computer
    told the office stays there. The password is removed from the keyring.
    """
    from dunechest.cli.views import office as view
    from dunechest.jobs.office.join import leave_office

    left = leave_office()
    out.document("office-leave", told=left)
    if out.shows:
        view.show_left(out, left)
    return 0


@shaped("dunechest office send")
@command.command("send", cls=Command)
@common
def send(out: Out) -> int:
    """Tell the office now what is new. Every command that changes something does so by itself."""
    from dunechest.cli.views import office as view
    from dunechest.jobs.office.exchange import send_to_office

    with out.following() as progress:
        sent = send_to_office(progress=progress)
    out.document("office-send", told=sent)
    if out.shows:
        view.show_sent(out, sent)
    return 0


@shaped("dunechest office show")
@command.command("show", cls=Command)
@common
def show(out: Out) -> int:
    """Show the computers of the office, and when each was last heard of."""
    from dunechest.cli.views import office as view
    from dunechest.jobs.office.show import show_office

    told = show_office()
    out.document("office-show", told=told)
    if out.shows:
        view.show(out, told)
    return 0


def _as_owner(job: Callable[[str | None], _R], password_from: str | None) -> _R:
    """Do something as the owner of the database: with the password that a command prints, without one, or with one asked for."""
    from dunechest.errors import OfficeUnreachableError

    if password_from is not None:
        return job(_from(password_from))
    try:
        return job(None)
    except OfficeUnreachableError as error:
        if not _wants_password(error):
            raise
    return job(_ask("Password of the database's owner"))


def _wants_password(error: Exception) -> bool:
    """Whether a server did not let somebody in who gave no password."""
    return "no password supplied" in str(error)


def _from(command_text: str) -> str:
    from dunechest.jobs.office.membership import words_of
    from dunechest.machine import secrets

    return secrets.from_command(words_of(command_text))


def _made_up() -> str:
    import secrets

    return "-".join(secrets.token_hex(3) for _ in range(5))


def _ask(what: str) -> str:
    from dunechest.errors import UsageError

    if not sys.stdin.isatty():
        raise UsageError(
            "The server asks for a password, and there is no terminal to ask on: --password-from COMMAND"
        )
    answer: str = click.prompt(what, hide_input=True, err=True)
    return answer
