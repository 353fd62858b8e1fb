"""Measure archive, verify and restore against the operating system's own plain commands, in the same run, in turn.

    python benchmarks/run.py                 all shapes, medians of five
    python benchmarks/run.py --shape small --rounds 1
    python benchmarks/run.py --write         also puts the table into docs/performance.md

Three shapes: 2,000 files of 500 KB, 30,000 of 2 KB, one of 4 GB. Before each timed
command the page cache is dropped where that is allowed (root on Linux), so that both
sides read the disk, and the programs are loaded once; without that, both run with whatever is cached. Small copies are
removed at the end only: where files were just removed, some filesystems take twice as long to make new ones. Nothing here
is ever asserted in a test: machines differ, so only the ratios are worth quoting.
"""

from __future__ import annotations

import argparse
import json
import os
import platform
import random
import shutil
import statistics
import subprocess
import sys
import sysconfig
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

import psutil

ROOT = Path(__file__).resolve().parents[1]
SHAPES = {
    "medium": ("2,000 files of 500 KB", 2_000, 500_000),
    "small": ("30,000 files of 2 KB", 30_000, 2_000),
    "large": ("one file of 4 GB", 1, 4_000_000_000),
}
#: Verify is held against `cat`, which reads the same files and does nothing with them.
AIMS = {
    ("archive", "small"): 0.8,
    ("archive", "large"): 0.45,
    ("verify", "small"): 0.6,
    ("verify", "large"): 1.05,
    ("restore", "small"): 0.9,
    ("restore", "large"): 0.6,
}
START_AIM = 1.6


@dataclass
class Timing:
    """Seconds, and the peak memory of all processes together (bytes) if it was watched."""

    seconds: float
    memory: int = 0


def make_shape(folder: Path, count: int, size: int) -> None:
    """Fill a folder with files of random bytes, 250 to a folder."""
    rng = random.Random(f"{count} {size}")
    block = rng.randbytes(min(size, 1 << 24))
    for number in range(count):
        place = folder / f"{number // 250:04d}"
        place.mkdir(parents=True, exist_ok=True)
        with (place / f"file {number:06d}.dat").open("wb") as file:
            left = size
            file.write(number.to_bytes(8, "little"))
            left -= 8
            while left > 0:
                piece = block[: min(left, len(block))]
                file.write(piece)
                left -= len(piece)
    os.sync()


def drop_caches() -> bool:
    """Ask the system to forget what it has read; False where that is not allowed."""
    os.sync()
    try:
        Path("/proc/sys/vm/drop_caches").write_text("3\n")
    except OSError:
        return False
    # The programs themselves are loaded again, on both sides: it is the data that is to be cold.
    everything = "import dunechest.cli.views.archive, dunechest.cli.views.verify, dunechest.jobs.archive, jinja2"
    everything += ", dunechest.jobs.check.verify, dunechest.transfer.worker, dunechest.jobs.restore, dunechest.cli.views.restore, sqlite3, filelock"
    subprocess.run([sys.executable, "-c", everything], check=True)
    subprocess.run("sha512sum /dev/null; cp --version; find --version; xargs --version", shell=True, check=True,
                   stdout=subprocess.DEVNULL)  # fmt: skip
    return True


def timed(command: str, cwd: Path) -> Timing:
    """Run a shell command and time it."""
    begun = time.monotonic()
    subprocess.run(["bash", "-ec", command], cwd=cwd, check=True, stdout=subprocess.DEVNULL)
    return Timing(time.monotonic() - begun)


def run_dunechest(words: list[str], state: Path, *, watched: bool = False) -> Timing:
    """Run dunechest and time it; or watch the memory of it and its helpers, which costs too much to do both."""
    environment = {**os.environ, "DUNECHEST_HOME": str(state)}
    # An installed program is compiled once; a developer's setting must not have it compiled at each start.
    environment.pop("PYTHONDONTWRITEBYTECODE", None)
    begun = time.monotonic()
    process = subprocess.Popen(
        [sys.executable, "-P", "-m", "dunechest", *words, "--quiet"], env=environment, cwd=state.parent
    )
    peak = 0
    while watched and process.poll() is None:
        peak = max(peak, _memory(process.pid))
        time.sleep(0.05)
    status = process.wait()
    if status:
        raise SystemExit(f"dunechest {' '.join(words)} ended with status {status}")
    return Timing(time.monotonic() - begun, peak)


def _memory(pid: int) -> int:
    """Sum the memory of a process and its children, shared pages counted once (PSS) where the system tells."""
    total = 0
    try:
        top = psutil.Process(pid)
        for item in (top, *top.children(recursive=True)):
            info = item.memory_full_info()
            total += getattr(info, "pss", info.uss)
    except psutil.Error:
        return 0
    return total


