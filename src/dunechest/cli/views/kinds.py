"""How kinds, and kind files that are tried on a folder, are shown."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from rich.text import Text

from dunechest.cli.layout import BAD, DIM, GOOD, WARN, homely, listing, say
from dunechest.cli.output import Out, limited
from dunechest.library.draft.trying import TriedKind, TriedLine
from dunechest.library.kinds.own import AddedKind
from dunechest.library.kinds.schema import Kind, References, Sign
from dunechest.names import shown
from dunechest.words import number, size


def show_list(out: Out, kinds: Sequence[Kind], own: Path) -> None:
    """Show all kinds, each with what it is below."""
    console = out.console
    rows = [(kind.name, shown(kind.application)) for kind in kinds]
    listing(console, ("kind", "application"), rows, [[shown(kind.title)] for kind in kinds])
    say(console, "Your own kind files belong in this folder:")
    console.print(out.place(own), soft_wrap=True)


def show_kind(out: Out, kind: Kind) -> None:
    """Show one kind, a line for each thing its file says."""
    lines = [
        ("kind", kind.name),
        ("what", kind.title),
        ("", kind.about),
        ("application", kind.application or ("any application that uses this open format" if kind.open else "")),
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
            say(out.console, text, hang=16)


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


def show_tried(out: Out, tried: TriedKind, folder: str) -> None:
    """Show what each line of a kind file matches, what matches nothing, and what no line names."""
    console = out.console
    name, place = shown(tried.definition.name), homely(folder)
    if tried.recognised:
        say(console, f"{place} is recognised as {name!r}.", GOOD)
    else:
        say(console, f"{place} is NOT recognised as {name!r}: a sign is missing there.", BAD)
    roles = [("essential", tried.essential_bytes), ("rebuildable", tried.rebuildable_bytes)]
    roles += [("bought or licensed, not archived", tried.must_not_leave_bytes)]
    told = ", ".join(f"{size(count)} {role}" for role, count in roles if count)
    if told:
        say(console, f"By role: {told}.")
    if tried.idle:
        verb = "line matches" if len(tried.idle) == 1 else "lines match"
        say(console, f"{len(tried.idle)} of {len(tried.lines)} {verb} nothing here.", WARN)
    if tried.unnamed_files:
        some, more = limited(tried.unnamed_files, out.verbose, 6)
        told = "; ".join(
            f"{number(files, f'{end} file')} ({size(count)})"
            if end
            else f"{number(files, 'file')} without an ending ({size(count)})"
            for end, files, count in some
        )
        rest = f"; {more} more endings." if more else "."
        say(console, f"No line names these, so they are essential: {shown(told)}{rest}")
    table = ""
    for line in tried.lines:
        if line.table != table:
            table = line.table
            say(console, f"[{table}]")
        _show_line(out, line)


def _show_line(out: Out, line: TriedLine) -> None:
    mark, style = ("ok  ", GOOD) if line.match_count else ("none", WARN)
    text = Text(mark, style=style).append(f"  {shown(line.key)} = {shown(line.value)}", style="bold default")
    say(out.console, text, indent=2, hang=6)
    say(out.console, shown(line.says), indent=8)
    if line.examples and line.match_count and out.verbose:
        say(out.console, shown(", ".join(line.examples)), DIM, indent=8)


def show_added(out: Out, added: AddedKind) -> None:
    """Say that a kind is known now, and what it changes."""
    console = out.console
    name = shown(added.definition.name)
    if added.instead_of == "same":
        say(console, f"The kind {name!r} is already known on this computer; nothing to do.", GOOD)
    else:
        say(console, f"Added the kind {name!r}.", GOOD)
    console.print(out.place(added.file), soft_wrap=True)
    if added.instead_of == "same":
        return
    if added.instead_of == "shipped":
        say(console, "It overrides the built-in kind of that name.", WARN)
    if added.instead_of == "own":
        say(console, "It replaces your former one.")
    say(
        console,
        "Next: dunechest find. Libraries of this kind that are archived already use it from their next archive on.",
    )
