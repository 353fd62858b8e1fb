"""What the schedulers of each system are given, and what the real ones of this system make of it."""

from __future__ import annotations

import os
import plistlib
import re
import shutil
import stat
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from xml.etree import ElementTree

import pytest

import dunechest
from dunechest.machine import schedulers
from dunechest.machine.schedulers import Entry, Moment
from dunechest.machine.schedulers.cron import Cron
from dunechest.machine.schedulers.launchd import properties
from dunechest.machine.schedulers.systemd import Systemd, quoted_word
from dunechest.machine.schedulers.task_scheduler import task

NASTY = '/home/a b/50% "off"/$HOME/it\'s/`id`;rm \\ x/python'
ENTRY = Entry(
    "nightly",
    (NASTY, "-P", "-m", "dunechest", "routine", "run", "--due", "--state", "/home/tern/$(touch pwned)/state"),
    (Moment(0, 22), Moment(30, 18, weekdays=(1, 6)), Moment(5, 9, day=1)),
    (Path("/media/tern"), Path("/run/media/50%")),
)
GOLDEN = Path(__file__).parent / "schedulers"


def texts(name: str, monkeypatch: pytest.MonkeyPatch) -> dict[str, str]:
    monkeypatch.setenv("HOME", "/home/tern")
    found = schedulers.scheduler(name).files(ENTRY)
    return {file.place.name if file.place is not None else name: file.text for file in found}


@pytest.mark.parametrize("name", schedulers.NAMES)
def test_what_each_is_given_is_as_it_was_looked_through(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """To make these files again after looking at each: DUNECHEST_WRITE_GOLDEN=1."""
    for file, text in texts(name, monkeypatch).items():
        place = GOLDEN / f"{file}.txt"
        if os.environ.get("DUNECHEST_WRITE_GOLDEN"):
            place.write_text(text)
        assert text == place.read_text()


def test_names_that_are_no_text_are_given_to_none() -> None:
    for word in ("a\nOnCalendar=*:*", "a\x00", "\udcff", "a\x1b[0m"):
        with pytest.raises(dunechest.UsageError):
            Entry("x", ("/bin/true", word))


@pytest.mark.skipif(shutil.which("systemd-analyze") is None, reason="systemd is not installed")
def test_systemd_finds_no_fault_in_the_units(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path))
    entry = Entry("nightly", (sys.executable, *ENTRY.command[1:]), ENTRY.moments, (Path("/media/tern"),))
    units = []
    for file in Systemd().files(entry):
        assert file.place is not None
        units.append(tmp_path / file.place.name)
        units[-1].write_text(file.text)
    done = subprocess.run(
        ["systemd-analyze", "--user", "verify", *map(str, units)], capture_output=True, text=True, check=False
    )
    if "Failed to initialize manager" in done.stderr:
        pytest.skip(f"systemd cannot look at units here: {done.stderr.strip()}")
    assert (done.returncode, done.stderr) == (0, "")
    for moment in (*ENTRY.moments, Moment()):
        from dunechest.machine.schedulers.systemd import calendar

        done = subprocess.run(
            ["systemd-analyze", "calendar", calendar(moment)], capture_output=True, text=True, check=False
        )
        assert done.returncode == 0 and "Next elapse" in done.stdout


def test_what_systemd_makes_of_quotes() -> None:
    """By the rules of systemd.syntax(7): what is quoted here is read as it was."""
    inner = quoted_word(NASTY)
    assert inner[0] == inner[-1] == '"'
    read = re.sub(r"\\(.)", r"\1", inner[1:-1]).replace("%%", "%").replace("$$", "$")
    assert read == NASTY


