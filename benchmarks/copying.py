"""Measure copying from chest to chest, mending, single files and `status`, against plain commands in the same run.

    python benchmarks/copying.py            medians of three
    python benchmarks/copying.py --write    also puts the table into docs/performance.md

Two drives are needed that do not hinder each other: the disk of the computer, and memory (/dev/shm). A copy is held against the
slower of reading all of the one, and writing, flushing and reading back all of the other; caches are dropped before each
command.
"""

from __future__ import annotations

import argparse
import platform
import shutil
import statistics
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

from run import ROOT, Timing, drop_caches, make_shape, run_dunechest, timed

MARK = "copying"
SHAPES = {"medium": ("2,000 files of 500 KB", 2_000, 500_000), "large": ("one file of 2 GB", 1, 2_000_000_000)}


def median(rounds: int, job: Callable[[], Timing], before: Callable[[], object] = lambda: None) -> float:
    """Return the median of some cold runs (seconds)."""
    found = []
    for _ in range(rounds):
        before()
        drop_caches()
        found.append(job().seconds)
    return statistics.median(found)


def fresh(target: Path, state: Path) -> None:
    """Make the target anew, with an empty chest."""
    shutil.rmtree(target, ignore_errors=True)
    target.mkdir()
    if (state / "target").exists():
        run_dunechest(["chest", "retire", "target"], state)
    run_dunechest(["chest", "new", str(target), "--label", "target"], state)
    (state / "target").touch()


def bench_copy(shape: str, source: Path, target: Path, state: Path, rounds: int) -> tuple[float, float, float]:
    """Return seconds of a copy, of reading the one, and of writing and reading back the other."""

    def plain() -> None:
        shutil.rmtree(target, ignore_errors=True)
        target.mkdir()

    bag = source / "dune-chest" / "bags" / shape
    copied = median(
        rounds, lambda: run_dunechest(["copy", str(source), str(target)], state), lambda: fresh(target, state)
    )
    read = median(rounds, lambda: timed("find . -type f -print0 | xargs -0 cat > /dev/null", bag))
    # What is read back comes from the drive, not from what was just written.
    again = "echo 3 > /proc/sys/vm/drop_caches; find copy -type f -print0 | xargs -0 cat > /dev/null"
    written = median(rounds, lambda: timed(f"cp -a '{bag}' copy; sync; {again}", target), plain)
    return copied, read, written


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--write", action="store_true")
    asked = parser.parse_args()
    lines = ["| what | Dune Chest | plain | ratio | aim |", "|---|---|---|---|---|"]
    with (
        tempfile.TemporaryDirectory(dir=ROOT / "benchmarks") as disk_name,
        tempfile.TemporaryDirectory(dir="/dev/shm") as memory_name,
    ):
        disk, memory = Path(disk_name), Path(memory_name)
        for shape, (title, count, size) in SHAPES.items():
            for one, other, words in ((disk, memory, "the disk to memory"), (memory, disk, "memory to the disk")):
                state, source, target = disk / "state", one / "source", other / "target"
                shutil.rmtree(state, ignore_errors=True)
                library = one / shape
                make_shape(library, count, size)
                source.mkdir()
                run_dunechest(["chest", "new", str(source), "--label", "source"], state)
                run_dunechest(["archive", str(library), "--to", str(source)], state)
                shutil.rmtree(library)
                copied, read, written = bench_copy(shape, source, target, state, asked.rounds)
                slower = max(read, written)
                lines.append(
                    f"| copy of {title}, from {words} | {copied:.2f} s | reading {read:.2f} s; writing and reading back {written:.2f} s "
                    f"| {copied / slower:.2f} of the slower | 1.15 |"
                )
                print(lines[-1], flush=True)
                if shape == "medium" and one is disk:
                    lines += list(others(source, target, state, asked.rounds))
                for place in (source, target):
                    shutil.rmtree(place)
    note = f"Made by `python benchmarks/copying.py` on {platform.system()}, Python {platform.python_version()}; caches dropped before each command."
    text = "\n".join([*lines, "", note])
    if asked.write:
        page = ROOT / "docs" / "performance.md"
        before, _, rest = page.read_text().partition(f"<!-- {MARK} -->")
        _, _, after = rest.partition(f"<!-- end of {MARK} -->")
        page.write_text(f"{before}<!-- {MARK} -->\n{text}\n<!-- end of {MARK} -->{after}")


def others(source: Path, target: Path, state: Path, rounds: int) -> list[str]:
    """Measure what is done with the two chests: mending, a file, status."""
    fresh(target, state)
    run_dunechest(["copy", str(source), str(target)], state)
    bag = source / "dune-chest" / "bags" / "medium"
    victims = sorted((bag / "data").rglob("*.dat"))[:3]

    def harm() -> None:
        for victim in victims:
            victim.write_bytes(bytes(victim.stat().st_size))

    found = []
    mended = median(rounds, lambda: run_dunechest(["mend", str(source), "--from", str(target)], state), harm)
    read = median(rounds, lambda: timed("find . -type f -print0 | xargs -0 cat > /dev/null", bag))
    found.append(
        f"| mend of 3 of those 2,000 files | {mended:.2f} s | reading all {read:.2f} s | {mended / read:.2f} | |"
    )
    back, number = state.parent / "back", [0]

    def single() -> Timing:
        number[0] += 1
        path = victims[number[0] % 3].relative_to(bag / "data" / "library")
        return run_dunechest(
            ["restore", str(source), "medium", "--file", str(path), "--into", str(back), "--yes"], state
        )

    one = median(rounds, single, lambda: shutil.rmtree(back, ignore_errors=True))
    plain = median(rounds, lambda: timed(f"cp '{victims[0]}' '{state}/one'; sync", state))
    found.append(f"| `restore --file` of one of them | {one:.2f} s | `cp`, `sync` {plain:.2f} s | | 1 s |")
    asked = median(
        rounds, lambda: timed(f"DUNECHEST_HOME='{state}' {sys.executable} -m dunechest status --quiet || true", state)
    )
    start = median(rounds, lambda: timed(f"{sys.executable} -c 'import click, rich.console'", state))
    found.append(f"| `status` | {asked:.2f} s | loading click and rich {start:.2f} s | {asked / start:.1f} | 0.5 s |")
    shutil.rmtree(back, ignore_errors=True)
    print("\n".join(found), flush=True)
    return found


if __name__ == "__main__":
    main()
