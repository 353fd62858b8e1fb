"""Numbers, times and sizes as a person reads them."""

from __future__ import annotations

import datetime
import re

from dunechest import clock

#: Why a copy that is intact and current does not count.
NOT_COUNTED = {
    "library-drive": "on the drive that the library itself is on",
    "library-disk": "on the disk that the library itself is on",
    "memory": "in this computer's memory, which is empty when it is switched off",
    "this-computer": "on a share of this computer itself",
    "same-drive": "on the same drive as another copy",
}
#: The states of a copy as people read them.
STATE_WORDS = {
    "safe": "ok",
    "unchecked": "not checked lately",
    "behind": "outdated",
    "incomplete": "incomplete",
    "damaged": "DAMAGED",
    "missing": "MISSING",
}


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

    >>> duration(0.42), duration(5), duration(75), duration(7300), duration(0.01)
    ('0.4 s', '5 s', '1 min 15 s', '2 h 1 min', 'under 0.1 s')
    """
    if 0 < seconds < 0.05:
        return "under 0.1 s"
    if seconds < 10:
        return f"{seconds:.1f} s".replace(".0 s", " s")
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


def local(moment: str) -> str:
    """Return a moment that a record holds (RFC 3339) in local time, to the minute; as it is if it is none."""
    try:
        return day(datetime.datetime.fromisoformat(moment).timestamp())
    except (ValueError, OverflowError):
        return moment


def both(files: int, records: int) -> str:
    """Return numbers of files and of an archive's own records, as every view counts them.

    >>> both(187, 7), both(1, 0)
    ('187 files and 7 records', '1 file')
    """
    return number(files, "file") + (f" and {number(records, 'record')}" if records else "")


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


_UNITS = {"": 1, "b": 1, "bytes": 1, "kb": 10**3, "mb": 10**6, "gb": 10**9, "tb": 10**12}


def bytes_of(text: str) -> int | None:
    """Read a size as a person writes it, in the powers of 1000 that drives are sold by; None if it is none.

    >>> bytes_of("10MB"), bytes_of("1.5 kB"), bytes_of("700"), bytes_of("big")
    (10000000, 1500, 700, None)
    """
    found = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([a-z]*)\s*", text.lower())
    if found is None or found.group(2) not in _UNITS:
        return None
    return int(float(found.group(1)) * _UNITS[found.group(2)])


def days_of(text: str) -> tuple[float, float] | None:
    """Read a year, month or day; return its first moment and the one after its last (local, seconds since 1970).

    >>> days_of("2023-02-30"), days_of("soon")
    (None, None)
    >>> first, after = days_of("2023-05")
    >>> datetime.datetime.fromtimestamp(first).day, datetime.datetime.fromtimestamp(after).month
    (1, 6)
    """
    found = re.fullmatch(r"\s*(\d{4})(?:-(\d{1,2}))?(?:-(\d{1,2}))?\s*", text)
    if found is None:
        return None
    year, month, date = (int(part) if part else None for part in found.groups())
    assert year is not None
    try:
        first = datetime.datetime(year, month or 1, date or 1)
        if date is not None:
            after = first + datetime.timedelta(days=1)
        elif month is not None:
            after = datetime.datetime(year + month // 12, month % 12 + 1, 1)
        else:
            after = datetime.datetime(year + 1, 1, 1)
        return first.timestamp(), after.timestamp()
    except (ValueError, OverflowError, OSError):
        return None
