"""Stop moving and freeing before each operation, by a kill or by a refusal, and see whether anything is lost."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import dunechest
from dunechest.cli.app import run
from dunechest.demo.world import make_world
from dunechest.jobs.known.homes import list_homes
from tests.support.homes import Outcome, opens, same_files, stop_everywhere
from tests.support.trees import Facts, facts


@dataclass
class Stage:
    """A home with a library, drives, and the ledger, all in one folder."""

    top: Path
    library: Path
    wanted: Facts
    application: str = ""

    @property
    def home(self) -> Path:
        return self.top / "home"

    def whole_for_the_application(self) -> bool:
        """Whether the application finds the whole library, wherever it is."""
        if self.application:
            try:
                return opens(self.application, self.home) == self.shows
            except Exception:
                return False
        return self.library.is_dir() and same_files(self.library, self.wanted, but=".md")

    shows: tuple[dict[str, int], int] = ({}, 0)


@dataclass(frozen=True)
class Job:
    """A command whose every operation is tried.

    Attributes
    ----------
    prepare : callable
        Makes the stage.
    words : callable
        The command.
    done : callable
        Whether the command is done, looking at the stage.
    goes : bool
        Whether the library is gone afterwards: then it is whole in its place, or safe in the chests.
    """

    name: str
    prepare: Callable[[Path], Stage]
    words: Callable[[Stage], list[str]]
    done: Callable[[Stage], bool]
    goes: bool = False


def environment(top: Path) -> dict[str, str]:
    drives = os.pathsep.join(str(top / "media" / name) for name in ("blue", "sand", "shell"))
    return {"HOME": str(top / "home"), "DUNECHEST_HOME": str(top / "state"), "DUNECHEST_DRIVES": drives}


def _plain(top: Path) -> Stage:
    for name in ("home", "media/blue", "media/sand", "media/shell"):
        (top / name).mkdir(parents=True)
    library = top / "home" / "letters"
    (library / "deep" / "empty").mkdir(parents=True)
    for name in ("a.txt", "b.txt", "deep/c.txt"):
        (library / name).write_text(f"seventeen terns in {name}")
    (library / "see.md").write_text("[a](a.txt), [away](../away.txt)\n")
    (top / "home" / "away.txt").write_text("outside")
    (library / "link").symlink_to("a.txt")
    return Stage(top, library, facts(library))


def _setting(top: Path) -> Stage:
    world = make_world(top / "world", size=0.03)
    for name in ("media/blue", "media/sand", "media/shell"):
        (top / name).mkdir(parents=True)
    shutil.move(world.office_home, top / "home")
    library = top / "home" / "Winter Games"
    shutil.move(world.games, library)
    shutil.rmtree(top / "world")
    (top / "home/.config/cuttlebone/settings.json").write_text(f'{{"library": "{library}"}}\n')
    stage = Stage(top, library, facts(library), "cuttlebone")
    stage.shows = opens("cuttlebone", stage.home)
    stage.wanted = facts(library)
    return stage


def _moved(top: Path) -> Stage:
    stage = _plain(top)
    _run("rehome", stage.library, "--to", top / "media/sand")
    return stage


def _in_chests(top: Path) -> Stage:
    stage = _plain(top)
    for name in ("blue", "sand"):
        _run("chest", "new", top / "media" / name, "--label", name)
    _run("archive", stage.library, "--to", "blue", "--to", "sand")
    for name in ("blue", "sand"):
        _run("verify", name)
    _run("drill", "blue")
    return stage


def _split(top: Path) -> Stage:
    """A library without its drive and a new one in its old place, the drive being back."""
    stage = _moved(top)
    away = (top / "media/sand").rename(top / "drawer")
    stage.library.unlink()
    stage.library.mkdir()
    (stage.library / "new.txt").write_text("without the drive")
    (stage.library / "a.txt").write_text("another a")
    away.rename(top / "media/sand")
    return stage


def _run(*words: str | os.PathLike[str]) -> None:
    status = run([*(os.fspath(word) for word in words), "--quiet"])
    assert status == 0, (words, status)


def _is_link(stage: Stage) -> bool:
    return stage.library.is_symlink() and os.readlink(stage.library) == str(stage.top / "media/sand/letters")


JOBS = {
    job.name: job
    for job in (
        Job(
            "rehome by link",
            _plain,
            lambda s: ["rehome", str(s.library), "--to", str(s.top / "media/sand")],
            _is_link,
        ),
        Job(
            "rehome by setting",
            _setting,
            lambda s: ["rehome", str(s.top / "home/Winter Games"), "--to", str(s.top / "media/sand"), "--reclaim", "--yes"],
            lambda s: not s.library.exists() and (s.top / "media/sand/Winter Games").is_dir(),
        ),
        Job(
            "rehome back",
            _moved,
            lambda s: ["rehome", "--back", str(s.library)],
            lambda s: s.library.is_dir() and not s.library.is_symlink(),
        ),
        Job(
            "rehome onwards",
            _moved,
            lambda s: ["rehome", str(s.library), "--to", str(s.top / "media/shell")],
            lambda s: os.readlink(s.library) == str(s.top / "media/shell/letters"),
        ),
        Job("reclaim", _in_chests, lambda s: ["reclaim", str(s.library), "--yes"], lambda s: not s.library.exists(), True),
        Job(
            "reclaim set aside",
            _moved,
            lambda s: ["reclaim", str(s.library), "--yes"],
            lambda s: _is_link(s) and not list(s.home.glob("letters (*")),
        ),
        Job(
            "rehome a part",
            _setting,
            lambda s: [
                "rehome", str(s.library), "--part", "Lanternfish", "--to", str(s.top / "media/sand"), "--reclaim", "--yes",
            ],
            lambda s: (s.top / "media/sand/Winter Games").is_dir() and not list(s.home.glob("Winter Games,*")),
        ),
    )
}  # fmt: skip


def sweep(job: Job, top: Path, *, how: str = "kill", some: int | None = None, offset: int = 0) -> Outcome:
    """Stop a command before each of its operations; then the same command, or undo, must end well, and nothing is lost."""
    top.mkdir(parents=True)
    for name, value in environment(top).items():
        os.environ[name] = value
    stage = job.prepare(top)
    words = job.words(stage)
    part = "--part" in words
    outer = {"turn": 0}

    def check(stopped: int) -> None:
        outer["turn"] += 1
        if not job.goes and not part:
            assert stage.whole_for_the_application(), "the application does not find the whole library"
        elif part:
            assert opens("cuttlebone", stage.home)[1] == 0, "something is missing for the application"
        elif stage.library.is_dir():
            assert same_files(stage.library, stage.wanted, but=".md"), "half a library is in its place"
        begun = any(not item.finished for item in dunechest.plans.cut_off())
        if outer["turn"] % 2 and begun and not _goes_forward():
            status = run(["undo", "--yes", "--quiet"])
            assert status == 0, f"undo ends with {status}"
            assert not dunechest.plans.cut_off()
            if "--reclaim" not in words:  # of an errand the deletion alone may have been begun
                _all_as_before(stage, job)
        # What the system refused may be a note that nothing depends on: then the command has ended well.
        status = run([*words, "--quiet"]) if stopped else 0
        assert status == 0, f"the same command ends with {status}"
        assert job.done(stage), "it is not done"
        _nothing_left_over(top)
        if not job.goes and not part:
            assert stage.whole_for_the_application(), "the application does not find the whole library afterwards"
        if job.goes:
            shutil.rmtree(top / "back", ignore_errors=True)
            chest = dunechest.get_chest("sand")
            assert dunechest.restore(chest, "letters", dunechest.RestoreOptions(into=top / "back")).ok
            assert same_files(top / "back", stage.wanted, but=".md")

    return stop_everywhere(top, words, check, how=how, some=some, offset=offset)


def _goes_forward() -> bool:
    from dunechest.jobs.undo.forward import begun_removal

    return any(begun_removal(past_change) for past_change in dunechest.plans.cut_off())


def _all_as_before(stage: Stage, job: Job) -> None:
    if job.prepare in (_plain, _setting, _in_chests):
        assert stage.library.is_dir() and not stage.library.is_symlink()
        assert same_files(stage.library, stage.wanted, but=".md"), "undo did not bring back the library"
        assert list_homes() == ()
    else:
        assert _is_link(stage) and same_files(stage.top / "media/sand/letters", stage.wanted, but=".md")


def _nothing_left_over(top: Path) -> None:
    left = [
        path
        for path in top.rglob("*")
        if path.name.startswith((".dune-restore-", ".dune-probe-")) or "being deleted" in path.name
    ]
    assert not left, f"left over: {left[:3]}"