def bench_shape(name: str, rounds: int, work: Path) -> dict[str, object]:
    """Measure one shape; return medians and ratios."""
    title, count, size = SHAPES[name]
    source = work / name
    if not source.exists():
        make_shape(source, count, size)
    times: dict[str, list[Timing]] = {
        key: [] for key in ("archive", "plain archive", "verify", "plain verify", "cat", "restore", "plain restore")
    }
    memory: dict[str, int] = {}
    cold = False
    for turn in range(rounds + 1):
        watched = turn == rounds  # one more turn, not timed
        copy, drive, state, back = (work / f"{place}-{turn}" for place in ("copy", "drive", "state", "back"))
        drive.mkdir()
        run_dunechest(["chest", "new", str(drive), "--label", "bench"], state)
        drop_caches()
        archived = run_dunechest(["archive", str(source), "--to", str(drive)], state, watched=watched)
        drop_caches()
        verified = run_dunechest(["verify", str(drive)], state, watched=watched)
        drop_caches()
        restored = run_dunechest(["restore", str(drive), name, "--into", str(back)], state, watched=watched)
        if watched:
            memory = {"archive": archived.memory, "verify": verified.memory, "restore": restored.memory}
            break
        times["restore"].append(restored)
        times["archive"].append(archived)
        times["verify"].append(verified)
        _make_room(name, back)
        drop_caches()
        bag = drive / "dune-chest" / "bags" / name
        times["plain verify"].append(timed("sha512sum --quiet -c manifest-sha512.txt", bag))
        drop_caches()
        check = f"cd '{copy}'; sha512sum --quiet -c '{bag}/manifest-sha512.txt'"
        times["plain restore"].append(timed(f"mkdir '{copy}'; cp -a '{bag}/data' '{copy}'; sync; {check}", work))
        _make_room(name, copy)
        drop_caches()
        times["cat"].append(timed("find data -type f -print0 | xargs -0 cat > /dev/null", bag))
        cold = drop_caches()
        listing = f"find . -type f -print0 | xargs -0 sha512sum > '{work}/sums'"
        check = f"cd '{copy}-2'; sha512sum --quiet -c '{work}/sums'"
        plain = f"cp -a '{source}' '{copy}-2'; sync; cd '{source}'; {listing}; {check}"
        times["plain archive"].append(timed(plain, work))
        _make_room(name, drive, copy.with_name(f"{copy.name}-2"))
    for place in work.iterdir():
        if place.is_dir():
            shutil.rmtree(place)
    against = {"archive": "plain archive", "verify": "cat", "restore": "plain restore"}
    return {
        "shape": title,
        "name": name,
        "cold": cold,
        "seconds": {key: [round(t.seconds, 2) for t in value] for key, value in times.items()},
        "ratios": {
            job: [round(a.seconds / b.seconds, 2) for a, b in zip(times[job], times[plain], strict=True)]
            for job, plain in against.items()
        },
        "memory MB": {key: round(value / 1e6) for key, value in memory.items()},
    }


def _make_room(shape: str, *places: Path) -> None:
    """Remove what was made, unless it is many small files; those stay until the end."""
    if shape != "small":
        for place in places:
            shutil.rmtree(place)


def bench_start(rounds: int, work: Path) -> dict[str, float]:
    """Measure start-up against importing the interface libraries alone."""
    state, drive, library = work / "start-state", work / "start-drive", work / "start-library"
    for place in (state, drive, library):
        shutil.rmtree(place, ignore_errors=True)
    drive.mkdir()
    library.mkdir()
    for number in range(10):
        (library / f"{number}.txt").write_text(str(number))
    environment = {**os.environ, "DUNECHEST_HOME": str(state)}
    environment.pop("PYTHONDONTWRITEBYTECODE", None)
    run = [sys.executable, "-P", "-m", "dunechest"]
    subprocess.run([*run, "chest", "new", str(drive), "--label", "start", "--quiet"], env=environment, check=True)
    subprocess.run([*run, "archive", str(library), "--to", str(drive), "--quiet"], env=environment, check=True)
    commands = {
        "imports": [sys.executable, "-c", "import click, rich.console"],
        "help": [*run, "--help"],
        "verify": [*run, "verify", str(drive)],
        "status": [*run, "status"],
        "archive": [*run, "archive", str(library), "--to", str(drive)],
    }
    taken: dict[str, list[float]] = {key: [] for key in commands}
    for _ in range(max(rounds * 5, 11)):
        for key, command in commands.items():
            begun = time.monotonic()
            # Two of ten files in one copy are not safe: status says so by its exit status.
            subprocess.run(command, env=environment, check=key != "status", stdout=subprocess.DEVNULL)
            taken[key].append(time.monotonic() - begun)
    base = statistics.median(taken["imports"])
    found = {}
    for key, value in taken.items():
        found[f"{key} ms"] = round(statistics.median(value) * 1000)
        found[f"{key} ratio"] = round(statistics.median(value) / base, 2)
    return found


