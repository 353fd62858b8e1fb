"""Numbers, times and sizes as a person reads them."""

from __future__ import annotations

import datetime
import re

from dunechest import clock


def size(count: int) -> str:
    """Return bytes in words, in the powers of 1000 that drives are sold by.

    >>> size(999), size(1_500), size(4_294_967_296)
    ('999 bytes', '1.5 kB', '4.3 GB')
    """
    if count < 1000:
        return "1 byte" if count == 1 else f"{count} bytes"
    value, unit = count / 1000, "kB"
    for larger in ("MB", "GB", "TB"):
        if value < 999.95:
            break
        value, unit = value / 1000, larger
    return f"{value:.1f} {unit}" if value < 99.95 else f"{value:.0f} {unit}"


def number(count: int, word: str, plural: str | None = None) -> str:
    """Return a count with its word.

    >>> number(1, "file"), number(1200, "file"), number(0, "library", "libraries")
    ('1 file', '1,200 files', '0 libraries')
    """
    return f"{count:,} {word if count == 1 else plural or word + 's'}"


def seconds_of(text: str) -> float | None:
    """Read a span of time as a person writes it; None if it is none.

    >>> seconds_of("20min"), seconds_of("1 h 30 min"), seconds_of("45 s"), seconds_of("soon")
    (1200.0, 5400.0, 45.0, None)
    """
    pieces = re.findall(r"(\d+(?:\.\d+)?)\s*(h|hours?|min|minutes?|m|s|seconds?)\b", text.lower())
    rest = re.sub(r"(\d+(?:\.\d+)?)\s*(h|hours?|min|minutes?|m|s|seconds?)\b", "", text.lower())
    if not pieces or rest.strip():
        return None
    return sum(float(count) * {"h": 3600, "m": 60, "s": 1}[unit[0]] for count, unit in pieces) or None


def duration(seconds: float) -> str:
    """Return a span of time, as exact as anyone wants it.

    >>> duration(0.42), duration(75), duration(7300)
    ('0.4 s', '1 min 15 s', '2 h 1 min')
    """
    if seconds < 10:
        return f"{seconds:.1f} s"
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60} s"
    return f"{whole // 3600} h {whole % 3600 // 60} min"


def day(when: float) -> str:
    """Return a moment (seconds since 1970) in local time; a dash for none."""
    if when <= 0:
        return "-"
    try:
        return datetime.datetime.fromtimestamp(when).strftime("%Y-%m-%d %H:%M")
    except (OverflowError, ValueError, OSError):  # a file's time can be anything
        return "far off"


def ago(when: float, now: float | None = None) -> str:
    """Return how long ago a moment was.

    >>> ago(0, 30), ago(0, 7200), ago(0, 86400 * 3)
    ('just now', '2 hours ago', '3 days ago')
    """
    passed = (clock.now() if now is None else now) - when
    if passed < 60:
        return "just now"
    for span, unit in ((86400, "day"), (3600, "hour"), (60, "minute")):
        if passed >= span:
            return f"{number(int(passed // span), unit)} ago"
    return "just now"
