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
        quick = [pattern for pattern in patterns if _is_quick(pattern)]
        self._one = re.compile("|".join(f"(?:{_regex(p)})" for p in quick), re.DOTALL) if quick else None
        # Most of half a million paths end otherwise than any that is meant: comparing that takes a fifth of the time.
        ends = [_literal_ends(pattern) for pattern in quick]
        self._tails = tuple(tail for _, tail in ends if tail)
        self._heads = tuple(head for head, tail in ends if not tail)
        self._others = tuple(_tokens(pattern) for pattern in patterns if not _is_quick(pattern))

    def match(self, path: str) -> bool:
        """Whether a relative path matches one of them, whole."""
        if (
            self._one is not None
            and (path.endswith(self._tails) or path.startswith(self._heads))
            and self._one.fullmatch(path) is not None
        ):
            return True
        return bool(self._others) and any(_matches(tokens, path) for tokens in self._others)

    def among(self, paths: Iterable[str]) -> list[str]:
        """Return those of many paths that match."""
        if self._others:
            return [path for path in paths if self.match(path)]
        if self._one is None:
            return []
        matches, heads, tails = self._one.fullmatch, self._heads, self._tails
        if not heads:
            return [path for path in paths if path.endswith(tails) and matches(path)]
        return [path for path in paths if (path.endswith(tails) or path.startswith(heads)) and matches(path)]


def _is_quick(pattern: str) -> bool:
    """Whether a regular expression decides in time; one with many stars could be made to take for ever.

    In one name a star goes wherever it can, and two of them in each place of the other.
    """
    if len(re.findall(r"\*+", pattern)) <= 2:
        return True
    inner = pattern.removeprefix("**/").removesuffix("/**")
    return "**" not in inner and all(name.count("*") <= 2 for name in inner.split("/"))


def _literal_ends(pattern: str) -> tuple[str, str]:
    """Return how every path begins that matches, and how it ends, as far as the pattern says so letter by letter."""
    tail = re.split(r"\*\*/|[*?]", pattern)[-1]
    return re.split(r"[*?]", pattern)[0], tail


def _tokens(pattern: str) -> tuple[str, ...]:
    return tuple(re.findall(r"\*\*/|\*\*|\*|\?|.", pattern, re.DOTALL))


def _matches(tokens: tuple[str, ...], path: str) -> bool:
    """Match token by token, all possible places at once: as many steps as the two lengths multiplied, and no more."""
    places = {0}
    for token in tokens:
        if token == "**":
            places = set(range(min(places), len(path) + 1))
        elif token == "**/":
            places |= _ends_of_names(path, places)
        elif token == "*":
            places = {end for place in places for end in range(place, _name_end(path, place) + 1)}
        else:
            places = {
                p + 1 for p in places if p < len(path) and (path[p] == token or (token == "?" and path[p] != "/"))
            }
        if not places:
            return False
    return len(path) in places


def _name_end(path: str, place: int) -> int:
    end = path.find("/", place)
    return len(path) if end < 0 else end


def _ends_of_names(path: str, places: set[int]) -> set[int]:
    """Return the places after a slash that are reached by whole names, each of one character at least."""
    reached: set[int] = set()
    pending = list(places)
    while pending:
        place = pending.pop()
        end = path.find("/", place)
        if end > place and end + 1 not in reached:
            reached.add(end + 1)
            pending.append(end + 1)
    return reached


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
