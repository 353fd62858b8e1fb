"""``dunechest kinds``."""

from __future__ import annotations

import click
from rich import box
from rich.table import Table
from rich.text import Text

from dunechest.cli.output import Out, common
from dunechest.cli.views import kinds as view
from dunechest.library.kinds.load import kind_named, load_kinds
from dunechest.library.kinds.schema import PLAIN_KIND
from dunechest.names import shown


@click.group("kinds")
def command() -> None:
    """Show, draft, try and add kinds of libraries.

    Kinds are described in kind files. Your own are kept in the folder that `dunechest
    kinds list` names; one with the same name overrides the built-in one.
    """


@command.command("list")
@common
def list_kinds(out: Out) -> int:
    """List the kinds."""
    from dunechest.ledger.folder import state_folder

    own = state_folder()
    kinds = [*load_kinds(own).values(), PLAIN_KIND]
    if out.json:
        out.document({"kinds": [view.document(kind) for kind in kinds], "own_kind_files": str(own / "kinds")})
    elif out.shows:
        table = Table(box=box.SIMPLE_HEAD, pad_edge=False)
        for name in ("kind", "what", "application"):
            table.add_column(name, overflow="fold")
        for kind in kinds:
            table.add_row(Text(kind.name, style="bold"), Text(shown(kind.title)), Text(shown(kind.application)))
        out.console.print(table)
        out.console.print(f"Your own kind files go into {shown(str(own / 'kinds'))}", style="dim", soft_wrap=True)
    return 0


@command.command("show")
@click.argument("kind", metavar="K")
@common
def show_kind(out: Out, kind: str) -> int:
    """Show one kind: where it lives, how it is recognised, what in it matters."""
    from dunechest.ledger.folder import state_folder

    shown_kind = kind_named(load_kinds(state_folder()), kind)
    if out.json:
        out.document(view.document(shown_kind))
    elif out.shows:
        view.show_kind(out, shown_kind)
    return 0


@command.command("draft")
@click.argument("folder", metavar="FOLDER")
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
    from dunechest.jobs.named import resolve_library
    from dunechest.library.draft.compose import draft_kind
    from dunechest.transfer import safe

    drafted = draft_kind(resolve_library(folder).path, name=name)
    if write_to is not None:
        target = Path(write_to)
        if target.exists() or target.is_symlink():
            raise RefusedError(f"{shown(write_to)} is there already. Nothing was written; name a new file.")
        safe.write_file(target, drafted.text.encode())
    if out.json:
        lines = [
            {"table": o.table, "keys": dict(o.keys), "sureness": o.sureness, "why": o.why}
            for o in drafted.observations
        ]
        out.document({"kind": view.document(drafted.kind), "text": drafted.text, "lines": lines, "file": write_to})
    elif out.shows and write_to is not None:
        counts = {s: sum(o.sureness == s for o in drafted.observations) for s in ("sure", "likely", "guess")}
        words = ", ".join(f"{count} {sureness}" for sureness, count in counts.items() if count)
        out.console.print(f"Drafted the kind {drafted.kind.name!r} into {shown(write_to)}: {words}.", soft_wrap=True)
        out.console.print(
            f"Look it over; then: dunechest kinds try {shown(write_to)} {shown(folder)}", style="dim", soft_wrap=True
        )
    elif out.shows:
        click.echo("\n".join(map(shown, drafted.text.rstrip("\n").split("\n"))))
    return 0


@command.command("check")
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
        if out.json:
            out.document({"file": file, "well": False, "error": str(error), "mistakes": list(error.mistakes)})
            return 1
        for line in str(error).split("\n"):
            click.echo(shown(line), err=True)
        return 1
    if out.json:
        out.document({"file": file, "well": True, "kind": kind.name})
    elif out.shows:
        out.console.print(f"{shown(file)} describes the kind {kind.name!r}: well.", style="green", soft_wrap=True)
    return 0


@command.command("try")
@click.argument("file", metavar="FILE", type=click.Path(exists=True, dir_okay=False))
@click.argument("folder", metavar="FOLDER")
@common
def try_file(out: Out, file: str, folder: str) -> int:
    """Try a kind file on a folder: what each line matches.

    FOLDER is a folder, or a name that `dunechest find` showed. Every line of the kind
    file is shown with what it matches there, or that it matches nothing; files that no
    line names are listed too. Nothing is changed. The exit status is 1 if a sign is
    missing. --verbose shows examples of what matches.
    """
    from dunechest.jobs.named import resolve_library
    from dunechest.library.draft.trying import try_kind

    place = resolve_library(folder).path
    tried = try_kind(file, place)
    if out.json:
        out.document(view.tried_document(tried, str(place)))
    elif out.shows:
        view.show_tried(out, tried, str(place))
    return 0 if tried.recognised else 1


@command.command("add")
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
    if out.json:
        out.document({"kind": added.kind.name, "file": str(added.file), "instead_of": added.instead_of})
    elif out.shows:
        view.show_added(out, added)
    return 0
