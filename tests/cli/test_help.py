"""The help: its groups and examples, what was probably meant, the Tab key of four shells, and man pages."""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import click
import pytest

import dunechest
from dunechest.cli.app import COMMANDS, GROUPS, cli, every_command
from dunechest.cli.parts import Command as OwnCommand
from dunechest.cli.shells import SHELLS, script
from dunechest.demo.world import World
from dunechest.machine.schedulers.cron import Cron
from tests.support.households import meet
from tests.support.offices import office_if_possible
from tests.support.runs import Command
from tests.support.worlds import Move

ROOT = Path(__file__).resolve().parents[2]
LEAVES = [(name, command) for name, command in every_command() if not isinstance(command, click.Group)]


def test_commands_stand_in_groups(command: Command) -> None:
    text = command("--help").out
    places = [text.index(f"\n{title}:\n") for title in GROUPS]
    assert places == sorted(places)
    for name, line in COMMANDS.items():
        assert f"  {name} " in text
        assert line in text
    assert command("help").out == text
    for name, _ in every_command():
        assert (
            command("help", *name.split()).out
            == command(*name.split(), "--help").out
            == command(*name.split(), "-h").out
        )


def test_every_command_has_examples_and_the_large_ones_group_their_options() -> None:
    for name, command in LEAVES:
        assert isinstance(command, OwnCommand), name
        assert 1 <= len(command.examples) <= 3, name
        for example in command.examples:
            assert shlex.split(example)[: 1 + len(name.split())] == ["dunechest", *name.split()], example
    for name in ("archive", "restore"):
        command = dict(LEAVES)[name]
        assert isinstance(command, OwnCommand)
        grouped = {option for options in command.sections.values() for option in options}
        own = {p.name for p in command.params if isinstance(p, click.Option)}
        assert own - grouped == {"as_json", "json_events", "quiet", "no_progress", "verbose"}, name


def _ready(world: World) -> Iterator[list[str]]:
    """Yield what has to be done before the examples are tried."""
    letters = Path.home() / "Documents" / "letters"
    letters.mkdir(parents=True)
    (Path.home() / "Downloads").mkdir(exist_ok=True)
    (letters / "to the harbour master.txt").write_text("the light is out again")
    yield ["find", str(world.office_home), str(world.office_drive)]
    yield ["chest", "new", str(world.sand), "--label", "sand"]


def test_the_examples_of_every_command_run(
    world: World,
    on_machine: Move,
    command: Command,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    table: Path,
    request: pytest.FixtureRequest,
) -> None:
    """They run as they stand, in the order in which a person would come to them, with /media being the sample drives."""
    on_machine("office-pc")
    office = office_if_possible(request, tmp_path)
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr("dunechest.machine.schedulers.usual_scheduler", Cron)
    drives = {"/media/blue": str(world.blue), "/media/sand": str(world.sand), "~": str(Path.home())}
    drives["/media/copy"] = str(tmp_path / "copy")
    drives["/home/tern/second-drive"] = str(tmp_path / "second-drive")
    for words in _ready(world):
        assert command(*words).status == 0, words
    first = (
        "chest new",
        "chest list",
        "office set-up",
        "office add",
        "office join",
        "find",
        "look",
        "kinds",
        "archive",
        "chest show",
        "verify",
        "drill",
        "compare",
    )
    order = sorted(
        LEAVES,
        key=lambda leaf: (
            next((i for i, start in enumerate(first) if leaf[0].startswith(start)), 99), leaf[0] in ("office leave", "office remove"), leaf[0] == "office remove"
        ),
    )  # fmt: skip
    ran = 0
    for name, leaf in order:
        if name in ("demo", "undo"):
            continue
        assert isinstance(leaf, OwnCommand)
        for example in leaf.examples:
            words = shlex.split(example)[1:]
            for old, new in drives.items():
                words = [word.replace(old, new) for word in words]
            if "://" in example and name.startswith("chest"):
                continue  # it needs a server: see tests/remote
            if name.startswith("office") or "--office" in words:
                if office is None:
                    continue
                words = office.meant(words)
            if name == "editions drop" or "--edition" in words:
                (world.papers / f"note {ran}.txt").write_text("seventeen terns")
                dunechest.archive(world.papers, "blue")
            if name == "chest forget":
                dunechest.archive(world.games, "blue")
                shutil.rmtree(world.blue / "dune-chest" / "bags" / "winter-games")
            if name.startswith("computers"):
                meet("laptop", world.blue, tmp_path)
            if name == "places forget":
                dunechest.places.remember_place(words[-1], tmp_path)
            if name == "chest rebuild":
                (world.blue / "dune-chest" / "chest.json").unlink(missing_ok=True)
            if name == "restore" and "dune-survey" in words:
                shutil.rmtree(world.photos)
            if name == "reclaim" and "--plan" in words:
                dunechest.archive([world.papers, world.games], ["blue", "sand"])
            if name == "chest new-id":
                shutil.copytree(world.blue, tmp_path / "copy")
            result = command(*words)
            if name == "chest rename":
                command("chest", "rename", "harbour", "blue")
            if name == "chest new-id":
                command("chest", "rename", tmp_path / "copy", "copy")
            assert result.status in ((0, 1) if name in ("compare", "status", "report") else (0,)), (
                example,
                result.out,
                result.err,
            )
            ran += 1
    assert ran > 35


