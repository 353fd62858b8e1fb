"""How a comparison is shown."""

from __future__ import annotations

from rich.text import Text

from dunechest.cli.layout import BAD, GOOD, WARN, say
from dunechest.cli.output import Out, show_list
from dunechest.model.compare import ChestComparison, Comparison, LibraryComparison
from dunechest.names import shown
from dunechest.words import number, size

_STYLES = {"silent": BAD, "unreadable": BAD, "other bytes": WARN}
_WORDS = {
    "only in the first": "only in A",
    "only in the second": "only in B",
    "other bytes": "different",
    "silent": "changed without a new size or date",
    "unreadable": "unreadable",
}


def problems(result: Comparison) -> list[str]:
    """Return a line for each file that differs."""
    found = [f"damaged record: {fault.path}: {fault.why}" for fault in result.damaged_records]
    return found + [
        f"{_WORDS[item.what]}: {item.path}" + (f": {item.why}" if item.why else "") for item in result.differences
    ]


def show(out: Out, result: Comparison) -> None:
    """Show the outcome, then each difference."""
    console = out.console
    same = f"{number(result.identical_count, 'file')} identical, {size(result.identical_bytes)}"
    if result.same:
        say(
            console,
            f"Identical: all {number(result.identical_count, 'file')}, {size(result.identical_bytes)}, every byte.",
            GOOD,
        )
    elif result.differences:
        differ = "file differs" if len(result.differences) == 1 else "files differ"
        say(console, f"DIFFERENT: {len(result.differences):,} {differ}; {same}.", BAD)
    else:
        say(console, f"No file differs ({same}), but records of the archive are DAMAGED.", BAD)
    for fault in result.damaged_records:
        say(console, f"Damaged record in the archive: {shown(fault.path)}  {shown(fault.why)}", BAD, indent=2)
    lines = []
    for item in result.differences:
        line = Text(f"{_WORDS[item.what]}: ", style=_STYLES.get(item.what, WARN))
        line.append(shown(item.path) + (f"  {shown(item.why)}" if item.why else ""), style="not bold default")
        lines.append(line)
    show_list(out, f"A is {shown(result.first)}, B is {shown(result.second)}:", lines)
    left = [f"{shown(item.path)}  {shown(item.why)}" for item in result.left_out]
    title = f"{number(len(left), 'file')} left out of the archive on purpose (not a difference):"
    show_list(out, title, left, most=3)


def problems_of_chests(result: ChestComparison) -> list[str]:
    """Return a line for each thing in which two chests differ."""
    found = []
    for library in result.libraries:
        if library.files is None:
            found.append(f"{library.name}: {library.why}")
        else:
            found += [f"{library.name}: {line}" for line in problems(library.files)]
            if not library.same_editions:
                found.append(f"{library.name}: other editions")
    return found


def show_chests(out: Out, result: ChestComparison) -> None:
    """Show the outcome for two chests, then each library."""
    console = out.console
    both = f"{shown(result.first)} and {shown(result.second)}"
    unlike = [library for library in result.libraries if not library.same]
    if not result.libraries:
        say(console, f"There is nothing in {both} yet.")
    elif not unlike:
        files = sum(library.files.identical_count for library in result.libraries if library.files is not None)
        held = number(len(result.libraries), "library", "libraries")
        same = f"{number(files, 'file')}, every byte, and the same editions"
        say(console, f"Identical: {both} hold the same {held}: {same}.", GOOD)
    else:
        names = number(len(unlike), "library differs", "libraries differ")
        say(console, f"DIFFERENT: {names} in {both}.", BAD)
    for library in result.libraries:
        _show_compared(out, library, result)


def _show_compared(out: Out, library: LibraryComparison, result: ChestComparison) -> None:
    console = out.console
    line = Text("same       " if library.same else "DIFFERENT  ", style=GOOD if library.same else BAD)
    line.append(shown(library.name), style="bold")
    if library.files is not None:
        line.append(f"  {number(library.files.identical_count, 'file')} identical", style="not bold default")
    say(console, line, indent=2, hang=11)
    if library.why:
        say(console, library.why, indent=6)
    if library.files is not None and not library.same_editions:
        for label, editions in (
            (result.first, library.first_only_editions),
            (result.second, library.second_only_editions),
        ):
            if editions:
                say(console, f"only in {shown(label)}: edition {', '.join(map(str, editions))}", indent=6)
    if library.files is not None and not library.files.same:
        lines = [shown(text) for text in problems(library.files)]
        show_list(out, f"A is {shown(result.first)}, B is {shown(result.second)}:", lines, most=5)
