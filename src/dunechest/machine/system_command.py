"""Commands of the operating system: never through a shell, and never for ever."""

from __future__ import annotations

import os
import shlex
import subprocess
from collections.abc import Sequence

from dunechest.errors import RefusedError
from dunechest.names import shown

#: Seconds that one may take.
PATIENCE = 30.0


def command_line(words: str) -> str | list[str]:
    """Return a command that a person wrote, as a process is started with it, without a shell.

    Windows takes the words of a command as one text, in which a backslash is part of a path and no sign of its own.

    Raises
    ------
    ValueError
        If a quotation is not closed.
    """
    if os.name == "nt":
        if words.count('"') % 2:
            raise ValueError("No closing quotation")
        return words
    return shlex.split(words)


def order(
    words: Sequence[str], *, text: str | None = None, check: bool = True, patience: float = PATIENCE
) -> subprocess.CompletedProcess[str]:
    """Run a command of the system.

    Parameters
    ----------
    words : sequence of str
        The program and its words.
    text : str, optional
        Its standard input.
    check : bool
        Whether a failure is an error.
    patience : float
        Seconds that it may take.

    Raises
    ------
    RefusedError
        If it is not there, fails or takes too long.
    """
    try:
        done = subprocess.run(
            words,
            check=False,
            input=text,
            stdin=None if text is not None else subprocess.DEVNULL,
            capture_output=True,
            encoding="utf-8",
            errors="replace",
            timeout=patience,
            env={**os.environ, "LC_ALL": "C"},
        )
    except FileNotFoundError as error:
        raise RefusedError(f"The system's command {words[0]} is not on this computer.") from error
    except (OSError, subprocess.TimeoutExpired) as error:
        raise RefusedError(f"The system's command {words[0]} did not end: {shown(str(error))[:300]}") from error
    if check and done.returncode:
        why = shown((done.stderr or done.stdout).strip())[:500] or f"exit status {done.returncode}"
        raise RefusedError(f"The system's command {' '.join(map(shown, words[:4]))} failed: {why}")
    return done
