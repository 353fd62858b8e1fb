"""Measure editions: nothing changed, one per cent changed, a hundred days of a catalogue, half a million files.

    python benchmarks/editions.py              everything; some 25 GB of writing, half an hour
    python benchmarks/editions.py --job days   one of: unchanged, percent, days, many
    python benchmarks/editions.py --write      also puts the table into docs/performance.md

Plain commands run in turn in the same run: `find` that asks each file for size and time, and `cp -au` with
`sync`. For the catalogue the room on the drive is compared with that of keeping each day's file whole.
"""

from __future__ import annotations

import argparse
import os
import random
import shutil
import sqlite3
import statistics
import sys
import tempfile
import time
from contextlib import closing
from pathlib import Path

from run import ROOT, drop_caches, machine, make_shape, run_dunechest, timed


def _chest(work: Path, name: str) -> tuple[Path, Path]:
    drive, state = work / f"{name}-drive", work / f"{name}-state"
    drive.mkdir()
    run_dunechest(["chest", "new", str(drive), "--label", name], state)
    return drive, state


def bench_unchanged(work: Path, rounds: int) -> list[str]:
    """An unchanged library of 500,000 files, against `find` with size and time of each."""
    source = work / "unchanged"
    make_shape(source, 500_000, 200)
    drive, state = _chest(work, "u")
    run_dunechest(["archive", str(source), "--to", str(drive)], state)
    ours, plain = [], []
    for _ in range(max(rounds, 5)):
        plain.append(timed("find . -type f -printf '%s %T@\\n'", source).seconds)
        ours.append(run_dunechest(["archive", str(source), "--to", str(drive)], state).seconds)
    ratios = [a / b for a, b in zip(ours, plain, strict=True)]
    shutil.rmtree(source)
    shutil.rmtree(drive)
    return [
        f"| 500,000 files, nothing changed | {statistics.median(ours):.2f} s | `find -type f` with size and time "
        f"{statistics.median(plain):.2f} s | {statistics.median(ratios):.1f} ({min(ratios):.1f} to {max(ratios):.1f}) | 1.5 |"
    ]


def bench_percent(work: Path, rounds: int) -> list[str]:
    """One per cent of 50,000 files changed, against `cp -au` and `sync`."""
    source, copy = work / "percent", work / "percent-copy"
    make_shape(source, 50_000, 2_000)
    drive, state = _chest(work, "p")
    run_dunechest(["archive", str(source), "--to", str(drive)], state)
    timed(f"cp -a '{source}' '{copy}'; sync", work)
    files = sorted(source.rglob("*.dat"))
    ours, plain = [], []
    for turn in range(max(rounds, 5)):
        for path in files[turn::100]:
            path.write_bytes(os.urandom(2_000))
        drop_caches()
        plain.append(timed(f"cp -au '{source}/.' '{copy}'; sync", work).seconds)
        drop_caches()
        ours.append(run_dunechest(["archive", str(source), "--to", str(drive)], state).seconds)
    a, b = statistics.median(ours), statistics.median(plain)
    shutil.rmtree(source)
    shutil.rmtree(copy)
    ratios = [x / y for x, y in zip(ours, plain, strict=True)]
    return [
        f"| 50,000 files, 1 % changed | {a:.2f} s | `cp -au`, `sync` {b:.2f} s | "
        f"{statistics.median(ratios):.1f} ({min(ratios):.1f} to {max(ratios):.1f}) | 2.0 |"
    ]


