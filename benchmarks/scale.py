"""Measure how time, memory and records grow with the number of files, from ten thousand to two million.

    python benchmarks/scale.py                      all sizes; some 25 GB and half an hour
    python benchmarks/scale.py --most 300000        up to so many files
    python benchmarks/scale.py --write              also puts the table into docs/scale.md

Files of 200 bytes, 500 to a folder: what grows with the number of files and not with their bytes. Each size is
archived, archived again unchanged, again with 1 % changed, verified, restored, and asked for; beside that, status and search
where many chests are known. From the measured sizes a
straight line is laid through time and memory (least squares), and its slope is what docs/scale.md reckons with.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import psutil
from run import ROOT, machine

SIZES = (10_000, 30_000, 100_000, 300_000, 1_000_000, 2_000_000)
CHESTS = (5, 20, 60)
JOBS = ("archive", "unchanged", "changed", "verify", "restore", "search", "status")


def make(folder: Path, count: int) -> None:
    """Make so many files, 500 to a folder, 100 folders to one above."""
    for start in range(0, count, 500):
        place = folder / f"{start // 50_000:04d}" / f"folder {start // 500:05d}"
        place.mkdir(parents=True)
        for number in range(start, min(start + 500, count)):
            (place / f"file {number:07d}.dat").write_bytes(number.to_bytes(8, "little") * 25)


def change(folder: Path, count: int) -> None:
    """Write into one of a hundred files."""
    for number in range(0, count, 100):
        place = folder / f"{number // 50_000:04d}" / f"folder {number // 500:05d}" / f"file {number:07d}.dat"
        place.write_bytes(b"changed " * 25)


def run(words: list[str], state: Path) -> tuple[float, int]:
    """Run dunechest; return its seconds and the peak of the memory of all its processes (PSS, bytes)."""
    environment = {**os.environ, "DUNECHEST_HOME": str(state), "DUNECHEST_DRIVES": str(state)}
    environment.pop("PYTHONDONTWRITEBYTECODE", None)
    begun = time.monotonic()
    process = subprocess.Popen(
        [sys.executable, "-P", "-m", "dunechest", *words],
        env=environment,
        cwd=state.parent,
        stdout=subprocess.DEVNULL,
    )
    peak = 0
    while process.poll() is None:
        peak = max(peak, _memory(process.pid))
        time.sleep(0.02 if time.monotonic() - begun < 3 else 0.3)
    if process.wait() not in (0, 1):
        raise SystemExit(f"dunechest {' '.join(words)} ended with status {process.returncode}")
    return time.monotonic() - begun, peak


def _memory(pid: int) -> int:
    try:
        top = psutil.Process(pid)
        return sum(item.memory_full_info().pss for item in (top, *top.children(recursive=True)))
    except psutil.Error:
        return 0


def measure(count: int, work: Path, *, restore: bool) -> dict[str, float]:
    """Measure one size."""
    library, drive, state, back = (work / name for name in ("library", "drive", "state", "back"))
    make(library, count)
    drive.mkdir()
    run(["chest", "new", str(drive), "--label", "scale"], state)
    found: dict[str, float] = {"files": count}

    def note(name: str, words: list[str]) -> None:
        os.sync()
        found[f"{name} s"], found[f"{name} MB"] = run([*words, "--quiet"], state)
        found[f"{name} MB"] = round(found[f"{name} MB"] / 1e6)

    note("archive", ["archive", str(library), "--to", str(drive)])
    bag = drive / "dune-chest" / "bags" / "library"
    found["lists MB"] = (
        sum(p.stat().st_size for p in (bag / "manifest-sha512.txt", bag / "dune" / "files.jsonl")) / 1e6
    )
    note("unchanged", ["archive", str(library), "--to", str(drive)])
    change(library, count)
    note("changed", ["archive", str(library), "--to", str(drive)])
    note("verify", ["verify", str(drive)])
    note("search", ["search", "file 0000500"])
    note("status", ["status"])
    found["catalogue MB"] = (state / "catalogue.sqlite").stat().st_size / 1e6
    if restore:
        note("restore", ["restore", str(drive), "library", "--into", str(back)])
    print(json.dumps(found), file=sys.stderr, flush=True)
    return found


def measure_chests(count: int, work: Path) -> list[float]:
    """Make so many chests with two libraries each; return the seconds of status, a search, and a check of one chest."""
    state = work / "state"
    for number in range(2):
        make(work / f"library {number}", 10)
    for number in range(count):
        drive = work / f"drive {number}"
        drive.mkdir()
        run(["chest", "new", str(drive), "--label", f"drive-{number}"], state)
        for library in range(2):
            run(["archive", str(work / f"library {library}"), "--to", str(drive), "--quiet"], state)
    words = (["status"], ["search", "file 0000005"], ["verify", "drive-0"])
    return [statistics.median(run([*each, "--quiet"], state)[0] for _ in range(5)) for each in words]


def slope(points: list[tuple[float, float]]) -> tuple[float, float]:
    """Return growth for each file, and what is there without any, by least squares."""
    line = statistics.linear_regression([x for x, _ in points], [y for _, y in points])
    return line.slope, line.intercept


def table(results: list[dict[str, float]]) -> str:
    """Return measured sizes and slopes as Markdown."""
    lines = [
        "| files | " + " | ".join(JOBS) + " | lists | catalogue |",
        "|---|" + "---|" * (len(JOBS) + 2),
    ]
    for found in results:
        cells = [
            f"{found[f'{job} s']:.1f} s, {found[f'{job} MB']:.0f} MB" if f"{job} s" in found else "" for job in JOBS
        ]
        lines.append(
            f"| {found['files']:,.0f} | {' | '.join(cells)} | {found['lists MB']:.0f} MB | {found['catalogue MB']:.1f} MB |"
        )
    seconds, memory = [], []
    for job in JOBS:
        rows = [found for found in results if f"{job} s" in found]
        per, fixed = slope([(row["files"], row[f"{job} s"]) for row in rows])
        seconds.append(f"{per * 1e6:.1f} µs + {max(fixed, 0):.1f} s")
        per, fixed = slope([(row["files"], row[f"{job} MB"]) for row in rows])
        memory.append(f"{per * 1e6:.0f} bytes + {max(fixed, 0):.0f} MB")
    lists = slope([(row["files"], row["lists MB"]) for row in results])[0] * 1e6
    catalogue = slope([(row["files"], row["catalogue MB"]) for row in results])[0] * 1e6
    lines.append("| **each file: time** | " + " | ".join(seconds) + f" | {lists:.0f} bytes | {catalogue:.0f} bytes |")
    lines.append("| **each file: memory** | " + " | ".join(memory) + " | | |")
    return "\n".join(lines)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--most", type=int, default=SIZES[-1], help="files of the largest library")
    parser.add_argument("--work", type=Path, default=None, help="where to work; a temporary folder by default")
    parser.add_argument("--write", action="store_true", help="put the table into docs/scale.md")
    words = parser.parse_args()
    chests = []
    for count in CHESTS:
        with tempfile.TemporaryDirectory(prefix="dunechest-chests-", dir=words.work) as work:
            chests.append((count, measure_chests(count, Path(work))))
            print(chests[-1], file=sys.stderr, flush=True)
    results = []
    for count in (size for size in SIZES if size <= words.most):
        work = Path(tempfile.mkdtemp(prefix="dunechest-scale-", dir=words.work))
        try:
            results.append(measure(count, work, restore=True))
        finally:
            subprocess.run(["rm", "-rf", str(work)], check=False) if shutil.which("rm") else shutil.rmtree(work)
    made = f"Made by `python benchmarks/scale.py --most {results[-1]['files']:.0f}` on {machine()}."
    rows = [f"| {count} | {' | '.join(f'{seconds:.2f} s' for seconds in told)} |" for count, told in chests]
    several = "\n".join(
        ["| chests, of two libraries each | status | search | verify of one |", "|---|---|---|---|", *rows]
    )
    text = f"{table(results)}\n\n{several}\n\n{made}"
    print(text)
    if words.write:
        page = ROOT / "docs" / "scale.md"
        before, _, rest = page.read_text(encoding="utf-8").partition("<!-- scale -->")
        _, _, after = rest.partition("<!-- end of scale -->")
        page.write_text(f"{before}<!-- scale -->\n{text}\n<!-- end of scale -->{after}", encoding="utf-8")


if __name__ == "__main__":
    main()
