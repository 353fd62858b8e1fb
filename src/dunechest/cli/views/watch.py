"""How a library that is watched is shown: one line that changes on a terminal, a line for each change elsewhere."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Iterator

from rich.live import Live
from rich.text import Text

from dunechest.cli.layout import GOOD, say
from dunechest.cli.output import Out
from dunechest.model.look import Watched
from dunechest.names import shown
from dunechest.words import duration, number, size

#: Seconds without a change after which that is said.
_STILL = 120.0
#: Seconds between two lines where the output is no terminal.
_BETWEEN = 10.0


def line(watched: Watched) -> str:
    """Return one look in words."""
    pieces = [f"{number(watched.file_count, 'file')}, {size(watched.size_bytes)} here"]
    if watched.placeholder_count:
        pieces.append(f"{number(watched.placeholder_count, 'placeholder')} left, {size(watched.placeholder_bytes)}")
    if abs(watched.bytes_per_second) >= 1000:
        pieces.append(
            f"{'+' if watched.bytes_per_second > 0 else '-'}{size(int(abs(watched.bytes_per_second)))} a second"
        )
    if watched.seconds_left is not None:
        pieces.append(f"about {duration(watched.seconds_left)} left")
    if watched.processes:
        pieces.append(f"open in {', '.join(map(shown, watched.processes))}")
    if watched.seconds_unchanged >= _STILL:
        pieces.append(f"nothing has changed for {duration(watched.seconds_unchanged)}")
    return "; ".join(pieces)


def follow(out: Out, name: str, looks: Iterator[Watched]) -> Watched:
    """Show each look until the last one, which is returned."""
    if out.json or out.quiet:
        return deque(looks, maxlen=1)[-1]
    console = out.console
    last = next(looks)
    if console.is_terminal:
        with Live(Text(line(last)), console=console, refresh_per_second=4, transient=True) as live:
            for last in looks:
                live.update(Text(line(last)))
    else:
        said, when = line(last), time.monotonic()
        console.print(said, soft_wrap=True)
        for last in looks:
            text = line(last)
            if text != said and time.monotonic() - when >= _BETWEEN:
                console.print(text, soft_wrap=True)
                said, when = text, time.monotonic()
    say(
        console,
        f"{shown(name)} is complete and closed: {number(last.file_count, 'file')}, {size(last.size_bytes)}. "
        "It can be archived now.",
        GOOD,
    )
    return last
