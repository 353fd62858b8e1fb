"""Measure how an office's ledger grows: rows of files loaded a second, and how long answers take.

    python benchmarks/office.py                     10 million rows of files; some 4 GB and ten minutes
    python benchmarks/office.py --rows 40000000     more
    python benchmarks/office.py --write             also puts the table into docs/scale.md

50 computers and 200 chests with two bags each, at a PostgreSQL server that is started for it (fsync on). Each computer sends
its lists of files and its events as `dunechest office send` does; then questions are asked at each tenfold of rows. Answers
are measured at the second and third asking, in this process (the question alone) and as whole commands.
"""

from __future__ import annotations

import argparse
import itertools
import os
import random
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from run import ROOT, machine

sys.path.insert(0, str(ROOT))

from tests.support.offices import OfficeOf, office_of
from tests.support.postgres import server

import dunechest
from dunechest.jobs.office.exchange import connected
from dunechest.jobs.office.membership import membership
from dunechest.ledger import events
from dunechest.ledger.catalogue_rows import BagKey, History, PastEdition, PastRole, Row
from dunechest.ledger.folder import state_folder
from dunechest.ledger.office.files import send_lists
from dunechest.machine.identity import this_machine

COMPUTERS, CHESTS, BAGS = 50, 200, 2
SETTINGS = """
fsync = on
shared_buffers = 2GB
maintenance_work_mem = 512MB
work_mem = 64MB
max_wal_size = 16GB
wal_compression = on
effective_cache_size = 16GB
random_page_cost = 1.1
"""
#: Syllables of made-up words that names are made of.
_SYLLABLES = [
    "dun",
    "mar",
    "ram",
    "tern",
    "gull",
    "sand",
    "reed",
    "wrack",
    "shell",
    "kelp",
    "pool",
    "ebb",
    "flood",
    "spit",
    "bar",
    "cove",
]
_WORDS = [a + b for a, b in itertools.product(_SYLLABLES, repeat=2)]
_ENDINGS = ("jpg", "jpg", "jpg", "xmp", "raw", "txt", "pdf", "wav")


class Bags:
    """What a computer's catalogue knows, made up: bags of so many files each."""

    def __init__(self, own: list[tuple[str, str]], machine_id: str, files: int) -> None:
        self._own, self._machine, self._files = own, machine_id, files

    def bags(self) -> tuple[BagKey, ...]:
        """Return every bag."""
        return tuple(
            BagKey(chest, bag, f"{self._machine}\n/home/{bag}\n{bag}", bag, "photos", f"{self._files}-{chest}", 3)
            for chest, bag in self._own
        )

    def rows_of(self, bag: BagKey) -> Iterator[Row]:
        """Yield the files of a bag: 300 to a folder, names of two words and a number."""
        draw = random.Random(f"{bag.chest} {bag.bag}")
        for number in range(self._files):
            if number % 300 == 0:
                folder = f"{2000 + number // 12_000 % 26}/{draw.choice(_WORDS)}-{number // 300:05d}"
            name = f"{draw.choice(_WORDS)}-{draw.choice(_WORDS)}-{number:06d}.{draw.choice(_ENDINGS)}"
            yield Row(
                folder,
                name,
                draw.randrange(1 << 24),
                1_500_000_000 + number * 7,
                draw.getrandbits(63),
                1 + number % 3,
                0,
            )

    def histories(self) -> tuple[History, ...]:
        """Return the editions of every bag."""
        edition = PastEdition(3, 1.7e9, self._files, 1 << 40, False, 1, 1, 0, 0, 1 << 20, False)
        return tuple(History(c, b, (edition,), (PastRole("media", self._files, 1 << 40),)) for c, b in self._own)


def own_bags(number: int) -> list[tuple[str, str]]:
    """Return the bags that a computer archived: to four chests, two libraries."""
    chests = [f"{chest:032x}" for chest in range(number, CHESTS, COMPUTERS)]
    return [(chest, f"library-{number:02d}-{bag}") for chest in chests for bag in range(BAGS)]


def note(number: int, files: int) -> None:
    """Have a computer note what it met: its own chests and twenty of others, with checks, drills and room."""
    machine_id = this_machine(state_folder()).id
    draw = random.Random(number)
    met = {f"{chest:032x}" for chest in (*range(number, CHESTS, COMPUTERS), *draw.sample(range(CHESTS), 20))}
    items = []
    for chest in sorted(met):
        owner = int(chest, 16) % COMPUTERS
        items.append(
            ("chest", {"id": chest, "label": f"drive-{int(chest, 16):03d}", "folder": "/media/x/dune-chest"})
        )
        items.append(("room", {"chest": chest, "free": 1 << 40, "total": 1 << 42}))
        for bag in range(BAGS):
            name = f"library-{owner:02d}-{bag}"
            facts = {"chest": chest, "bag": name}
            items.append(
                (
                    "hold",
                    facts
                    | {
                        "name": name,
                        "kind": "photos",
                        "machine": machine_id if owner == number else f"machine-{owner}",
                        "computer": "x",
                        "origin": f"/home/{name}",
                        "edition": 3,
                        "archived": time.time(),
                        "files": files,
                        "bytes": 1 << 40,
                        "fingerprint": "f" * 32,
                        "partial": False,
                        "incomplete": False,
                        "where": "",
                        "drive": chest,
                        "gone": False,
                    },
                )
            )
            items += [
                ("check", facts | {"quick": q, "intact": True, "files": files, "wrong": 0}) for q in (True, False)
            ]
            items.append(("drill", facts | {"edition": 3, "passed": True, "files": 20, "top": "t"}))
    items += [
        ("seen", {"place": f"/home/{n}", "name": f"found-{n}", "kind": "folder", "gone": False}) for n in range(10)
    ]
    events.append_many(items)


