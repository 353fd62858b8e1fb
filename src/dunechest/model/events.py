"""What a running job tells, as a line of JSON each: stages and counts."""

from __future__ import annotations

import json

import msgspec

from dunechest import clock
from dunechest.document import moment
from dunechest.progress import Stage, Step
from dunechest.values import Value

#: What stands in an event's `schema`.
SCHEMA = "dunechest/event/1"


class Event(Value, msgspec.Struct, frozen=True):
    """How far a job is.

    `about` is the library, archive or chest at work; `seconds` have gone by since the job began. A total of 0 is not known, or
    nothing is counted in that stage.
    """

    schema: str
    told_at: str
    seconds: float
    stage: Stage
    about: str
    done_count: int
    total_count: int
    done_bytes: int
    total_bytes: int


def event_line(step: Step, seconds: float) -> str:
    """Return a step as a line of JSON, without the end of the line."""
    told = moment(clock.now()) or ""
    event = Event(
        SCHEMA,
        told,
        seconds,
        step.stage,
        step.about,
        step.done_count,
        step.total_count,
        step.done_bytes,
        step.total_bytes,
    )
    return json.dumps(event.to_dict(), ensure_ascii=True)
