"""How found files are shown."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.text import Text

from dunechest.cli.layout import BAD, say
from dunechest.cli.output import Out, limited
from dunechest.model.overview import FoundCopy, FoundFile, SearchResult
from dunechest.names import shown
from dunechest.words import day, number, size

_MOST = 10


def show(out: Out, result: SearchResult) -> None:
    """Show the outcome of a search: each file, where it is, and the command that brings it back."""
    console = out.console
    known = f"{number(result.known_file_count, 'known file')} in {number(result.known_chest_count, 'chest')}"
    if not result.known_chest_count:
        say(console, "No chest is known yet. Connect a drive, then run: dunechest chest show FOLDER")
        return
    if not result.files:
        say(console, f"Nothing found among {known}.", BAD)
        say(
            console,
            "A chest that this computer never met is not searched. Connect it, then: dunechest chest show FOLDER",
        )
        return
    more = "More than " if result.more else ""
    say(console, f"{more}{number(len(result.files), 'file')} found among {known}.")
    some, left = limited(result.files, out.verbose, _MOST)
    for file in some:
        _show_file(out, file)
    if left or result.more:
        words = "more words, --library, --since or --larger narrow it"
        say(
            console, f"and {left:,} more{' at least' if result.more else ''} (--verbose shows all; {words})", indent=2
        )


def _show_file(out: Out, file: FoundFile) -> None:
    console = out.console
    folder, _, name = file.path.rpartition("/")
    head = Text(f"{size(file.size_bytes)}, {day(file.modified_at)}, {shown(file.library)}  ")
    head.append(shown(name), style="bold")
    say(console, head, indent=2)
    if folder:
        say(console, f"in {shown(folder)}", indent=4, hang=3)
    for line in _where(file.copies):
        say(console, line, indent=4, hang=2)
    if file.copies:
        say(console, f"-> {file.copies[0].restore_command}", indent=4, hang=3)


def _where(copies: Sequence[FoundCopy]) -> Iterator[str]:
    """Yield a line for each state in which some chests have a file: the editions, and the chests."""
    groups: dict[tuple[int, int, bool], list[str]] = {}
    for copy in copies:
        where = (
            "connected"
            if copy.connected
            else f"kept at {shown(copy.kept_at_place)}"
            if copy.kept_at_place
            else "not connected"
        )
        where += f", last seen by {shown(copy.last_seen_by)}" if copy.last_seen_by and not copy.connected else ""
        key = copy.first_edition, copy.last_edition, copy.current
        groups.setdefault(key, []).append(f"{shown(copy.label)} ({where})")
    for (first, last, current), labels in groups.items():
        editions = f"edition {last}" if first == last else f"editions {first} to {last}"
        yield f"{editions}{'' if current else ', deleted or changed since'}: {', '.join(labels)}"
