"""Regular expressions that are compiled when they are first used.

Compiling those of all modules took a tenth of the time that a short command needs, and most are never used in it.
"""

from __future__ import annotations

import re
from typing import Any, AnyStr, cast


class _Late:
    """Stands for a pattern until it is asked for something."""

    def __init__(self, text: str | bytes, flags: int) -> None:
        self._text = text
        self._flags = flags

    def __getattr__(self, name: str) -> Any:
        if name.startswith("__"):  # copy and pickle ask for what a pattern need not have
            raise AttributeError(name)
        compiled = re.compile(self._text, self._flags)
        # What is asked for many thousand times is found at once from now on.
        found = self.__dict__[name] = getattr(compiled, name)
        return found


def late(text: AnyStr, flags: int = 0) -> re.Pattern[AnyStr]:
    """Return a pattern that is compiled at its first use: `match`, `sub` and the rest, as methods.

    Parameters
    ----------
    text : str or bytes
        The regular expression.
    flags : int
        As for `re.compile`.

    Returns
    -------
    Pattern
        With its methods; the functions of `re` do not take it.
    """
    return cast("re.Pattern[AnyStr]", _Late(text, flags))
