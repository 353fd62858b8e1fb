"""Make Marram Point: the office computer's home, two drives, and a clean computer.

Everything follows from a seed: the same seed and size give the same bytes, times
and names, whenever and wherever the world is made.
"""

from __future__ import annotations

import json
import os
import random
import shutil
from collections.abc import Callable
from pathlib import Path

import msgspec

from dunechest.demo import designs, film, games, handsets, notebook, papers, photos, sounds
from dunechest.machine.folders import standard_folders
from dunechest.machine.identity import system_name
from dunechest.names import shown

SEED = 20260321
_MARK = "marram-point.json"
#: Noon of a spring day in 2026: the newest time of any file, in seconds since 1970.
_NEWEST = 1_774_094_400
_MADE = frozenset({"previews", "waveforms", "proxies", "renders", "search-index", "papers.index", "shader-cache"})


class World(msgspec.Struct, frozen=True):
    """Where everything in a sample world is."""

    folder: Path

    @property
    def office_home(self) -> Path:
        """Home folder on the old computer."""
        return self.folder / "office-pc" / "home" / "tern"

    @property
    def office_drive(self) -> Path:
        """Second drive of the old computer."""
        return self.folder / "office-pc" / "second-drive"

    @property
    def laptop_home(self) -> Path:
        """Home folder on the new computer, where nothing was ever started."""
        return self.folder / "new-laptop" / "home" / "plover"

    @property
    def laptop_drive(self) -> Path:
        """Second drive of the new computer."""
        return self.folder / "new-laptop" / "second-drive"

    @property
    def blue(self) -> Path:
        """The first external drive."""
        return self.folder / "drives" / "blue"

    @property
    def sand(self) -> Path:
        """The second external drive."""
        return self.folder / "drives" / "sand"

    @property
    def shell(self) -> Path:
        """The third external drive."""
        return self.folder / "drives" / "shell"

    def standard(self, name: str) -> Path:
        """Return a standard folder of the person, as this computer has them."""
        return standard_folders(self.office_home)[name]

    @property
    def photos(self) -> Path:
        """The dune survey photos."""
        return self.standard("pictures") / "Dune Survey"

    @property
    def old_photos(self) -> Path:
        """An older library of the same kind, with a few originals that are only placeholders."""
        return self.standard("pictures") / "Old Dune Survey"

    @property
    def notes(self) -> Path:
        """The tide notes."""
        return self.office_home / ".tidewrack"

    @property
    def papers(self) -> Path:
        """The marram papers."""
        return self.standard("documents") / "Marram Papers"

    @property
    def games(self) -> Path:
        """The winter games."""
        return self.office_drive / "Winter Games"

    @property
    def sounds(self) -> Path:
        """The shore recordings."""
        return self.standard("music") / "Shore Recordings"

    @property
    def film(self) -> Path:
        """The storm film."""
        return self.standard("videos") / "Storm Film"

    @property
    def designs(self) -> Path:
        """The sign shop."""
        return self.standard("documents") / "Sign Shop"

    @property
    def handsets(self) -> Path:
        """The handset backups."""
        return self.standard("data") / "limpet" / "devices"

    @property
    def card(self) -> Path:
        """A camera's card, plugged into the old computer."""
        return self.folder / "office-pc" / "media" / "tern" / "REED-CARD"

    def state(self, machine: str) -> Path:
        """Return the folder of a computer's own records; `machine` is ``office-pc`` or ``new-laptop``."""
        return self.folder / machine / "dunechest"

    def home(self, machine: str) -> Path:
        """Return a computer's home folder."""
        return self.office_home if machine == "office-pc" else self.laptop_home

    def environment(self, machine: str) -> dict[str, str]:
        """Return the environment in which a command runs as if on a computer of this world."""
        keep = {k: v for k, v in os.environ.items() if not k.startswith("XDG_")}
        home = str(self.home(machine))
        # Its own drives and no others, whatever is connected to the real computer.
        drives = os.pathsep.join(map(str, (self.blue, self.sand, self.shell)))
        own = {"DUNECHEST_HOME": str(self.state(machine)), "DUNECHEST_DRIVES": drives}
        return {**keep, "HOME": home, "USERPROFILE": home, **own}