def test_what_was_probably_meant_is_said(chest: dunechest.Chest, library: Path, command: Command) -> None:
    command("archive", library, "--to", chest.folder)
    for words, meant in (
        (("verfy",), "verify"),
        (("chest", "lst"), "list"),
        (("help", "restor"), "restore"),
        (("verify", "bleu"), "blue"),
        (("verify", "blue", "shad"), "shed"),
        (("look", library, "--kind", "glaswort"), "glasswort"),
        (("archive", library, "--to", "blue", "--ignore", "inuse"), "in-use"),
        (("schema", "archve"), "archive"),
    ):
        ran = command(*words)
        assert ran.status == 2, words
        assert f"Did you mean {meant!r}?" in ran.err, (words, ran.err)
    assert "--quiet" in command("verify", "blue", "--qiet").err


def _complete(shell: str, words: list[str], begun: str) -> list[str]:
    line = " ".join([*(shlex.quote(word) for word in words), begun])
    environment = {**os.environ, "_DUNECHEST_COMPLETE": f"{shell}_complete", "COMP_WORDS": line}
    environment |= {"COMP_CWORD": begun if shell == "fish" else str(len(words)), "COMP_WORD": begun}
    ran = subprocess.run(
        [sys.executable, "-m", "dunechest"], env=environment, capture_output=True, text=True, check=False
    )
    assert ran.returncode == 0, ran.stderr
    lines = ran.stdout.splitlines()
    if shell == "zsh":
        return lines[1::3]
    if shell == "powershell":
        return [line.split("\t")[0] for line in lines]
    return [line.split(",", 1)[1].split("\t")[0] for line in lines]


@pytest.mark.parametrize("shell", sorted(SHELLS))
def test_the_tab_key_completes_commands_chests_and_libraries(
    shell: str, drive: Path, library: Path, command: Command
) -> None:
    command("chest", "new", drive, "--label", "blue drive")
    command("archive", library, "--to", "blue drive")
    assert _complete(shell, ["dunechest"], "ver") == ["verify"]
    assert "--quick" in _complete(shell, ["dunechest", "verify"], "--")
    label = "'blue drive'" if shell == "bash" else "blue drive"
    assert _complete(shell, ["dunechest", "verify"], "bl") == [label]
    assert _complete(shell, ["dunechest", "verify", "blue drive"], "sh") == ["shed"]
    assert _complete(shell, ["dunechest", "kinds", "show"], "glass") == ["glasswort"]
    assert script(shell).startswith("# In ")


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_the_script_works_in_the_shell_itself(shell: str, tmp_path: Path) -> None:
    if shutil.which(shell) is None:
        pytest.skip(f"{shell} is not installed")
    file = tmp_path / "completion"
    file.write_text(script(shell))
    assert subprocess.run([shell, "-n", file], capture_output=True, check=False).returncode == 0
    ask = {
        "bash": f"source {file}; COMP_WORDS=(dunechest ver); COMP_CWORD=1; _dunechest_completion dunechest; echo $COMPREPLY",
        "zsh": f"compdef() {{ }}; source {file} 2>/dev/null; whence _dunechest_completion",
        "fish": f'source {file}; complete -C "dunechest ver"',
    }[shell]
    path = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
    ran = subprocess.run(
        [shell, "-c", ask], env={**os.environ, "PATH": path}, capture_output=True, text=True, check=False
    )
    assert ("_dunechest_completion" if shell == "zsh" else "verify") in ran.stdout, ran.stderr


def test_man_pages_are_made_from_the_help() -> None:
    ran = subprocess.run(
        [sys.executable, ROOT / "scripts" / "man_pages.py", "--check"], capture_output=True, text=True, check=False
    )
    assert ran.returncode == 0, ran.stderr
    pages = {path.stem for path in (ROOT / "man").glob("*.1")}
    assert pages == {"dunechest", *(f"dunechest-{name.replace(' ', '-')}" for name, _ in every_command())}
    assert click.Context(cli).command is cli


@pytest.mark.skipif(shutil.which("man") is None, reason="man is not installed")
def test_man_reads_the_pages_without_a_warning() -> None:
    for page in sorted((ROOT / "man").glob("*.1")):
        environment = {**os.environ, "MANWIDTH": "80", "LC_ALL": "C.UTF-8", "MANROFFOPT": "-ww", "MANPAGER": "cat"}
        ran = subprocess.run(
            ["man", "--warnings", "-l", page], env=environment, capture_output=True, text=True, check=False
        )
        assert (ran.returncode, ran.stderr) == (0, ""), page
