"""Measure what is known: how long `status` takes with years of events, how large a chest's log gets, and what a night costs.

    python benchmarks/knowing.py              some five minutes
    python benchmarks/knowing.py --write      also puts the table into docs/performance.md

`status`: 30 libraries on 8 chests, 3 computers, an archive of each library and a check a night for 5 years; in turn with a Python
that only loads click and rich. The log: 2,000 nights of one chest with 10 libraries. A night: processor time of an archive, a
check of one library and the retention rule with 10 and with 60 kept editions.
"""

from __future__ import annotations

import argparse
import os
import random
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from run import ROOT, machine, run_dunechest, timed

from dunechest import clock
from dunechest.chest.chest import Chest
from dunechest.chest.log import Event, Writer, add, read_log
from dunechest.jobs.known.logs import keep_in_step, kept_lines
from dunechest.ledger import events
from dunechest.ledger.gather import gather
from dunechest.ledger.own_key import OwnKey
from dunechest.machine.identity import this_machine

DAY = 86_400.0
LIBRARIES, CHESTS, COMPUTERS, NIGHTS = 30, 8, 3, 1825


def hold(chest: Chest, number: int, edition: int, computer: str) -> dict[str, object]:
    """Return the facts of a library in a chest."""
    rng = random.Random(number * 100_000 + edition)
    state = f"{rng.getrandbits(256):064x}"
    return {
        "chest": chest.id, "bag": f"library-{number}", "name": f"library-{number}", "kind": "Plain folder or file",
        "machine": computer, "computer": computer, "origin": f"/home/tern/library-{number}", "edition": edition,
        "archived": clock.now(), "files": 4000, "bytes": 9_000_000_000, "fingerprint": state, "partial": False,
        "incomplete": False, "where": "", "drive": chest.label, "gone": False, "state": state,
        "follows": " ".join(f"{rng.getrandbits(256):064x}" for _ in range(min(edition, 40))), "carried": 0,
    }  # fmt: skip


def night(chest: Chest, number: int, edition: int, computer: str) -> list[tuple[str, dict[str, object]]]:
    """Return the events of one library in one night."""
    own = {"chest": chest.id, "bag": f"library-{number}"}
    top = f"{random.Random(edition * 100 + number).getrandbits(512):0128x}"
    archive = own | {"origin": "/home/tern", "edition": edition, "files": 9, "bytes": 9, "top": top, "where": ""}
    check = own | {"quick": False, "intact": True, "files": 9, "wrong": 0, "where": ""}
    return [("archive", archive), ("hold", hold(chest, number, edition, computer)), ("check", check)]


def bench_status(work: Path, rounds: int) -> list[str]:
    """Five years of three computers, of which one is asked."""
    chests = []
    for number in range(CHESTS):
        (work / f"drive-{number}").mkdir()
        chests.append(Chest.create(work / f"drive-{number}", f"drive {number}"))
    began = clock.now() - NIGHTS * DAY
    real = clock.now
    for number in range(COMPUTERS):
        state = work / f"computer-{number}"
        os.environ["DUNECHEST_HOME"] = str(state)
        name = this_machine(state).id
        for day in range(NIGHTS):
            clock.now = lambda day=day: began + day * DAY  # type: ignore[misc]
            told = [
                ("chest", {"id": chest.id, "label": chest.label, "folder": str(chest.folder)}) for chest in chests
            ]
            for library in range(number, LIBRARIES, COMPUTERS):
                for copy in (0, 1):
                    told += night(chests[(library + copy) % CHESTS], library, day + 1, name)
            events.append_many(told)
            if day % 150 == 149:
                gather(state)
                for chest in chests:
                    keep_in_step(chest)
    clock.now = real  # type: ignore[misc]
    state = work / "computer-0"
    os.environ["DUNECHEST_HOME"] = str(state)
    drives = os.pathsep.join(str(work / f"drive-{number}") for number in range(CHESTS))
    os.environ["DUNECHEST_DRIVES"] = drives
    ours, plain = [], []
    for _ in range(max(rounds, 5)):
        plain.append(timed(f"{sys.executable} -c 'import click, rich.console'", work).seconds)
        begun = time.monotonic()
        _run(["status"], state, drives)
        ours.append(time.monotonic() - begun)
    ratio = statistics.median(a / b for a, b in zip(ours, plain, strict=True))
    size = (state / "ledger.sqlite").stat().st_size
    return [
        f"| `status`: {LIBRARIES} libraries, {CHESTS} chests connected, {COMPUTERS} computers, 5 years ({size / 1e6:.0f} MB of "
        f"ledger) | {statistics.median(ours):.2f} s | loading click and rich {statistics.median(plain):.2f} s | {ratio:.1f} "
        "| 0.5 s |"
    ]


