"""When a routine is due, in words."""

from __future__ import annotations

import datetime
import re
from collections.abc import Iterable, Iterator, Sequence

from dunechest.errors import UsageError
from dunechest.machine.schedulers.entry import DAYS, Moment
from dunechest.names import shown
from dunechest.regex import late
from dunechest.words import number

#: What the words for "as soon as the drive is there" come to.
PLUGGED_IN = "when plugged in"


_EXAMPLES = "every day at 22:00; every Sunday at 18:30; every month on the 1st at 9:00; every hour; when plugged in"


_USUAL_HOUR = 22


#: Days to look back or ahead for a moment that comes once a month.
_FAR = 63


_TIME = r"(?: at (?P<hour>\d{1,2})(?::(?P<minute>\d{2}))?)?"


_DAY = late(rf"every day{_TIME}")


_WEEK = late(rf"every (?P<days>[a-z]+(?:(?:, and |, | and )[a-z]+)*){_TIME}")


_MONTH = late(rf"every month(?: on the (?P<date>\d{{1,2}})(?:st|nd|rd|th)?)?{_TIME}")


_PLUGGED = late(r"when (?:it is |the drive is )?(?:plugged in|connected)")


_SETS = {"weekday": (0, 1, 2, 3, 4), "weekend": (5, 6)}


def parse_when(text: str) -> Moment | None:
    """Read when something is due; None stands for: when the drive is plugged in.

    Raises
    ------
    UsageError
        If it is not understood; the message shows examples.

    Examples
    --------
    >>> parse_when("every day at 22:00")
    Moment(minute=0, hour=22, weekdays=(), day=None)
    >>> parse_when("Every Tuesday and Saturday at 6:30").weekdays
    (1, 5)
    """
    plain = " ".join(text.lower().split())
    if _PLUGGED.fullmatch(plain):
        return None
    if plain == "every hour":
        return Moment()
    if found := _DAY.fullmatch(plain):
        return Moment(*_time(found, text))
    if found := _MONTH.fullmatch(plain):
        date = int(found["date"] or 1)
        if not 1 <= date <= 28:
            raise UsageError(
                f"{shown(text)!r}: choose a day of the month from 1 to 28, which every month has. Nothing was changed."
            )
        return Moment(*_time(found, text), day=date)
    if found := _WEEK.fullmatch(plain):
        days: set[int] = set()
        for word in re.split(r", and |, | and ", found["days"]):
            single = word.removesuffix("s")
            if single in _SETS:
                days.update(_SETS[single])
            else:
                days.add(_weekday(single, text))
        return Moment(*_time(found, text), weekdays=tuple(sorted(days)))
    raise _off(text)


def _weekday(word: str, text: str) -> int:
    for place, name in enumerate(DAYS):
        if word in (name.lower(), name[:3].lower()):
            return place
    raise _off(text)


def _time(found: re.Match[str], text: str) -> tuple[int, int]:
    hour, minute = int(found["hour"] or _USUAL_HOUR), int(found["minute"] or 0)
    if hour > 23 or minute > 59:
        raise UsageError(f"{shown(text)!r}: there is no such time of day. Nothing was changed.")
    return minute, hour


def _off(text: str) -> UsageError:
    return UsageError(f"{shown(text)!r} is not understood. Examples: {_EXAMPLES}. Nothing was changed.")


def moments_of(texts: Iterable[str]) -> tuple[Moment, ...]:
    """Return the times of the clock among what a routine is due at."""
    return tuple(moment for text in texts if (moment := parse_when(text)) is not None)


def words_of(moment: Moment | None) -> str:
    """Return when something is due in the words that `parse_when` reads.

    >>> words_of(parse_when("every Sat and Tue at 6")), words_of(parse_when("every month"))
    ('every Tuesday and Saturday at 06:00', 'every month on the 1st at 22:00')
    """
    if moment is None:
        return PLUGGED_IN
    if moment.hour is None:
        return "every hour"
    time = f"at {moment.hour:02d}:{moment.minute:02d}"
    if moment.day is not None:
        ending = {1: "st", 2: "nd", 3: "rd", 21: "st", 22: "nd", 23: "rd"}.get(moment.day, "th")
        return f"every month on the {moment.day}{ending} {time}"
    if not moment.weekdays:
        return f"every day {time}"
    names = [DAYS[day] for day in moment.weekdays]
    listed = ", ".join(names[:-1]) + (" and " if len(names) > 1 else "") + names[-1]
    return f"every {listed} {time}"


def latest(moments: Iterable[Moment], now: float) -> float | None:
    """Return the latest moment that is not after `now` (seconds since 1970); None if there is none."""
    chosen = tuple(moments)
    today = datetime.datetime.fromtimestamp(now).date()
    for back in range(_FAR if chosen else 0):
        past = [when for when in _on(chosen, today - datetime.timedelta(days=back)) if when <= now]
        if past:
            return max(past)
    return None


def following(moments: Iterable[Moment], after: float) -> float | None:
    """Return the first moment after another (seconds since 1970); None if there is none."""
    chosen = tuple(moments)
    # The day before belongs to it: what summer time moves may come on the day after the one it is called by.
    first = datetime.datetime.fromtimestamp(after).date() - datetime.timedelta(days=1)
    for ahead in range(_FAR if chosen else 0):
        coming = [when for when in _on(chosen, first + datetime.timedelta(days=ahead)) if when > after]
        if coming:
            return min(coming)
    return None


def _on(moments: Sequence[Moment], day: datetime.date) -> Iterator[float]:
    for moment in moments:
        if moment.weekdays and day.weekday() not in moment.weekdays:
            continue
        if moment.day is not None and day.day != moment.day:
            continue
        for hour in range(24) if moment.hour is None else (moment.hour,):
            yield datetime.datetime(day.year, day.month, day.day, hour, moment.minute).timestamp()


def days(count: float) -> str:
    """Return days in words.

    >>> days(1), days(3)
    ('1 day', '3 days')
    """
    return number(round(count), "day")
