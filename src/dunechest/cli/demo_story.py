"""The story of Marram Point, told with the real commands."""

from __future__ import annotations

import datetime
import json
import os
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import msgspec
from rich.text import Text

from dunechest.cli.forked import run_module
from dunechest.cli.layout import BAD, DIM, GOOD, INFO, homely, say
from dunechest.cli.output import Out
from dunechest.demo.office import OfficeWorld
from dunechest.demo.world import World, damage, make_world, wipe
from dunechest.errors import DuneChestError, UsageError
from dunechest.names import shown
from dunechest.words import duration, number


class Scene(msgspec.Struct, frozen=True):
    """One step: what it is about, on which machine, the command, the status it must end with.

    `act` is what people do before it. `night` is the number of the night, at five past ten, in which it happens.
    """

    about: str
    machine: str
    words: tuple[str, ...]
    status: int = 0
    application: bool = False
    act: Callable[[Any], object] | None = None
    night: int = 0


class Teller:
    """Runs scenes and shows them; with ``--json`` gathers them instead."""

    def __init__(self, out: Out, world: World | OfficeWorld) -> None:
        self._out = out
        self._world = world
        # Where applications keep their data is different from system to system.
        self._data = world.standard("data").relative_to(world.folder).as_posix()
        self.scenes: list[dict[str, Any]] = []
        self.astray = 0

    def say(self, text: str) -> None:
        """Show a paragraph."""
        if self._out.shows:
            self._out.console.print()
            if text:
                say(self._out.console, text, f"bold {INFO}", hang=0)

    def play(self, scene: Scene) -> None:
        """Run one command as if on its machine."""
        self.say(scene.about)
        if scene.act is not None:
            scene.act(self._world)
        written = tuple(word.replace("{data}", self._data) for word in scene.words)
        scene_words = tuple(word.replace("{world}", str(self._world.folder)) for word in written)
        module = "dunechest.demo.applications" if scene.application else "dunechest"
        shown_words = (*(("python", "-m", module) if scene.application else (module,)), *scene_words)
        if self._out.json and not scene.application:
            scene_words = (*scene_words, "--json")
        if self._out.shows:
            typed = (word.replace("{world}", "$PWD") for word in (*shown_words[: -len(scene.words)], *written))
            line = " ".join(f'"{word}"' if " " in word or "$" in word else word for word in typed)
            self._out.console.print(
                Text().append(f"{scene.machine}$ ", style=DIM).append(line, style="bold"), soft_wrap=True
            )
        sys.stdout.flush()
        begun = time.monotonic()
        silent = self._out.json or self._out.quiet
        environment = self._world.environment(scene.machine)
        if self._out.shows and self._out.console.is_terminal:
            environment["FORCE_COLOR"] = "1"
            environment["COLUMNS"] = str(self._out.console.width)
        status, output = run_module(
            module,
            scene_words,
            folder=self._world.folder,
            environment=environment,
            caught=silent,
            ahead=_until_night(scene.night),
        )
        if status != scene.status:
            self.astray += 1
            if self._out.shows:
                words = f"(this ended with exit status {status}; {scene.status} was expected)"
                self._out.console.print(words, style=BAD)
        elif scene.status and self._out.shows:
            self._out.console.print(f"(exit status {status}, as expected)", style=DIM)
        self.scenes.append(
            {
                "about": scene.about,
                "computer": scene.machine,
                "command": list(shown_words),
                "status": status,
                "as_expected": status == scene.status,
                "seconds": round(time.monotonic() - begun, 3),
                "output": _parsed(output),
            }
        )
        if status != scene.status:
            raise AstrayError


def _until_night(number: int) -> float:
    """Return the seconds until five past ten in the evening of a night from now on; 0 for now."""
    if not number:
        return 0.0
    now = datetime.datetime.now()
    evening = now.replace(hour=22, minute=5, second=0, microsecond=0)
    if evening <= now:
        evening += datetime.timedelta(days=1)
    return (evening + datetime.timedelta(days=number - 1) - now).total_seconds()


