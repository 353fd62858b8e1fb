"""Desktop notifications, by the system's own command for them."""

from __future__ import annotations

import subprocess
import sys

from dunechest.names import shown

if sys.platform == "win32":
    from dunechest.machine._notify_windows import command
elif sys.platform == "darwin":
    from dunechest.machine._notify_macos import command
else:
    from dunechest.machine._notify_linux import command

#: Seconds that it may take.
_PATIENCE = 15.0
#: Letters of a notification: more is cut off by any desktop.
_MOST = 600


def notify(title: str, text: str) -> str:
    """Show a notification on the desktop; return why it could not be shown, or nothing.

    Parameters
    ----------
    title, text : str
        What it says; the text may have several lines. No part of it is taken for markup, an option or a command.
    """
    lines = "\n".join(map(shown, text[:_MOST].split("\n")))
    words, environment, given = command(shown(title)[:_MOST], lines)
    if not words:
        return "there is no desktop"
    try:
        done = subprocess.run(
            words,
            check=False,
            input=given,
            capture_output=True,
            encoding="utf-8",
            errors="replace",
            timeout=_PATIENCE,
            env=environment,
        )
    except FileNotFoundError:
        return f"{words[0]} is not on this computer"
    except (OSError, subprocess.TimeoutExpired) as error:
        return shown(str(error))[:300]
    if done.returncode:
        return shown(done.stderr.strip())[:300] or f"{words[0]} ended with {done.returncode}"
    return ""
