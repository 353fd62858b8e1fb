"""A person's own table of cron (``crontab(5)``): lines between two marks, and all others as they were."""

from __future__ import annotations

import re
import shlex
from typing import ClassVar

from dunechest.errors import RefusedError
from dunechest.machine.schedulers.entry import Entry, File, Moment, Taken
from dunechest.machine.system_command import order


class Cron:
    """Lines of the table; cron cannot tell when a drive appears, so it is noticed at the next hour."""

    name: ClassVar[str] = "cron"

    def here(self) -> bool:
        """Whether a cron daemon runs, and this person may have a table."""
        try:
            return _daemon_runs() and _read() is not None
        except RefusedError:
            return False

    def files(self, entry: Entry) -> tuple[File, ...]:
        """Return the lines."""
        return (File(None, _lines(entry)),)

    def install(self, entry: Entry) -> None:
        """Put the lines into the table, and look whether they are there."""
        before = _read()
        if before is None:
            raise RefusedError("cron gives you no table on this computer.")
        rest = _without(before, entry.name)
        rest += "\n" if rest and not rest.endswith("\n") else ""
        order(["crontab", "-"], text=rest + _lines(entry))
        answer = self.taken(entry.name)
        if not answer.taken:
            _write(before, check=False)
            raise RefusedError(f"cron did not take it: {answer.sentence}. Its table is as it was.")

    def remove(self, name: str) -> None:
        """Take the lines out of the table; a table that is empty then is removed."""
        before = _read()
        if before is None or _block(before, name) is None:
            return
        _write(_without(before, name))

    def taken(self, name: str) -> Taken:
        """Ask whether the lines are in the table, and whether a cron daemon runs."""
        try:
            table = _read()
        except RefusedError as error:
            return Taken(False, f"cron does not answer: {error}")
        if table is None or _block(table, name) is None:
            return Taken(False, "cron's table has no such lines")
        if not _daemon_runs():
            return Taken(False, "cron's table has the lines, but no cron daemon runs on this computer")
        return Taken(True, "cron's table has the lines")

    def same(self, entry: Entry) -> bool:
        """Whether the lines are as they would be written now."""
        try:
            return _lines(entry) in (_read() or "")
        except RefusedError:
            return False


def _read() -> str | None:
    """Return the table, empty if there is none yet; None if this person may not have one."""
    answer = order(["crontab", "-l"], check=False)
    if answer.returncode == 0:
        return answer.stdout
    # "no crontab for NAME" is the answer of every cron to the first question.
    return "" if "no crontab" in answer.stderr.lower() else None


def _write(table: str, *, check: bool = True) -> None:
    """Replace the table; an empty one is removed."""
    if table:
        order(["crontab", "-"], text=table, check=check)
    else:
        order(["crontab", "-r"], check=check)


def _marks(name: str) -> tuple[str, str]:
    return f"# Dune Chest routine {name}: begin", f"# Dune Chest routine {name}: end"


def _block(table: str, name: str) -> re.Match[str] | None:
    begin, end = map(re.escape, _marks(name))
    return re.search(rf"^{begin}$.*?^{end}$\n?", table, re.MULTILINE | re.DOTALL)


def _without(table: str, name: str) -> str:
    found = _block(table, name)
    return table if found is None else table[: found.start()] + table[found.end() :]


def _lines(entry: Entry) -> str:
    begin, end = _marks(entry.name)
    # A percent sign ends the command for cron, unless a backslash stands before it.
    command = " ".join(map(shlex.quote, entry.command)).replace("%", "\\%") + " >/dev/null 2>&1"
    times = dict.fromkeys(time_fields(moment) for moment in (*entry.moments, Moment()))
    return "".join([f"{begin}\n", *(f"{fields} {command}\n" for fields in times), f"{end}\n"])


def time_fields(moment: Moment) -> str:
    """Return a moment as the five fields of ``crontab(5)``.

    >>> time_fields(Moment(0, 22)), time_fields(Moment(30, 18, weekdays=(6, 2))), time_fields(Moment())
    ('0 22 * * *', '30 18 * * 0,3', '0 * * * *')
    """
    hour = "*" if moment.hour is None else str(moment.hour)
    day = "*" if moment.day is None else str(moment.day)
    week = ",".join(str((number + 1) % 7) for number in moment.weekdays) or "*"
    return f"{moment.minute} {hour} {day} * {week}"


def _daemon_runs() -> bool:
    import psutil

    return any(
        process.info["name"] in ("cron", "crond", "fcron", "systemd-cron", "busybox")
        for process in psutil.process_iter(["name"])
    )
