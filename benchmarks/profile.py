"""Draw where the time goes: samples of a running archive, restore and verify of 30,000 small files, as docs/where-the-time-goes.png.

    python benchmarks/profile.py

Needs py-spy (``pip install py-spy``) and the rights to look into a process of one's own. It asks the running program 250
times a second what it is at, without stopping it, the helpers too. The bars are the seconds in which a process was
working; where the main process only waits for its helpers, it has none.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tempfile
from collections import Counter
from pathlib import Path

import matplotlib as mpl

mpl.use("Agg")
import matplotlib.pyplot as plt
from run import ROOT, drop_caches, machine, make_shape, run_dunechest

RATE = 250
PICTURE = ROOT / "docs" / "where-the-time-goes.png"
#: The first that is found in a stack, from the innermost frame on, is what a moment counts for.
MAIN = (
    ("catalogue", ("note_files",)),
    ("walk", ("walk_own", "list_bag", "look_over", "total_of", "lines_of", "inside")),
    ("look into files", ("with_open_formats", "still_named", "read_references", "list_parts")),
    ("owners, attributes", ("gather", "give_back", "dress_unreadable")),
    ("read lists", ("current_files", "read_bag", "expected_files")),
    ("helpers: orders, answers", ("copy_each", "digest_each", "_listen", "_take")),
    ("write and prove lists", ("write_tags", "write_lists", "record_of_edition", "whole_into_place")),
    ("load the program", ("_find_and_load",)),
    (
        "other planning",
        (
            "plan_several",
            "plan_restores",
            "plan_archive",
            "plan_restore",
            "study",
            "resolve_library",
            "resolve_chest",
        ),
    ),
    ("judge, sum up", ("judge", "summary_of", "_summary", "_check", "finish", "carry_out")),
)
HELPERS = (
    ("make files", ("create",)),
    ("write", ("write_whole", "write")),
    ("flush", ("flush_filesystem", "flush_files", "flush_file")),
    ("read back", ("_differs", "_prove", "forget")),
    ("digests", ("once",)),
    ("open ahead", ("_open_ahead", "_open_to_digest", "_open")),
    ("read", ("read_whole", "_read_bytes", "read_again")),
    ("times, modes, closing", ("_dress", "still", "close_written", "_close", "give_time")),
    ("load the program", ("_find_and_load",)),
)


def phases(stacks: str) -> tuple[Counter[str], Counter[str]]:
    """Return samples by phase, of the main process and of the helpers."""
    main: Counter[str] = Counter()
    helpers: Counter[str] = Counter()
    for line in stacks.splitlines():
        stack, _, count = line.rpartition(" ")
        frames = stack.split(";")
        names = [re.sub(r".*\.", "", frame.partition(" ")[0]) for frame in frames if not frame.startswith("process ")]
        helper = any("worker" in frame for frame in frames if frame.startswith("process ")) or any(
            "transfer/worker.py" in frame and "main" in frame for frame in frames
        )
        table, found = (HELPERS, helpers) if helper else (MAIN, main)
        known = {name: phase for phase, functions in table for name in functions}
        if not any(names):
            continue
        found[next((known[name] for name in reversed(names) if name in known), "other")] += int(count)
    return main, helpers


def watch(words: list[str], state: Path, out: Path) -> str:
    """Run dunechest under the sampler; return its stacks."""
    environment = {**os.environ, "DUNECHEST_HOME": str(state)}
    environment.pop("PYTHONDONTWRITEBYTECODE", None)
    spy = shutil.which("py-spy", path=f"{Path(sys.executable).parent}{os.pathsep}{os.environ.get('PATH', '')}")
    if spy is None:
        raise SystemExit("py-spy is needed: pip install py-spy")
    order = [spy, "record", "--nonblocking", "-s", "-r", str(RATE), "-f", "raw", "-o", str(out), "--"]
    subprocess.run(
        [*order, sys.executable, "-P", "-m", "dunechest", *words, "--quiet"],
        env=environment, cwd=state.parent, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    return out.read_text(errors="replace")


def draw(results: dict[str, tuple[Counter[str], Counter[str]]]) -> None:
    """Draw a bar for each job and sort of process."""
    figure, axes = plt.subplots(len(results), 2, figsize=(12.8, 2.75 * len(results)), constrained_layout=True)
    for row, (job, pair) in enumerate(results.items()):
        for column, (who, found) in enumerate(zip(("main process", "helpers, together"), pair, strict=True)):
            axis = axes[row][column]
            order = [(phase, count / RATE) for phase, count in found.most_common() if count / RATE >= 0.02][:9][::-1]
            axis.barh([phase for phase, _ in order], [seconds for _, seconds in order], color="#3b6ea5")
            for at, (_, seconds) in enumerate(order):
                axis.text(seconds, at, f" {seconds:.2f}", va="center", fontsize=9)
            axis.set_title(f"{job}: {who}, {sum(found.values()) / RATE:.1f} s of work", fontsize=11, loc="left")
            axis.margins(x=0.12)
            axis.spines[["top", "right"]].set_visible(False)
            axis.tick_params(labelsize=9)
    for axis in axes[-1]:
        axis.set_xlabel("seconds")
    figure.suptitle(f"30,000 files of 2 KB, caches dropped; {machine()}", fontsize=10)
    figure.savefig(PICTURE, dpi=100)


def main() -> None:
    work = Path(tempfile.mkdtemp(prefix="dunechest-profile-"))
    try:
        library, drive, state, back = (work / name for name in ("library", "drive", "state", "back"))
        make_shape(library, 30_000, 2_000)
        drive.mkdir()
        run_dunechest(["chest", "new", str(drive), "--label", "profile"], state)
        results = {}
        for job, words in (
            ("archive", ["archive", str(library), "--to", str(drive)]),
            ("verify", ["verify", str(drive)]),
            ("restore", ["restore", str(drive), "library", "--into", str(back)]),
        ):
            drop_caches()
            results[job] = phases(watch(words, state, work / "stacks"))
        draw(results)
    finally:
        shutil.rmtree(work, ignore_errors=True)


if __name__ == "__main__":
    main()
