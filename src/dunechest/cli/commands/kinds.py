"""``dunechest kinds``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from dunechest.cli.app import Group
from dunechest.cli.layout import GOOD, say
from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, complete_kind, complete_library, shaped
from dunechest.cli.views import kinds as view
from dunechest.library.kinds.load import kind_named, load_kinds
from dunechest.library.kinds.schema import PLAIN_KIND
from dunechest.names import quoted, shown
from dunechest.paths import is_link

if TYPE_CHECKING:
    from dunechest.library.kinds.schema import Kind


@click.group("kinds", cls=Group)
def command() -> None:
    """Show, draft, try and add kinds of libraries.

    Kinds are described in kind files. Your own are kept in the folder that `dunechest
    kinds list` names; one with the same name overrides the built-in one.
    """


@shaped("dunechest kinds list")
@command.command("list", cls=Command)
@common
def list_kinds(out: Out) -> int:
    """List the kinds."""
    from dunechest.ledger.folder import state_folder

    own = state_folder()
    kinds = [*load_kinds(own).values(), PLAIN_KIND]
    if out.json:
        out.document("kinds-list", kinds=[as_told(kind) for kind in kinds], own_folder=str(own / "kinds"))
    if out.shows:
        view.show_list(out, kinds, own / "kinds")
    return 0


def as_told(kind: Kind) -> Any:
    """Return a kind as JSON values: what its file says."""
    import msgspec

    return msgspec.json.decode(msgspec.json.encode(kind))


@shaped("dunechest kinds show glasswort")
@command.command("show", cls=Command)
@click.argument("kind", metavar="K", shell_complete=complete_kind)
@common
def show_kind(out: Out, kind: str) -> int:
    """Show one kind: where it lives, how it is recognised, what in it matters."""
    from dunechest.ledger.folder import state_folder

    shown_kind = kind_named(load_kinds(state_folder()), kind)
    if out.json:
        out.document("kinds-show", kinds=[as_told(shown_kind)])
    if out.shows:
        view.show_kind(out, shown_kind)
    return 0


@shaped("dunechest kinds draft ~/Documents/letters", "dunechest kinds draft ~/Documents/letters --write letters.toml")
@command.command("draft", cls=Command)
@click.argument("folder", metavar="FOLDER", shell_complete=complete_library)
@click.option("--name", metavar="K", help="Name of the kind; the folder's by default.")
@click.option("--write", "write_to", metavar="FILE", type=click.Path(), help="Write it to a new file.")
@common
def draft(out: Out, folder: str, name: str | None, write_to: str | None) -> int:
    """Study a library that Dune Chest does not know, and draft its kind file.

    It looks for databases and the columns that hold paths, playlists, bibliographies,
    sidecars, settings that hold paths, caches, lock marks and bundles. Each line says
    how sure it is and why; guesses are commented out: remove the # to use one. Nothing
    in the folder is changed. FOLDER is a folder, or a name that `dunechest find`
    showed. Check the draft, try it with `dunechest kinds try`, then add it with
    `dunechest kinds add`.
    """
    from pathlib import Path

    from dunechest.errors import RefusedError
    from dunechest.jobs.known.named import resolve_library
    from dunechest.library.draft.compose import draft_kind
    from dunechest.transfer import safe

    drafted = draft_kind(resolve_library(folder).path, name=name)
    if write_to is not None:
        target = Path(write_to)
        if target.exists() or is_link(target):
            raise RefusedError(f"Refused: {shown(write_to)} already exists. Nothing was written; name a new file.")
        safe.write_file(target, drafted.text.encode())
    if out.json:
        out.document("kinds-draft", told=drafted, file=write_to)
    if out.shows and write_to is not None:
        counts = {s: sum(o.sureness == s for o in drafted.lines) for s in ("sure", "likely", "guess")}
        words = ", ".join(f"{count} {sureness}" for sureness, count in counts.items() if count)
        say(out.console, f"Drafted the kind {drafted.kind.name!r} into {shown(write_to)}: {words}.", GOOD)
        say(out.console, f"Read it through, then: dunechest kinds try {quoted(write_to)} {quoted(folder)}")
    elif out.shows:
        click.echo("\n".join(map(shown, drafted.text.rstrip("\n").split("\n"))))
    return 0


@shaped("dunechest kinds check letters.toml")
@command.command("check", cls=Command)
@click.argument("file", metavar="FILE", type=click.Path(exists=True, dir_okay=False))
@common
def check_file(out: Out, file: str) -> int:
    """Check a kind file; mistakes are listed with their lines."""
    from pathlib import Path

    from dunechest.errors import KindFileError
    from dunechest.library.kinds.load import read_kind

    try:
        kind = read_kind(Path(file))
    except KindFileError as error:
        out.document("kinds-check", file=file, kind=None, mistakes=error.mistakes)
        out.problem(*error.mistakes)
        if out.shows:
            for line in str(error).split("\n"):
                click.echo(shown(line), err=True)
        return 1
    out.document("kinds-check", file=file, kind=kind.name, mistakes=[])
    if out.shows:
        say(out.console, f"OK: {shown(file)} describes the kind {kind.name!r}.", GOOD)
    return 0


@shaped("dunechest kinds try letters.toml ~/Documents/letters")
@command.command("try", cls=Command)
@click.argument("file", metavar="FILE", type=click.Path(exists=True, dir_okay=False))
@click.argument("folder", metavar="FOLDER", shell_complete=complete_library)
@common
def try_file(out: Out, file: str, folder: str) -> int:
    """Try a kind file on a folder: what each line matches.

    FOLDER is a folder, or a name that `dunechest find` showed. Every line of the kind
    file is shown with what it matches there, or that it matches nothing; files that no
    line names are listed too. Nothing is changed. The exit status is 1 if a sign is
    missing. --verbose shows examples of what matches.
    """
    from dunechest.jobs.known.named import resolve_library
    from dunechest.library.draft.trying import try_kind

    place = resolve_library(folder).path
    tried = try_kind(file, place)
    out.document("kinds-try", told=tried)
    if out.shows:
        view.show_tried(out, tried, str(place))
    return 0 if tried.recognised else 1


@shaped("dunechest kinds add letters.toml")
@command.command("add", cls=Command)
@click.argument("file", metavar="FILE", type=click.Path(exists=True, dir_okay=False))
@click.option("--replace", is_flag=True, help="Put it in the place of another one of yours with that name.")
@common
def add_file(out: Out, file: str, replace: bool) -> int:
    """Make a kind file known on this computer.

    It is checked, and copied into the folder that `dunechest kinds list` names. From then
    on find, look and archive use it.
    """
    from dunechest.library.kinds.own import add_kind

    added = add_kind(file, replace=replace)
    out.document("kinds-add", told=added)
    if out.shows:
        view.show_added(out, added)
    return 0
