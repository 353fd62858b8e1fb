"""How kinds, and kind files that are tried on a folder, are shown."""

from __future__ import annotations

from typing import Any

from rich.text import Text

from dunechest.cli.output import Out, limited
from dunechest.library.draft.trying import TriedKind, TriedLine
from dunechest.library.kinds.own import AddedKind
from dunechest.library.kinds.schema import Kind, References, Sign
from dunechest.names import shown
from dunechest.words import number, size


def document(kind: Kind) -> dict[str, Any]:
    """Return the JSON document of a kind: what its file says."""
    import msgspec

    told: dict[str, Any] = msgspec.to_builtins(kind)
    return told


def show_kind(out: Out, kind: Kind) -> None:
    """Show one kind, a line for each thing its file says."""
    lines = [
        ("kind", kind.name),
        ("what", kind.title),
        ("", kind.about),
        ("kept by", kind.application or ("any application that uses this open format" if kind.open else "")),
        *((f"places, {system}", ", ".join(places)) for system, places in kind.places.items()),
        *(("sign", _sign(sign)) for sign in kind.signs),
        *(("together", ", ".join(group)) for group in kind.together),
        ("databases", ", ".join(kind.databases)),
        ("sidecars", ", ".join(kind.sidecars)),
        ("rebuildable", ", ".join(kind.roles.rebuildable)),
        ("essential", ", ".join(kind.roles.essential)),
        ("must not leave", ", ".join(kind.roles.must_not_leave)),
        ("lock marks", ", ".join(kind.in_use.lock_marks)),
        ("processes", ", ".join(kind.in_use.processes)),
        ("database locks", ", ".join(kind.in_use.databases)),
        *(("references", _references(other)) for other in kind.references),
        *(("parts", f"{part.what}: {', '.join(part.paths)} ({part.form})") for part in kind.parts),
        *(("setting", f"{setting.key} in {setting.file}") for setting in kind.settings),
        *(("elsewhere", f"{other.what}: {other.place}") for other in kind.elsewhere),
    ]
    for label, value in lines:
        if value:
            text = Text(f"{label:<16}", style="bold").append(shown(value), style="not bold")
            out.console.print(text, soft_wrap=True)


def _references(spec: References) -> str:
    where = f"{spec.table}.{spec.column}" + (f" with {spec.folder}" if spec.folder else "") if spec.table else ""
    return f"{spec.form} in {', '.join(spec.files)}" + "".join(f": {x}" for x in (where, ", ".join(spec.keys)) if x)


def _sign(sign: Sign) -> str:
    if sign.endings:
        of_all = f", and {sign.share * 100:.0f} % of all files" if sign.share else ""
        return f"{number(sign.count, 'file')} or more that end in {', '.join(sign.endings)}{of_all}"
    pieces = [sign.path or f"a folder whose name is like {sign.name}"]
    if sign.path and sign.name:
        pieces.append(f"in a folder whose name is like {sign.name}")
    if sign.tables:
        pieces.append(f"an SQLite database with the tables {', '.join(sign.tables)}")
    if sign.begins:
        pieces.append(f"beginning with {sign.begins!r}")
    if sign.holds:
        pieces.append(f"with {sign.holds!r} in it")
    if sign.count > 1:
        pieces.append(f"{sign.count} of them")
    return ", ".join(pieces)


def tried_document(tried: TriedKind, folder: str) -> dict[str, Any]:
    """Return the JSON document of a kind file that was tried on a folder."""
    return {"folder": folder, **tried.to_dict(), "kind": tried.kind.name}


def show_tried(out: Out, tried: TriedKind, folder: str) -> None:
    """Show what each line of a kind file matches, what matches nothing, and what no line names."""
    console = out.console
    name, place = shown(tried.kind.name), shown(folder)
    if tried.recognised:
        console.print(f"{place} is recognised as {name!r}.", style="green", soft_wrap=True)
    else:
        console.print(
            f"{place} is not recognised as {name!r}: a sign is not so there.", style="bold red", soft_wrap=True
        )
    console.print()
    table = ""
    for line in tried.lines:
        if line.table != table:
            table = line.table
            console.print(Text(f"[{table}]"), soft_wrap=True)
        _show_line(out, line)
    console.print()
    roles = [("essential", tried.essential), ("rebuildable", tried.rebuildable)]
    roles += [("must not leave this machine", tried.must_not_leave)] if tried.must_not_leave else []
    console.print("By role: " + ", ".join(f"{size(count)} {role}" for role, count in roles) + ".", soft_wrap=True)
    if tried.idle:
        console.print(
            f"{number(len(tried.idle), 'line')} of {len(tried.lines)} "
            f"{'matches' if len(tried.idle) == 1 else 'match'} nothing here.",
            style="yellow",
        )
    if tried.unnamed:
        some, more = limited(tried.unnamed, out.verbose, 6)
        told = "; ".join(
            f"{number(files, f'{end} file')} ({size(count)})"
            if end
            else f"{number(files, 'file')} without an ending ({size(count)})"
            for end, files, count in some
        )
        console.print(
            f"No line names these, so they are essential: {shown(told)}"
            + (f"; {more} more endings." if more else "."),
            soft_wrap=True,
        )


def _show_line(out: Out, line: TriedLine) -> None:
    mark, style = ("  ok", "green") if line.matches else ("none", "yellow")
    text = Text("  ").append(mark, style=style).append(f"  {shown(line.key)} = {shown(line.value)}", style="bold")
    out.console.print(text, soft_wrap=True)
    out.console.print(Text(f"        {shown(line.says)}", style="dim"), soft_wrap=True)
    if line.examples and line.matches and out.verbose:
        out.console.print(Text(f"        {shown(', '.join(line.examples))}", style="dim"), soft_wrap=True)


def show_added(out: Out, added: AddedKind) -> None:
    """Say that a kind is known now, and what it changes."""
    name, file = shown(added.kind.name), shown(str(added.file))
    if added.instead_of == "same":
        out.console.print(f"The kind {name!r} is known here already, in {file}: nothing to do.", soft_wrap=True)
        return
    out.console.print(f"The kind {name!r} is known now, in {file}.", style="green", soft_wrap=True)
    if added.instead_of == "shipped":
        out.console.print(
            "It takes the place of the one of that name that Dune Chest comes with.", style="yellow", soft_wrap=True
        )
    if added.instead_of == "own":
        out.console.print("It takes the place of your former one.", soft_wrap=True)
    out.console.print(
        "Next: dunechest find. Libraries of it that were archived before take it over with their next archive.",
        style="dim",
        soft_wrap=True,
    )
