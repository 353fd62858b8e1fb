"""Weeks of nights in seconds, on another clock: what ought to have happened, and what ought to have been told, against a model.

The computer wakes every hour, unless it sleeps. Drives come and go, the clock is set back, a run is interrupted, another one is
tried in the middle, the rule is changed, files are lost. The model knows of each drive only which time of the rule was settled last.
"""

from __future__ import annotations

import datetime
import json
import os
import random
import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import pytest
from msgspec.structs import replace

import dunechest
from dunechest import clock
from dunechest.jobs.routine import file as files
from dunechest.progress import Step

HOUR, DAY = 3600.0, 86_400.0
RULES = {"every day at 22:00": (22, None), "every day at 02:30": (2, None), "every Sunday at 18:00": (18, 6)}


@dataclass
class Drive:
    """What the model knows of a drive."""

    chest: dunechest.Chest
    connected: bool = True
    settled: float = 0.0
    told: float | None = None
    served: list[float] = field(default_factory=list)

    @property
    def folder(self) -> Path:
        return self.chest.folder.parent

    @property
    def drawer(self) -> Path:
        return self.folder.with_name(self.folder.name + " in the drawer")


class CutOffHere(BaseException):
    """The power fails."""


class Nights:
    """A computer, two drives, a routine and the model of them."""

    def __init__(self, top: Path, seed: int, patch: pytest.MonkeyPatch) -> None:
        self.dice = random.Random(seed)
        self.patch = patch
        self.now = datetime.datetime(2026, 3, 25, 12, 7).timestamp()
        patch.setattr(clock, "now", lambda: self.now)
        self.library = top / "home" / "Letters"
        self.library.mkdir(parents=True)
        for number in range(40):
            (self.library / f"letter {number}.txt").write_text(f"letter {number}")
        places = [top / "media" / name for name in ("blue", "sand")]
        for place in places:
            place.mkdir(parents=True)
        patch.setenv("DUNECHEST_DRIVES", os.pathsep.join(map(str, places)))
        self.drives = [Drive(dunechest.create_chest(place, place.name)) for place in places]
        self.messages = top / "messages"
        self.messages.mkdir()
        script = top / "tell.py"
        script.write_text(
            "import pathlib, sys\nd = pathlib.Path(sys.argv[1])\n"
            "(d / f'{len(list(d.iterdir())):04}').write_text(sys.stdin.read())\n"
        )
        self.rule = "every day at 22:00"
        options = dunechest.RoutineOptions(
            scheduler="none", notify=False, patience=2.0, tell=f"'{sys.executable}' '{script}' '{self.messages}'"
        )
        routine = dunechest.routines.plan_routine(
            "nightly", self.library, [d.chest.label for d in self.drives], self.rule, options
        )
        dunechest.routines.add_routine(routine)
        for drive in self.drives:
            drive.settled = self.now
        self.wanted: list[tuple[str, str]] = []
        self.lost = False

    def times(self, first: float, last: float) -> Iterator[float]:
        """The times of the rule in a stretch, found by going through its days one by one."""
        hour, weekday = RULES[self.rule]
        minute = 30 if hour == 2 else 0
        day = datetime.datetime.fromtimestamp(first).date() - datetime.timedelta(days=1)
        while day <= datetime.datetime.fromtimestamp(last).date():
            if weekday is None or day.weekday() == weekday:
                when = datetime.datetime(day.year, day.month, day.day, hour, minute).timestamp()
                if first < when <= last:
                    yield when
            day += datetime.timedelta(days=1)

    def due(self, drive: Drive) -> list[float]:
        """The times that are not settled for a drive; after a clock that was far ahead only the last one counts."""
        if drive.settled > self.now + DAY:
            return list(self.times(self.now - 8 * DAY, self.now))[-1:]
        return list(self.times(drive.settled, self.now))

    def wake(self, *, cut_off: bool = False, twice: bool = False) -> None:
        """Wake for a moment: what is due is to be done, and what ought to be told is noted."""
        due = {drive.chest.label: self.due(drive) for drive in self.drives}
        serve = [drive for drive in self.drives if due[drive.chest.label] and drive.connected]
        before = {drive.chest.label: self.runs_of(drive) for drive in self.drives}
        if cut_off and serve and not self.lost:
            self.cut_off_in_the_middle()
            assert {drive.chest.label: self.runs_of(drive) for drive in self.drives} == before
        late = []
        for drive in self.drives:
            times = due[drive.chest.label]
            if times and not drive.connected and self.now - times[0] >= 2 * DAY:
                told = drive.told if drive.told is not None and drive.told <= self.now + DAY else None
                if told is None or self.now - told >= 2 * DAY:
                    late.append(drive)
                    drive.told = self.now
        result = dunechest.routines.run_due(progress=self.meanwhile if twice else lambda step: None)
        assert not result.busy
        for drive in serve:
            drive.settled, drive.told = due[drive.chest.label][-1], None
            drive.served.append(self.now)
        if serve and self.lost:
            self.wanted.append(("blocked", ""))
        elif late:
            self.wanted.append(("late", late[0].chest.label))
        assert [run.name for run in result.runs] == (["nightly"] if serve or late else [])
        after = {drive.chest.label: self.runs_of(drive) for drive in self.drives}
        assert after == {drive.chest.label: before[drive.chest.label] + (drive in serve) for drive in self.drives}, (
            datetime.datetime.fromtimestamp(self.now),
            due,
        )
        again = dunechest.routines.run_due()
        assert again.runs == (), "nothing is done twice"

    def meanwhile(self, step: Step, /) -> None:
        """Another run is tried while one is at work; a process has the lock only once, so it must be another one."""
        assert self.other_process_is_kept_out()

    def other_process_is_kept_out(self) -> bool:
        from filelock import FileLock, Timeout

        try:
            with FileLock(files.routines_folder() / ".running", timeout=0):
                return False
        except Timeout:
            return True

    def cut_off_in_the_middle(self) -> None:
        def fail(step: Step, /) -> None:
            raise CutOffHere

        (self.library / f"cut {self.now}").write_text("a letter that is brought in two attempts")
        with pytest.raises(CutOffHere):
            dunechest.routines.run_due(progress=fail)

    def runs_of(self, drive: Drive) -> int:
        """How often a drive was served, by what is remembered of it."""
        from dunechest.jobs.routine.memory import recall

        served = recall("nightly").served.get(drive.chest.id)
        if served is not None and (not self.seen.get(drive.chest.id) or self.seen[drive.chest.id][-1] != served):
            self.seen.setdefault(drive.chest.id, []).append(served)
        return len(self.seen.get(drive.chest.id, []))

    @property
    def seen(self) -> dict[str, list[float]]:
        return self.__dict__.setdefault("_seen", {})

    def live(self) -> None:
        """One hour of life: something may happen, and the computer wakes unless it sleeps."""
        self.now += HOUR + self.dice.choice([0.0, 0.0, 11.0])
        what = self.dice.random()
        if what < 0.03:
            self.unplug_or_plug(self.dice.choice(self.drives))
        elif what < 0.05:
            self.now += self.dice.randrange(5, 30) * HOUR  # it sleeps through the hours
        elif what < 0.06:
            self.now -= self.dice.choice([1, 2, 3, 50]) * HOUR  # somebody sets the clock back
        elif what < 0.07:
            self.change_rule()
        elif what < 0.09:
            (self.library / f"letter {self.dice.randrange(60)}.txt").write_text(f"written at {self.now}")
        elif what < 0.095:
            self.lose_or_decide()
        self.wake(cut_off=self.dice.random() < 0.1, twice=self.dice.random() < 0.3)

    def unplug_or_plug(self, drive: Drive) -> None:
        if drive.connected:
            os.rename(drive.folder, drive.drawer)
        else:
            os.rename(drive.drawer, drive.folder)
        drive.connected = not drive.connected

    def change_rule(self) -> None:
        self.rule = self.dice.choice(sorted(RULES))
        files.write_routine(replace(files.read_routine("nightly"), times=(self.rule,)))

    def lose_or_decide(self) -> None:
        """Nearly all letters are lost: nothing is archived until somebody has looked. Then they are there again."""
        stash = self.library.with_name("stash")
        if not self.lost and all(drive.served for drive in self.drives):
            stash.mkdir()
            for letter in list(self.library.iterdir())[2:]:
                letter.rename(stash / letter.name)
            self.lost = True
        elif self.lost:
            for letter in stash.iterdir():
                letter.rename(self.library / letter.name)
            stash.rmdir()
            self.lost = False

    def told(self) -> list[tuple[str, str]]:
        """What the person was told, by what their command was given."""
        found = []
        for message in sorted(self.messages.iterdir()):
            document = json.loads(message.read_text())
            worst = min(
                (step for step in document["steps"] if step["outcome"] in ("problem", "blocked", "late")),
                key=lambda step: ("problem", "blocked", "late").index(step["outcome"]),
            )
            label = worst["chest_label"] if worst["outcome"] == "late" else ""
            found.append((worst["outcome"], label))
        return found