def table(results: list[dict[str, object]], start: dict[str, float]) -> str:
    """Return the results as Markdown."""
    lines = [
        "| shape | job | Dune Chest | plain | ratio (least to most) | aim | peak memory |",
        "|---|---|---|---|---|---|---|",
    ]
    words = {"archive": "plain archive", "verify": "cat", "restore": "plain restore"}
    for result in results:
        seconds, ratios, memory = result["seconds"], result["ratios"], result["memory MB"]
        assert isinstance(seconds, dict) and isinstance(ratios, dict) and isinstance(memory, dict)
        for job, plain in words.items():
            told = ratios[job]
            aim = AIMS.get((job, str(result["name"])), "")
            with_digests = (
                f"; `sha512sum -c` {statistics.median(seconds['plain verify']):.2f} s" if job == "verify" else ""
            )
            what = "`cat` " if job == "verify" else ""
            lines.append(
                f"| {result['shape']} | {job} | {statistics.median(seconds[job]):.2f} s | "
                f"{what}{statistics.median(seconds[plain]):.2f} s{with_digests} | "
                f"{statistics.median(told):.2f} ({min(told):.2f} to {max(told):.2f}) | {aim} | {memory[job]} MB |"
            )
    lines += [
        "",
        "| start-up | median | ratio to `import click, rich.console` | aim |",
        "|---|---|---|---|",
        f"| `python -c 'import click, rich.console'` | {start['imports ms']} ms | 1 | |",
        f"| `dunechest --help` | {start['help ms']} ms | {start['help ratio']} | |",
    ]
    for job, what in (
        ("verify", "of a ten-file chest"),
        ("status", "with one library"),
        ("archive", "of ten files, nothing changed"),
    ):
        lines.append(
            f"| `dunechest {job}` {what} | {start[f'{job} ms']} ms | {start[f'{job} ratio']} | {START_AIM} |"
        )
    return "\n".join(lines)


def machine() -> str:
    """Describe the computer in a line, without naming it."""
    cores = os.cpu_count()
    memory = psutil.virtual_memory().total / 1e9
    return f"{cores} cores, {memory:.0f} GB of memory, {platform.system()}, Python {platform.python_version()}{_how_made()}"


def _how_made() -> str:
    """Tell an interpreter that was built without optimization: it takes up to twice as long."""
    flags = f"{sysconfig.get_config_var('PY_CFLAGS')} {sysconfig.get_config_var('PY_LDFLAGS_NODIST')}"
    made = (
        "-fprofile-use" in flags
        or "-flto" in flags
        or "--enable-optimizations" in str(sysconfig.get_config_var("CONFIG_ARGS"))
    )
    return "" if made or sys.prefix == "/usr" or sys.base_prefix == "/usr" else " (built without optimization)"


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--shape", choices=sorted(SHAPES), action="append", help="only this one; repeatable")
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument(
        "--work", type=Path, default=None, help="where to work; several GB; a temporary folder by default"
    )
    parser.add_argument("--write", action="store_true", help="put the table into docs/performance.md")
    words = parser.parse_args()
    work = words.work or Path(tempfile.mkdtemp(prefix="dunechest-bench-"))
    work.mkdir(parents=True, exist_ok=True)
    try:
        results = [bench_shape(name, words.rounds, work) for name in (words.shape or SHAPES)]
        start = bench_start(words.rounds, work)
    finally:
        if words.work is None:
            shutil.rmtree(work, ignore_errors=True)
    print(json.dumps({"shapes": results, "start": start}, indent=2), file=sys.stderr)
    text = table(results, start)
    cold = all(result["cold"] for result in results)
    made = (
        f"Made by `python benchmarks/run.py --rounds {words.rounds}` on {machine()}; caches "
        f"{'dropped before each timed command' if cold else 'left as they were'}."
    )
    print(f"{text}\n\n{made}")
    if words.write:
        page = ROOT / "docs" / "performance.md"
        before, _, rest = page.read_text(encoding="utf-8").partition("<!-- table -->")
        _, _, after = rest.partition("<!-- end of table -->")
        page.write_text(f"{before}<!-- table -->\n{text}\n\n{made}\n<!-- end of table -->{after}", encoding="utf-8")


if __name__ == "__main__":
    main()
