"""Computers that share drives: each knows after one look what the others did, and believes those that are its person's."""

from __future__ import annotations

import json
import os
import shlex
import shutil
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import dunechest
from dunechest import clock
from dunechest.chest.log import Event, Writer, add
from dunechest.ledger.folder import state_folder
from dunechest.ledger.own_key import own_key
from tests.support.households import computer
from tests.support.runs import Command
from tests.support.trees import flip

DAY = 86_400.0
At = Callable[[str], AbstractContextManager[Path]]


@pytest.fixture
def drives(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> dict[str, Path]:
    """Three drives without a chest."""
    found = {label: tmp_path / "drives" / label for label in ("red", "blue", "green")}
    for place in found.values():
        place.mkdir(parents=True)
    monkeypatch.setenv("DUNECHEST_DRIVES", os.pathsep.join(map(str, found.values())))
    return found


@pytest.fixture
def at(tmp_path: Path) -> At:
    """Be at one of several computers, each with a home and a ledger of its own."""

    return lambda name: computer(tmp_path, name)


def states(*, everyone: bool = True) -> dict[str, dict[str, str]]:
    told = dunechest.status(everyone=everyone)
    return {item.computer: {copy.label: copy.state for copy in item.copies} for item in told.libraries}


@contextmanager
def away(*places: Path) -> Iterator[None]:
    for place in places:
        place.rename(f"{place} away")
    yield
    for place in places:
        Path(f"{place} away").rename(place)


def test_two_computers_and_three_drives_without_a_server(at: At, drives: dict[str, Path], command: Command) -> None:
    with at("kitchen") as home:
        for label in ("red", "blue"):
            command("chest", "new", drives[label], "--label", label)
            assert command("archive", home / "notes", "--to", label).status == 0
    with at("hall") as home, away(drives["blue"]):
        command("chest", "new", drives["green"], "--label", "green")
        for label in ("red", "green"):
            assert command("archive", home / "notes", "--to", label, "--as", "hall-notes").status == 0
        assert states(everyone=False) == {"hall": {"red": "safe", "green": "safe"}}
        ran = command("status")
        assert (ran.status, "1 library of other computers on these drives" in ran.out) == (0, True)
        assert states()["kitchen"] == {"red": "unchecked"}, "nobody said yet whose computer that is"
        ran = command("status", "--everyone")
        assert "-> dunechest computers mine kitchen" in ran.out
        assert command("computers", "mine", "Kitchen").status == 0
        assert states()["kitchen"] == {"red": "safe"}
    with at("kitchen"), away(drives["green"]):
        assert states()["hall"] == {"red": "unchecked"}
        command("computers", "mine", "hall")
        assert states() == {"kitchen": {"red": "safe", "blue": "safe"}, "hall": {"red": "safe"}}
        flip(drives["red"] / "dune-chest" / "bags" / "notes" / "data" / "library" / "tide.txt")
    with at("hall"):
        assert command("verify", "red").status == 1
    with at("kitchen"), away(drives["green"]):
        assert command("status").status == 1
        assert states(everyone=False) == {"kitchen": {"red": "damaged", "blue": "safe"}}
        assert command("mend", "red", "notes", "--from", "blue").status == 0
        assert command("status").status == 0
    with at("hall"), away(*drives.values()):
        assert states()["kitchen"]["red"] == "damaged", "no drive was looked at since"
    with at("hall"):
        assert states()["kitchen"] == {"red": "safe", "blue": "safe"}
        assert command("computers", "not-mine", "kitchen").status == 0
        assert states()["kitchen"] == {"red": "damaged", "blue": "unchecked"}


def test_a_computer_that_lost_its_state_knows_after_one_look(
    at: At, drives: dict[str, Path], command: Command
) -> None:
    with at("kitchen") as home:
        for label in ("red", "blue"):
            command("chest", "new", drives[label], "--label", label)
            command("archive", home / "notes", "--to", label)
        shutil.rmtree(home / "state")
    with at("kitchen") as home:
        machine = home / "state" / "machine.json"
        machine.write_text(json.dumps({"id": "f" * 32, "name": "kitchen", "system": "linux"}))
        for label in ("red", "blue"):
            assert command("archive", home / "notes", "--to", label, "--continue", "notes").status == 0
        assert states(everyone=False) == {"kitchen": {"red": "unchecked", "blue": "unchecked"}}
        command("computers", "mine", "kitchen")
        assert command("status").status == 0


def test_a_restored_library_is_this_computers_own(at: At, drives: dict[str, Path], command: Command) -> None:
    with at("kitchen") as home:
        for label in ("red", "blue"):
            command("chest", "new", drives[label], "--label", label)
            command("archive", home / "notes", "--to", label)
        shutil.rmtree(home)
    with at("hall") as home:
        shutil.rmtree(home / "notes")
        assert command("restore", "red", "notes", "--into", home / "restored").status == 0
        command("computers", "mine", "kitchen")
        (library,) = dunechest.status().libraries
        assert (library.on_this_computer, library.path, library.safe) == (True, str(home / "restored"), True)
        (home / "restored" / "tide.txt").write_text("neap tide")
        assert command("archive", home / "restored", "--to", "red").status == 0
        assert states(everyone=False) == {"hall": {"red": "safe", "blue": "behind"}}


def test_an_older_image_of_a_drive_is_noticed(at: At, drives: dict[str, Path], command: Command) -> None:
    with at("kitchen") as home:
        for label in ("red", "blue"):
            command("chest", "new", drives[label], "--label", label)
            command("archive", home / "notes", "--to", label)
        shutil.copytree(drives["red"], drives["red"].parent / "image")
        (home / "notes" / "tide.txt").write_text("neap tide")
        for label in ("red", "blue"):
            command("archive", home / "notes", "--to", label)
        command("verify", "red")
        assert command("status").status == 0
        shutil.rmtree(drives["red"])
        (drives["red"].parent / "image").rename(drives["red"])
        ran = command("status")
        assert ran.status == 1 and "red is older than what is known of it" in ran.out
        assert "-> dunechest verify red" in ran.out
        assert command("verify", "red").status == 0
        ran = command("status")
        assert "older than" not in ran.out and states() == {"kitchen": {"red": "behind", "blue": "safe"}}
        command("archive", home / "notes", "--to", "red")
        assert command("status").status == 0 and command("status").status == 0
    with at("hall"):
        command("chest", "show", "red")
        assert "older than" not in command("status", "--everyone").out


def test_a_wrong_clock_on_another_computer_makes_nothing_young(
    at: At, drives: dict[str, Path], command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    now = [clock.now()]
    monkeypatch.setattr(clock, "now", lambda: now[0])
    with at("kitchen") as home:
        command("chest", "new", drives["red"], "--label", "red")
        command("archive", home / "notes", "--to", "red")
    for hour in (8 * 365 * DAY, -30 * 365 * DAY):
        with at("kitchen") as home, monkeypatch.context() as wrong:
            wrong.setattr(clock, "now", lambda hour=hour: now[0] + hour)
            (home / "notes" / f"{hour}.txt").write_text("a wrong clock")
            command("archive", home / "notes", "--to", "red")
            command("verify", "red")
    with at("hall"):
        command("chest", "show", "red")
        command("computers", "mine", "kitchen")
        now[0] += 100 * DAY
        assert states() == {"kitchen": {"red": "unchecked"}}
        assert command("verify", "red").status == 0 and states() == {"kitchen": {"red": "safe"}}
    with at("kitchen"):
        flip(drives["red"] / "dune-chest" / "bags" / "notes" / "data" / "library" / "tide.txt")
        assert command("verify", "red").status == 1
    with at("hall"):
        assert states() == {"kitchen": {"red": "damaged"}}


def test_a_clock_behind_that_of_another_computer_is_said_once(
    at: At, drives: dict[str, Path], command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    real = clock.now()
    with at("kitchen") as home:
        for label in ("red", "blue"):
            command("chest", "new", drives[label], "--label", label)
        command("archive", home / "notes", "--to", "red", "--to", "blue")
    with at("hall") as home:
        monkeypatch.setattr(clock, "now", lambda: real - 40 * DAY)
        command("chest", "show", "red")
        command("chest", "show", "blue")
        told = command("status")
        assert "The clock" not in told.out, "the clock of a stranger is their own matter"
        command("computers", "mine", "kitchen")
        told = command("status")
        assert told.out.count("The clock of this computer says") == 1 and "what kitchen noted last" in told.out
        command("archive", home / "notes", "--to", "red", "--as", "hall-notes")
        monkeypatch.setattr(clock, "now", lambda: real + 60)
        assert "The clock" not in command("status").out


def test_a_copy_with_a_new_id_keeps_what_others_found_wrong(
    at: At, drives: dict[str, Path], command: Command
) -> None:
    with at("kitchen") as home:
        command("chest", "new", drives["red"], "--label", "red")
        command("archive", home / "notes", "--to", "red")
        flip(drives["red"] / "dune-chest" / "bags" / "notes" / "data" / "library" / "tide.txt")
        assert command("verify", "red").status == 1
    with at("hall"):
        shutil.copytree(drives["red"] / "dune-chest", drives["blue"] / "dune-chest")
        shutil.rmtree(drives["red"] / "dune-chest")
        assert command("chest", "new-id", drives["blue"], "--yes").status == 0
        command("chest", "show", drives["blue"])
        assert states() == {"kitchen": {"red": "damaged"}}


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=60)
@given(st.data())
def test_a_hostile_log_makes_no_copy_safe(
    at: At, drives: dict[str, Path], command: Command, tmp_path: Path, data: st.DataObject
) -> None:
    log = drives["red"] / "dune-chest" / "log"
    if not (tmp_path / "kept").exists():
        with at("kitchen") as home:
            command("chest", "new", drives["red"], "--label", "red")
            command("archive", home / "notes", "--to", "red")
        with at("hall"):
            command("verify", "red")
            flip(drives["red"] / "dune-chest" / "bags" / "notes" / "data" / "library" / "tide.txt")
            command("verify", "red")
            command("computers", "mine", "kitchen")
            assert states() == {"kitchen": {"red": "damaged"}}
        shutil.copytree(log, tmp_path / "kept")
        shutil.copytree(tmp_path / "hall" / "state", tmp_path / "state kept")
    shutil.rmtree(log)
    shutil.copytree(tmp_path / "kept", log)
    shutil.rmtree(tmp_path / "hall" / "state")
    shutil.copytree(tmp_path / "state kept", tmp_path / "hall" / "state")
    path = data.draw(st.sampled_from(sorted(log.iterdir())))
    content = path.read_bytes()
    how = data.draw(st.sampled_from(("word", "cut", "swap", "twice", "rename")))
    lines = content.split(b"\n")
    if how == "word":
        content = content.replace(b'"intact":false', b'"intact":true').replace(b'"wrong":1', b'"wrong":0')
    elif how == "cut":
        content = b"\n".join(lines[: data.draw(st.integers(0, len(lines)))])
    elif how == "swap":
        content = b"\n".join(data.draw(st.permutations(lines)))
    elif how == "twice":
        content = b"\n".join([*lines[:-1], *lines[data.draw(st.integers(0, len(lines))) :]])
    else:
        path = path.with_name(f"{data.draw(st.sampled_from(('a', 'f'))) * 32}.jsonl")
    path.write_bytes(content)
    with at("hall"):
        assert states() == {"kitchen": {"red": "damaged"}}
        command("chest", "show", "red")
        assert states() == {"kitchen": {"red": "damaged"}}


def test_a_stranger_can_hide_nothing_and_praise_nothing(at: At, drives: dict[str, Path], command: Command) -> None:
    with at("kitchen") as home:
        for label in ("red", "blue"):
            command("chest", "new", drives[label], "--label", label)
            command("archive", home / "notes", "--to", label)
        (home / "notes" / "tide.txt").write_text("neap tide")
        command("archive", home / "notes", "--to", "blue")
        chest = dunechest.Chest.open(drives["red"])
        before = states()
        assert before == {"kitchen": {"red": "behind", "blue": "safe"}}
    (holding,) = [item for item in read_events(drives["blue"]) if item["what"] == "hold"][-1:]
    with at("stranger") as home:
        command("chest", "show", "red")
        from dunechest.jobs.known.logs import keep_in_step
        from dunechest.ledger import events

        facts = holding["facts"] | {"chest": chest.id}
        events.append_many(
            [
                ("hold", facts),
                (
                    "archive",
                    {"chest": chest.id, "bag": "notes", "origin": "/x", "edition": 1, "files": 1, "bytes": 1},
                ),
                (
                    "check",
                    {"chest": chest.id, "bag": "notes", "quick": False, "intact": True, "files": 1, "wrong": 0},
                ),
                ("forget", {"chest": chest.id, "bag": "notes"}),
                ("keep", {"chest": chest.id, "place": "\x1b[31mmoon"}),
            ]
        )
        keep_in_step(chest)
        assert len(list((drives["red"] / "dune-chest" / "log").iterdir())) == 2
    with at("kitchen"):
        assert states() == before
        assert {item.label: item.kept_at_place for item in dunechest.list_chests().chests} == {"red": "", "blue": ""}


def read_events(drive: Path) -> list[dict[str, object]]:
    found = []
    for path in (drive / "dune-chest" / "log").iterdir():
        found += [json.loads(line) for line in path.read_text().splitlines()]
    return [item for item in found if item["type"] == "event"]


def test_a_bag_that_is_another_library_now_is_no_copy_any_more(
    at: At, drives: dict[str, Path], command: Command
) -> None:
    """Somebody removes a library from a drive, and a computer that nobody knows archives another one under its name."""
    with at("kitchen") as home:
        for label in ("red", "blue"):
            command("chest", "new", drives[label], "--label", label)
        command("archive", home / "notes", "--to", "red", "--to", "blue")
        assert dunechest.status().safe
    shutil.rmtree(drives["red"] / "dune-chest" / "bags" / "notes")
    with at("stranger") as home:
        assert command("archive", home / "notes", "--to", "red", "--as", "notes").status == 0
    with at("kitchen") as home:
        assert not dunechest.status().safe and states(everyone=False)["kitchen"] == {"blue": "safe"}
        (step,) = [step.command for step in dunechest.status().steps if step.command]
        assert command(*shlex.split(step)[1:]).status == 0, step
        assert dunechest.status().safe


def test_no_step_is_so_high_that_nothing_can_follow_it(at: At, drives: dict[str, Path], command: Command) -> None:
    with at("kitchen") as home:
        command("chest", "new", drives["red"], "--label", "red")
        command("archive", home / "notes", "--to", "red")
        chest = dunechest.Chest.open(drives["red"])
    with at("stranger"):
        signer = own_key(state_folder())
        writer = Writer(signer.public, signer.sign, "stranger", "5" * 32)
        facts = {"chest": chest.id, "bag": "notes", "quick": False, "intact": False, "files": 1, "wrong": 1}
        lie = Event(0, (1 << 62) - 1, "1-aa", "check", clock.now(), facts)
        add(chest.folder, writer, None, [lie], lambda lines: lines, 0)
    with at("kitchen"):
        assert states() == {"kitchen": {"red": "damaged"}}, "bad news counts, whoever says it"
        assert command("verify", "red").status == 0
        assert states() == {"kitchen": {"red": "safe"}}
    with at("hall"):
        command("chest", "show", "red")
        command("computers", "mine", "kitchen")
        assert states() == {"kitchen": {"red": "safe"}}
        flip(drives["red"] / "dune-chest" / "bags" / "notes" / "data" / "library" / "tide.txt")
        command("verify", "red")
    with at("kitchen"):
        assert states() == {"kitchen": {"red": "damaged"}}
