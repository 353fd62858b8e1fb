"""Patterns for the paths of files, as a person types them, and which files they mean."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence

from dunechest.errors import UsageError

#: So many stars of a pattern are tried in all ways: each more multiplies the time.
_MOST = 3


def is_pattern(text: str) -> bool:
    """Whether a text is a pattern and not just a name."""
    return any(char in text for char in "*?[")


def expression(pattern: str) -> re.Pattern[str]:
    r"""Return what a pattern for a name or path fits; ``*`` crosses no ``/``, ``**`` does.

    >>> bool(expression("*.XMP").fullmatch("tern.xmp")), bool(expression("a/*").fullmatch("a/b/c"))
    (True, False)
    """
    try:
        return re.compile(_joined(_pieces(pattern)), re.IGNORECASE | re.DOTALL)
    except re.error:
        return re.compile(re.escape(pattern), re.IGNORECASE | re.DOTALL)


def _pieces(pattern: str) -> list[str]:
    """Return a pattern's stars, ``*`` or ``**``, and what stands between them as expressions, by turns, such a one first."""
    found = [""]
    at = 0
    while at < len(pattern):
        char = pattern[at]
        at += 1
        if char == "*":
            deep = pattern[at : at + 1] == "*"
            at += deep
            found += ["**" if deep else "*", ""]
        elif char == "?":
            found[-1] += "[^/]"
        elif char == "[" and (end := pattern.find("]", at + 1)) > 0:
            inner = pattern[at:end].replace("\\", r"\\").replace("[", r"\[")
            inner = "^" + inner[1:] if inner.startswith("!") else inner.replace("^", r"\^")
            found[-1] += f"(?!/)[{inner}]"
            at = end + 1
        else:
            found[-1] += re.escape(char)
    return found


def _joined(pieces: Sequence[str]) -> str:
    """Return the expression of a pattern.

    What a star takes is settled with the first place where the text after it fits, and not tried again: the next star
    reaches whatever fits further on. So many stars cost no more than one. It is not so for the last star, nor where
    the next one reaches less far.
    """
    stars, texts = pieces[1::2], pieces[2::2]
    found = pieces[0]
    open_ends = 0
    for place, (star, text) in enumerate(zip(stars, texts, strict=True)):
        reach = "." if star == "**" else "[^/]"
        last = place == len(stars) - 1
        if last or (star == "**" and stars[place + 1] == "*"):
            found += f"{reach}*{text}"
            open_ends += 1
        else:
            found += f"(?>{reach}*?{text})"
    if open_ends > _MOST:
        raise UsageError("A pattern has too many ** in it. Use a simpler one.")
    return found


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
