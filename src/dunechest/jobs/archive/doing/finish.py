"""The last steps of an archive: the records of the new edition, and the change that makes it the current one."""

from __future__ import annotations

from dunechest.chest.commit import commit_new, flush_pending
from dunechest.chest.write_tags import write_tags
from dunechest.jobs.archive.doing.edition_record import record_of_edition
from dunechest.jobs.archive.doing.next_edition import changes_since, next_edition
from dunechest.jobs.archive.doing.run import Run
from dunechest.jobs.known.holdings import state_note
from dunechest.ledger import events


def finish(run: Run) -> str:
    """Write the records and decide the change; return the digest of the tag manifest."""
    plan, bag, previous = run.plan, run.bag, run.plan.previous
    if previous is not None:
        run.changes = changes_since(run, previous)
    library = record_of_edition(run)
    if not (plan.selection.parts or plan.lacks):
        # It was read from here, whatever becomes of the edition: a run that is killed once that is decided notes nothing more.
        events.try_append(state_note(plan.library.path, library))
    if previous is None:
        top = write_tags(bag, plan.archived_as, library, run.proven)
        flush_pending(bag, whole=plan.whole_sync)
        commit_new(bag)
        return top
    return next_edition(run, previous, library)
