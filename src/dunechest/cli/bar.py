"""Progress on a terminal: what, how much of how much, the rate, and the time left."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from rich.console import Console
from rich.progress import BarColumn, ProgressColumn, Task, TaskID, TextColumn, TimeRemainingColumn
from rich.progress import Progress as RichProgress
from rich.text import Text

from dunechest.names import shown
from dunechest.progress import Progress, Step
from dunechest.words import size


class _Bytes(ProgressColumn):
    """How many of how many bytes."""

    def render(self, task: Task) -> Text:
        if not task.fields["bytes"]:  # what is counted are files, and they are shown already
            return Text("")
        return Text(f"{size(int(task.completed))} of {size(int(task.total or 0))}")


class _Rate(ProgressColumn):
    """Bytes a second, over the last while."""

    def render(self, task: Task) -> Text:
        speed = task.finished_speed or task.speed
        if not task.fields["bytes"]:
            return Text(f"{int(speed):,} files/s" if speed else "-", style="cyan")
        return Text(f"{size(int(speed))}/s" if speed else "-", style="cyan")


@contextmanager
def bar(console: Console) -> Iterator[Progress]:
    """Show a bar while the block runs."""
    display = RichProgress(
        TextColumn("{task.description}", markup=False),
        BarColumn(bar_width=24, complete_style="cyan", finished_style="green"),
        TextColumn("{task.fields[files]}"),
        _Bytes(),
        _Rate(),
        TimeRemainingColumn(),
        TextColumn("left"),
        console=console,
        transient=True,
    )
    tasks: dict[tuple[str, str], TaskID] = {}
    counted: dict[tuple[str, str], bool] = {}

    def follow(step: Step, /) -> None:
        key = (step.stage, step.subject)
        files = f"{step.files_done:,} of {step.files_total:,} files"
        if key not in tasks:
            title = f"{step.stage} {shown(step.subject)}"
            in_bytes = step.bytes_total > 0
            total = step.bytes_total if in_bytes else max(step.files_total, 1)
            tasks[key] = display.add_task(title, total=total, files=files, bytes=in_bytes)
            counted[key] = in_bytes
        done = step.bytes_done if counted[key] else step.files_done
        display.update(tasks[key], completed=done, files=files)

    with display:
        yield follow
