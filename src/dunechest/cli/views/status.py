"""How protection is shown: the verdict, what to do next, libraries by chests, drives."""

from __future__ import annotations

from rich.text import Text

from dunechest.cli.layout import BAD, GOOD, WARN, listing, say
from dunechest.cli.output import Out, limited
from dunechest.cli.views.drives import drive_words
from dunechest.model.overview import Copy, ProtectedLibrary, Status
from dunechest.names import shown
from dunechest.words import NOT_COUNTED, STATE_WORDS, ago, number, size

_STYLES = {"safe": GOOD, "damaged": BAD, "missing": BAD}


def problems(result: Status) -> list[str]:
    """Return a line for each library that is not safe."""
    found = [
        f"{library.name}: {number(library.good_copy_count, 'good copy', 'good copies')} of {library.rule.copies}"
        for library in result.libraries
        if not library.safe
    ]
    found += [f"{library.name}: never archived" for library in result.unprotected_libraries]
    return found + [
        f"routine {state.name}: {state.message or 'overdue'}" for state in result.routines if not state.ok
    ]


def show(out: Out, result: Status) -> None:
    """Show `status`."""
    console = out.console
    known = bool(result.libraries or result.unprotected_libraries)
    say(console, result.verdict, "" if not known else GOOD if result.safe else BAD)
    if result.office is not None and result.office.why:
        from dunechest.cli.views.office import show_seen

        show_seen(out, result.office)
    if not known and not (result.routines or result.elsewhere_count or result.steps):
        return
    some, more = limited(result.steps, out.verbose, 6)
    for step in some:
        say(console, shown(step.message), indent=2)
        if step.command:
            say(console, f"-> {step.command}", indent=4, hang=3)
    if more:
        say(console, f"and {more:,} more steps (--verbose shows all)", indent=2)
    console.print()
    for library in result.libraries:
        _show_library(out, library, office=result.office is not None or not library.on_this_computer)
    for found in result.unprotected_libraries:
        line = Text().append(shown(found.name), style="bold").append("  NEVER ARCHIVED", style=BAD)
        say(console, line.append(f"  on {shown(found.computer)}") if found.computer else line)
        console.print(out.place(found.path), soft_wrap=True)
    if result.elsewhere_count:
        words = f"{number(result.elsewhere_count, 'library', 'libraries')} of other computers on these drives:"
        say(console, f"{words} dunechest status --everyone", indent=2)
    _show_chests(out, result)
    _show_routines(out, result)


def _show_routines(out: Out, result: Status) -> None:
    if not result.routines:
        return
    from dunechest.cli.views.routine import show_state

    out.console.print()
    for state in result.routines:
        show_state(out, state, brief=True)


def _show_library(out: Out, library: ProtectedLibrary, *, office: bool) -> None:
    line = Text().append(shown(library.name), style="bold")
    line.append("  safe" if library.safe else "  NOT SAFE", style=GOOD if library.safe else BAD)
    if office:
        line.append(f"  of {shown(library.computer)}")
    good = number(library.good_copy_count, "copy", "copies")
    if library.good_copy_count <= library.rule.copies:
        good = f"{library.good_copy_count} of {number(library.rule.copies, 'copy', 'copies')}"
    line.append(f"  {good}, {number(library.file_count, 'file')}, {size(library.size_bytes)}")
    say(out.console, line)
    if library.moved is not None:
        say(out.console, library.moved.message, indent=4, hang=4)
    for copy in library.copies:
        line = _copy(copy)
        if why := NOT_COUNTED.get(copy.not_counted_because or ("library-drive" if library.is_beside(copy) else "")):
            line.append(f"; {why}, so it does not count", style=WARN)
        say(out.console, line, indent=4, hang=4)


def _copy(copy: Copy) -> Text:
    style = _STYLES.get(copy.state, WARN)
    line = Text().append(f"{shown(copy.label)}: ").append(STATE_WORDS[copy.state], style=style)
    if copy.state == "missing":
        return line
    line.append(f", edition {copy.edition}, archived {ago(copy.archived_at)}")
    if copy.checked_at is not None and copy.checked_at > copy.archived_at:
        line.append(f", checked {ago(copy.checked_at)}")
    if copy.drilled_at is not None:
        line.append(f", passed a drill {ago(copy.drilled_at)}")
    if copy.not_seen_count:
        line.append(
            f"; {number(copy.not_seen_count, 'file')} in it could not be seen at the last archive", style=WARN
        )
    return line


def _show_chests(out: Out, result: Status) -> None:
    if not result.chests:
        return
    out.console.print()
    rows: list[tuple[str, ...]] = []
    below: list[list[Text | str]] = []
    for chest in result.chests:
        free = f"{size(chest.free_bytes)} free" if chest.free_bytes is not None else ""
        rows.append((shown(chest.label), drive_words(chest), free))
        seen = f"last seen {ago(chest.last_seen_at)}" if chest.last_seen_at else "not seen before"
        seen += f" by {shown(chest.last_seen_by)}" if chest.last_seen_by else ""
        below.append([seen + (f", kept at: {shown(chest.kept_at_place)}" if chest.kept_at_place else "")])
    listing(out.console, ("drive", "", "free"), rows, below)
