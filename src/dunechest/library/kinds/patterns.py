"""Patterns of paths, as kind files have them."""

from __future__ import annotations

import re
from collections.abc import Iterable


class Patterns:
    """Path patterns: ``*`` within a name, ``**`` across folders, ``?`` one character.

    >>> p = Patterns(["previews/**", "*.cache"])
    >>> [p.match(x) for x in ("previews/a/b.jpg", "a.cache", "x/a.cache")]
    [True, True, False]
    """

    def __init__(self, patterns: tuple[str, ...] | list[str]) -> None:
        self.patterns = tuple(patterns)
        self._one = re.compile("|".join(f"(?:{_regex(p)})" for p in patterns), re.DOTALL) if patterns else None

    def match(self, path: str) -> bool:
        """Whether a relative path matches one of them, whole."""
        return self._one is not None and self._one.fullmatch(path) is not None

    def among(self, paths: Iterable[str]) -> list[str]:
        """Return those of many paths that match."""
        if self._one is None:
            return []
        matches = self._one.fullmatch
        return [path for path in paths if matches(path)]


def _regex(pattern: str) -> str:
    out = []
    place = 0
    while place < len(pattern):
        if pattern.startswith("**/", place):
            out.append("(?:[^/]+/)*")
            place += 3
        elif pattern.startswith("**", place):
            out.append(".*")
            place += 2
        elif pattern[place] == "*":
            out.append("[^/]*")
            place += 1
        elif pattern[place] == "?":
            out.append("[^/]")
            place += 1
        else:
            out.append(re.escape(pattern[place]))
            place += 1
    return "".join(out)
