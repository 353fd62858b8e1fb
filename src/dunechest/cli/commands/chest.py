"""``dunechest chest``."""

from __future__ import annotations

import errno
import sys
from collections.abc import Callable
from typing import TYPE_CHECKING

import click

from dunechest.cli.app import Group
from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, complete_chest, complete_held, shaped

if TYPE_CHECKING:
    from dunechest.chest.chest import Chest


_FROM = "A command that prints the server's password each time, instead of the system's keyring."


@click.group("chest", cls=Group)
def command() -> None:
    """Make a chest on a drive; list chests; show what one holds.

    A chest is a folder named dune-chest on a drive. CHEST is its label, its id,
    its folder, or where its drive is mounted.
    """


@shaped(
    "dunechest chest new /media/blue --label blue",
    "dunechest chest new sftp://tern@backup.example/chests --label barn",
)
@command.command("new", cls=Command)
@click.argument("folder", metavar="FOLDER", type=click.Path())
@click.option("--label", required=True, metavar="L", help="What you call the drive.")
@click.option("--password-from", metavar="COMMAND", help=_FROM)
@click.option(
    "--readable",
    is_flag=True,
    help="Whoever has the drive can read everything on it, private files included, on any computer.",
)
@common
def new(out: Out, folder: str, label: str, password_from: str | None, readable: bool) -> int:
    """Make a chest in FOLDER, usually where a drive is mounted.

    FOLDER can be the address of a folder on a server: sftp://USER@HOST/FOLDER,
    webdav://USER@HOST/FOLDER or s3://BUCKET/FOLDER?endpoint=https://HOST&key=ID.
    Two slashes before an SFTP folder mean the top of the server. The server must prove
    who it is. A password is asked for and kept in the system's keyring.

    On a drive with Unix permissions private files stay private: on another computer
    they belong to a user number that may not be yours, and only the administrator can
    read them. With --readable everybody who has the drive can; a restore gives each file
    its own permissions back.
    """
    from dunechest.cli.views import chest as view
    from dunechest.jobs.chests.chests import create_chest

    def make(secret: str | None) -> Chest:
        return create_chest(folder, label, secret, _words(password_from), readable=readable)

    chest = _with_password(make, ask=password_from is None)
    out.document("chest-new", chest, made_at=_made(out, chest.record.made))
    if out.shows:
        view.show_new(out, chest)
    return 0


@shaped("dunechest chest connect sftp://tern@backup.example/chests")
@command.command("connect", cls=Command)
@click.argument("address", metavar="ADDRESS")
@click.option("--password-from", metavar="COMMAND", help=_FROM)
@common
def connect(out: Out, address: str, password_from: str | None) -> int:
    """Make a chest on a server known to this computer, and keep the password.

    From then on it is called by its label, as a chest on a drive is. A password is asked
    for if the server wants one.
    """
    from dunechest.cli.views import chest as view
    from dunechest.jobs.chests.chests import show_chest
    from dunechest.jobs.known.servers import remember_server

    chest = _with_password(
        lambda secret: remember_server(address, secret, _words(password_from)), ask=password_from is None
    )
    result = show_chest(chest)
    out.problem(*view.problems(result))
    out.document("chest-show", chest, told=result)
    if out.shows:
        view.show_contents(out, result)
    return 0 if result.ok else 1


def _words(text: str | None) -> tuple[str, ...]:
    if text is None:
        return ()
    from dunechest.jobs.office.membership import words_of

    return words_of(text)


def _with_password(job: Callable[[str | None], Chest], *, ask: bool) -> Chest:
    """Do something on a server; if it does not let one in, once more with a password that is asked for on a terminal."""
    from dunechest.errors import ServerError

    try:
        return job(None)
    except ServerError as error:
        if not ask or error.errno != errno.EACCES or not sys.stdin.isatty():
            raise
    answer: str = click.prompt("Password of the server", hide_input=True, err=True)
    return job(answer)


def _made(out: Out, made: str) -> str | None:
    if not out.json:
        return None
    from dunechest.document import moment

    return moment(made)


@shaped("dunechest chest list")
@command.command("list", cls=Command)
@common
def list_all(out: Out) -> int:
    """List the chests this computer knows, and those on connected drives."""
    from dunechest.cli.views import chest as view
    from dunechest.jobs.known.chests import list_chests

    result = list_chests()
    out.document("chest-list", told=result)
    if out.shows:
        view.show_list(out, result)
    return 0


@shaped("dunechest chest rename blue harbour")
@command.command("rename", cls=Command)
@click.argument("chest", metavar="CHEST", shell_complete=complete_chest)
@click.argument("label", metavar="LABEL")
@common
def rename(out: Out, chest: str, label: str) -> int:
    """Give a chest another label; its drive must be connected.

    No library is touched. The label is in the records on the drive, so other computers
    see it too.
    """
    from dunechest.cli.views import chest as view
    from dunechest.jobs.chests.changes import rename_chest
    from dunechest.jobs.known.named import resolve_chest

    before = resolve_chest(chest)
    renamed = rename_chest(before, label)
    out.document("chest-rename", renamed, former_label=before.label)
    if out.shows:
        view.show_renamed(out, renamed, before.label)
    return 0


