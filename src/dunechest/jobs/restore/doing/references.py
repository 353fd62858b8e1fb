"""Update references in files, keep what was there before, and write down each step."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path

import msgspec

from dunechest.ledger.past_changes import OpenChange, Rewritten
from dunechest.library.formats.base import UnreadableError
from dunechest.library.kinds.schema import Kind, References
from dunechest.library.references.reading import READERS
from dunechest.library.repoint.rewrite import NotRewrittenError, rewrite
from dunechest.model.restore import ByHand, Repoint
from dunechest.names import to_wire
from dunechest.transfer.digest_files import digest_of


class RewrittenFiles(msgspec.Struct, frozen=True):
    """What was rewritten in files, and what has to be done by hand."""

    done: tuple[Repoint, ...]
    by_hand: tuple[ByHand, ...]
    steps: tuple[Rewritten, ...]


def write_references(
    kind: Kind,
    wanted: Iterable[Repoint],
    at: Callable[[str], Path | None],
    final: Callable[[str], Path],
    past_change: OpenChange,
) -> RewrittenFiles:
    """Update the references of files.

    Parameters
    ----------
    kind : Kind
        Says how they are written.
    wanted : iterable of Repoint
        What to write.
    at : callable
        Where a file of the library is now; None for one that is not there.
    final : callable
        Where it will be, for what is written down.
    past_change : OpenChange
        Keeps the files as they were.

    Returns
    -------
    Rewritten
        The steps are not yet written down: the file may still be on its way to its place.
    """
    by_file: dict[tuple[str, int], list[Repoint]] = {}
    for update in wanted:
        by_file.setdefault((update.file, update.spec), []).append(update)
    done: list[Repoint] = []
    by_hand: list[ByHand] = []
    before: dict[str, tuple[str, int, int]] = {}
    for (source, spec), updates in by_file.items():
        path = at(source)
        if path is None:
            continue
        try:
            if source not in before:
                info = path.stat()
                before[source] = (past_change.keep(path), info.st_mode & 0o7777, info.st_mtime_ns)
            written, left = _rewrite_file(path, kind.references[spec], updates)
        except (NotRewrittenError, UnreadableError, OSError) as error:
            written, left = [], [(update, f"the file could not be rewritten ({error})") for update in updates]
        done += written
        by_hand += [ByHand(source, item.spot, item.old, f"{why}; it should be: {item.new}") for item, why in left]
    steps = []
    for source, (kept, mode, mtime_ns) in before.items():
        path = at(source)
        assert path is not None
        steps.append(Rewritten(to_wire(str(final(source))), kept, mode, mtime_ns, digest_of(path), "references"))
    return RewrittenFiles(tuple(done), tuple(by_hand), tuple(steps))


def _rewrite_file(
    path: Path, spec: References, updates: Iterable[Repoint]
) -> tuple[list[Repoint], list[tuple[Repoint, str]]]:
    """Rewrite one file; return the updates that were written, and those that were not, with the reason."""
    there = {(raw.spot, raw.text) for raw in READERS[spec.form](path, spec)}
    wanted = [update for update in updates if (update.spot, update.old) in there]
    left = rewrite(path, spec, {(update.spot, update.old): update.new for update in wanted})
    failed = {(spot, text): why for spot, text, why in left}
    written = [update for update in wanted if not failed.get((update.spot, update.old))]
    return written, [(u, failed[u.spot, u.old]) for u in wanted if failed.get((u.spot, u.old))]
