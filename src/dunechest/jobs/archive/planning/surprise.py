"""How much of a library has to go or change at once to look like a mistake, or like malicious encryption; and what is said of it.

Whoever only looks ahead needs nothing else to be loaded.
"""

from __future__ import annotations

import os
from collections.abc import Sequence

from dunechest.findings import Finding
from dunechest.model.findings import finding_of
from dunechest.names import AnyPath
from dunechest.words import number

CODE = "mass-change"

#: From this share of an edition's files on, their vanishing or changing at once is a surprise,
_LARGE_SHARE = 0.5
#: where they are at least so many;
_ENOUGH = 20
#: or, of a small library, so many that nearly all of it changed or went,
_FEW = 8
_NEARLY_ALL = 0.8
#: or so many that went.
_GONE = 5
#: Of files that only have other times so many are read, to see whether they changed at all.
_SAMPLE = 16


def told(total: int, vanished: int, changed: int, then: str, back: tuple[str, str, str]) -> Finding:
    """Say it of so many files; see `mass_change`."""
    chest, name, folder = back
    what = " and ".join(
        words
        for words in (
            f"{number(vanished, 'file')} vanished" if vanished else "",
            f"{number(changed, 'file')} changed" if changed else "",
        )
        if words
    )
    return finding_of(
        "mass-change/archive", files=total, then=then, change=what, chest=chest, name=name, folder=folder
    )


def surprises(total: int, vanished: int, changed: int) -> bool:
    """Whether so much of an edition going or changing at once looks like a mistake, or like malicious encryption.

    In a small library a few changed files are a large share of it on any day; that all of it is gone is not.
    """
    count = vanished + changed
    if total > 1 and vanished == total:
        return True
    if vanished >= _GONE and vanished >= total * _LARGE_SHARE:
        return True
    if count >= _FEW and count >= total * _NEARLY_ALL:
        return True
    return count >= _ENOUGH and count >= total * _LARGE_SHARE


def are_as_before(files: Sequence[tuple[AnyPath, int, str]]) -> bool:
    """Read a few of many files that only have other times, to see whether they have other bytes too.

    Parameters
    ----------
    files : sequence of tuple
        The place, the number of bytes and the beginning of the BLAKE3 digest that each had.
    """
    from dunechest.transfer.digest_files import digest_files
    from dunechest.transfer.tasks import DigestTask

    step = max(1, len(files) // _SAMPLE)
    some = files[::step][:_SAMPLE]
    outcomes = digest_files([DigestTask(os.fsencode(place), size) for place, size, _ in some], lambda count: None)
    return all(
        outcome.state == "ok" and outcome.digests[0].hex().startswith(digest)
        for (_, _, digest), outcome in zip(some, outcomes, strict=True)
    )
