"""Progress on a terminal: what, how much of how much, the rate, and the time left."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from rich.console import Console
from rich.progress import (
    BarColumn,
    DownloadColumn,
    TaskID,
    TextColumn,
    TimeRemainingColumn,
    TransferSpeedColumn,
)
from rich.progress import Progress as RichProgress

from dunechest.names import shown
from dunechest.progress import Progress, Step


@contextmanager
def bar(console: Console) -> Iterator[Progress]:
    """Show a bar while the block runs."""
    display = RichProgress(
        TextColumn("{task.description}"),
        BarColumn(bar_width=24),
        TextColumn("{task.fields[files]}"),
        DownloadColumn(),
        TransferSpeedColumn(),
        TextColumn("left"),
        TimeRemainingColumn(),
        console=console,
        transient=True,
    )
    tasks: dict[tuple[str, str], TaskID] = {}

    def follow(step: Step, /) -> None:
        key = (step.stage, step.subject)
        files = f"{step.files_done:,} of {step.files_total:,} files"
        if key not in tasks:
            title = f"{step.stage} {shown(step.subject)}"
            tasks[key] = display.add_task(title, total=max(step.bytes_total, 1), files=files)
        display.update(tasks[key], completed=step.bytes_done, files=files)

    with display:
        yield follow
