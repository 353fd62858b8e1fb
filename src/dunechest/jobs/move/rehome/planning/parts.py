"""Plan to move parts of a library to a drive. Nothing here changes anything."""

from __future__ import annotations

import os
import uuid
from collections.abc import Iterator
from pathlib import Path

from msgspec.structs import replace

from dunechest.errors import UsageError
from dunechest.findings import Finding, most_serious_first
from dunechest.jobs.known.named import library_at
from dunechest.jobs.move.rehome.planning.drive import NewPlace, drive_findings, examine
from dunechest.jobs.restore.aside import aside_name, nothing_in
from dunechest.jobs.restore.planning.room import need_of
from dunechest.jobs.study.contents import study
from dunechest.jobs.study.take_out import parts_of, shared_finding, take_out
from dunechest.library.library import Library
from dunechest.machine.drives import drive_of
from dunechest.model.findings import finding_of
from dunechest.model.rehome import PartMovePlan, RehomeOptions
from dunechest.model.study import Contents, Room
from dunechest.names import shown
from dunechest.paths import is_link
from dunechest.transfer.walk import Walk


def plan_parts(library: Library, to: Path, options: RehomeOptions) -> PartMovePlan:
    """Plan to move parts of a library to a drive, where they become a library of their own, or join one of theirs.

    Parameters
    ----------
    library : Library
        The library.
    to : Path
        The folder on the drive that is to hold the folder of their own library.
    options : RehomeOptions
        What was chosen; `parts` names them.

    Raises
    ------
    UsageError
        If there is no such folder or part, or files from outside are asked for.
    """
    if options.link or options.outside_files:
        raise UsageError("--link and --with-outside-files are for whole libraries: leave them out with --part.")
    if not to.is_dir():
        raise UsageError(f"There is no folder {shown(str(to))}. Connect the drive, or make the folder first.")
    contents = study(library)
    parts = parts_of(contents, options.parts)
    taken = take_out(contents, parts)
    target = Path(os.path.realpath(to)) / (options.name if options.name is not None else library.path.name)
    where = examine(target.parent)
    there = target.is_dir() and not is_link(target) and not nothing_in(target)
    # The parts pass through a folder to work in on the same drive.
    wanted = {path for part in parts for path in (*part.files, *part.needed_paths)}
    files = [file for file in contents.listing.files if file.path in wanted]
    need = 2 * need_of(files, contents.listing.folders, where.filesystem)
    title = f"{library.path.name}, {taken.title}"[:150]
    mount = drive_of(where.folder)
    plan = PartMovePlan(
        contents=contents,
        options=options,
        taken=taken,
        new_path=target,
        merge=there,
        set_aside_path=aside_name(library.path.with_name(title.replace("/", " ").replace("\0", " ")), options.day),
        drive=mount.name or target.parent.name,
        room=Room(need, where.filesystem.free),
        id=uuid.uuid4().hex,
    )
    return replace(plan, findings=most_serious_first(_findings(contents, plan, where)))


def _findings(contents: Contents, plan: PartMovePlan, where: NewPlace) -> Iterator[Finding]:
    there = shown(str(plan.new_path))
    library, taken = contents.library, plan.taken
    yield from taken.findings
    yield from shared_finding(taken)
    for use in contents.uses[:1]:
        yield finding_of(
            "in-use/part",
            process=use.process,
            how=use.how,
            application=shown(library.kind.application) or "the application",
        )
    odd = [file for file in taken.files if file.placeholder]
    if odd:
        yield finding_of("placeholders/rehome", files=len(odd), first=odd[0].path)
    licensed = [file for file in taken.files if contents.roles.get(file.path) == "must-not-leave"]
    if licensed:
        yield finding_of("must-not-leave/part", files=len(licensed), first=licensed[0].path)
    if plan.new_path == library.path or plan.new_path.is_relative_to(library.path):
        yield finding_of("there-already/part", there=there)
    elif plan.merge:
        found = library_at(plan.new_path)
        if found.kind.name != library.kind.name:
            yield finding_of("occupied/other-kind", there=there)
        else:
            yield finding_of("merge", there=there)
    elif os.path.lexists(plan.new_path) and not (plan.new_path.is_dir() and nothing_in(plan.new_path)):
        yield finding_of("occupied/part", there=there)
    files = tuple(file for file in contents.listing.files if any(file.path in part.files for part in taken.parts))
    yield from drive_findings(where, library.path, library.kind, Walk(files, (), (), (), ()), plan.room)