def bench_days(work: Path, days: int = 100, size: int = 200_000_000) -> list[str]:
    """A catalogue of 200 MB in SQLite in which a little changes each day, archived each day."""
    library = work / "days"
    library.mkdir()
    rng = random.Random(1)
    rows = size // 1_000
    with closing(sqlite3.connect(library / "catalogue.db")) as catalogue:
        catalogue.execute(
            "CREATE TABLE picture (id INTEGER PRIMARY KEY, path TEXT, caption TEXT, rating INTEGER, extra BLOB)"
        )
        catalogue.execute("CREATE INDEX by_rating ON picture (rating)")
        catalogue.executemany(
            "INSERT INTO picture VALUES (?, ?, ?, ?, ?)",
            ((n, f"originals/{n // 500}/{n}.jpg", f"dune {n}", n % 6, rng.randbytes(900)) for n in range(rows)),
        )
        catalogue.commit()
    drive, state = _chest(work, "d")
    seconds, whole = [], 0
    for day in range(days):
        if day:
            _another_day(library / "catalogue.db", day, rows, rng)
        seconds.append(run_dunechest(["archive", str(library), "--to", str(drive)], state).seconds)
        whole += (library / "catalogue.db").stat().st_size
        if day % 10 == 0:
            print(f"day {day}: {seconds[-1]:.1f} s", file=sys.stderr, flush=True)
    used = sum(path.stat().st_size for path in drive.rglob("*") if path.is_file())
    begun = time.monotonic()
    run_dunechest(["restore", str(drive), "days", "--edition", "1", "--into", str(work / "first")], state)
    back = time.monotonic() - begun
    shutil.rmtree(library)
    return [
        f"| {days} editions of a {size // 1_000_000} MB catalogue, a little changed each day | {used / 1e6:,.0f} MB on the drive; {statistics.median(seconds):.1f} s an edition; "
        f"edition 1 back in {back:.1f} s | whole copies {whole / 1e6:,.0f} MB | {used / whole:.3f} | 0.4 |"
    ]


def _another_day(path: Path, day: int, rows: int, rng: random.Random) -> None:
    """Change captions and ratings of a hundred pictures, and add fifty new ones; then close the catalogue."""
    with closing(sqlite3.connect(path)) as catalogue:
        for _ in range(100):
            change = (f"day {day}", day % 6, rng.randrange(rows))
            catalogue.execute("UPDATE picture SET caption = ?, rating = ? WHERE id = ?", change)
        catalogue.executemany(
            "INSERT INTO picture VALUES (NULL, ?, ?, ?, ?)",
            ((f"originals/day {day}/{n}.jpg", "new", 0, rng.randbytes(900)) for n in range(50)),
        )
        catalogue.commit()


def bench_many(work: Path) -> list[str]:
    """Half a million small files: time a file, and memory."""
    source = work / "many"
    make_shape(source, 500_000, 200)
    drive, state = _chest(work, "m")
    lines = []
    first = run_dunechest(["archive", str(source), "--to", str(drive)], state, watched=True)
    for path in sorted(source.rglob("*.dat"))[::1000]:
        path.write_bytes(os.urandom(300))
    again = run_dunechest(["archive", str(source), "--to", str(drive)], state, watched=True)
    check = run_dunechest(["verify", str(drive)], state, watched=True)
    for name, item in (("archived", first), ("archived again, 500 changed", again), ("verified", check)):
        lines.append(
            f"| 500,000 files of 200 bytes, {name} | {item.seconds / 500_000 * 1e6:.0f} µs a file, {item.seconds:.0f} s; peak memory {item.memory / 1e6:.0f} MB | | | 400 MB |"
        )
    shutil.rmtree(source)
    return lines


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--job", choices=("unchanged", "percent", "days", "many"), action="append")
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--write", action="store_true", help="put the table into docs/performance.md")
    words = parser.parse_args()
    work = Path(tempfile.mkdtemp(prefix="dunechest-bench-"))
    lines: list[str] = []
    try:
        for job in words.job or ("unchanged", "percent", "days", "many"):
            if job == "unchanged":
                lines += bench_unchanged(work, words.rounds)
            elif job == "percent":
                lines += bench_percent(work, words.rounds)
            elif job == "days":
                lines += bench_days(work)
            else:
                lines += bench_many(work)
            print(lines[-1], file=sys.stderr, flush=True)
    finally:
        shutil.rmtree(work, ignore_errors=True)
    text = "\n".join(
        [
            "| what | Dune Chest | plain | ratio | aim |",
            "|---|---|---|---|---|",
            *lines,
            "",
            f"Made by `python benchmarks/editions.py` on {machine()}.",
        ]
    )
    print(text)
    if words.write:
        page = ROOT / "docs" / "performance.md"
        before, _, rest = page.read_text(encoding="utf-8").partition("<!-- editions -->")
        _, _, after = rest.partition("<!-- end of editions -->")
        page.write_text(f"{before}<!-- editions -->\n{text}\n<!-- end of editions -->{after}", encoding="utf-8")


if __name__ == "__main__":
    main()
