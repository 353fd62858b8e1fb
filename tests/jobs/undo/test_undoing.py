"""What a restore did to a computer can be undone, exactly; and one that is interrupted takes itself back."""

from __future__ import annotations

import contextlib
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

import dunechest
from dunechest.jobs import undo
from dunechest.jobs.restore.doing import restoring
from dunechest.jobs.restore.doing.restoring import carry_out_once
from dunechest.ledger import past_changes
from dunechest.model.restore import RestoreOptions
from dunechest.transfer import disk
from tests.support.runs import Command
from tests.support.trees import facts
from tests.support.worlds import Departed, opens


def restore(departed: Departed, name: str, **choice: str) -> dunechest.model.RestorePlan:
    return dunechest.plan_restore(departed.chest, name, RestoreOptions(**choice))  # type: ignore[arg-type]


@pytest.mark.parametrize("at", ["outside_files", "settings", "proof", "place"])
def test_a_restore_that_fails_in_the_middle_is_taken_back(
    at: str,
    departed: Departed,
    new_home: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    place = new_home / "Images" / "Dune Survey"
    place.mkdir()
    (place / "mine").write_text("mine")
    before = facts(new_home, times=False)

    def full(*args: object, **words: object) -> None:
        raise OSError(28, "No space left on device")

    target = {
        "outside_files": (restoring, "restore_outside_files"),
        "settings": (restoring, "write_setting"),
        "proof": (restoring, "prove"),
        "place": (restoring, "whole_into_place"),
    }[at]
    monkeypatch.setattr(*target, full)
    with pytest.raises(dunechest.CutOffError, match="is unchanged"):
        carry_out_once(restore(departed, "dune-survey", if_exists="set-aside"))
    assert facts(new_home, times=False) == before
    monkeypatch.undo()
    assert undo.recover() == ()


KILLED = """
import sys, os
from dunechest.ledger import past_changes
from dunechest.cli.app import run
count = int(sys.argv[1])
plain = past_changes.OpenChange.will
def will(self, *steps):
    global count
    plain(self, *steps)
    count -= 1
    if count < 0:
        os.kill(os.getpid(), 9)
past_changes.OpenChange.will = will
sys.exit(run(sys.argv[2:]))
"""


@pytest.mark.parametrize("if_exists", ["set-aside", "merge"])
def test_killed_after_any_step_was_written_down_it_is_taken_back(
    if_exists: str,
    departed: Departed,
    new_home: Path,
    command: Command,
) -> None:
    """The step itself was not taken then, but all before it were."""
    place = new_home / "Images" / "Dune Survey"
    assert command("restore", departed.chest.folder, "dune-survey").status == 0
    for path in [*(place / "originals" / "2021").rglob("*.jpg")][:2]:
        path.unlink()
    shutil.rmtree(new_home / "Table" / "for the wall")
    (new_home / ".config" / "glasswort" / "settings.json").write_text('{"library": "/nowhere"}')
    before = facts(new_home, times=False)
    words = ["restore", str(departed.chest.folder), "dune-survey", "--if-exists", if_exists, "--json"]
    for steps in range(0, 40, 6 if if_exists == "merge" else 5):
        run = [sys.executable, "-c", KILLED, str(steps), *words]
        ran = subprocess.run(run, capture_output=True, text=True, check=False)
        if ran.returncode == 0:
            break
        assert ran.returncode == -signal.SIGKILL, ran.stderr
        assert "had been interrupted" in command("undo", "--plan").out
        assert "had been interrupted" in command("undo").out
        assert facts(new_home, times=False) == before, steps
    assert steps >= 3
    assert json.loads(ran.stdout)["ok"] is True
    opens("glasswort", new_home, departed)


def test_killed_at_any_moment_it_is_as_before_or_done(
    departed: Departed,
    new_home: Path,
    command: Command,
) -> None:
    place = new_home / "Images" / "Dune Survey"
    place.mkdir()
    (place / "mine").write_text("mine")
    before = facts(new_home, times=False)
    words = ["restore", str(departed.chest.folder), "dune-survey", "--if-exists", "set-aside", "--quiet"]
    rng = random.Random(5)
    for _ in range(5):
        process = subprocess.Popen([sys.executable, "-m", "dunechest", *words])
        time.sleep(0.3 + rng.random() * 0.5)
        process.kill()
        process.wait()
        undo.recover()
        done = [past_change for past_change in past_changes.past_changes() if past_change.how == "done"]
        if done:
            assert (place / "catalogue.glw").exists()
            assert command("undo").status == 0
        for left in new_home.rglob(".dune-restore-*"):
            shutil.rmtree(left, ignore_errors=True)  # a folder to work in; the next restore clears it
        assert facts(new_home, times=False) == before


def test_what_was_changed_after_a_cut_off_restore_is_for_a_person_to_see(
    departed: Departed,
    new_home: Path,
    command: Command,
) -> None:
    place = new_home / "Papers" / "Marram Papers"
    assert command("restore", departed.chest.folder, "marram-papers").status == 0
    (past_change,) = past_changes.past_changes()
    path = Path(os.environ["DUNECHEST_HOME"]) / "deeds" / f"{past_change.number:06d}.jsonl"
    lines = path.read_bytes().splitlines(keepends=True)
    head = json.loads(lines[0]) | {"pid": 2**22 + 5}
    path.write_bytes(json.dumps(head).encode() + b"\n" + b"".join(lines[1:-1]) + b'{"type":"ma')
    (place / "written since").touch()
    ran = command("restore", departed.chest.folder, "marram-papers")
    assert (ran.status, "was changed since" in ran.err, "written since" in ran.err) == (1, True, True)
    (place / "written since").unlink()
    ran = command("restore", departed.chest.folder, "marram-papers")
    assert (ran.status, "what it had begun was undone" in ran.out) == (0, True)
    opens("seaholly", new_home, departed)


def test_references_alone_are_taken_back_and_then_the_rest(
    departed: Departed,
    new_home: Path,
    command: Command,
) -> None:
    before = facts(new_home, times=False)
    assert command("restore", departed.chest.folder, "storm-film").status == 0
    place = new_home / "Films" / "Storm Film"
    project = next(place.glob("projects/*.spindrift/project.json"))
    bag = departed.chest.folder / "bags" / "storm-film" / "data" / "library"
    assert project.read_bytes() != (bag / project.relative_to(place)).read_bytes()
    ran = command("undo", "--only-references", "--json")
    assert (ran.status, {item["what"] for item in ran.json["actions"]}) == (0, {"as before"})
    assert project.read_bytes() == (bag / project.relative_to(place)).read_bytes()
    assert project.stat().st_mtime_ns == (bag / project.relative_to(place)).stat().st_mtime_ns
    assert command("undo").status == 0
    assert facts(new_home, times=False) == before
    assert command("undo", "--only-references").status == 2


def test_what_is_kept_beside_and_replaced_comes_and_goes(
    departed: Departed,
    new_home: Path,
    command: Command,
) -> None:
    words = ("restore", departed.chest.folder, "storm-film")
    assert command(*words).status == 0
    place = new_home / "Films" / "Storm Film"
    clip = place / "clips" / "shared sky.mov"
    theirs = clip.read_bytes()
    clip.write_bytes(b"cut anew")
    before = facts(new_home, times=False)
    (account,) = command(*words, "--if-exists", "merge", "--json").json["libraries"]
    (beside,) = account["renamed_conflicts"]
    assert beside == {"path": "clips/shared sky.mov", "new_path": "clips/shared sky (from blue).mov"}
    assert (clip.read_bytes(), (place / beside["new_path"]).read_bytes()) == (b"cut anew", theirs)
    assert command("undo").status == 0
    assert facts(new_home, times=False) == before
    os.utime(clip, ns=(0, 0))
    for which, now in (("keep-mine", b"cut anew"), ("keep-newer", theirs), ("keep-archived", theirs)):
        (account,) = command(*words, "--if-exists", "merge", "--on-conflict", which, "--json").json["libraries"]
        assert account["renamed_conflicts"] == []
        assert clip.read_bytes() == now
        if now == theirs:
            assert account["replaced_paths"] == ["clips/shared sky.mov"]
            assert command("undo").status == 0
        assert clip.read_bytes() == b"cut anew"
    clip.unlink()
    clip.symlink_to(place / "clips")
    ran = command(*words, "--if-exists", "merge", "--json")
    assert (ran.status, ran.json["libraries"][0]["renamed_conflicts"][0]["path"]) == (1, "clips/shared sky.mov")
    assert ran.json["libraries"][0]["not_restored"] == [], (
        "it came; a project that looks for it by its name does not find it"
    )
    assert os.readlink(clip) == str(place / "clips")
    assert command("undo").status == 0
    shutil.rmtree(place / "projects")
    (place / "projects").symlink_to(new_home)
    ran = command(*words, "--if-exists", "merge", "--json")
    assert ran.status in (0, 1)
    assert {item["path"].split("/")[0] for item in ran.json["libraries"][0]["renamed_conflicts"]} >= {"projects"}
    assert not (new_home / "quiet-water").exists()
    assert os.readlink(place / "projects") == str(new_home)


def test_a_restore_waits_for_nobody_and_says_who_has_it_open(
    departed: Departed,
    new_home: Path,
    command: Command,
) -> None:
    assert command("restore", departed.chest.folder, "tidewrack").status == 0
    application = [sys.executable, "-m", "dunechest.demo.applications", "tidewrack", "open", "--hold", "60"]
    holding = subprocess.Popen(application, stdout=subprocess.PIPE)
    try:
        assert holding.stdout is not None
        holding.stdout.readline()
        for words in (("--if-exists", "set-aside"), ("--if-exists", "merge")):
            ran = command("restore", departed.chest.folder, "tidewrack", *words, "--json")
            assert (ran.status, ran.json["findings"][0]["code"]) == (3, "in-use"), words
    finally:
        holding.kill()
        holding.communicate()


def test_what_somebody_makes_in_the_moment_of_a_failure_is_not_removed(
    departed: Departed,
    new_home: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """It fails after the step was written down and before it was taken; meanwhile another program makes that very thing."""
    place = new_home / "Images" / "Dune Survey"
    settings = new_home / ".config" / "glasswort" / "settings.json"
    outside_file = new_home / "Table" / "for the wall" / "wall 1.jpg"
    plain = past_changes.OpenChange.will

    def will(self: past_changes.OpenChange, *steps: past_changes.Step) -> None:
        plain(self, *steps)
        for step in steps:
            path = Path(str(getattr(step, "path", "")))
            if isinstance(step, past_changes.Tree | past_changes.Made) and path in targets:
                path.parent.mkdir(parents=True, exist_ok=True)
                if isinstance(step, past_changes.Tree):
                    path.mkdir()
                    path /= "somebody's"
                path.write_text("another program's")
                raise OSError(5, "Input/output error")

    monkeypatch.setattr(past_changes.OpenChange, "will", will)
    for targets, kept in (({place}, place / "somebody's"), ({outside_file}, outside_file), ({settings}, settings)):
        with pytest.raises(dunechest.CutOffError) if targets == {place} else _nothing():
            carry_out_once(restore(departed, "dune-survey"))
        assert kept.read_text() == "another program's"
        shutil.rmtree(place)
        kept.unlink(missing_ok=True)
        settings.unlink(missing_ok=True)


def _nothing() -> contextlib.AbstractContextManager[None]:
    return contextlib.nullcontext()


def test_a_setting_that_is_a_link_stays_one(
    departed: Departed,
    new_home: Path,
    command: Command,
) -> None:
    kept = new_home / "all my settings" / "saltpan.json"
    kept.parent.mkdir()
    kept.write_text('{"library": "/nowhere", "grid": 5}')
    link = new_home / ".config" / "saltpan" / "settings.json"
    link.parent.mkdir()
    link.symlink_to(kept)
    assert command("restore", departed.chest.folder, "sign-shop").status == 0
    assert os.readlink(link) == str(kept)
    assert json.loads(kept.read_text()) == {"library": str(new_home / "Papers" / "Sign Shop"), "grid": 5}
    assert command("undo").status == 0
    assert kept.read_text() == '{"library": "/nowhere", "grid": 5}'


def test_taking_back_that_is_cut_off_goes_on(
    departed: Departed, new_home: Path, monkeypatch: pytest.MonkeyPatch, command: Command
) -> None:
    """Half of a tree is removed when the drive fails: the same command removes the rest."""
    place = new_home / "Papers" / "Marram Papers"
    place.mkdir()
    (place / "mine").write_text("mine")
    before = facts(new_home, times=False)
    assert command("restore", departed.chest.folder, "marram-papers", "--if-exists", "set-aside").status == 0
    plain, count = disk.remove, 0

    def failing(path: Path, **words: bool) -> None:
        nonlocal count
        count += 1
        if count == 4:
            raise OSError(5, "Input/output error")
        plain(path, **words)

    monkeypatch.setattr(disk, "remove", failing)
    ran = command("undo")
    assert (ran.status, "again to continue" in ran.err) == (4, True)
    assert facts(new_home, times=False) != before
    ran = command("undo", "--json")
    assert (ran.status, ran.json["changed_since"]) == (0, [])
    assert facts(new_home, times=False) == before
