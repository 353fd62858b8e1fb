"""The sample world, and the day its machine is gone."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import pytest

import dunechest
from dunechest.demo.applications import APPLICATIONS
from dunechest.demo.world import World, make_world, wipe

#: What the new computer calls its folders: other names than the old one's.
USER_DIRS = {"PICTURES": "Images", "MUSIC": "Sounds", "VIDEOS": "Films", "DOCUMENTS": "Papers", "DESKTOP": "Table"}
#: Applications, and a file of theirs that is lost and found again.
LOST = {
    "glasswort": "originals/2021/north ridge",
    "redshank": "sounds/north beach",
    "tidewrack": "search-index",
    "seaholly": "papers.files",
    "cuttlebone": "titles/lanternfish",
    "spindrift": "clips",
    "saltpan": "jobs",
    "limpet": "",
}


@dataclass(frozen=True)
class Departed:
    """A chest with all eight libraries of a computer that is no more, and what its applications had shown."""

    world: World
    chest: dunechest.Chest
    counts: dict[str, dict[str, int]]
    places: dict[str, Path]


def depart(folder: Path, drive: Path, monkeypatch: pytest.MonkeyPatch) -> Departed:
    world = make_world(folder, size=0.1)
    for name, value in world.environment("office-pc").items():
        if name in ("HOME", "DUNECHEST_HOME"):
            monkeypatch.setenv(name, value)
    counts = {}
    for name, make in APPLICATIONS.items():
        with make(world.office_home).open() as opened:
            counts[name] = opened.counts
    chest = dunechest.Chest.create(drive if drive.is_dir() else world.blue, "blue")
    places = {name: place_of(world, name) for name in APPLICATIONS}
    for name, place in places.items():
        (account,) = dunechest.archive([place], chest, dunechest.ArchiveOptions(name=NAMES[name]))
        assert account.ok
    wipe(world, "office-pc")
    return Departed(world, chest, counts, places)


def opens(name: str, home: Path, departed: Departed) -> Path:
    """Start the application by its own setting: it shows what it had shown, and misses nothing."""
    application = APPLICATIONS[name](home)
    with application.open() as opened:
        assert (opened.counts, opened.missing) == (departed.counts[name], ()), name
        assert not any("download" in line for line in opened.done)
    return application.library


def place_in(name: str, departed: Departed, new_home: Path) -> Path:
    if name == "cuttlebone":
        return second_drive(new_home) / "Winter Games"
    old = departed.places[name].relative_to(departed.world.office_home)
    folders = {"Pictures": "Images", "Music": "Sounds", "Videos": "Films", "Documents": "Papers"}
    return new_home / folders.get(old.parts[0], old.parts[0]) / Path(*old.parts[1:])


Move = Callable[[str], None]
LIBRARIES = {
    "glasswort": "photos",
    "redshank": "sounds",
    "tidewrack": "notes",
    "seaholly": "papers",
    "cuttlebone": "games",
    "spindrift": "film",
    "saltpan": "designs",
    "limpet": "handsets",
}
NAMES = {
    "glasswort": "dune-survey",
    "redshank": "shore-recordings",
    "tidewrack": "tidewrack",
    "seaholly": "marram-papers",
    "cuttlebone": "winter-games",
    "spindrift": "storm-film",
    "saltpan": "sign-shop",
    "limpet": "devices",
}


def place_of(world: World, application: str) -> Path:
    place: Path = getattr(world, LIBRARIES[application])
    return place


def second_drive(new_home: Path) -> Path:
    place = new_home.parent / "big-disk"
    place.mkdir(exist_ok=True)
    return place
