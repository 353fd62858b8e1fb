"""macOS: ``osascript``; the texts are arguments of a fixed script and no part of it."""

from __future__ import annotations

import os

_SCRIPT = """on run argv
display notification (item 2 of argv) with title (item 1 of argv)
end run
"""


def command(title: str, text: str) -> tuple[list[str], dict[str, str], str]:
    """Return the command, its environment and its standard input."""
    return ["osascript", "-", title, text], dict(os.environ), _SCRIPT
