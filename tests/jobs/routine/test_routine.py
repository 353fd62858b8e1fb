"""Routines: when they are due, what they do, what they tell, and what they remember."""

from __future__ import annotations

import datetime
import json
import os
import shutil
import stat
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

import dunechest
from dunechest import clock
from dunechest.demo.world import World
from dunechest.jobs.routine import file as files
from dunechest.jobs.routine import memory as memories
from dunechest.machine.schedulers import Moment
from dunechest.model.routine import Routine, RoutineChest, RoutineLibrary
from dunechest.model.when import following, latest, moments_of, parse_when, words_of
from tests.support.runs import Command
from tests.support.trees import bag_of, flip

DAY = 86_400.0
MOMENTS = st.one_of(
    st.just(Moment()),
    st.builds(Moment, st.integers(0, 59), st.integers(0, 23)),
    st.builds(Moment, st.integers(0, 59), st.integers(0, 23), day=st.integers(1, 28)),
    st.builds(
        Moment,
        st.integers(0, 59),
        st.integers(0, 23),
        weekdays=st.sets(st.integers(0, 6), min_size=1).map(lambda days: tuple(sorted(days))),
    ),
)


@given(moment=MOMENTS)
def test_what_is_said_of_a_time_is_understood(moment: Moment) -> None:
    assert parse_when(words_of(moment)) == moment
    assert parse_when(words_of(moment).upper()) == moment


@pytest.mark.parametrize(
    "text",
    [
        "",
        "tomorrow",
        "every day at 25:00",
        "every day at 22:61",
        "every month on the 31st",
        "every moonday",
        "every day at 22:00; rm -rf ~",
        "every day at 22:00\nevery hour",
        "daily",
    ],
)
def test_what_is_no_time_is_refused_with_examples(text: str) -> None:
    with pytest.raises(dunechest.UsageError) as error:
        if parse_when(text) == Moment(0, 22):  # a line break is only a blank
            raise dunechest.UsageError("Examples")
    assert "Examples" in str(error.value) or "1 to 28" in str(error.value) or "time of day" in str(error.value)


