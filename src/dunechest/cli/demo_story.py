"""The story of Marram Point, told with the real commands."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from rich.text import Text

from dunechest.cli.output import Out
from dunechest.demo.world import World, damage, make_world, wipe
from dunechest.errors import DuneChestError, UsageError
from dunechest.names import shown
from dunechest.words import duration, number


@dataclass(frozen=True, slots=True)
class _Scene:
    """One step: what it is about, on which machine, the words of the command, the status it must end with.

    `act` is what people do before it.
    """

    about: str
    machine: str
    words: tuple[str, ...]
    status: int = 0
    application: bool = False
    act: Callable[[World], object] | None = None


class _Teller:
    """Runs scenes and shows them; with ``--json`` gathers them instead."""

    def __init__(self, out: Out, world: World) -> None:
        self._out = out
        self._world = world
        self.scenes: list[dict[str, Any]] = []
        self.astray = 0

    def say(self, text: str) -> None:
        """Show a paragraph."""
        if self._out.shows:
            self._out.console.print()
            if text:
                self._out.console.print(Text(text, style="bold cyan"))

    def play(self, scene: _Scene) -> None:
        """Run one command as if on its machine."""
        self.say(scene.about)
        if scene.act is not None:
            scene.act(self._world)
        scene_words = tuple(word.replace("{world}", str(self._world.folder)) for word in scene.words)
        if scene.application:
            command = [sys.executable, "-m", "dunechest.demo.applications", *scene_words]
            shown_words = ("python", "-m", "dunechest.demo.applications", *scene_words)
        else:
            command = [sys.executable, "-m", "dunechest", *scene_words]
            shown_words = ("dunechest", *scene_words)
        if self._out.json and not scene.application:
            command.append("--json")
        if self._out.shows:
            line = " ".join(f'"{word}"' if " " in word else word for word in shown_words)
            self._out.console.print(
                Text(f"{scene.machine}$ ", style="dim").append(line, style="bold"), soft_wrap=True
            )
        sys.stdout.flush()
        begun = time.monotonic()
        silent = self._out.json or self._out.quiet
        environment = self._world.environment(scene.machine)
        # -P: the sample world's folder is never a place to import from.
        command.insert(1, "-P")
        if self._out.shows and self._out.console.is_terminal:
            environment["FORCE_COLOR"] = "1"
            environment["COLUMNS"] = str(self._out.console.width)
        result = subprocess.run(
            command,
            cwd=self._world.folder,
            env=environment,
            stdin=subprocess.DEVNULL,  # nobody is there to be asked
            stdout=subprocess.PIPE if silent else None,
            stderr=subprocess.PIPE if silent else None,
            check=False,
        )
        if result.returncode != scene.status:
            self.astray += 1
            if self._out.shows:
                words = f"(this ended with status {result.returncode}; {scene.status} was to be expected)"
                self._out.console.print(words, style="bold red")
        elif scene.status and self._out.shows:
            self._out.console.print(f"(status {result.returncode}, as it should be)", style="dim")
        self.scenes.append(
            {
                "about": scene.about,
                "machine": scene.machine,
                "command": list(shown_words),
                "status": result.returncode,
                "as_expected": result.returncode == scene.status,
                "seconds": round(time.monotonic() - begun, 3),
                "output": _parsed(result.stdout),
            }
        )
        if result.returncode != scene.status:
            raise _AstrayError


def _parsed(output: bytes | None) -> Any:
    text = (output or b"").decode("utf-8", "replace")
    try:
        return json.loads(text)
    except ValueError:
        return text


def tell(out: Out, folder: str, size: float, only_world: bool) -> int:
    """Make the sample world and, unless told otherwise, go through the story.

    Raises
    ------
    WordsOff
        If the folder holds something else, or the size is not one.
    DuneChestError
        If the pictures cannot be made for want of Pillow.
    """
    if not 0 < size <= 1000:
        raise UsageError("--size is a scale between 0 and 1000; 1 makes about 60 MB.")
    begun = time.monotonic()
    try:
        world = make_world(Path(folder), size=size)
    except (FileExistsError, NotADirectoryError) as error:
        raise UsageError(str(error)) from error
    except ModuleNotFoundError as error:
        raise DuneChestError(
            "The sample pictures are painted with Pillow, which is not installed: pip install 'dunechest[demo]'"
        ) from error
    teller = _Teller(out, world)
    teller.say(
        f"Marram Point is set up in {shown(str(world.folder))}: an office machine (office-pc), two external "
        "drives (blue, sand), and a clean machine (new-laptop). All of it is made up."
    )
    if not only_world:
        try:
            _story(teller, world)
        except _AstrayError:
            teller.say("The story stops here, since this step did not end as it must.")
    seconds = time.monotonic() - begun
    if out.json:
        out.document(
            {
                "folder": str(world.folder),
                "well": teller.astray == 0,
                "seconds": round(seconds, 3),
                "steps": teller.scenes,
            }
        )
    elif out.shows and not only_world:
        _next(out, world, seconds, teller.astray)
    return 1 if teller.astray else 0


_OFFICE, _LAPTOP = "office-pc", "new-laptop"
_HOME = "office-pc/home/tern"
_SAVES = "cuttlebone-saves"


def _work_on_papers(world: World) -> None:
    """Look the papers through, and add a list."""
    with (world.papers / "papers.bib").open("a", encoding="utf-8") as bibliography:
        bibliography.write("% looked through in spring\n")
    (world.papers / "papers.files" / "ring counts.txt").write_text("seventeen terns\n", encoding="utf-8")


_BEFORE = (
    _Scene(
        "1. What is there? Libraries hide in odd places, and on second drives.",
        _OFFICE,
        ("find", _HOME, "office-pc/second-drive"),
    ),
    _Scene("2. A chest on the first drive.", _OFFICE, ("chest", "new", "drives/blue", "--label", "blue")),
)
_WHILE_OPEN = _Scene(
    "3. Somebody still has the photos open in Glasswort. A library in use is not archived.",
    _OFFICE,
    ("archive", "dune-survey", "--to", "blue"),
    3,
)
_ARCHIVE = (
    _Scene("4. It is closed now. A look at it before anything is copied.", _OFFICE, ("look", "dune-survey")),
    _Scene(
        "5. All four libraries go to the drive, every byte proven. The notes are captured with what is still in "
        "their log.",
        _OFFICE,
        ("archive", "dune-survey", "tidewrack", "marram-papers", "winter-games", "--to", "blue"),
    ),
    _Scene(
        "6. The games keep their saves elsewhere, as it said. Any folder can be archived by its path.",
        _OFFICE,
        ("archive", f"{_HOME}/.local/share/{_SAVES}", "--to", "blue"),
    ),
    _Scene(
        "7. The same again: nothing has changed, so nothing is done.",
        _OFFICE,
        ("archive", "marram-papers", "--to", "blue"),
    ),
    _Scene(
        "In spring somebody works on the papers. Only what is new is copied, and the earlier edition stays.",
        _OFFICE,
        ("archive", "marram-papers", "--to", "blue"),
        act=_work_on_papers,
    ),
    _Scene("", _OFFICE, ("editions", "list", "blue", "marram-papers")),
    _Scene(
        "8. The photos go to a second drive as well. One copy is no copy.",
        _OFFICE,
        ("chest", "new", "drives/sand", "--label", "sand"),
    ),
    _Scene("", _OFFICE, ("archive", "dune-survey", "--to", "sand")),
    _Scene("9. Is everything on the first drive as it was archived?", _OFFICE, ("verify", "drives/blue")),
    _Scene(
        "Would it come back? A rehearsal: all of it, into a scratch folder, looked at as an application would.",
        _OFFICE,
        ("drill", "sand", "dune-survey"),
    ),
)
_AFTER_DAMAGE = (
    _Scene(
        "A quick check compares names and sizes, and says that it did only that.",
        _OFFICE,
        ("verify", "drives/blue", "dune-survey", "--quick"),
    ),
    _Scene("A full one finds it, and names it.", _OFFICE, ("verify", "drives/blue"), 1),
)


def _new_notebook(world: World) -> None:
    """Leave what an application makes that is started too early."""
    place = world.laptop_home / ".tidewrack"
    place.mkdir()
    (place / "notes.tide").write_bytes(b"")


_PLACES = ("--map", "{world}/office-pc/second-drive={world}/new-laptop/second-drive")
_RESTORE = (
    _Scene(
        "12. A clean machine, which has never seen these drives: what is there, and where would it go?",
        _LAPTOP,
        ("restore", "drives/blue"),
    ),
    _Scene(
        "13. The games were on a second drive; which folder stands for that one here is said. A plan, to be read.",
        _LAPTOP,
        ("restore", "drives/blue", "marram-papers", "winter-games", *_PLACES, "--plan"),
    ),
    _Scene("Yes.", _LAPTOP, ("restore", "drives/blue", "marram-papers", "winter-games", _SAVES, *_PLACES)),
    _Scene(
        "14. Somebody had started the notes already, so there is a new, empty notebook in the way. Nothing existing "
        "is ever overwritten,",
        _LAPTOP,
        ("restore", "drives/blue", "tidewrack"),
        3,
        act=_new_notebook,
    ),
    _Scene("but it can be set aside.", _LAPTOP, ("restore", "drives/blue", "tidewrack", "--if-exists", "set-aside")),
    _Scene(
        "15. The photos come from sand, where every picture is intact. Their catalogue named places of the old machine; "
        "it names the new ones now.",
        _LAPTOP,
        ("restore", "drives/sand", "dune-survey"),
    ),
    _Scene(
        "16. Now the applications are started on the new machine, each by its own setting. Photos:",
        _LAPTOP,
        ("glasswort", "open"),
        application=True,
    ),
    _Scene("Notes:", _LAPTOP, ("tidewrack", "open"), application=True),
    _Scene("Papers:", _LAPTOP, ("seaholly", "open"), application=True),
    _Scene("Games, adopted without a download:", _LAPTOP, ("cuttlebone", "open"), application=True),
)


class _AstrayError(Exception):
    """A step did not end as it must: what comes after it would be told on false ground."""


def _story(teller: _Teller, world: World) -> None:
    for scene in _BEFORE:
        teller.play(scene)
    with _photos_open(world):
        teller.play(_WHILE_OPEN)
    for scene in _ARCHIVE:
        teller.play(scene)
    pictures = sorted((world.blue / "dune-chest/bags/dune-survey/data/library/originals").rglob("*.jpg"))
    victim = pictures[min(3, len(pictures) - 1)]
    place = damage(victim)
    teller.say(
        f"10. Years pass, and one bit on the drive flips: byte {place:,} of {shown(victim.name)}. Its size and time "
        "are as before."
    )
    for scene in _AFTER_DAMAGE:
        teller.play(scene)
    wipe(world, _OFFICE)
    teller.say("11. The old machine breaks down. All that was on it is gone (the folder office-pc is deleted).")
    for scene in _RESTORE:
        teller.play(scene)


@contextmanager
def _photos_open(world: World) -> Iterator[None]:
    """Have Glasswort hold the photos open while the block runs."""
    holder = subprocess.Popen(
        [sys.executable, "-P", "-m", "dunechest.demo.applications", "glasswort", "open", "--hold", "60"],
        cwd=world.folder,
        env=world.environment(_OFFICE),
        stdout=subprocess.PIPE,
    )
    try:
        assert holder.stdout is not None
        holder.stdout.readline()  # it has opened the library when it says so
        yield
    finally:
        holder.kill()
        holder.communicate()
        (world.photos / ".glasswort-open").unlink(missing_ok=True)


def _next(out: Out, world: World, seconds: float, astray: int) -> None:
    console = out.console
    near = world.folder.is_relative_to(Path.cwd())
    folder = str(world.folder.relative_to(Path.cwd()) if near else world.folder)
    console.print()
    if astray:
        console.print(f"{number(astray, 'step')} did not end as expected; see above.", style="bold red")
    else:
        console.print(f"That was the whole story, in {duration(seconds)}.", style="bold green")
    console.print("Try next:")
    bag = f"{folder}/drives/blue/dune-chest/bags/marram-papers"
    for line in (
        f"less {bag}/HOW-TO-RESTORE.txt",
        f"(cd {bag} && sha512sum --quiet -c manifest-sha512.txt && echo intact)",
        f"dunechest restore {folder}/drives/blue dune-survey --into {folder}/try   (one picture is not intact)",
        f"dunechest archive SOME-FOLDER --to {folder}/drives/sand --plan",
        "dunechest find",
    ):
        console.print(f"  {shown(line)}", soft_wrap=True)