def bench_log(work: Path) -> list[str]:
    """Two thousand nights of ten libraries in one chest, as lines of its log."""
    (work / "log drive").mkdir()
    chest = Chest.create(work / "log drive", "log")
    key = OwnKey(bytes(range(32)))
    writer = Writer(key.public, key.sign, "kitchen", "m" * 32)
    largest = last = step = 0
    for day in range(2000):
        told = [item for library in range(10) for item in night(chest, library, day + 1, "m" * 32)]
        lines = [
            Event(0, step + n, f"{step + n}-0-0000", what, DAY * day, facts)
            for n, (what, facts) in enumerate(told, 1)
        ]
        step += len(lines)
        log = next((item for item in read_log(chest.folder) if item.id == writer.id), None)
        add(chest.folder, writer, log, lines, kept_lines)
        last = sum(path.stat().st_size for path in (chest.folder / "log").iterdir())
        largest = max(largest, last)
    return [
        f"| log of a chest after 2,000 nights of 10 libraries | {last / 1e3:.0f} kB, at most {largest / 1e3:.0f} kB | | | 1 MB |"
    ]


def bench_night(work: Path) -> list[str]:
    """Processor time of the tenth and of the sixtieth night of a library with a catalogue."""
    library, state = work / "library", work / "night computer"
    library.mkdir()
    for number in range(2000):
        (library / f"{number:04d}.bin").write_bytes(os.urandom(4000))
    (work / "night drive").mkdir()
    run_dunechest(["chest", "new", str(work / "night drive"), "--label", "night"], state)
    spent: dict[int, float] = {}
    for number in range(1, 61):
        (library / "0000.bin").write_bytes(os.urandom(40_000))
        before = resource.getrusage(resource.RUSAGE_CHILDREN)
        for words in (
            ["archive", str(library), "--to", "night"],
            ["verify", "night"],
            ["editions", "drop", "night", "library", "--retain", "the last 100", "--yes"],
            ["status"],
        ):
            _run(words, state, str(work / "night drive"))
        after = resource.getrusage(resource.RUSAGE_CHILDREN)
        spent[number] = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    early = statistics.median(spent[number] for number in range(8, 13))
    late = statistics.median(spent[number] for number in range(56, 61))
    return [
        f"| a night (archive, check, retention, status) with 60 kept editions | {late:.2f} s of processor time | the same with 10 "
        f"{early:.2f} s | {late / early:.2f} | 1.1 |"
    ]


def _run(words: list[str], state: Path, drives: str) -> None:
    env = os.environ | {"DUNECHEST_HOME": str(state), "DUNECHEST_DRIVES": drives}
    env.pop("PYTHONDONTWRITEBYTECODE", None)
    command = [sys.executable, "-m", "dunechest", *words, "--quiet"]
    subprocess.run(command, env=env, check=False, capture_output=True)


def main() -> None:
    """Measure, and print the table."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--job", choices=("status", "log", "night"))
    parser.add_argument("--rounds", type=int, default=7)
    parser.add_argument("--write", action="store_true", help="put the table into docs/performance.md")
    words = parser.parse_args()
    lines = ["| what | Dune Chest | plain | ratio | aim |", "|---|---|---|---|---|"]
    with tempfile.TemporaryDirectory() as folder:
        work = Path(folder)
        if words.job in (None, "status"):
            lines += bench_status(work, words.rounds)
        if words.job in (None, "log"):
            lines += bench_log(work)
        if words.job in (None, "night"):
            lines += bench_night(work)
    lines += ["", f"Made by `python benchmarks/knowing.py` on {machine()}."]
    text = "\n".join(lines)
    print(text)
    if words.write:
        page = ROOT / "docs" / "performance.md"
        before, _, rest = page.read_text(encoding="utf-8").partition("<!-- knowing -->")
        _, _, after = rest.partition("<!-- end of knowing -->")
        page.write_text(f"{before}<!-- knowing -->\n{text}\n<!-- end of knowing -->{after}", encoding="utf-8")


if __name__ == "__main__":
    main()