@pytest.fixture
def central_europe() -> Iterator[None]:
    """A zone whose clocks go forward on the last Sunday of March and back on that of October, by a rule alone."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("TZ", "CET-1CEST,M3.5.0,M10.5.0/3")
        time.tzset()
        yield
    time.tzset()


def at(*numbers: int, fold: int = 0) -> float:
    return datetime.datetime(*numbers, fold=fold).timestamp()  # type: ignore[arg-type,misc]


@pytest.mark.skipif(not hasattr(time, "tzset"), reason="the zone of a process cannot be changed here")
@pytest.mark.usefixtures("central_europe")
def test_summer_time_brings_no_night_without_and_none_with_two() -> None:
    moment = (Moment(30, 2),)
    # 2026-03-29: half past two does not exist; the hour after it is meant.
    assert following(moment, at(2026, 3, 28, 12)) == at(2026, 3, 29, 3, 30)
    # 2026-10-25: half past two comes twice; the first one counts.
    first = following(moment, at(2026, 10, 24, 12))
    assert first == at(2026, 10, 25, 2, 30, fold=0) and first is not None
    assert following(moment, first) == at(2026, 10, 26, 2, 30)
    when, seen = at(2026, 3, 1), []
    for _ in range(300):
        after = following((Moment(15, 22),), when)
        assert after is not None
        seen.append(datetime.datetime.fromtimestamp(after).date())
        when = after
    assert seen == [datetime.date(2026, 3, 1) + datetime.timedelta(days=n) for n in range(300)]


@given(moment=MOMENTS, hours=st.integers(0, 24 * 300), minutes=st.integers(0, 59))
def test_the_latest_and_the_following_time_enclose_now(moment: Moment, hours: int, minutes: int) -> None:
    now = 1_800_000_000.0 + hours * 3600 + minutes * 60 + 7
    before, after = latest((moment,), now), following((moment,), now)
    assert before is not None and after is not None and before <= now < after
    assert following((moment,), before) == after
    assert latest((moment,), after) == after and latest((moment,), after - 1) == before


@given(
    name=st.text(min_size=1),
    place=st.text(st.characters(), min_size=1),
    moment=MOMENTS,
    tell=st.sampled_from(["", "tell-me --loud", '"a b" \\x7f']),
    limit=st.one_of(st.none(), st.floats(0.1, 1000)),
    odd=st.binary(min_size=1, max_size=5),
)
def test_a_routine_file_gives_back_what_was_written(
    name: str, place: str, moment: Moment, tell: str, limit: float | None, odd: bytes
) -> None:
    try:
        place.encode()
        name.encode()
    except UnicodeEncodeError:
        return
    routine = Routine(
        "nightly",
        (RoutineChest(name, "1" * 32),),
        (words_of(moment),),
        (RoutineLibrary(name, "/" + place), RoutineLibrary("odd", "/x" + os.fsdecode(odd))),
        tell_command=tell,
        limit=limit,
        patience=7.5,
    )
    files.write_routine(routine)
    assert files.read_routine("nightly") == routine
    assert stat.S_IMODE(files.routine_file("nightly").stat().st_mode) == 0o600


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ("times = [", "tiems = [", "tiems"),
        ("all = false", 'all = "yes"', "true or false"),
        ("patience_days = 3.0", "patience_days = nan", "patience_days"),
        ("patience_days = 3.0", "patience_days = -1", "patience"),
        ("chests = [{", "chests = [{ foo = 1 }, {", "chests"),
        ('"every day at 22:00"', '"whenever"', "not understood"),
        ("[limits]", "[limits", "cannot be read"),
        ("mb_per_second = 0.0", "mb_per_second = true", "mb_per_second"),
        ('keep_editions = ""', 'keep_editions = "most of them"', "not understood"),
    ],
)
def test_a_file_that_is_not_understood_names_the_key_and_harms_no_other(
    old: str, new: str, said: str, nightly: Routine, command: Command
) -> None:
    place = files.routine_file("nightly")
    text = place.read_text()
    assert old in text
    place.write_text(text.replace(old, new))
    with pytest.raises(dunechest.UsageError) as error:
        files.read_routine("nightly")
    assert said in str(error.value) and str(place) in str(error.value)
    ran = command("routine", "list")
    assert (ran.status, "NOT UNDERSTOOD" in ran.out, said in ran.out.replace("\n      ", " ")) == (1, True, True)
    runs = dunechest.routines.run_due().runs
    assert [(run.name, run.outcome) for run in runs] == [("nightly", "problem")]
    assert dunechest.routines.run_due().runs == ()  # told once a day
    assert "nightly" in command("status").out
    assert command("routine", "remove", "nightly").status == 0 and not place.exists()


QUIET = dunechest.RoutineOptions(scheduler="none", notify=False)


def quiet(**more: object) -> dunechest.RoutineOptions:
    return dunechest.RoutineOptions(scheduler="none", notify=False, **more)  # type: ignore[arg-type]


@pytest.fixture
def nightly(library: Path, chests: dict[str, dunechest.Chest]) -> Routine:
    """A routine that is added, and due every day at 22:00."""
    return dunechest.routines.add_routine(
        dunechest.routines.plan_routine("nightly", library, "blue", "every day at 22:00", QUIET)
    ).routine


@pytest.fixture
def at_ten(nightly: Routine, monkeypatch: pytest.MonkeyPatch) -> Callable[[float], None]:
    """Set the clock to 22:00 of the day that the routine was added, and so many days later."""
    ten = following(moments_of(nightly.times), nightly.added_at)
    assert ten is not None

    def set_clock(days: float) -> None:
        monkeypatch.setattr(clock, "now", lambda: ten + days * DAY)

    set_clock(0)
    return set_clock


def unplug(chest: dunechest.Chest) -> None:
    os.rename(chest.folder.parent, chest.folder.parent.with_name(chest.folder.parent.name + " in the drawer"))


def plug(chest: dunechest.Chest) -> None:
    os.rename(chest.folder.parent.with_name(chest.folder.parent.name + " in the drawer"), chest.folder.parent)


def test_it_runs_once_at_its_time_and_is_silent(
    nightly: Routine, at_ten: Callable[[float], None], library: Path, chests: dict[str, dunechest.Chest]
) -> None:
    at_ten(-0.01)
    assert dunechest.routines.run_due().runs == ()
    at_ten(0.0)
    (run,) = dunechest.routines.run_due().runs
    assert (run.outcome, run.message, run.told) == ("ok", "", False)
    assert [(step.what, step.outcome) for step in run.steps] == [("archive", "done")]
    assert dunechest.routines.run_due().runs == ()
    at_ten(0.5)
    assert dunechest.routines.run_due().runs == ()
    at_ten(1.2)
    (run,) = dunechest.routines.run_due().runs
    assert [step.outcome for step in run.steps] == ["unchanged"]
    (state,) = dunechest.routines.list_routines()
    assert (state.last_outcome, state.ok, state.waiting_labels) == ("ok", True, ())


def test_a_drive_that_is_away_is_waited_for_and_told_after_the_patience(
    nightly: Routine, at_ten: Callable[[float], None], chests: dict[str, dunechest.Chest], command: Command
) -> None:
    unplug(chests["blue"])
    told = []
    for hour in range(24 * 8):
        at_ten(hour / 24)
        told += [hour / 24 for run in dunechest.routines.run_due().runs if run.told]
    assert told == [3.0, 6.0]  # at the patience, and once more when it is over again
    (state,) = dunechest.routines.list_routines()
    assert (state.overdue_labels, state.ok) == (("blue",), False)
    assert "blue" in command("status").out and "expected for" in command("status").out
    log = dunechest.routines.routine_log().read_text()
    assert log.count("expected for") == 2
    plug(chests["blue"])
    (run,) = dunechest.routines.run_due().runs
    assert (run.outcome, len(run.steps)) == ("ok", 1)  # seven nights are caught up once
    assert dunechest.routines.list_routines()[0].ok


def test_a_record_that_cannot_be_written_is_told(
    nightly: Routine, at_ten: Callable[[float], None], monkeypatch: pytest.MonkeyPatch
) -> None:
    from dunechest.ledger import events

    def full(*_: object) -> None:
        raise dunechest.DuneChestError(
            "The ledger cannot be written: No space left on device. The job itself is done."
        )

    at_ten(0.0)
    monkeypatch.setattr(events, "append_many", full)
    (run,) = dunechest.routines.run_due().runs
    assert run.outcome == "problem" and "No space left on device" in run.message
    assert any("done" in step.outcome for step in run.steps), "it was archived all the same"
    events.take_lost()


def test_it_is_replaced_while_its_drive_is_away(
    nightly: Routine, library: Path, chests: dict[str, dunechest.Chest]
) -> None:
    unplug(chests["blue"])
    labels = [chest.label for chest in nightly.chests]
    with pytest.raises(dunechest.errors.NotConnectedError):
        dunechest.get_chest("blue")
    changed = dunechest.routines.plan_routine("nightly", library, labels, "every day at 23:00", quiet())
    assert changed.chests == nightly.chests
    dunechest.routines.add_routine(changed, replace_old=True)
    (state,) = dunechest.routines.list_routines()
    assert state.routine.times == ("every day at 23:00",)
    with pytest.raises(dunechest.UsageError):
        dunechest.routines.plan_routine("nightly", library, ["never met"], "every day at 23:00", quiet())


def test_when_plugged_in_it_runs_each_time_the_drive_is_back(
    library: Path, chests: dict[str, dunechest.Chest], monkeypatch: pytest.MonkeyPatch
) -> None:
    dunechest.routines.add_routine(
        dunechest.routines.plan_routine("plugged", library, "sand", "when plugged in", QUIET)
    )
    start = clock.now()
    ran = []
    for hour in range(80):
        monkeypatch.setattr(clock, "now", lambda hour=hour: start + hour * 3600.0)
        if hour in (10, 40):
            unplug(chests["sand"])
        if hour in (12, 70):
            plug(chests["sand"])
        ran += [hour for run in dunechest.routines.run_due().runs if run.steps]
    assert ran == [0, 12, 36, 70]


def test_what_blocks_is_told_with_the_command_and_nothing_is_forced(
    nightly: Routine,
    at_ten: Callable[[float], None],
    library: Path,
    chests: dict[str, dunechest.Chest],
    command: Command,
) -> None:
    for number in range(60):
        (library / f"picture {number}.jpg").write_text(f"picture {number}")
    dunechest.routines.run_due()
    for number in range(50):
        (library / f"picture {number}.jpg").unlink()
    for night in (1.0, 2.0):
        at_ten(night)
        (run,) = dunechest.routines.run_due().runs
        assert (run.outcome, run.told, run.worst.codes) == ("blocked", True, ("mass-change",))  # type: ignore[union-attr]
        assert "dunechest archive" in run.worst.command  # type: ignore[union-attr]
        at_ten(night + 0.1)
        assert dunechest.routines.run_due().runs == ()
    assert dunechest.list_editions(chests["blue"], "shed").editions[-1].edition == 1
    assert command("archive", library, "--to", "blue", "--ignore", "mass-change").status == 0
    at_ten(3.0)
    (run,) = dunechest.routines.run_due().runs
    assert (run.outcome, run.told) == ("ok", False)


def test_an_open_library_is_told_once_and_tried_every_hour(
    nightly: Routine, at_ten: Callable[[float], None], library: Path
) -> None:
    holder = subprocess.Popen(
        [sys.executable, "-c", "import sys; f = open(sys.argv[1], 'r+'); print('open', flush=True); input()",
         str(library / "rope.txt")],
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert holder.stdout is not None and holder.stdout.readline() == "open\n"
    try:
        outcomes = []
        for hour in range(3):
            at_ten(hour / 24)
            outcomes += [(run.outcome, run.told) for run in dunechest.routines.run_due().runs]
        assert outcomes == [("blocked", True), ("blocked", False), ("blocked", False)]
    finally:
        holder.communicate("\n")
    at_ten(4 / 24)
    (run,) = dunechest.routines.run_due().runs
    assert run.outcome == "ok"


def test_no_edition_is_dropped_where_damage_was_found(
    library: Path, chests: dict[str, dunechest.Chest], monkeypatch: pytest.MonkeyPatch, command: Command
) -> None:
    """Only an earlier edition may have a file intact."""
    (library / "hoist.txt").write_text("hoist")
    routine = dunechest.routines.plan_routine(
        "all", library, ["blue"], "every hour", quiet(verify_minutes=5.0, keep="the last 2")
    )
    dunechest.routines.add_routine(routine)
    start = clock.now()

    def night(hour: int) -> dunechest.model.RoutineRun:
        (library / "rope.txt").write_text(f"hour {hour}")
        monkeypatch.setattr(clock, "now", lambda: start + hour * 3600.0)
        (run,) = dunechest.routines.run_due().runs
        return run

    assert [night(hour).outcome for hour in range(1, 4)] == ["ok"] * 3
    dunechest.copy_chest(chests["blue"], chests["sand"])
    flip(bag_of(chests["blue"], "shed") / "data" / "library" / "hoist.txt")
    night(4)  # its last step finds it
    for hour in (5, 6):
        found = [(step.outcome, step.command) for step in night(hour).steps if step.what == "drop"]
        assert found == [("problem", "dunechest mend blue shed")]
    assert len(dunechest.list_editions(chests["blue"], "shed").editions) == 4
    assert command("mend", "blue", "shed").status == 0
    assert night(7).outcome == "ok"
    assert len(dunechest.list_editions(chests["blue"], "shed").editions) == 2


def test_damage_is_told_first_and_each_step_is_done_all_the_same(
    library: Path,
    chests: dict[str, dunechest.Chest],
    monkeypatch: pytest.MonkeyPatch,
    tmp_path: Path,
    command: Command,
) -> None:
    told = tmp_path / "told.json"
    script = tmp_path / "tell me.py"
    script.write_text("import sys, pathlib; pathlib.Path(sys.argv[1]).write_text(sys.stdin.read())")
    options = quiet(verify_minutes=5.0, drill=True, keep="the last 2", tell=f"{sys.executable} '{script}' '{told}'")
    routine = dunechest.routines.plan_routine("all", library, ["blue"], "every hour", options, copy_to=["sand"])
    dunechest.routines.add_routine(routine)
    start = clock.now()
    for edition in range(4):
        (library / "rope.txt").write_text(f"edition {edition}")
        monkeypatch.setattr(clock, "now", lambda edition=edition: start + (edition + 1) * 3600.0)
        (run,) = dunechest.routines.run_due().runs
        assert run.outcome == "ok", run.steps
        whats = [step.what for step in run.steps]
        assert whats[:2] == ["archive", "copy"] and whats.count("verify") == 2
        assert whats.count("drill") == (2 if edition == 0 else 0)
    assert len(dunechest.list_editions(chests["blue"], "shed").editions) == 2
    assert not told.exists()
    flip(bag_of(chests["sand"], "shed") / "data" / "library" / "rope.txt")
    monkeypatch.setattr(clock, "now", lambda: start + 9 * 3600.0)
    (run,) = dunechest.routines.run_due().runs
    assert run.outcome == "problem" and "sand" in run.message and "damaged" in run.message
    document = json.loads(told.read_text())
    assert (document["name"], document["outcome"], document["told"]) == ("all", "problem", True)
    assert document["steps"][-1]["command"] == "dunechest mend sand"
    assert "dunechest mend sand" in command("status").out


@pytest.mark.parametrize("tell", ["/no/such/program", "false", "sleep 99", "sh -c 'exit 7'"])
def test_a_command_that_fails_to_be_told_fails_nothing_else(
    tell: str, library: Path, chests: dict[str, dunechest.Chest], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("dunechest.jobs.routine.running.tell._PATIENCE", 0.5)
    routine = dunechest.routines.plan_routine("gone", library, "blue", "every hour", quiet(tell=tell))
    dunechest.routines.add_routine(routine)
    (library / "x").write_text("x")
    os.rename(library, library.with_name("elsewhere"))
    start = clock.now()
    monkeypatch.setattr(clock, "now", lambda: start + 3600.0)
    begun = time.monotonic()
    (run,) = dunechest.routines.run_due().runs
    assert time.monotonic() - begun < 20
    assert (run.outcome, run.worst.codes) == ("blocked", ("gone",))  # type: ignore[union-attr]
    (why,) = run.failed_ways
    assert tell in why
    assert "could not tell" in dunechest.routines.routine_log().read_text()


def test_the_library_and_the_chest_that_were_meant_and_no_namesake(
    nightly: Routine, at_ten: Callable[[float], None], library: Path, chests: dict[str, dunechest.Chest], tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    """Another drive with the same label is not served; the right one is, under another label and in another place."""
    unplug(chests["blue"])
    other = tmp_path / "media" / "stranger"
    other.mkdir()
    with monkeypatch.context() as elsewhere:
        elsewhere.setenv("DUNECHEST_HOME", str(tmp_path / "another computer"))
        stranger = dunechest.create_chest(other, "blue")
    monkeypatch.setenv("DUNECHEST_DRIVES", os.pathsep.join([os.environ["DUNECHEST_DRIVES"], str(other)]))
    assert dunechest.routines.run_due().runs == ()
    assert not list(stranger.bags())
    plug(chests["blue"])
    dunechest.rename_chest(chests["blue"].folder, "harbour")
    assert [run.outcome for run in dunechest.routines.run_due().runs] == ["ok"]
    assert not list(stranger.bags()) and len(list(dunechest.Chest.open(chests["blue"].folder).bags())) == 1


def test_two_chests_of_one_id_are_told_apart_by_a_person(
    nightly: Routine, at_ten: Callable[[float], None], chests: dict[str, dunechest.Chest], tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch, command: Command,
) -> None:  # fmt: skip
    shutil.copytree(chests["blue"].folder.parent, tmp_path / "media" / "twin")
    monkeypatch.setenv(
        "DUNECHEST_DRIVES", os.pathsep.join([os.environ["DUNECHEST_DRIVES"], str(tmp_path / "media" / "twin")])
    )
    assert dunechest.routines.run_due().runs == ()
    ran = command("routine", "run", "nightly")
    assert (ran.status, "new-id" in ran.err) == (3, True)


@pytest.mark.parametrize(
    "harm", ["", "{", "[]", '{"settled": {"x": 1e999}}', '{"runs": 3}', '{"settled": {"x": -5}}']
)
def test_a_memory_that_lies_costs_one_run_and_nothing_else(
    harm: str, nightly: Routine, at_ten: Callable[[float], None], chests: dict[str, dunechest.Chest]
) -> None:
    dunechest.routines.run_due()
    place = files.routines_folder() / "nightly.memory.json"
    assert stat.S_IMODE(place.stat().st_mode) == 0o600
    place.write_text(harm.replace("x", chests["blue"].id))
    assert len(dunechest.routines.run_due().runs) == 1
    assert dunechest.routines.run_due().runs == ()
    far = memories.recall("nightly")
    far.settled[chests["blue"].id] = clock.now() + 400 * DAY  # written while the clock was a year ahead
    memories.remember("nightly", far)
    assert len(dunechest.routines.run_due().runs) == 1
    assert dunechest.routines.run_due().runs == ()


def test_one_process_at_a_time_and_a_killed_one_holds_nobody_up(
    nightly: Routine,
    at_ten: Callable[[float], None],
    library: Path,
    command: Command,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr("dunechest.machine.effort.give_way", lambda: None)
    for number in range(30):
        (library / f"large {number}").write_bytes(os.urandom(200_000))
    slow = dunechest.routines.plan_routine("slow", library, "blue", "every day at 22:00", quiet(limit=1.0))
    dunechest.routines.add_routine(slow)
    process = subprocess.Popen(
        [sys.executable, "-m", "dunechest", "routine", "run", "slow"],
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
    )
    deadline = time.monotonic() + 20
    while memories.recall("slow").running_since is None and time.monotonic() < deadline:
        time.sleep(0.02)
    assert dunechest.routines.run_due().busy
    assert command("routine", "run", "nightly").status == 3
    assert "another process" in command("routine", "run", "--due").out
    process.kill()
    process.communicate()
    assert memories.recall("slow").running_since is not None
    files.write_routine(dunechest.routines.plan_routine("slow", library, "blue", "every hour", QUIET))
    runs = dunechest.routines.run_due().runs
    assert {run.name: run.outcome for run in runs} == {"nightly": "ok", "slow": "ok"}
    assert memories.recall("slow").running_since is None


def test_a_rehomed_library_is_found_where_it_is(
    nightly: Routine, at_ten: Callable[[float], None], library: Path, chests: dict[str, dunechest.Chest]
) -> None:
    dunechest.routines.run_due()
    moved = dunechest.rehome(library, chests["sand"].folder.parent)
    (moved.new_path / "rope.txt").write_text("worked on the drive")
    at_ten(1.0)
    (run,) = dunechest.routines.run_due().runs
    assert [(step.what, step.outcome) for step in run.steps] == [("archive", "done")]
    unplug(chests["sand"])
    at_ten(2.0)
    (run,) = dunechest.routines.run_due().runs
    assert (run.outcome, [step.outcome for step in run.steps]) == ("ok", ["unchanged"])


def test_all_libraries_at_home_new_ones_included(
    world: World, chests: dict[str, dunechest.Chest], monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:  # fmt: skip
    home = tmp_path / "home"
    (home / "Papers").mkdir()
    shutil.copytree(world.papers, home / "Papers" / "Marram Papers")
    dunechest.routines.add_routine(
        dunechest.routines.plan_routine("all", [], "blue", "every hour", quiet(every=True))
    )
    start = clock.now()
    monkeypatch.setattr(clock, "now", lambda: start + 3600.0)
    (run,) = dunechest.routines.run_due().runs
    assert [(step.outcome, step.library) for step in run.steps] == [("done", "marram-papers")], run.steps
    shutil.copytree(world.designs, home / "Designs")
    monkeypatch.setattr(clock, "now", lambda: start + 7200.0)
    (run,) = dunechest.routines.run_due().runs
    assert sorted((step.outcome, step.library) for step in run.steps) == [
        ("done", "designs"),
        ("unchanged", "marram-papers"),
    ]
    kinds = quiet(kinds=("seaholly",))
    dunechest.routines.add_routine(dunechest.routines.plan_routine("papers", [], "sand", "every hour", kinds))
    monkeypatch.setattr(clock, "now", lambda: start + 3 * 3600.0)
    runs = {run.name: run for run in dunechest.routines.run_due().runs}
    assert [(step.outcome, step.library) for step in runs["papers"].steps] == [("done", "marram-papers")]


def test_the_log_rotates_and_is_private(
    nightly: Routine, at_ten: Callable[[float], None], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("dunechest.jobs.routine.running.tell._LOG_BYTES", 400)
    for night in range(20):
        at_ten(float(night))
        assert dunechest.routines.run_due().runs[0].failed_ways == ()
    logs = sorted(dunechest.routines.routine_log().parent.glob("log.txt*"))
    assert 2 <= len(logs) <= 6
    assert all(stat.S_IMODE(log.stat().st_mode) == 0o600 for log in logs)
    assert "nightly: unchanged" in logs[0].read_text()


def test_names_that_cannot_be_meant(library: Path, chests: dict[str, dunechest.Chest], command: Command) -> None:
    for words in (
        ("add", "../x", str(library), "--to", "blue", "--when", "every hour", "--scheduler", "none"),
        ("add", "x", str(library), "--to", "nowhere", "--when", "every hour", "--scheduler", "none"),
        ("add", "x", str(library), "--to", "blue", "--when", "soon", "--scheduler", "none"),
        ("add", "x", str(library), "--to", "blue", "--to", "blue", "--when", "every hour", "--scheduler", "none"),
        ("add", "x", "--to", "blue", "--when", "every hour", "--scheduler", "none"),
        ("add", "x", str(library), "--to", "blue", "--when", "every hour", "--scheduler", "sundial"),
        ("add", "x", str(library), "--to", "blue", "--when", "every hour", "--scheduler", "none", "--limit", "-3"),
        ("add", "x", str(library), "--to", "blue", "--when", "every hour", "--scheduler", "none", "--tell", "a 'b"),
        ("run", "x"),
        ("run",),
        ("run", "x", "--due"),
        ("list", "x"),
        ("remove", "../../x"),
    ):
        assert command("routine", *words).status == 2, words
    assert not files.names()


def test_it_gives_way_to_all_others(library: Path, chests: dict[str, dunechest.Chest], tmp_path: Path) -> None:
    """In a process of its own, as the scheduler starts it."""
    if not hasattr(os, "nice"):
        pytest.skip("priorities are other ones here")
    told = tmp_path / "priority"
    script = tmp_path / "priority.py"
    script.write_text(f"import os, pathlib; pathlib.Path({str(told)!r}).write_text(str(os.nice(0)))")
    routine = dunechest.routines.plan_routine(
        "gone", library, "blue", "every hour", quiet(tell=f"{sys.executable} '{script}'")
    )
    added = dunechest.routines.add_routine(routine)
    os.rename(library, library.with_name("elsewhere"))
    files.write_routine(replace(files.read_routine("gone"), added_at=1.0))
    done = subprocess.run(added.command_words, capture_output=True, text=True, env={**os.environ, "DUNECHEST_HOME": "/nowhere"}, check=False)  # fmt: skip
    assert done.returncode == 3, done.stdout + done.stderr
    assert int(told.read_text()) == 19


def test_a_routine_that_nothing_starts_or_that_was_edited_is_noticed(
    nightly: Routine, at_ten: Callable[[float], None], table: Path, library: Path, command: Command
) -> None:
    at_ten(5.0)
    (state,) = dunechest.routines.list_routines()
    assert "nothing started it" in state.message
    assert "nothing started it" in command("status").out.replace("\n", " ").replace("    ", "")
    dunechest.routines.run_due()
    assert dunechest.routines.list_routines()[0].ok
    routine = replace(nightly, scheduler="cron", name="by-cron")
    assert dunechest.routines.add_routine(routine).installed
    dunechest.routines.run_due()
    assert dunechest.routines.list_routines("by-cron")[0].ok
    place = files.routine_file("by-cron")
    place.write_text(place.read_text().replace("22:00", "21:15"))
    (state,) = dunechest.routines.list_routines("by-cron")
    assert (state.installed, state.command) == (False, "dunechest routine add by-cron --again")
    assert command("routine", "add", "by-cron", "--again", "--on-mains").status == 2
    assert command("routine", "add", "by-cron", "--again").status == 0
    assert "15 21 * * *" in table.read_text() and dunechest.routines.list_routines("by-cron")[0].ok
    assert dunechest.routines.list_routines("by-cron")[0].routine.added_at == nightly.added_at  # type: ignore[union-attr]


def test_a_retired_drive_is_not_asked_for(
    nightly: Routine, at_ten: Callable[[float], None], chests: dict[str, dunechest.Chest]
) -> None:
    unplug(chests["blue"])
    dunechest.retire_chest("blue")
    at_ten(4.0)
    (run,) = dunechest.routines.run_due().runs
    assert "retired" in run.message and "Connect it" not in run.message


@pytest.mark.skipif(not hasattr(os, "geteuid") or os.geteuid() == 0, reason="root may write everywhere")
def test_a_folder_that_cannot_be_written_to_is_said(nightly: Routine, at_ten: Callable[[float], None]) -> None:
    files.routines_folder().chmod(0o500)
    try:
        with pytest.raises(dunechest.CutOffError):
            dunechest.routines.run_due()
    finally:
        files.routines_folder().chmod(0o700)


def test_a_log_that_is_no_file_fails_nothing(
    nightly: Routine, at_ten: Callable[[float], None], tmp_path: Path
) -> None:
    target = tmp_path / "somebody's file"
    target.write_text("mine")
    dunechest.routines.routine_log().symlink_to(target)
    (run,) = dunechest.routines.run_due().runs
    assert (run.outcome, len(run.failed_ways)) == ("ok", 1) and "log" in run.failed_ways[0]
    assert target.read_text() == "mine"
