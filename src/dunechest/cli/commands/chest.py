"""``dunechest chest``."""

from __future__ import annotations

import click

from dunechest.cli.output import Out, common


@click.group("chest")
def command() -> None:
    """Make a chest on a drive; list chests; show what one holds.

    A chest is a folder named dune-chest on a drive. CHEST is its label, its id,
    its folder, or where its drive is mounted.
    """


@command.command("new")
@click.argument("folder", metavar="FOLDER", type=click.Path())
@click.option("--label", required=True, metavar="L", help="What you call the drive.")
@common
def new(out: Out, folder: str, label: str) -> int:
    """Make a chest in FOLDER, usually where a drive is mounted."""
    from dunechest.cli.views import chest as chest_view
    from dunechest.jobs.chests import create_chest

    chest = create_chest(folder, label)
    if out.json:
        out.document(chest_view.chest_document(chest))
    elif out.shows:
        chest_view.show_new(out, chest)
    return 0


@command.command("list")
@common
def list_all(out: Out) -> int:
    """List the chests this computer knows, and those on connected drives."""
    from dunechest.cli.views import chest as chest_view
    from dunechest.jobs.known_chests import list_chests

    result = list_chests()
    if out.json:
        out.document(chest_view.list_document(result))
    elif out.shows:
        chest_view.show_list(out, result)
    return 0


@command.command("rebuild")
@click.argument("folder", metavar="FOLDER", type=click.Path())
@click.option("--label", metavar="L", help="What you call the drive; by default what READ-ME.txt in it says.")
@common
def rebuild(out: Out, folder: str, label: str | None) -> int:
    """Rebuild a chest's own record if chest.json is missing or damaged.

    The libraries in it are not touched. The id is taken from READ-ME.txt if it is still there.
    """
    from dunechest.cli.views import chest as chest_view
    from dunechest.jobs.chests import rebuild_chest
    from dunechest.names import shown

    chest = rebuild_chest(folder, label)
    if out.json:
        out.document(chest_view.chest_document(chest))
    elif out.shows:
        out.console.print(f"The record of the chest {shown(chest.label)!r} was made again.")
        out.console.print(f"Next: dunechest verify {shown(folder)}", soft_wrap=True)
    return 0


@command.command("show")
@click.argument("chest", metavar="CHEST")
@common
def show(out: Out, chest: str) -> int:
    """Show what a chest holds, and when each library was last checked."""
    from dunechest.cli.views import chest as chest_view
    from dunechest.jobs.chests import show_chest

    result = show_chest(chest)
    out.problem(*chest_view.problems(result))
    if out.json:
        out.document(chest_view.show_document(result))
    elif out.shows:
        chest_view.show_contents(out, result)
    return 0 if result.well else 1


@command.command("forget")
@click.argument("chest", metavar="CHEST")
@click.argument("library", metavar="LIBRARY")
@common
def forget(out: Out, chest: str, library: str) -> int:
    """Stop expecting a library that you removed from a chest on purpose.

    This computer remembers what it archived or checked in a chest, and verify reports
    what is missing. Nothing on the drive is changed.
    """
    from dunechest.jobs.chests import forget_library
    from dunechest.jobs.named import resolve_chest
    from dunechest.names import shown

    target = resolve_chest(chest)
    forget_library(target, library)
    if out.json:
        out.document({"chest": target.id, "library": library, "expected": False})
    elif out.shows:
        out.console.print(
            f"{shown(library)} is no longer expected in the chest {shown(target.label)}.", soft_wrap=True
        )
    return 0
