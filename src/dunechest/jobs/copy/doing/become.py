"""The change by which a bag becomes its image: the records are written and proven, then it is decided."""

from __future__ import annotations

from collections.abc import Mapping

from dunechest.chest import pieces
from dunechest.chest.commit import commit, commit_new, flush_pending, next_edition_phases, tag_steps
from dunechest.chest.journal import Phase, Rename
from dunechest.chest.layout import DATA, EARLIER, GONE, MOVED, PENDING_TAGS, changes_path, kept_path
from dunechest.chest.tag_lists import Tag
from dunechest.chest.write_tags import write_lists, write_tags
from dunechest.errors import CutOffError
from dunechest.jobs.copy.doing.run import Run, cut_off_words
from dunechest.jobs.copy.image import Held, Image, either, folders_of, plain_records
from dunechest.transfer import disk


def become(run: Run, source: Held, target: Held | None) -> str:
    """Write the records of a bag, and decide the change; return the digest of its tag manifest.

    Raises
    ------
    CutOffError
        If a record of the source could not be copied, or the drive does not keep what is written.
    OSError
        If the drive cannot be written to.
    """
    plan, bag = run.plan, run.bag
    image = plan._image
    assert image is not None
    kept = _kept_after_all(run, target)
    top = _write_records(run, image, source, target, kept)
    flush_pending(bag, whole=plan.whole_sync)
    if target is None:
        commit_new(bag)
        return top
    commit(bag, (*_phases(run, image, target, kept), tag_steps(bag)))
    return top


def _write_records(run: Run, image: Image, source: Held, target: Held | None, kept: Mapping[str, str]) -> str:
    bag = run.bag
    if image.verbatim and not kept:
        for tag in plain_records(source):
            if tag.path in run.missing:
                raise CutOffError(cut_off_words(run, f"{tag.path}: {run.missing[tag.path]}"))
        return write_lists(bag, {}, [*plain_records(source), *image.earlier.values()])
    joined = _write_joined(run, image, source, target)
    carried = [tag for tag in image.earlier.values() if tag.blake3]
    if target is not None:
        for old, new in kept.items():
            proven = target.files[old[len(DATA) :]]
            carried.append(Tag(new, proven.record.size, proven.sha512, proven.record.blake3))
    lines = image.lines
    if image.verbatim:  # the lists of changes are those of the source, which lie among what is pending
        lines = {n: [source.own.content(changes_path(n))] for n in image.editions}
    editions = image.records_of_editions() | {changes_path(n): told for n, told in lines.items()}
    return write_tags(
        bag,
        run.plan.name,
        image.record,
        image.files,
        earlier=editions,
        carried=carried,
        archives=joined,
        before=image.totals,
    )


def _write_joined(run: Run, image: Image, source: Held, target: Held | None) -> list[str]:
    """Write the archives of pieces that neither chest has like this; return their paths in the bag."""
    written = []
    for item in image.joined:
        assert target is not None
        place = run.bag / PENDING_TAGS / item.path
        disk.make_folder(place.parent)
        disk.remove(place, missing_ok=True)
        pieces.rewrite(either(source.own, target.own), item.kept, item.base, item.more, place)
        written.append(item.path)
    return written


def _kept_after_all(run: Run, target: Held | None) -> dict[str, str]:
    """Return what stays although it was to go: its bytes could not be brought in the form that the image has.

    Returns
    -------
    dict
        Paths in the bag, and where their files are kept.
    """
    if target is None or not run.missing:
        return {}
    return {
        path: kept_path(target.record.edition, path[len(DATA) :])
        for path in run.plan.sync.leaving
        if path.startswith(DATA)
    }


def _phases(run: Run, image: Image, target: Held, kept: Mapping[str, str]) -> tuple[Phase, ...]:
    """Return the phases that turn a bag into its image, without the tag files."""
    sync = run.plan.sync
    leaving = {path: f"{GONE}/{number}" for number, path in enumerate(sync.leaving)} | dict(kept)
    if run.missing:  # nothing goes while something is missing
        leaving = {path: new for path, new in leaving.items() if path in kept}
    inside = {path[len(DATA) :]: new for path, new in leaving.items() if path.startswith(DATA)}
    out, tidy, made, into = next_edition_phases(
        run.bag,
        leaving=inside,
        moved={},
        arriving=[path[len(DATA) :] for path in sorted(run.brought) if path.startswith(DATA)],
        folders=image.folders,
        old_folders=folders_of(target.record, target.files),
    )
    out += tuple(Rename(path, new) for path, new in leaving.items() if path.startswith(EARLIER + "/"))
    out += tuple(Rename(old, f"{MOVED}/{number}") for number, old in enumerate(sync.moved))
    into += tuple(Rename(f"{MOVED}/{number}", new) for number, new in enumerate(sync.moved.values()))
    return out, tidy, made, into