def test_the_agent_of_launchd_is_a_property_list_with_documented_keys(monkeypatch: pytest.MonkeyPatch) -> None:
    (text,) = texts("launchd", monkeypatch).values()
    told = plistlib.loads(text.encode())
    assert told == properties(ENTRY)
    types = {
        "Label": str, "ProgramArguments": list, "StartCalendarInterval": list, "StartOnMount": bool, "RunAtLoad": bool,
        "ProcessType": str, "LowPriorityIO": bool, "Nice": int,
    }  # fmt: skip
    assert {key: type(value) for key, value in told.items()} == types
    assert told["ProgramArguments"] == list(ENTRY.command)
    ranges = {"Minute": 59, "Hour": 23, "Day": 31, "Weekday": 7, "Month": 12}
    for time_ in told["StartCalendarInterval"]:
        assert time_.keys() <= ranges.keys() and all(0 <= value <= ranges[key] for key, value in time_.items())
    assert {"Minute": 0} in told["StartCalendarInterval"]


#: The order in which the schema of the Task Scheduler wants the elements, by their parent.
ORDER = {
    "Task": ["RegistrationInfo", "Triggers", "Principals", "Settings", "Actions"],
    "CalendarTrigger": ["StartBoundary", "Enabled", "ScheduleByDay", "ScheduleByWeek", "ScheduleByMonth"],
    "TimeTrigger": ["Repetition", "StartBoundary", "Enabled"],
    "EventTrigger": ["Enabled", "Subscription", "Delay"],
    "ScheduleByWeek": ["WeeksInterval", "DaysOfWeek"],
    "ScheduleByMonth": ["DaysOfMonth", "Months"],
    "Principal": ["LogonType", "RunLevel"],
    "Exec": ["Command", "Arguments"],
}
SETTINGS = {
    "MultipleInstancesPolicy", "DisallowStartIfOnBatteries", "StopIfGoingOnBatteries", "StartWhenAvailable", "Enabled",
    "Hidden", "WakeToRun", "ExecutionTimeLimit", "Priority",
}  # fmt: skip


