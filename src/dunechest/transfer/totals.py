"""What the digests of texts add up to, whatever their order; see `dunechest.transfer.fingerprints`."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator

from blake3 import blake3

from dunechest.transfer.tasks import Done, LookJob, SizesJob
from dunechest.transfer.walk import look_over, sizes_by_folder

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


def sizes_total(folders: Iterable[tuple[str, list[tuple[str, int]]]]) -> int:
    """Return what the names and sizes of the files in some folders add up to."""
    return total_of(
        path + "\0\0" + "\0\0".join([f"{name}\0{size}" for name, size in sorted(files)])
        for path, files in folders
        if files
    )


def sizes_of_job(number: int, job: SizesJob) -> Done:
    """Count what lies below a folder, and add up its names and sizes; what cannot be listed is passed over."""
    files = size = 0

    def counted() -> Iterator[tuple[str, list[tuple[str, int]]]]:
        nonlocal files, size
        for path, own in sizes_by_folder(os.fsdecode(job.root), [os.fsdecode(folder) for folder in job.tasks]):
            files += len(own)
            size += sum([one for _, one in own])
            yield path, own

    total = sizes_total(counted())
    return Done(number, total=total.to_bytes(_SIZE, "little"), files=files, size=size)