QUESTIONS: dict[str, dict[str, object]] = {
    "two words": {"patterns": ("kelpspit", "ternbar-0001")},
    "a word that is nowhere": {"patterns": ("albatross",)},
    "a pattern": {"patterns": ("dunmar-*-00012?.wav",)},
    "a folder": {"patterns": ("covecove-00003",)},
    "a day": {"options": dunechest.SearchOptions(since=1_500_500_000, before=1_500_500_050)},
    "a size": {"options": dunechest.SearchOptions(smallest=1_000_000, largest=1_000_002)},
}


def ask(office: OfficeOf) -> dict[str, tuple[float, float]]:
    """Return seconds of each question: that of the question alone, and that of the whole command for some."""
    found = {}
    with office.at("computer-00") as home:
        for name, question in QUESTIONS.items():
            took = []
            for _ in range(3):
                begun = time.monotonic()
                dunechest.search(office=True, **question)  # type: ignore[arg-type]
                took.append(time.monotonic() - begun)
            found[f"search: {name}"] = statistics.median(took[1:]), 0.0
        for name, words in {
            "status --office": ["status", "--office"],
            "search --office": ["search", "kelpspit", "ternbar-0001", "--office"],
        }.items():
            took = []
            for _ in range(4):
                begun = time.monotonic()
                subprocess.run(
                    [sys.executable, "-P", "-m", "dunechest", *words],
                    stdout=subprocess.DEVNULL,
                    env={**os.environ},
                    cwd=home,
                    check=False,
                )
                took.append(time.monotonic() - begun)
            found[f"command: {name}"] = statistics.median(took[1:]), 0.0
        took = []
        for _ in range(4):
            begun = time.monotonic()
            dunechest.status(office=True)
            took.append(time.monotonic() - begun)
        found["status: all computers"] = statistics.median(took[1:]), 0.0
    return found


def main() -> None:
    """Load, ask, and tell."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--rows", type=int, default=10_000_000)
    parser.add_argument("--write", action="store_true")
    asked = parser.parse_args()
    top = Path(tempfile.mkdtemp(prefix="dune-office-", dir=os.environ.get("TMPDIR", "/var/tmp")))
    top.chmod(0o755)
    os.environ["DUNECHEST_DRIVES"] = ""
    names = [f"computer-{number:02d}" for number in range(COMPUTERS)]
    lines = []
    with server(SETTINGS, str(top)) as own:
        office = office_of(own, top / "homes", tuple(names))
        loaded, steps = 0, [asked.rows // 100, asked.rows // 10, asked.rows]
        for rows in steps:
            each = rows // (CHESTS * BAGS)
            begun = time.monotonic()
            for number, name in enumerate(names):
                with office.at(name):
                    note(number, each)
                    dunechest.offices.send_to_office()
                    with connected(membership()) as (connection, computer):
                        own_id = this_machine(state_folder()).id
                        send_lists(connection, computer, own_id, Bags(own_bags(number), own_id, each))  # type: ignore[arg-type]
                    print(f"{rows:,} {name} {time.monotonic() - begun:.0f} s", file=sys.stderr, flush=True)
            took = time.monotonic() - begun
            with office.connect() as connection:
                connection.execute("VACUUM ANALYZE")
                (size,) = connection.execute("SELECT pg_database_size(current_database())").fetchone() or (0,)
            loaded = each * CHESTS * BAGS
            lines.append((loaded, loaded / took, size, ask(office)))
            print(lines[-1], file=sys.stderr, flush=True)
    for line in lines:
        print(line)
    if asked.write:
        write(lines)


def write(lines: list[tuple[int, float, int, dict[str, tuple[float, float]]]]) -> None:
    """Put the table into docs/scale.md."""
    heads = list(lines[0][3])
    table = [
        "| rows of files | loaded a second | database | " + " | ".join(heads) + " |",
        "|---" * (3 + len(heads)) + "|",
    ]
    for loaded, rate, size, answers in lines:
        cells = [f"{answers[name][0]:.2f} s" for name in heads]
        table.append(f"| {loaded:,} | {rate:,.0f} | {size / 1e9:.1f} GB | " + " | ".join(cells) + " |")
    place = ROOT / "docs" / "scale.md"
    text = place.read_text(encoding="utf-8")
    begin, end = "<!-- office -->\n", "<!-- end of office -->"
    head, rest = text.split(begin)
    told = "\n".join(table) + f"\n\nMade by `python benchmarks/office.py --rows {lines[-1][0]}` on {machine()}.\n"
    place.write_text(head + begin + told + rest[rest.index(end) :], encoding="utf-8")


if __name__ == "__main__":
    main()
