"""Timers of a person's own systemd (``systemd.timer(5)``, ``systemd.path(5)``, ``systemd.service(5)``)."""

from __future__ import annotations

import os
from pathlib import Path
from typing import ClassVar

from dunechest.errors import RefusedError
from dunechest.machine.folders import own_home
from dunechest.machine.schedulers.entry import DAYS, Entry, File, Moment, Taken, same_files
from dunechest.machine.system_command import order
from dunechest.transfer import safe
from dunechest.transfer.owner import make_own

_PREFIX = "dunechest-"
_ENDINGS = (".service", ".timer", ".path")


class Systemd:
    """A service that does what is due, a timer that starts it, and a path unit that starts it when a drive appears."""

    name: ClassVar[str] = "systemd"

    def here(self) -> bool:
        """Whether this person's own manager answers."""
        try:
            answer = order(["systemctl", "--user", "show", "--property=Version", "--value"], check=False)
        except RefusedError:
            return False
        return answer.returncode == 0 and bool(answer.stdout.strip())

    def files(self, entry: Entry) -> tuple[File, ...]:
        """Return the three units; without folders to watch, two."""
        folder, base = _folder(), _PREFIX + entry.name
        found = [
            File(folder / f"{base}.service", _service(entry)),
            File(folder / f"{base}.timer", _timer(entry, base)),
        ]
        if entry.mounts:
            found.append(File(folder / f"{base}.path", _path(entry, base)))
        return tuple(found)

    def install(self, entry: Entry) -> None:
        """Write the units, have them read, and start timer and path."""
        files = self.files(entry)
        units = [file.place.name for file in files[1:] if file.place is not None]
        self.remove(entry.name)
        try:
            for file in files:
                assert file.place is not None
                make_own(file.place.parent)
                safe.write_file(file.place, file.text.encode(), mode=0o600)
            order(["systemctl", "--user", "daemon-reload"])
            order(["systemctl", "--user", "enable", "--now", *units])
        except (OSError, RefusedError) as error:
            self.remove(entry.name)
            raise RefusedError(f"systemd did not take it, and nothing was left: {error}") from error

    def remove(self, name: str) -> None:
        """Stop timer and path, and remove the units."""
        there = [place for ending in _ENDINGS if (place := _folder() / f"{_PREFIX}{name}{ending}").is_file()]
        if not there:
            return
        started = [place.name for place in there if place.suffix != ".service"]
        if started:
            order(["systemctl", "--user", "disable", "--now", *started], check=False)
        for place in there:
            try:
                place.unlink()
            except OSError as error:
                raise RefusedError(f"{place} cannot be removed: {error.strerror}") from error
        order(["systemctl", "--user", "daemon-reload"], check=False)
        # What the timer wrote down of itself, and what failed, would otherwise stay.
        _forget(f"{_PREFIX}{name}")

    def taken(self, name: str) -> Taken:
        """Ask whether the timer waits for its next moment."""
        unit = f"{_PREFIX}{name}.timer"
        try:
            active = order(["systemctl", "--user", "is-active", unit], check=False).stdout.strip()
            enabled = order(["systemctl", "--user", "is-enabled", unit], check=False).stdout.strip()
            told = order(
                ["systemctl", "--user", "show", unit, "--property=NextElapseUSecRealtime", "--value"], check=False
            ).stdout.strip()
        except RefusedError as error:
            return Taken(False, f"systemd does not answer: {error}")
        if active == "active" and enabled == "enabled":
            return Taken(True, f"systemd has the timer {unit}" + (f"; next start {told}" if told else ""))
        return Taken(False, f"systemd says of the timer {unit}: {active or 'unknown'}, {enabled or 'not enabled'}")

    def same(self, entry: Entry) -> bool:
        """Whether the files are as they would be written now."""
        return same_files(self.files(entry))


def _folder() -> Path:
    named = os.environ.get("XDG_CONFIG_HOME", "")
    return (Path(named) if named.startswith("/") else own_home() / ".config") / "systemd" / "user"


def _forget(base: str) -> None:
    order(["systemctl", "--user", "reset-failed", f"{base}.service"], check=False)
    named = os.environ.get("XDG_DATA_HOME", "")
    data = Path(named) if named.startswith("/") else own_home() / ".local" / "share"
    (data / "systemd" / "timers" / f"stamp-{base}.timer").unlink(missing_ok=True)


def quoted_word(word: str) -> str:
    r"""Quote a word of a command line as ``systemd.service(5)`` reads it.

    >>> print(quoted_word('50 % of "$HOME"'))
    "50 %% of \"$$HOME\""
    """
    return '"' + word.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%").replace("$", "$$") + '"'


def _service(entry: Entry) -> str:
    return (
        "[Unit]\n"
        f"Description=Dune Chest: what is due (routine {entry.name})\n\n"
        "[Service]\n"
        "Type=oneshot\n"
        # A drive that has just appeared is not mounted yet at that moment.
        + ("ExecStartPre=sleep 3\n" if entry.mounts else "")
        + f"ExecStart={' '.join(map(quoted_word, entry.command))}\n"
        # A run that found a problem has told it; to systemd it is no failed unit.
        + "SuccessExitStatus=1 3 4\n"
        "Nice=19\n"
        "CPUSchedulingPolicy=batch\n"
        "IOSchedulingClass=idle\n"
    )


def _timer(entry: Entry, base: str) -> str:
    times = "".join(f"OnCalendar={calendar(moment)}\n" for moment in (*entry.moments, Moment()))
    return (
        "[Unit]\n"
        f"Description=Dune Chest: starts the routine {entry.name}\n\n"
        "[Timer]\n"
        f"{times}"
        "Persistent=true\n"
        "AccuracySec=1s\n"
        f"Unit={base}.service\n\n"
        "[Install]\n"
        "WantedBy=timers.target\n"
    )


def _path(entry: Entry, base: str) -> str:
    folders = "".join(f"PathChanged={_path_setting(place)}\n" for place in entry.mounts)
    return (
        "[Unit]\n"
        f"Description=Dune Chest: starts the routine {entry.name} when a drive appears\n\n"
        "[Path]\n"
        f"{folders}"
        f"Unit={base}.service\n\n"
        "[Install]\n"
        "WantedBy=paths.target\n"
    )


def _path_setting(place: Path) -> str:
    return str(place).replace("%", "%%")


def calendar(moment: Moment) -> str:
    """Return a moment as ``systemd.time(7)`` writes it.

    >>> calendar(Moment(0, 22)), calendar(Moment(30, 18, weekdays=(6,))), calendar(Moment(0, 9, day=1)), calendar(Moment())
    ('*-*-* 22:00:00', 'Sun *-*-* 18:30:00', '*-*-01 09:00:00', '*-*-* *:00:00')
    """
    days = ",".join(DAYS[number][:3] for number in moment.weekdays)
    date = f"*-*-{moment.day:02d}" if moment.day is not None else "*-*-*"
    hour = f"{moment.hour:02d}" if moment.hour is not None else "*"
    return f"{days + ' ' if days else ''}{date} {hour}:{moment.minute:02d}:00"
