"""Progress: on a terminal two lines, one for all and one for the library at work; elsewhere a plain line now and then.

Both lines move at least once a second. The time left counts down between two reports, and a stage that has nothing to
count yet shows how long it has been running.
"""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager

from rich.console import Console, ConsoleOptions, RenderResult
from rich.live import Live
from rich.text import Text

from dunechest.cli.layout import DIM, INFO, shortened
from dunechest.model.events import event_line
from dunechest.names import shown
from dunechest.progress import Progress, Stage, Step
from dunechest.words import duration, number, size

#: Seconds of which the rate is the average.
_WINDOW = 15.0
#: Seconds between two lines of JSON about one stage.
_BETWEEN_EVENTS = 0.25
#: Seconds between two plain lines.
_BETWEEN = 10.0
_BAR = 20
#: The stages in which most of a library's bytes go by.
_MAIN = frozenset({"copying", "restoring", "verifying"})
#: What is said of a stage, before the name of the library.
STAGE_WORDS: dict[Stage, str] = {
    "cataloguing": "cataloguing",
    "checking": "checking",
    "checking-result": "checking the result of",
    "comparing": "comparing",
    "copying": "copying",
    "copying-database": "copying a database of",
    "deleting": "deleting",
    "deleting-scratch": "deleting the scratch copy of",
    "finding": "finding",
    "finishing": "finishing",
    "listing": "listing both places",
    "mending": "mending",
    "moving": "moving",
    "placing": "placing",
    "reading": "reading",
    "reading-copies": "reading the copies of",
    "reading-original": "reading the original of",
    "reading-records": "reading the records of",
    "repairing": "repairing",
    "restoring": "restoring",
    "sending-list": "sending the list of files of",
    "updating-references": "updating references of",
    "verifying": "verifying",
}


class _Pace:
    """How fast something goes, over the last seconds."""

    def __init__(self) -> None:
        self._seen: deque[tuple[float, float]] = deque()

    def see(self, now: float, done: float) -> None:
        """Take note of how much is done."""
        if self._seen and done < self._seen[-1][1]:
            self._seen.clear()
        if self._seen and now - self._seen[-1][0] < 0.2:
            return
        self._seen.append((now, done))
        while len(self._seen) > 2 and now - self._seen[0][0] > _WINDOW:
            self._seen.popleft()

    def rate(self, now: float) -> float:
        """Return how much is done a second."""
        if len(self._seen) < 2:
            return 0.0
        return (self._seen[-1][1] - self._seen[0][1]) / max(now - self._seen[0][0], 0.001)