def _parsed(output: bytes) -> Any:
    text = output.decode("utf-8", "replace")
    try:
        return json.loads(text)
    except ValueError:
        return text


def tell(out: Out, folder: str, size: float, only_world: bool) -> int:
    """Make the sample world and, unless told otherwise, go through the story.

    Raises
    ------
    UsageError
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
    teller = Teller(out, world)
    teller.say(
        f"Marram Point is set up in {homely(world.folder)}: an office computer (office-pc), three external "
        "drives (blue, sand, shell), and a clean computer (new-laptop). All of it is made up."
    )
    if not only_world:
        try:
            _story(teller, world)
        except AstrayError:
            teller.say("The tour stops here, because this step did not end as expected.")
    seconds = time.monotonic() - begun
    out.document("demo", folder=str(world.folder), steps=teller.scenes)
    if out.shows and not only_world:
        _next(out, world, seconds, teller.astray)
    return 1 if teller.astray else 0


_OFFICE, _LAPTOP = "office-pc", "new-laptop"
_HOME = "office-pc/home/tern"
_SAVES = "cuttlebone-saves"
_OTHERS = ("shore-recordings", "storm-film", "sign-shop", "devices")


def _work_on_papers(world: World) -> None:
    """Look the papers through, and add a list."""
    with (world.papers / "papers.bib").open("a", encoding="utf-8") as bibliography:
        bibliography.write("% looked through in spring\n")
    (world.papers / "papers.files" / "ring counts.txt").write_text("seventeen terns\n", encoding="utf-8")


_BEFORE = (
    Scene(
        "1. Which libraries are there? Some are in odd places, and on second drives.",
        _OFFICE,
        ("find", _HOME, "office-pc/second-drive"),
    ),
    Scene("2. Make a chest on the first drive.", _OFFICE, ("chest", "new", "drives/blue", "--label", "blue")),
)
_WHILE_OPEN = Scene(
    "3. The photos are still open in Glasswort. A library that is in use is not archived.",
    _OFFICE,
    ("archive", "dune-survey", "--to", "blue"),
    3,
)
_ARCHIVE = (
    Scene("4. It is closed now. Inspect it before anything is copied.", _OFFICE, ("look", "dune-survey")),
    Scene(
        "5. Archive all four libraries; every byte is checked on the drive. The notes are copied with their pending "
        "changes.",
        _OFFICE,
        ("archive", "dune-survey", "tidewrack", "marram-papers", "winter-games", "--to", "blue"),
    ),
    Scene(
        "6. The games keep their saves elsewhere, as it said. Any folder can be archived by its path.",
        _OFFICE,
        ("archive", "{data}/cuttlebone-saves", "--to", "blue"),
    ),
    Scene(
        "7. The same again: nothing has changed, so nothing is copied.",
        _OFFICE,
        ("archive", "marram-papers", "--to", "blue"),
    ),
    Scene(
        "In spring somebody works on the papers. Only what is new is copied, and the earlier edition is kept.",
        _OFFICE,
        ("archive", "marram-papers", "--to", "blue"),
        act=_work_on_papers,
    ),
    Scene("", _OFFICE, ("editions", "list", "blue", "marram-papers")),
    Scene(
        "8. Archive the photos to a second drive as well: one copy is not a backup.",
        _OFFICE,
        ("chest", "new", "drives/sand", "--label", "sand"),
    ),
    Scene("", _OFFICE, ("archive", "dune-survey", "--to", "sand")),
    Scene("9. What is safe now, and what is still to be done?", _OFFICE, ("status",), 1),
    Scene(
        "A third drive, which will be kept in another house, gets a copy of all that is on the first one, earlier "
        "editions included.",
        _OFFICE,
        ("chest", "new", "drives/shell", "--label", "shell"),
    ),
    Scene("", _OFFICE, ("chest", "place", "shell", "with grandmother")),
    Scene("", _OFFICE, ("copy", "blue", "shell")),
    Scene(
        "The other libraries that were found go to two drives at once; each file is read only once.",
        _OFFICE,
        ("archive", *_OTHERS, "--to", "blue", "--to", "shell"),
    ),
    Scene(
        "And now? One is left: some of its pictures are only placeholders here and have to be downloaded first.",
        _OFFICE,
        ("status",),
        1,
    ),
    Scene(
        "10. Where is that list of ring counts? No drive need be connected for that.",
        _OFFICE,
        ("search", "ring", "counts"),
    ),
    Scene("Is everything on the first drive still intact?", _OFFICE, ("verify", "drives/blue")),
    Scene(
        "Would a restore work? A drill restores everything to a scratch folder, checks it, and deletes it.",
        _OFFICE,
        ("drill", "sand", "dune-survey"),
    ),
)
_MAKE_ROOM = (
    Scene(
        "11. The office computer's disk is full. The games move to the drive sand, and their launcher goes on with them there; "
        "the original is deleted as soon as the copy is proven.",
        _OFFICE,
        ("rehome", "winter-games", "--to", "drives/sand", "--reclaim", "--yes"),
    ),
    Scene("", _OFFICE, ("cuttlebone", "open"), application=True),
    Scene(
        "The recordings are on two drives. Their original may go as well, once both copies are checked and one passed a drill.",
        _OFFICE,
        ("reclaim", "shore-recordings", "--yes"),
    ),
)
_AFTER_DAMAGE = (
    Scene(
        "A quick check compares names and sizes, and says that it did only that.",
        _OFFICE,
        ("verify", "drives/blue", "dune-survey", "--quick"),
    ),
    Scene("A full check finds the damaged file.", _OFFICE, ("verify", "drives/blue"), 1),
    Scene(
        "13. The copies on the other drives are intact: they mend it. Only what is damaged is written.",
        _OFFICE,
        ("mend", "blue", "dune-survey", "--from", "shell"),
    ),
    Scene(
        "14. The whole picture on one page, to print and pin to the wall: which drive holds what, how full it is, what "
        "changed when.",
        _OFFICE,
        ("report", "--write", "report.html"),
        1,
    ),
)


def _new_notebook(world: World) -> None:
    """Leave what an application makes that is started too early."""
    place = world.laptop_home / ".tidewrack"
    place.mkdir()
    (place / "notes.tide").write_bytes(b"")


_PLACES = ("--map", "{world}/office-pc/second-drive={world}/new-laptop/second-drive")
_RESTORE = (
    Scene(
        "16. A clean computer that has never seen these drives: what is on them, and where would it be restored?",
        _LAPTOP,
        ("restore", "drives/blue"),
    ),
    Scene(
        "17. The games were on a second drive; --map says which folder stands for it here. First the plan.",
        _LAPTOP,
        ("restore", "drives/blue", "marram-papers", "winter-games", *_PLACES, "--plan"),
    ),
    Scene("Now for real.", _LAPTOP, ("restore", "drives/blue", "marram-papers", "winter-games", _SAVES, *_PLACES)),
    Scene(
        "18. Somebody has already started the notes application, so a new, empty notebook is in the way. Nothing that "
        "exists is ever overwritten,",
        _LAPTOP,
        ("restore", "drives/blue", "tidewrack"),
        3,
        act=_new_notebook,
    ),
    Scene("but it can be set aside.", _LAPTOP, ("restore", "drives/blue", "tidewrack", "--if-exists", "set-aside")),
    Scene(
        "19. Restore the photos from sand, the drive that is at hand. The paths in their catalogue are updated to this "
        "computer.",
        _LAPTOP,
        ("restore", "drives/sand", "dune-survey"),
    ),
    Scene(
        "20. Now start the applications on the new computer; each opens what its own setting names. Photos:",
        _LAPTOP,
        ("glasswort", "open"),
        application=True,
    ),
    Scene("Notes:", _LAPTOP, ("tidewrack", "open"), application=True),
    Scene("Papers:", _LAPTOP, ("seaholly", "open"), application=True),
    Scene("Games, found without a download:", _LAPTOP, ("cuttlebone", "open"), application=True),
)


def _write_a_paper(world: World) -> None:
    """Work on the papers on the new computer."""
    papers = world.laptop_home / "Documents" / "Marram Papers"
    (papers / "papers.files" / "nesting dates.txt").write_text("from the 2nd of May on\n", encoding="utf-8")


def _into_the_drawer(world: World) -> None:
    os.rename(world.blue, world.blue.with_name("blue, in the drawer"))


def _out_of_the_drawer(world: World) -> None:
    os.rename(world.blue.with_name("blue, in the drawer"), world.blue)


_DUE = ("routine", "run", "--due")
_WEEK = (
    Scene(
        "21. From now on by itself, every night. Usually the system's own scheduler starts a routine; here the clock is turned, "
        "so that a week passes in half a minute.",
        _LAPTOP,
        (
            "routine",
            "add",
            "nightly",
            "new-laptop/home/plover/Documents/Marram Papers",
            "new-laptop/home/plover/.tidewrack",
            "--to",
            "blue",
            "--when",
            "every day at 22:00",
            "--verify",
            "5min",
            "--patience",
            "2",
            "--no-notify",
            "--scheduler",
            "none",
        ),
    ),
    Scene("The first night; somebody worked on the papers.", _LAPTOP, _DUE, act=_write_a_paper, night=1),
    Scene(
        "The next day the drive goes into a drawer. In the second and third night nothing is said: a drive may be away.",
        _LAPTOP,
        _DUE,
        act=_into_the_drawer,
        night=2,
    ),
    Scene("", _LAPTOP, _DUE, night=3),
    Scene("In the fourth night it has been away for longer than the routine's patience.", _LAPTOP, _DUE, 3, night=4),
    Scene(
        "The drive is plugged in: all that was missed is done at once.",
        _LAPTOP,
        _DUE,
        act=_out_of_the_drawer,
        night=5,
    ),
    Scene("In the sixth night nothing has changed.", _LAPTOP, _DUE, night=6),
    Scene("How does it do?", _LAPTOP, ("routine", "list"), night=7),
    Scene("And now: may the drive be unplugged?", _LAPTOP, ("release", "blue")),
)


class AstrayError(Exception):
    """A step did not end as it must: what comes after it would be told on false ground."""


def _story(teller: Teller, world: World) -> None:
    for scene in _BEFORE:
        teller.play(scene)
    with _photos_open(world):
        teller.play(_WHILE_OPEN)
    for scene in _ARCHIVE:
        teller.play(scene)
    for scene in _MAKE_ROOM:
        teller.play(scene)
    pictures = sorted((world.blue / "dune-chest/bags/dune-survey/data/library/originals").rglob("*.jpg"))
    victim = pictures[min(3, len(pictures) - 1)]
    place = damage(victim)
    teller.say(
        f"12. Years pass, and one bit on the drive flips: byte {place:,} of {shown(victim.name)}. Its size and "
        "date do not change."
    )
    for scene in _AFTER_DAMAGE:
        teller.play(scene)
    wipe(world, _OFFICE)
    teller.say("15. The old computer breaks down. Everything on it is gone (the folder office-pc is deleted).")
    for scene in (*_RESTORE, *_WEEK):
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
        console.print(f"{number(astray, 'step')} did not end as expected; see above.", style=BAD)
    else:
        console.print(f"That was the whole tour, in {duration(seconds)}.", style=GOOD)
    console.print("Try next:")
    bag = f"{folder}/drives/blue/dune-chest/bags/marram-papers"
    windows = sys.platform == "win32"
    plain = (
        (f"more {Path(bag) / 'HOW-TO-RESTORE.txt'}",)
        if windows
        else (
            f"less {bag}/HOW-TO-RESTORE.txt",
            f"(cd {bag} && sha512sum --quiet -c manifest-sha512.txt && echo intact)",
        )
    )
    for line in (
        *plain,
        f"dunechest compare {folder}/drives/blue {folder}/drives/shell",
        f"dunechest archive SOME-FOLDER --to {folder}/drives/sand --plan",
        "dunechest find",
    ):
        console.print(f"  {shown(line)}", soft_wrap=True)
