"""How found libraries are shown."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from dunechest.cli.layout import WARN, homely, listing, say
from dunechest.cli.output import Out, limited, show_list
from dunechest.model.look import FindResult, FoundDrive, FoundLibrary
from dunechest.names import quoted, shown
from dunechest.words import day, number, size


def show(out: Out, result: FindResult, *, named: bool) -> None:
    """Show `find`: a list for each drive, and the folders that no kind fits."""
    console = out.console
    if result.libraries:
        count = number(len(result.libraries), "library", "libraries")
        essential = sum(found.essential for found in result.libraries)
        say(console, f"Found {count}, {size(essential)} that cannot be replaced.", "bold")
        for drive in result.drives:
            _show_drive(out, drive, [found for found in result.libraries if found.drive == drive.path])
        of_none = [found for found in result.libraries if found.drive not in {drive.path for drive in result.drives}]
        _show_libraries(out, of_none)
        console.print()
        say(console, "Next: dunechest look NAME, then dunechest archive NAME --to CHEST")
    else:
        where = ", ".join(homely(path) for path in result.searched_paths)
        say(console, f"No library of a known kind was found in {where}.")
        say(console, "Any folder or file can still be archived by its path.")
    _show_moved(out, result)
    _show_loose(out, result)
    _show_unknown(out, result)
    for mistakes in result.kind_file_errors:
        say(console, "One of your own kind files has a mistake and was skipped:", WARN)
        for text in mistakes.split("\n"):
            say(console, shown(text), indent=2)
    if not named:
        say(console, "To search only some folder or drive: dunechest find PLACE")
    title = f"{number(len(result.unreadable_paths), 'folder')} could not be listed:"
    show_list(out, title, [homely(path) for path in result.unreadable_paths], most=5, style=WARN)


def _show_drive(out: Out, drive: FoundDrive, libraries: Sequence[FoundLibrary]) -> None:
    out.console.print()
    takes = f"libraries take {size(drive.essential_bytes + drive.rebuildable_bytes)}"
    if drive.rebuildable_bytes:
        takes += f" ({size(drive.rebuildable_bytes)} can be rebuilt)"
    text = Text(f"Drive {homely(drive.path)}", style="bold")
    text.append(f"  {size(drive.free_bytes)} free of {size(drive.total_bytes)}; {takes}", style="not bold")
    say(out.console, text)
    _show_libraries(out, libraries)


def _show_libraries(out: Out, libraries: Sequence[FoundLibrary]) -> None:
    if not libraries:
        return
    console = out.console
    rows: list[tuple[str, ...]] = []
    below: list[list[Text | str]] = []
    for found in libraries:
        rows.append(
            (
                found.library.name,
                shown(found.library.kind.title),
                size(found.essential),
                size(found.rebuildable_bytes) if found.rebuildable_bytes else "",
                f"{found.file_count:,}",
                day(found.changed_at),
            )
        )
        notes: list[Text | str] = [out.place(found.library.path)]
        if found.whose and found.whose != f"the drive in {found.drive}":
            notes.append(shown(found.whose))
        if found.library.kind.open:
            notes.append(f"recognised by {shown('; '.join(found.library.evidence))}")
        if found.inner:
            some, more = limited(found.inner, out.verbose, 4)
            names = ", ".join(f"{inner.path.relative_to(found.library.path)} ({inner.kind.title})" for inner in some)
            notes.append(f"contains {shown(names)}" + (f" and {more} more" if more else ""))
        below.append(notes)
    heads = ("name", "kind", "essential", "rebuildable", "files", "last change")
    listing(console, heads, rows, below, right=(2, 3, 4))


def _show_moved(out: Out, result: FindResult) -> None:
    """Show the moved libraries that are not connected, or of which something is wrong."""
    moved = [home for home in result.moved_libraries if not home.connected or home.command or home.second is not None]
    if not moved:
        return
    out.console.print()
    say(out.console, "Moved to a drive:", "bold")
    for home in moved:
        style = WARN if home.second is not None or home.strayed else ""
        say(out.console, Text(f"{shown(home.name)}: ").append(home.message, style=style), indent=2, hang=2)
        if home.command:
            say(out.console, f"-> {home.command}", indent=4, hang=3)


def _show_loose(out: Out, result: FindResult) -> None:
    """Show folders of the home with files that lie in no library."""
    if not result.loose_folders:
        return
    console = out.console
    console.print()
    say(console, "Files of yours that lie in no library:", "bold")
    some, more = limited(result.loose_folders, out.verbose, 8)
    rows = [(homely(folder.path), f"{folder.file_count:,}", size(folder.size_bytes)) for folder in some]
    listing(console, ("folder", "files", "size"), rows, [[] for _ in rows], right=(1, 2))
    if more:
        say(console, f"and {more:,} more (--verbose shows all)", indent=2)
    say(console, f"To archive one: dunechest archive {quoted(str(some[0].path))} --to CHEST")
    say(console, f"If one is not worth it: dunechest find --ignore {quoted(str(some[-1].path))}")


def _show_unknown(out: Out, result: FindResult) -> None:
    """Show the folders that no kind fits."""
    if not result.unknown_folders:
        return
    console = out.console
    some, more = limited(result.unknown_folders, out.verbose, 12)
    console.print()
    say(console, "Not recognised. Any of these can be archived by its path:", "bold")
    rows = [
        (shown(folder.path.name or str(folder.path)), size(folder.size_bytes), f"{folder.file_count:,}")
        for folder in some
    ]
    below: list[list[Text | str]] = [[out.place(folder.path), shown("; ".join(folder.evidence))] for folder in some]
    listing(console, ("folder", "size", "files"), rows, below, right=(1, 2))
    if more:
        say(console, f"and {more:,} more (--verbose shows all)", indent=2)
    say(console, "To describe such a folder: dunechest kinds draft FOLDER")