class Display:
    """What is known of a running job, drawn as one or two lines.

    Parameters
    ----------
    whole : mapping of str to int
        All libraries that the job is about, and the bytes of each, where that is known. With more than one, a line
        tells how far all of them are.
    """

    def __init__(self, whole: Mapping[str, int] | None = None) -> None:
        self._begun = time.monotonic()
        self._whole = dict(whole or {})
        self._subjects: dict[str, None] = {}
        self._part = 0.0
        self._all = _Pace()
        self._step: Step | None = None
        self._told = self._begun
        self._stage_begun = self._begun
        self._pace = _Pace()

    def __call__(self, step: Step, /) -> None:
        """Take note of how far the job is."""
        now = time.monotonic()
        if self._step is None or (step.stage, step.about) != (self._step.stage, self._step.about):
            self._pace, self._stage_begun = _Pace(), now
        if step.about and step.about not in self._subjects:
            self._subjects[step.about] = None
            self._part = 0.0
        self._step, self._told = step, now
        if step.stage in _MAIN:
            self._part = max(self._part, self._share() or 0.0)
        self._all.see(now, self._done())
        self._pace.see(now, step.done_bytes if step.total_bytes else step.done_count)

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        """Draw it; called several times a second."""
        yield from self.lines(time.monotonic(), options.max_width)

    def lines(self, now: float, width: int) -> list[Text]:
        """Return the lines, none wider than so many cells."""
        step = self._step
        turning = "|/-\\"[int(now * 5) % 4]
        if step is None:
            return [Text(shortened(f"{turning} starting, {duration(int(now - self._begun))}", width))]
        lines = []
        if len(self._whole) > 1:
            lines.append(Text(shortened(self._of_all(now), width), style="bold"))
        share = self._share()
        head = f"{turning} {STAGE_WORDS[step.stage]} {shown(step.about)}".strip()
        tail = ", ".join(filter(None, (self._amount(), self._rate(now), self._left(now))))
        bar = f"{'#' * int(share * _BAR)}{'-' * (_BAR - int(share * _BAR))} {share:4.0%}" if share is not None else ""
        room = width - len(tail) - (len(bar) + 2 if bar else 0) - 2
        if room < 12 and bar:
            bar, room = f"{share:4.0%}", width - len(tail) - 8
        text = Text(shortened(head, max(room, 8)))
        if bar:
            text.append(f"  {bar}", style=INFO)
        text.append(f"  {tail}", style="not bold default")
        text.truncate(width)
        lines.append(text)
        return lines

    def _done(self) -> float:
        """Return how many bytes of all libraries are done."""
        *before, present = self._subjects or [""]
        return sum(self._whole.get(name, 0) for name in before) + self._part * self._whole.get(present, 0)

    def _of_all(self, now: float) -> str:
        total, done, rate = sum(self._whole.values()), self._done(), self._all.rate(now)
        words = [f"library {max(len(self._subjects), 1):,} of {len(self._whole):,}"]
        if total:
            words.append(f"{size(int(done))} of {size(total)}")
        if rate >= 1:
            words.append(f"{size(int(rate))}/s")
            left = (total - done) / self._all.rate(self._told) - (now - self._told)
            words.append(f"{duration(max(round(left), 1))} left" if left > 0 else "nearly done")
        else:
            words.append(f"{duration(int(now - self._begun))} so far")
        return ", ".join(words)

    def _share(self) -> float | None:
        step = self._step
        if step is None:
            return None
        done, total = (step.done_bytes, step.total_bytes) if step.total_bytes else (step.done_count, step.total_count)
        return min(done / total, 1.0) if total else None

    def _amount(self) -> str:
        step = self._step
        assert step is not None
        if not step.total_count:
            return number(step.done_count, "file") if step.done_count else ""
        files = f"{step.done_count:,} of {step.total_count:,} files"
        return f"{files}, {size(step.done_bytes)} of {size(step.total_bytes)}" if step.total_bytes else files

    def _rate(self, now: float) -> str:
        step, rate = self._step, self._pace.rate(now)
        assert step is not None
        if rate < 1:
            return duration(int(now - self._stage_begun)) if now - self._stage_begun >= 1 else ""
        return f"{size(int(rate))}/s" if step.total_bytes else f"{int(rate):,} files/s"

    def _left(self, now: float) -> str:
        step, rate = self._step, self._pace.rate(self._told)
        assert step is not None
        done, total = (step.done_bytes, step.total_bytes) if step.total_bytes else (step.done_count, step.total_count)
        if rate <= 0 or not total or now - self._stage_begun < 0.5:
            return ""
        left = (total - done) / rate - (now - self._told)
        return f"{duration(max(round(left), 1))} left" if left > 0 else "nearly done"


@contextmanager
def bar(console: Console, display: Display) -> Iterator[None]:
    """Show progress on a terminal while the block runs; no line of it is left behind."""
    with Live(display, console=console, refresh_per_second=5, transient=True):
        yield


def lines(console: Console) -> Progress:
    """Return progress that says a plain line at most every ten seconds."""
    display = Display()
    said = time.monotonic()

    def follow(step: Step, /) -> None:
        nonlocal said
        display(step)
        now = time.monotonic()
        if now - said >= _BETWEEN:
            said = now
            console.print(display.lines(now, 1_000)[-1].plain, style=DIM, soft_wrap=True)

    return follow


def event_lines(write: Callable[[str], object]) -> Progress:
    """Return progress that writes a line of JSON for each stage of each library, and while one goes on a few a second.

    Parameters
    ----------
    write : function
        Takes a line.
    """
    begun = time.monotonic()
    last: tuple[str, str] = ("", "")
    said = begun

    def follow(step: Step, /) -> None:
        nonlocal last, said
        now, stage = time.monotonic(), (step.stage, step.about)
        done = step.done_bytes >= step.total_bytes and step.done_count >= step.total_count
        if stage == last and now - said < _BETWEEN_EVENTS and not done:
            return
        last, said = stage, now
        write(event_line(step, now - begun))

    return follow