def test_the_task_is_xml_as_the_task_scheduler_documents_it() -> None:
    top = ElementTree.fromstring(task(ENTRY))
    space = "{http://schemas.microsoft.com/windows/2004/02/mit/task}"
    assert top.tag == space + "Task" and top.get("version") == "1.2"
    for element in top.iter():
        assert element.tag.startswith(space)
        name, inner = element.tag[len(space) :], [child.tag[len(space) :] for child in element]
        if name in ORDER:
            assert inner == [child for child in ORDER[name] if child in inner], name
    assert {child.tag[len(space) :] for child in top.findall(f"{space}Settings/*")} == SETTINGS
    triggers = [child.tag[len(space) :] for child in top.findall(f"{space}Triggers/*")]
    assert triggers == ["CalendarTrigger"] * 3 + ["TimeTrigger", "EventTrigger"]
    for boundary in top.iter(f"{space}StartBoundary"):
        assert re.fullmatch(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d", boundary.text or "")
    (subscription,) = top.iter(f"{space}Subscription")
    query = ElementTree.fromstring(subscription.text or "")
    assert query.tag == "QueryList" and query.find("Query/Select") is not None
    (command,) = top.iter(f"{space}Command")
    assert command.text == NASTY


OTHERS = "MAILTO=tern\n# my own\n*/5 * * * * echo 50\\% # Dune Chest routine nightly: begin, not ours\n"


def test_the_other_lines_of_the_table_of_cron_stay_as_they_are(table: Path) -> None:
    table.write_text(OTHERS)
    cron = Cron()
    assert cron.here() and not cron.taken("nightly").taken
    cron.install(ENTRY)
    assert cron.taken("nightly").taken and table.read_text().startswith(OTHERS)
    once = table.read_text()
    cron.install(ENTRY)
    assert table.read_text() == once
    cron.install(Entry("other", ("/bin/true",), (Moment(1, 2),)))
    cron.remove("nightly")
    assert "nightly: end" not in table.read_text() and cron.taken("other").taken
    cron.remove("other")
    cron.remove("other")
    assert table.read_text() == OTHERS


def test_the_table_is_gone_when_nothing_else_was_in_it(table: Path) -> None:
    cron = Cron()
    cron.install(ENTRY)
    line = next(line for line in table.read_text().splitlines() if line.startswith("0 22"))
    shell = line.split(" ", 5)[5].replace("\\%", "%").replace(" >/dev/null 2>&1", "")
    read = subprocess.run(["sh", "-c", f"printf '%s\\n' {shell}"], capture_output=True, text=True, check=True)
    assert read.stdout.splitlines() == list(ENTRY.command)
    cron.remove("nightly")
    assert not table.exists()


def test_a_scheduler_that_refuses_leaves_everything_as_it_was(
    table: Path, library: Path, chest: dunechest.Chest
) -> None:
    table.write_text(OTHERS)
    Path(f"{table}.refuses").touch()
    routine = dunechest.routines.plan_routine(
        "nightly", library, chest.folder, "every hour", dunechest.RoutineOptions(scheduler="cron")
    )
    with pytest.raises(dunechest.RefusedError, match="you may not"):
        dunechest.routines.add_routine(routine)
    assert table.read_text() == OTHERS and dunechest.routines.list_routines() == ()
    Path(f"{table}.refuses").unlink()
    assert dunechest.routines.add_routine(routine).installed
    table.write_text(OTHERS)  # somebody edits the table
    (state,) = dunechest.routines.list_routines()
    assert (state.installed, state.ok) == (False, False) and "no such lines" in state.scheduler_says
    dunechest.routines.remove_routine("nightly")
    assert table.read_text() == OTHERS


@pytest.fixture
def ready(library: Path, chest: dunechest.Chest, tmp_path: Path) -> Iterator[Path]:
    """A library, a chest, and where the run's log will be."""
    yield tmp_path / "state" / "routines" / "log.txt"


@pytest.mark.slow
@pytest.mark.skipif(os.name == "nt" or shutil.which("cron") is None, reason="cron is not installed")
def test_a_real_cron_starts_it_in_its_minute(ready: Path, library: Path, chest: dunechest.Chest) -> None:
    if os.geteuid() != 0:
        pytest.skip("a cron daemon needs root")
    if subprocess.run(["pgrep", "-x", "cron"], capture_output=True, check=False).returncode == 0:
        pytest.skip("a cron daemon runs here already")
    before = subprocess.run(["crontab", "-l"], capture_output=True, text=True, check=False)
    if before.returncode == 0:
        pytest.skip("there is a table here already")
    daemon = subprocess.Popen(["cron", "-f"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        soon = time.localtime(time.time() + (60 if time.localtime().tm_sec < 57 else 120))
        when = f"every day at {soon.tm_hour:02d}:{soon.tm_min:02d}"
        options = dunechest.RoutineOptions(scheduler="cron", notify=False)
        added = dunechest.routines.add_routine(
            dunechest.routines.plan_routine("nightly", library, chest.folder, when, options)
        )
        assert added.installed and "cron" in added.scheduler_says
        deadline = time.monotonic() + 140
        while not ready.exists() and time.monotonic() < deadline:
            time.sleep(0.2)
        assert "archived to" in ready.read_text()
        assert dunechest.routines.list_routines()[0].last_outcome == "ok"
    finally:
        if dunechest.routines.list_routines():
            dunechest.routines.remove_routine("nightly")
        daemon.kill()
        daemon.wait()
    assert subprocess.run(["crontab", "-l"], capture_output=True, text=True, check=False).returncode == 1


#: Runs in a namespace of its own, whose /run nobody else sees: a manager of this person, and words for it.
MANAGER = """
set -e
mount -t tmpfs tmpfs /run
mkdir -p /run/systemd/system /run/user/0 "/run/media/$USER"
chmod 700 /run/user/0
for group in /sys/fs/cgroup/systemd /sys/fs/cgroup/unified; do
    if [ -d $group ]; then mkdir -p $group/$NAME; echo $$ > $group/$NAME/cgroup.procs; fi
done
export XDG_RUNTIME_DIR=/run/user/0
unset DBUS_SESSION_BUS_ADDRESS
/lib/systemd/systemd --user >/dev/null 2>&1 &
manager=$!
for i in $(seq 100); do systemctl --user show --property=Version --value >/dev/null 2>&1 && break; sleep 0.1; done
systemctl --user show --property=Version --value >/dev/null || { echo "no manager"; kill $manager; exit 9; }
"$PYTHON" -P -m dunechest routine add nightly "$LIBRARY" --to "$CHEST" --when "every day at 22:00" --no-notify
"$PYTHON" -P -m dunechest routine list nightly --json > "$TOP/listed.json"
sed -i 's/^added = .*/added = 1.0/' "$TOP/state/routines/nightly.toml"
mkdir "/run/media/$USER/blue"
for i in $(seq 300); do [ -e "$TOP/state/routines/log.txt" ] && break; sleep 0.1; done
sleep 0.3
cp "$TOP/state/routines/log.txt" "$TOP/log"
"$PYTHON" -P -m dunechest routine remove nightly
systemctl --user list-units --all 'dunechest*' --no-legend > "$TOP/left"
kill $manager
"""


@pytest.mark.slow
@pytest.mark.skipif(shutil.which("systemctl") is None or shutil.which("unshare") is None, reason="no systemd here")
def test_a_real_systemd_starts_it_when_a_drive_appears(
    library: Path, chest: dunechest.Chest, tmp_path: Path, own_machine: Path
) -> None:
    import pwd

    if os.geteuid() != 0:
        pytest.skip("a manager of its own needs root")
    name = f"dunechest-test-{os.getpid()}"
    environment = {
        **os.environ, "PYTHON": sys.executable, "LIBRARY": str(library), "CHEST": str(chest.folder), "TOP": str(tmp_path),
        "NAME": name, "USER": pwd.getpwuid(os.getuid()).pw_name,
    }  # fmt: skip
    done = subprocess.run(
        ["unshare", "--mount", "--propagation", "private", "bash", "-c", MANAGER],
        env=environment, capture_output=True, text=True, timeout=90, check=False,
    )  # fmt: skip
    for group in ("systemd", "unified"):
        place = Path("/sys/fs/cgroup") / group / name
        for _ in range(50):
            try:
                for inner in sorted(place.rglob("*"), reverse=True):
                    if inner.is_dir():
                        inner.rmdir()
                if place.is_dir():
                    place.rmdir()
                break
            except OSError:
                time.sleep(0.1)
    if (
        not (tmp_path / "state" / "routines").is_dir()
        and "systemd has the timer" not in done.stdout
        and done.returncode
    ):
        pytest.skip(f"no manager of systemd can be run here: {done.stdout[-200:]}{done.stderr[-300:]}")
    assert done.returncode == 0, done.stdout + done.stderr
    assert "systemd has the timer dunechest-nightly.timer" in done.stdout
    assert '"installed": true' in (tmp_path / "listed.json").read_text()
    assert "archived to" in (tmp_path / "log").read_text()
    assert (tmp_path / "left").read_text() == ""
    assert not [path for path in (own_machine / ".config").rglob("*") if path.is_file() or path.is_symlink()]
    assert not (tmp_path / "state" / "routines").exists()


def test_units_are_for_their_owner_alone(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """With a `systemctl` that says yes to all."""
    program = tmp_path / "bin" / "systemctl"
    program.parent.mkdir()
    program.write_text('#!/bin/sh\ncase "$*" in *is-active*) echo active;; *is-enabled*) echo enabled;; esac\n')
    program.chmod(0o755)
    monkeypatch.setenv("PATH", f"{program.parent}{os.pathsep}{os.environ['PATH']}")
    own = Systemd()
    own.install(ENTRY)
    places = [file.place for file in own.files(ENTRY) if file.place is not None]
    assert len(places) == 3
    assert all(stat.S_IMODE(place.stat().st_mode) == 0o600 for place in places)
    own.remove("nightly")
    assert not any(place.exists() for place in places)
    program.write_text('#!/bin/sh\ncase "$*" in *enable*) echo "refused" >&2; exit 1;; esac\n')
    with pytest.raises(dunechest.RefusedError, match="refused"):
        own.install(ENTRY)
    assert not any(place.exists() for place in places)
