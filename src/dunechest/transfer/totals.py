"""What the digests of texts add up to, whatever their order; see `dunechest.transfer.fingerprints`."""

from __future__ import annotations

import os
from collections.abc import Iterable

from blake3 import blake3

from dunechest.transfer.tasks import LookJob
from dunechest.transfer.walk import look_over

#: Bytes: room for the sum of more digests than there are folders anywhere.
_SIZE = 64


def total_of(lines: Iterable[str]) -> int:
    """Return what the digests of texts add up to."""
    total = 0
    for line in lines:
        total += int.from_bytes(blake3(line.encode("utf-8", "surrogateescape")).digest())
    return total


def total_of_job(job: LookJob) -> bytes | None:
    """Do a part; return what it adds up to, or None if something in it cannot be listed or asked about."""
    try:
        total = total_of(look_over(os.fsdecode(job.root), [os.fsdecode(folder) for folder in job.tasks]))
    except OSError:
        return None
    return total.to_bytes(_SIZE, "little")