def month(top: Path, seed: int, hours: int, patch: pytest.MonkeyPatch) -> Nights:
    patch.setenv("HOME", str(top / "home"))
    patch.setenv("DUNECHEST_HOME", str(top / "state"))
    patch.setenv("TZ", "CET-1CEST,M3.5.0,M10.5.0/3")
    time.tzset()
    nights = Nights(top, seed, patch)
    for _ in range(hours):
        nights.live()
    assert nights.told() == nights.wanted
    # At the end all drives are connected, and what the library has is on each of them.
    for drive in nights.drives:
        if not drive.connected:
            nights.unplug_or_plug(drive)
    if nights.lost:
        nights.lose_or_decide()
    nights.now += 8 * DAY
    nights.wake()
    for drive in nights.drives:
        assert dunechest.verify(drive.chest).ok
        kept = {path.name: path.read_bytes() for path in (drive.chest.folder / "bags").rglob("data/**/*.txt")}
        kept |= {path.name: path.read_bytes() for path in (drive.chest.folder / "bags").rglob("data/**/cut*")}
        assert kept == {path.name: path.read_bytes() for path in nights.library.iterdir()}
    return nights


@pytest.mark.slow
@pytest.mark.skipif(not hasattr(time, "tzset"), reason="the zone of a process cannot be changed here")
@pytest.mark.parametrize("seed", range(2))
def test_nothing_twice_nothing_forgotten_silent_when_well(
    seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    try:
        month(tmp_path, seed, 24 * 8, monkeypatch)
    finally:
        monkeypatch.undo()
        time.tzset()
