"""How lines are laid out: prose that wraps, places that are shortened, lists with a row and its place below.

On a terminal prose wraps at the terminal's width, 100 columns at most, and continues with a hanging indent. Elsewhere nothing
is folded or padded away: each line is whole. Widths are those of cells: a wide character takes two, a joined one none.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from rich.cells import cell_len
from rich.text import Text

from dunechest.names import shown
from dunechest.paths import TOP, prefix_of
from dunechest.regex import late

if TYPE_CHECKING:
    from rich.console import Console

#: Tones of the palette of 256 with a contrast of 4.5 at least on white and on black.
GOOD = "color(29)"
WARN = "color(131)"
BAD = "bold color(163)"
INFO = "color(63)"
DIM = "color(243)"
STYLES = {"blocks": BAD, "warning": WARN, "info": INFO}

#: Prose is not wider than this.
_WIDEST = 100
#: A place keeps at least so many cells, however narrow the terminal.
_NARROWEST = 24


def say(console: Console, text: str | Text, style: str = "", *, indent: int = 0, hang: int = 2) -> None:
    """Show a paragraph: its first line is indented by so many columns, what continues it by so many more.

    Parameters
    ----------
    console : Console
        Where.
    text : str or Text
        Already made safe to show.
    style : str
        Of all of it.
    indent, hang : int
        Columns.
    """
    line = text if isinstance(text, Text) else Text(text, style)
    if isinstance(text, Text) and style:
        line.stylize(style)
    if not console.is_terminal:
        console.print(Text(" " * indent).append_text(line), soft_wrap=True)
        return
    width = min(console.width, _WIDEST)
    if not line.plain:
        console.print(soft_wrap=True)
    for number, (begin, end) in enumerate(_lines(line.plain, width - indent, width - indent - hang)):
        blanks = indent + (hang if number else 0)
        console.print(Text(" " * blanks).append_text(line[begin:end]), soft_wrap=True)


#: A command that can be pasted: it is not folded, the terminal wraps it.
_COMMAND = late(r"dunechest [^,;()`]*[^,;()`\s.]")
#: A number with its unit stays together.
_AMOUNT = late(r"\d (?:bytes?|kB|MB|GB|TB|s|min|h|files?|records?)\b")


def _lines(text: str, first: int, rest: int) -> Iterator[tuple[int, int]]:
    """Yield where each line of a paragraph begins and ends, the first being so many cells wide, the others so many."""
    whole = list(text)
    for pattern in (_COMMAND, _AMOUNT):
        for found in pattern.finditer(text):
            for place in range(*found.span()):
                if whole[place] == " ":
                    whole[place] = "\0"
    commands = [found.span() for found in _COMMAND.finditer(text)]
    width, begin, cells, blank, place = max(first, 8), 0, 0, -1, 0
    while place < len(text):
        char = whole[place]
        cells += cell_len(" " if char == "\0" else char)
        if cells > width and char != " ":
            in_command = next((end for start, end in commands if start <= max(begin, blank + 1) and place < end), 0)
            # One that has no room on a line of its own either stays where it is.
            too_long = (
                in_command and cell_len(text[blank + 1 : in_command]) > rest and text[begin:blank].strip() == "->"
            )
            if blank > begin and not too_long:
                cut, skip = blank, 1
            elif in_command:
                cut, skip = _next_blank(whole, in_command), 1
            else:
                cut, skip = max(place, begin + 1), 0
            yield (
                begin,
                begin + len(text[begin:cut].rstrip(" ")),
            )  # of two blanks, one could fall beyond the last column
            begin = cut + skip
            while begin < len(text) and whole[begin] == " ":
                begin += 1
            width, cells, blank, place = max(rest, 8), 0, -1, begin
            continue
        if char == " " and text[begin:place].strip():
            blank = place
        place += 1
    end = len(text.rstrip(" "))  # blanks at the end could fall beyond the last column
    if begin < end:
        yield begin, end


def _next_blank(whole: Sequence[str], place: int) -> int:
    """Return where the next word ends."""
    while place < len(whole) and whole[place] != " ":
        place += 1
    return place


def shortened(text: str, width: int) -> str:
    """Return a text of at most so many cells: of a longer one the middle is left out.

    >>> shortened("/media/blue/pictures/1999/terns.jpg", 20)
    '/media/b...terns.jpg'
    """
    if cell_len(text) <= width:
        return text
    room = max(width - 3, 2)
    head, tail = room // 2, room - room // 2
    return f"{_cells(text, head)}...{_cells(text[::-1], tail)[::-1]}"


def _cells(text: str, width: int) -> str:
    """Return the beginning of a text, of at most so many cells."""
    taken, cells = "", 0
    for char in text:
        cells += cell_len(char)
        if cells > width:
            break
        taken += char
    return taken


def _home() -> str:
    """Return the home folder; that of nobody, where the system knows none, is the top, which is not written ``~``."""
    try:
        return str(Path.home())
    except RuntimeError:
        return str(TOP)


def homely(path: str | os.PathLike[str]) -> str:
    """Return a path as a person reads it: made safe, with ``~`` for the home folder."""
    text = os.fspath(path)
    home = _home()
    if home != str(TOP) and (text == home or text.startswith(prefix_of(home))):
        text = "~" + text[len(prefix_of(home)) - 1 :]
    return shown(text)


def tilde(sentence: str) -> str:
    """Return a sentence in which the home folder is written ``~``; not for commands, which a shell must understand.

    A sentence has been made safe to show, and so is the home folder in it.
    """
    home = _home()
    return sentence.replace(shown(prefix_of(home)), prefix_of("~")) if home != str(TOP) else sentence


def place_line(path: str | os.PathLike[str], width: int | None, *, indent: int = 4, before: str = "") -> Text:
    """Return a place as a line of its own: shortened in the middle where it has more than so many cells.

    Parameters
    ----------
    path : str or path
        The place.
    width : int or None
        Of the terminal; None to show it whole.
    indent : int
        Columns before it.
    before : str
        Said before it, made safe to show.
    """
    text = homely(path)
    if width is not None:
        text = shortened(text, max(width - indent - cell_len(before), _NARROWEST))
    return Text(" " * indent + before + text)


def padded(text: str, width: int, *, right: bool = False) -> str:
    """Return a text with blanks, so that it takes so many cells."""
    blanks = " " * max(width - cell_len(text), 0)
    return blanks + text if right else text + blanks


def columns(rows: Sequence[Sequence[str]], *, right: Sequence[int] = ()) -> list[str]:
    """Return rows of cells as lines in which columns stand below each other."""
    count = max(map(len, rows), default=0)
    widths = [max(cell_len(row[i]) if i < len(row) else 0 for row in rows) for i in range(count)]
    keep = [i for i in range(count) if widths[i]]
    return [
        "  ".join(padded(row[i] if i < len(row) else "", widths[i], right=i in right) for i in keep).rstrip()
        for row in rows
    ]


def facts(console: Console, rows: Sequence[tuple[str, str, str]], *, indent: int = 2) -> None:
    """Show what was counted: what, how many, and a remark, below each other."""
    for line in columns(rows, right=()):
        say(console, line, indent=indent, hang=4)


def listing(
    console: Console,
    heads: Sequence[str],
    rows: Sequence[Sequence[str]],
    below: Sequence[Sequence[Text | str]],
    *,
    right: Sequence[int] = (),
) -> None:
    """Show a list: for each item a row of columns, and below it its place and what else there is to say.

    Where a row is wider than the terminal, each of its cells is named and the columns are given up.
    """
    lines = columns([heads, *rows], right=right)
    fits = not console.is_terminal or max(map(cell_len, lines)) <= console.width
    if fits:
        say(console, lines[0], DIM)
    for row, line, notes in zip(rows, lines[1:], below, strict=True):
        if fits:
            text = Text(line)
            text.stylize("bold", 0, len(row[0]))
            console.print(text, soft_wrap=True)
        else:
            told = [f"{head} {cell}" if head else cell for head, cell in zip(heads[1:], row[1:], strict=True) if cell]
            say(console, Text(row[0], "bold"))
            say(console, ", ".join(told), indent=4)
        for note in notes:
            if isinstance(note, Text):
                console.print(note, soft_wrap=True)
            elif note:
                say(console, note, indent=4)
