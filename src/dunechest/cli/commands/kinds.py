"""``dunechest kinds``."""

from __future__ import annotations

from typing import Any

import click
from rich import box
from rich.table import Table
from rich.text import Text

from dunechest.cli.output import Out, common
from dunechest.library.kinds.load import kind_named, load_kinds
from dunechest.library.kinds.schema import PLAIN_KIND, Kind
from dunechest.names import shown


@click.group("kinds")
def command() -> None:
    """Show the kinds of libraries known here.

    Kinds are described in kind files. Your own go into the folder "kinds" of
    Dune Chest's own folder; one of the same name wins over a shipped one.
    """


def _document(kind: Kind) -> dict[str, Any]:
    import msgspec

    document: dict[str, Any] = msgspec.to_builtins(kind)
    return document


@command.command("list")
@common
def list_kinds(out: Out) -> int:
    """List the kinds."""
    from dunechest.ledger.folder import state_folder

    own = state_folder()
    kinds = [*load_kinds(own).values(), PLAIN_KIND]
    if out.json:
        out.document({"kinds": [_document(kind) for kind in kinds], "own_kind_files": str(own / "kinds")})
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
        out.document(_document(shown_kind))
    elif out.shows:
        lines = [
            ("kind", shown_kind.name),
            ("what", shown_kind.title),
            ("", shown_kind.about),
            ("kept by", shown_kind.application),
            *((f"places, {system}", ", ".join(places)) for system, places in shown_kind.places.items()),
            *(("sign", _sign(sign)) for sign in shown_kind.signs),
            *(("together", ", ".join(group)) for group in shown_kind.together),
            ("databases", ", ".join(shown_kind.databases)),
            ("sidecars", ", ".join(shown_kind.sidecars)),
            ("rebuildable", ", ".join(shown_kind.roles.rebuildable)),
            ("must not leave", ", ".join(shown_kind.roles.must_not_leave)),
            ("lock marks", ", ".join(shown_kind.in_use.lock_marks)),
            ("processes", ", ".join(shown_kind.in_use.processes)),
            ("database locks", ", ".join(shown_kind.in_use.databases)),
            *(("references", _references(other)) for other in shown_kind.references),
            *(("parts", f"{part.what}: {', '.join(part.paths)} ({part.form})") for part in shown_kind.parts),
            *(("setting", f"{setting.key} in {setting.file}") for setting in shown_kind.settings),
            *(("elsewhere", f"{other.what}: {other.place}") for other in shown_kind.elsewhere),
        ]
        for label, value in lines:
            if value:
                out.console.print(
                    Text(f"{label:<16}", style="bold").append(shown(value), style="not bold"), soft_wrap=True
                )
    return 0


def _references(spec: Any) -> str:
    where = f"{spec.table}.{spec.column}" + (f" with {spec.folder}" if spec.folder else "") if spec.table else ""
    return f"{spec.form} in {', '.join(spec.files)}" + "".join(f": {x}" for x in (where, ", ".join(spec.keys)) if x)


def _sign(sign: Any) -> str:
    extra = f", an SQLite database with {', '.join(sign.tables)}" if sign.tables else ""
    extra += f", beginning {sign.begins!r}" if sign.begins else ""
    return f"{sign.path}{extra}"


@command.command("draft")
@click.argument("folder", metavar="FOLDER", type=click.Path())
@click.option("--name", metavar="K", help="Name of the kind; the folder's by default.")
@click.option("--write", "write_to", metavar="FILE", type=click.Path(), help="Write it to a new file.")
@common
def draft(out: Out, folder: str, name: str | None, write_to: str | None) -> int:
    """Study a library nobody described, and draft its kind file.

    It looks for databases and which of their columns hold paths, playlists,
    bibliographies, sidecars, keys of documents that are paths, caches, lock marks
    and bundles. Each line says how sure it is and why; a guess is written as a
    remark, which does nothing until you take the mark away. Nothing in the folder
    is changed. Look the draft over, then put it into the folder that `dunechest kinds
    list` names.
    """
    from pathlib import Path

    from dunechest.errors import RefusedError
    from dunechest.library.draft.compose import draft_kind
    from dunechest.transfer import safe

    drafted = draft_kind(folder, name=name)
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
        out.document({"kind": _document(drafted.kind), "text": drafted.text, "lines": lines, "file": write_to})
    elif out.shows and write_to is not None:
        counts = {s: sum(o.sureness == s for o in drafted.observations) for s in ("sure", "likely", "guess")}
        words = ", ".join(f"{count} {sureness}" for sureness, count in counts.items() if count)
        out.console.print(f"Drafted the kind {drafted.kind.name!r} into {shown(write_to)}: {words}.", soft_wrap=True)
        out.console.print("Look it over; then: dunechest kinds check FILE", style="dim")
    elif out.shows:
        click.echo("\n".join(map(shown, drafted.text.rstrip("\n").split("\n"))))
    return 0


@command.command("check")
@click.argument("file", metavar="FILE", type=click.Path(exists=True, dir_okay=False))
@common
def check_file(out: Out, file: str) -> int:
    """Check a kind file; a mistake is named with its place."""
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