@shaped('dunechest chest place sand "with grandmother"')
@command.command("place", cls=Command)
@click.argument("chest", metavar="CHEST", shell_complete=complete_chest)
@click.argument("place", metavar="PLACE")
@common
def place_of(out: Out, chest: str, place: str) -> int:
    """Write down where the drive of a chest is kept: "desk", "with grandmother".

    The drive need not be connected. An empty PLACE, "", removes it.
    """
    from dunechest.cli.views import chest as view
    from dunechest.jobs.chests.changes import set_chest_place

    known = set_chest_place(chest, place)
    out.document("chest-place", chests=[known])
    if out.shows:
        view.show_place(out, known)
    return 0


@shaped("dunechest chest retire sand", "dunechest chest retire sand --undo")
@command.command("retire", cls=Command)
@click.argument("chest", metavar="CHEST", shell_complete=complete_chest)
@click.option("--undo", is_flag=True, help="Expect it again.")
@common
def retire(out: Out, chest: str, undo: bool) -> int:
    """Stop expecting a chest that is lost, sold or broken.

    It no longer counts as a copy, and its label is free again. Its history is kept; the
    drive is not needed and not changed.
    """
    from dunechest.cli.views import chest as view
    from dunechest.jobs.chests.changes import retire_chest

    known = retire_chest(chest, undo=undo)
    out.document("chest-retire", chests=[known])
    if out.shows:
        view.show_retired(out, known, undo=undo)
    return 0


@shaped("dunechest chest new-id /media/copy --yes")
@command.command("new-id", cls=Command)
@click.argument("folder", metavar="FOLDER", type=click.Path())
@click.option("--yes", is_flag=True, help="Do not ask. Needed where there is no terminal.")
@common
def new_id(out: Out, folder: str, yes: bool) -> int:
    """Make a chest that was copied by hand a chest of its own; it asks.

    Two drives with one id are taken for one. FOLDER is the folder of the copy, or where
    its drive is mounted. No library is touched.
    """
    from dunechest.chest.chest import Chest
    from dunechest.cli.views import chest as view
    from dunechest.errors import RefusedError
    from dunechest.jobs.chests.changes import new_chest_id
    from dunechest.names import shown

    if not yes:
        found = Chest.open(folder, finish=False)
        if not out.shows or not (sys.stdin.isatty() and sys.stdout.isatty()):
            raise RefusedError(
                f"Refused: the chest {shown(found.label)!r} would get another id, and there is no terminal to ask on. Nothing "
                "was changed. To do it without being asked: --yes"
            )
        question = f"Give the chest {shown(found.label)!r} in {shown(str(found.folder))} another id?"
        if not click.confirm(question, default=False):
            out.console.print("Nothing was changed.")
            return 3
    chest = new_chest_id(folder)
    out.document("chest-new-id", chest, made_at=_made(out, chest.record.made))
    if out.shows:
        view.show_new_id(out, chest)
    return 0


@shaped("dunechest chest rebuild /media/blue", "dunechest chest rebuild /media/blue --label blue")
@command.command("rebuild", cls=Command)
@click.argument("folder", metavar="FOLDER", type=click.Path())
@click.option("--label", metavar="L", help="What you call the drive; by default what READ-ME.txt in it says.")
@common
def rebuild(out: Out, folder: str, label: str | None) -> int:
    """Rebuild a chest's own record if chest.json is missing or damaged.

    The libraries in it are not touched. The id is taken from READ-ME.txt if it is still there.
    """
    from dunechest.cli.layout import GOOD, say
    from dunechest.jobs.chests.chests import rebuild_chest
    from dunechest.names import quoted, shown

    chest = rebuild_chest(folder, label)
    out.document("chest-rebuild", chest, made_at=_made(out, chest.record.made))
    if out.shows:
        say(out.console, f"Rebuilt the record of the chest {shown(chest.label)!r}.", GOOD)
        say(out.console, f"Next: dunechest verify {quoted(folder)}")
    return 0


@shaped("dunechest chest show blue", "dunechest chest show /media/sand")
@command.command("show", cls=Command)
@click.argument("chest", metavar="CHEST", shell_complete=complete_chest)
@common
def show(out: Out, chest: str) -> int:
    """Show what a chest holds, and when each library was last checked."""
    from dunechest.cli.views import chest as view
    from dunechest.jobs.chests.chests import show_chest

    result = show_chest(chest)
    out.problem(*view.problems(result))
    out.document("chest-show", result.chest, told=result)
    if out.shows:
        view.show_contents(out, result)
    return 0 if result.ok else 1


@shaped("dunechest chest forget blue winter-games")
@command.command("forget", cls=Command)
@click.argument("chest", metavar="CHEST", shell_complete=complete_chest)
@click.argument("library", metavar="LIBRARY", shell_complete=complete_held)
@common
def forget(out: Out, chest: str, library: str) -> int:
    """Stop expecting a library that you removed from a chest on purpose.

    This computer remembers what it archived or checked in a chest, and verify reports
    what is missing. Nothing on the drive is changed.
    """
    from dunechest.cli.layout import GOOD, say
    from dunechest.jobs.chests.chests import forget_library
    from dunechest.jobs.known.named import resolve_chest
    from dunechest.names import shown

    target = resolve_chest(chest)
    forget_library(target, library)
    out.document("chest-forget", target, libraries=[{"name": library}])
    if out.shows:
        say(out.console, f"{shown(library)} is no longer expected in the chest {shown(target.label)}.", GOOD)
    return 0
