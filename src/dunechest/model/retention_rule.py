"""Which editions are kept, in words."""

from __future__ import annotations

import datetime
import re
from collections.abc import Iterable

import msgspec

from dunechest.errors import UsageError
from dunechest.names import shown
from dunechest.regex import late

#: A rule that suits most, shown as an example.
USUAL = "all of the last month, one a month for a year, one a year for ever"


_WORDS = ("one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve")


_NUMBER = {"a": 1, "an": 1, **{word: number for number, word in enumerate(_WORDS, start=1)}}


_DAYS = {"day": 1, "week": 7, "month": 31, "year": 366}


_SPAN = r"(?:(?P<number>\d{1,5}|[a-z]+) )?(?P<unit>day|week|month|year)s?"


_ALL = late(rf"all of the last {_SPAN}")


_ONE = late(rf"one an? (?P<each>day|week|month|year) for (?:(?P<ever>ever)|{_SPAN})")


_LAST = late(r"the last (?P<number>\d{1,5}|[a-z]+)")


class Clause(msgspec.Struct, frozen=True):
    """One clause: keep all, or one `each` day, week, month or year, of the last `days`; or the `last` so many."""

    days: float
    each: str = ""
    last: int = 0


def parse_rule(text: str) -> tuple[Clause, ...]:
    """Read a rule.

    Raises
    ------
    UsageError
        If it is none; the message shows one.

    Examples
    --------
    >>> parse_rule("the last 3, one a week for two months")
    (Clause(days=inf, each='', last=3), Clause(days=62, each='week', last=0))
    """
    clauses = []
    for piece in re.split(r"\s*(?:,|;|\band\b)\s*", " ".join(text.lower().split())):
        if not piece:
            continue
        if found := _ALL.fullmatch(piece):
            clauses.append(Clause(_days(found, text)))
        elif found := _ONE.fullmatch(piece):
            clauses.append(Clause(float("inf") if found["ever"] else _days(found, text), found["each"]))
        elif found := _LAST.fullmatch(piece):
            clauses.append(Clause(float("inf"), last=_count(found["number"], text)))
        else:
            raise _off(text, piece)
    if not clauses:
        raise _off(text, text)
    return tuple(clauses)


def _off(text: str, piece: str) -> UsageError:
    return UsageError(
        f"{shown(piece)!r} in the rule {shown(text)!r} is not understood. Example of a rule: {USUAL}; or: "
        "the last 5, one a week for two months. Nothing was changed."
    )


def _count(word: str, text: str) -> int:
    number = int(word) if word.isdigit() else _NUMBER.get(word, 0)
    if number < 1:
        raise _off(text, word)
    return number


def _days(found: re.Match[str], text: str) -> int:
    return _count(found["number"] or "one", text) * _DAYS[found["unit"]]


def kept_by(
    clauses: Iterable[Clause], editions: Iterable[tuple[int, datetime.datetime]], now: datetime.datetime
) -> set[int]:
    """Return the numbers of the editions that a rule keeps: of each period the latest.

    Parameters
    ----------
    clauses : iterable of Clause
        The rule.
    editions : iterable of (int, datetime)
        Number and moment of each edition.
    now : datetime
        The present moment.
    """
    every = sorted(editions)
    kept: set[int] = set()
    for clause in clauses:
        young = [(number, when) for number, when in every if (now - when).total_seconds() <= clause.days * 86_400]
        if clause.last:
            kept.update(number for number, _ in every[-clause.last :])
        elif not clause.each:
            kept.update(number for number, _ in young)
        else:
            latest = {_period(clause.each, when): number for number, when in young}
            kept.update(latest.values())
    return kept


def _period(each: str, when: datetime.datetime) -> tuple[int, ...]:
    if each == "week":
        return tuple(when.isocalendar()[:2])
    return {"day": (when.year, when.month, when.day), "month": (when.year, when.month), "year": (when.year,)}[each]