def make_world(folder: Path, *, size: float = 1.0, seed: int = SEED) -> World:
    """Make the sample world in a folder.

    Parameters
    ----------
    folder : Path
        A new folder, or one that holds an earlier sample world, which is replaced.
    size : float
        Scale of the numbers of things; 1 is about 60 MB.
    seed : int
        Another seed gives another world.

    Returns
    -------
    World

    Raises
    ------
    FileExistsError
        If the folder holds anything else.
    """
    folder = Path(os.path.abspath(folder))
    if folder.exists() and any(folder.iterdir()):
        if not (folder / _MARK).is_file():
            raise FileExistsError(f"{shown(str(folder))} is not empty and not a sample world. Name a new folder.")
        _remove(folder)
    world = World(folder)
    homes = (world.office_home, world.laptop_home)
    for place in (*homes, world.office_drive, world.laptop_drive, world.blue, world.sand, world.shell):
        place.mkdir(parents=True)
    for home in homes:
        for place in standard_folders(home).values():
            place.mkdir(parents=True, exist_ok=True)
    (folder / _MARK).write_text(json.dumps({"seed": seed, "size": size}) + "\n", encoding="utf-8")
    home, old_photos = world.office_home, world.old_photos
    makers: tuple[tuple[str, Callable[[random.Random], None]], ...] = (
        ("photos", lambda rng: photos.make(world.photos, home, rng, _many(60, size), 2021, loose=3, placeholders=0)),
        ("old photos", lambda rng: photos.make(old_photos, home, rng, _many(8, size), 2009, loose=0, placeholders=2)),
        ("notes", lambda rng: notebook.make(world.notes, rng, _many(220, size))),
        ("papers", lambda rng: papers.make(world.papers, home, rng, _many(24, size))),
        ("sounds", lambda rng: sounds.make(world.sounds, home, rng, _many(24, size))),
        ("film", lambda rng: film.make(world.film, world.card, rng, size)),
        ("designs", lambda rng: designs.make(world.designs, rng, size)),
        ("handsets", lambda rng: handsets.make(world.handsets, rng, size)),
        ("games", lambda rng: games.make(world.games, world.office_home, rng, size)),
        ("other", lambda rng: _other_things(world.office_home, rng)),
    )
    for name, maker in makers:
        maker(random.Random(f"{seed} {name}"))
    _settings(world)
    for machine, number in (("office-pc", 1), ("new-laptop", 2)):
        _identity(world, machine, number)
    _age(folder, random.Random(f"{seed} times"))
    return world


def _many(count: int, size: float) -> int:
    return max(3, round(count * size))


def _other_things(home: Path, rng: random.Random) -> None:
    """Things that are no library of a known kind, but somebody's all the same."""
    (home / "Documents" / "station log.txt").write_text(
        "".join(f"day {day}: wind {rng.randint(1, 11)}, {rng.randint(0, 40)} terns\n" for day in range(1, 200)),
        encoding="utf-8",
    )
    empty = home / "Documents" / "forms" / "not yet filled in"
    empty.mkdir(parents=True)
    (home / "Desktop" / "shopping.txt").write_text("lamp oil\nrope, 20 m\nbiscuits\n", encoding="utf-8")


def _settings(world: World) -> None:
    """Let the applications of the old computer know where their libraries are."""
    from dunechest.demo.applications import APPLICATIONS

    for name, library in (
        ("glasswort", world.photos),
        ("tidewrack", world.notes),
        ("seaholly", world.papers),
        ("cuttlebone", world.games),
        ("redshank", world.sounds),
        ("spindrift", world.film),
        ("saltpan", world.designs),
        ("limpet", world.handsets),
    ):
        APPLICATIONS[name](world.office_home).point_to(library)


def _identity(world: World, machine: str, number: int) -> None:
    state = world.state(machine)
    state.mkdir(parents=True)
    identity = {"id": f"{number:032x}", "name": machine, "system": system_name()}
    (state / "machine.json").write_text(json.dumps(identity, indent=2) + "\n", encoding="utf-8")


def _age(folder: Path, rng: random.Random) -> None:
    """Give every file and folder a time in the last years, the deepest first."""
    paths = sorted(folder.rglob("*"), key=lambda p: (-len(p.parts), str(p)))
    for path in [*paths, folder]:
        # What an application made from something is newer than that.
        made = not _MADE.isdisjoint(path.parts)
        seconds = _NEWEST - rng.randrange(0, 30 * 86400) - (0 if made else rng.randrange(31, 5 * 365) * 86400)
        nanoseconds = seconds * 1_000_000_000 + rng.randrange(1_000_000_000)
        own = os.utime in os.supports_follow_symlinks
        if own or not path.is_symlink():
            os.utime(path, ns=(nanoseconds, nanoseconds), follow_symlinks=not own)


def _remove(folder: Path) -> None:
    for path in folder.iterdir():
        if path.is_dir() and not path.is_symlink():
            shutil.rmtree(path)
        else:
            path.unlink()


def damage(path: Path, *, at: float = 0.5) -> int:
    """Flip one bit in the middle of a file, as an ageing drive does; return the place in bytes."""
    info = path.stat()
    place = int((info.st_size - 1) * at)
    with path.open("r+b") as file:
        file.seek(place)
        (byte,) = file.read(1)
        file.seek(place)
        file.write(bytes([byte ^ 0x10]))
    # Its time and size are as before: only the digest can tell.
    os.utime(path, ns=(info.st_atime_ns, info.st_mtime_ns))
    return place


def wipe(world: World, machine: str) -> None:
    """Delete all that is on a computer of the world: its home, its drive, and its own records."""
    shutil.rmtree(world.folder / machine)
