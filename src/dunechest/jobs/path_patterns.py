"""Patterns for the paths of files, as a person types them, and which files they mean."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence


def is_pattern(text: str) -> bool:
    """Whether a text is a pattern and not just a name."""
    return any(char in text for char in "*?[")


def expression(pattern: str) -> re.Pattern[str]:
    r"""Return what a pattern for a name or path fits; ``*`` crosses no ``/``, ``**`` does.

    >>> bool(expression("*.XMP").fullmatch("tern.xmp")), bool(expression("a/*").fullmatch("a/b/c"))
    (True, False)
    """
    found = []
    at = 0
    while at < len(pattern):
        char = pattern[at]
        at += 1
        if char == "*":
            deep = pattern[at : at + 1] == "*"
            at += deep
            found.append(".*" if deep else "[^/]*")
        elif char == "?":
            found.append("[^/]")
        elif char == "[" and (end := pattern.find("]", at + 1)) > 0:
            inner = pattern[at:end].replace("\\", r"\\").replace("[", r"\[")
            inner = "^" + inner[1:] if inner.startswith("!") else inner.replace("^", r"\^")
            found.append(f"(?!/)[{inner}]")
            at = end + 1
        else:
            found.append(re.escape(char))
    try:
        return re.compile("".join(found), re.IGNORECASE | re.DOTALL)
    except re.error:
        return re.compile(re.escape(pattern), re.IGNORECASE | re.DOTALL)


def chosen(patterns: Sequence[str], paths: Mapping[str, Iterable[str]]) -> tuple[set[str], list[str]]:
    """Return the keys of what patterns mean, and the patterns that mean nothing.

    A pattern that is the very path of a file or folder means that and no more, whatever it has in it. Otherwise one with a
    ``/`` is for whole paths, and one without for names; capitals do not count then.

    Parameters
    ----------
    patterns : sequence of str
        As they were typed.
    paths : mapping
        For each key, the paths by which it may be called.
    """
    found: set[str] = set()
    missed = []
    for pattern in patterns:
        wanted = pattern.rstrip("/") or pattern
        below = wanted + "/"
        own = {key for key, names in paths.items() if any(p == wanted or p.startswith(below) for p in names)}
        if not own:
            fits = expression(wanted).fullmatch
            whole = "/" in wanted
            own = {
                key
                for key, names in paths.items()
                if any(fits(path if whole else path.rpartition("/")[2]) for path in names)
            }
        if not own:
            missed.append(pattern)
        found |= own
    return found, missed
