"""Judge what was read: which files are not intact, and whether the file or a record of it is damaged."""

from __future__ import annotations

import errno
import os
from collections.abc import Callable, Mapping

from dunechest.bag.bag import Bag
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.edition_totals import totals_of
from dunechest.chest.layout import (
    BAGS,
    DATA,
    DATA_FOLDER,
    FILES,
    INFO,
    LIBRARY,
    MANIFEST,
    PENDING,
    TAG_MANIFEST,
    TAGS,
    edition_path,
)
from dunechest.chest.tag_lists import NOT_RECORDED
from dunechest.errors import ChestUnusableError, RecordDamagedError
from dunechest.jobs.check.verify.expected import BULKY, Expected, ExpectedFile
from dunechest.model.verify import FileState, State
from dunechest.transfer.system_files import WHY as OF_A_SYSTEM
from dunechest.transfer.system_files import is_of_system
from dunechest.transfer.tasks import DigestOutcome

_Say = Callable[[str, "State", str], None]

#: What is said of a folder that this user may not list.
_CLOSED = os.strerror(errno.EACCES)
_OPPOSITE = {FILES: MANIFEST, MANIFEST: FILES}
_OTHER_BYTES = "its content is not what was recorded"


#: What stands for the outcome of any payload file whose digest is the one expected.
INTACT = DigestOutcome("ok")


def judge(
    bag: Bag,
    expected: Expected,
    outcomes: Mapping[str, DigestOutcome],
    *,
    second: Mapping[str, bool] | None = None,
    quick: bool,
    part: bool = False,
    own: BagRecords | None = None,
) -> list[FileState]:
    """Say of each file that is not intact what is wrong with it; of a part, nothing of what no list names.

    `second` says, for files whose first digest did not fit, whether the other did.
    """
    states: dict[tuple[str, str], FileState] = {}

    def say(path: str, state: State, why: str) -> None:
        states.setdefault((path, state), FileState(path, state, why))

    for problem in expected.problems:
        where = f"line {problem.line}: " if problem.line else ""
        state: State = "missing" if problem.why.startswith("it is missing") else "changed"
        say(problem.file, state, where + problem.why)
    for path, record in expected.disagree.items():
        if path in expected.lying.files:
            say(record, "changed", f"it says nothing of {path}, which another record lists and which is there")
    for path in expected.files:
        if outcomes.get(path) is INTACT and path not in expected.disagree:
            continue
        wanted = expected.files[path]
        if path in expected.disagree and path not in expected.lying.files:
            # One record alone names it and it is not there: that record's line is damaged.
            record = _OPPOSITE[expected.disagree[path]]
            say(record, "changed", f"it names {path}, which no other record knows and which is not there")
        elif path not in expected.lying.files:
            _absent(bag, expected, path, say)
        elif quick:
            size = expected.lying.files[path]
            if wanted.size is not None and size != wanted.size:
                say(path, "changed", f"it has {size:,} bytes instead of {wanted.size:,}")
        else:
            _judge(path, wanted, outcomes[path], expected, bool(second and second.get(path)), say)
    if not part:
        _unlisted(bag, expected, say)
        if not expected.own:
            _by_the_rfc(bag, expected, say)
    _right_the_tags(expected, outcomes, states)
    if not part and not any(s.path.startswith(DATA) and s.state != "noted" for s in states.values()):
        _oxum(bag, expected, say)
    if own is not None:
        _records(bag, own, expected, say, counted=not states and not part)
    return list(states.values())


def _records(bag: Bag, own: BagRecords, expected: Expected, say: _Say, *, counted: bool) -> None:
    """Hold the records of our own bag against each other: its name, its totals, its editions."""
    identifier = next((value for label, value in bag.info if label == "External-Identifier"), None)
    in_a_chest = own.bag.parent.name == BAGS  # a bag that somebody copied out may have any name
    if in_a_chest and identifier not in (None, own.bag.name) and own.fault_of(INFO) is None:
        say(".", "changed", f"this folder was called {identifier} when it was archived; give it that name again")
    try:
        library = own.library()
        own.totals(library.edition, library)
    except (RecordDamagedError, ChestUnusableError) as error:
        if isinstance(error, RecordDamagedError) and error.path == INFO:
            say(INFO, "changed", error.why)
        elif isinstance(error, ChestUnusableError):
            say(LIBRARY, "changed", str(error))
        return
    for number in own.numbers(library.edition)[:-1]:
        if edition_path(number) not in own.lists.tags:
            say(edition_path(number), "missing", "it is recorded as an edition of this library, and no list has it")
        elif number not in own.told() and own.fault_of(INFO) is None:
            say(INFO, "changed", f"it does not count edition {number}")
    totals = totals_of(library)
    found = sum(path.startswith(DATA) for path in expected.files)
    if counted and found != totals.files:
        say(FILES, "changed", f"it lists {found:,} files; {totals.files:,} were archived")


def _right_the_tags(
    expected: Expected, outcomes: Mapping[str, DigestOutcome], states: dict[tuple[str, str], FileState]
) -> None:
    """Tell a damaged second record of tag files from a damaged line about it in the tag manifest.

    Only the tag manifest has a digest of ``dune/tags.jsonl``. Where it does not fit, but
    every line of that file fits the tag file it speaks of, the manifest is the wrong one.
    """
    problems = [problem for problem in expected.problems if problem.file == TAGS]
    if len(problems) != 1 or problems[0].why != NOT_RECORDED or not outcomes:
        return
    spoken = [p for p, w in expected.files.items() if not p.startswith(DATA) and w.size is not None]
    for path in spoken:
        outcome, wanted = outcomes.get(path), expected.files[path]
        if outcome is INTACT or outcome is None:
            if outcome is None:
                return
            continue
        if outcome.state != "ok" or outcome.size != wanted.size or not wanted.fits(outcome):
            return
    if spoken:
        del states[TAGS, "changed"]
        why = f"its digest of {TAGS} is wrong; that file itself is intact, all it says is true"
        states.setdefault((TAG_MANIFEST, "changed"), FileState(TAG_MANIFEST, "changed", why))


def _absent(bag: Bag, expected: Expected, path: str, say: _Say) -> None:
    if path in expected.lying.others:
        say(path, "unreadable", f"it is {expected.lying.others[path]}")
    elif (folder := next((f for f in expected.lying.unreadable if f and path.startswith(f + "/")), None)) is not None:
        closed = expected.lying.unreadable[folder] == _CLOSED
        say(path, "no-access" if closed else "unreadable", "its folder cannot be listed")
    elif path in expected.fetched:
        say(path, "missing", "fetch.txt says that it lies elsewhere; nothing was fetched")
    else:
        other = expected.spelled.get(path)
        why = f"; {other} is the same name written otherwise, and mend renames it" if other is not None else ""
        say(path, "missing", f"it is listed and not there{why}")


def _judge(
    path: str, wanted: ExpectedFile, outcome: DigestOutcome, expected: Expected, second_fits: bool, say: _Say
) -> None:
    """Decide whether a file or a record of it is damaged."""
    if outcome is INTACT:
        return
    if outcome.state == "vanished":
        say(path, "missing", "it went away while it was verified")
        return
    if outcome.state == "closed":
        say(path, "no-access", outcome.why)
        return
    if outcome.state != "ok":
        say(path, "unreadable", outcome.why)
        return
    if wanted.fits(outcome):
        return
    if not path.startswith(BULKY) and len(wanted.digests) == 2 and expected.own:
        fits = [d.hex() == digest for d, (_, digest) in zip(outcome.digests, wanted.digests, strict=True)]
        if any(fits):
            record = TAG_MANIFEST if fits[0] else TAGS
            say(
                record,
                "changed",
                f"its digest of {path} is wrong; {path} itself is intact by its other digest",
            )
            return
    elif second_fits:
        say(
            FILES if path.startswith(DATA) else TAGS,
            "changed",
            f"its digest of {path} is wrong; {path} itself is intact by its other digest",
        )
        return
    size = (
        f"; it has {outcome.size:,} bytes instead of {wanted.size:,}"
        if wanted.size not in (None, outcome.size)
        else ""
    )
    say(path, "changed", _OTHER_BYTES + size)


def _unlisted(bag: Bag, expected: Expected, say: _Say) -> None:
    """Name what lies in the bag and no manifest lists."""
    tag_listed = bool(bag.tag)
    manifests = {m.name for m in (*bag.payload, *bag.tag)} | {p.file for p in bag.problems}
    known = {*expected.spelled.values()}
    for path in expected.lying.files:
        if path in expected.files or path in known or path.startswith(PENDING + "/"):
            continue
        if is_of_system(bag.folder, path):
            say(path, "noted", f"{OF_A_SYSTEM}; it is no part of the archive")
        elif path.startswith(DATA):
            say(path, "unlisted", "no manifest lists it")
        elif path == TAGS and expected.own:
            continue  # judged with the tag manifest
        elif expected.own and tag_listed and path not in manifests and not path.startswith("tagmanifest-"):
            say(path, "unlisted", "the tag manifest does not list it")
    for path, why in expected.lying.others.items():
        if (
            path not in expected.files
            and (path.startswith(DATA) or expected.own)
            and not is_of_system(bag.folder, path)
        ):
            say(path, "unlisted", f"it is {why}")
    for folder, why in expected.lying.unreadable.items():
        if (folder + "/").startswith(PENDING + "/"):
            continue  # another process is at work there, and nothing in it counts yet
        say(folder or ".", "no-access" if why == _CLOSED else "unreadable", f"the folder cannot be listed: {why}")


def _by_the_rfc(bag: Bag, expected: Expected, say: _Say) -> None:
    """Say what of RFC 8493 a bag does not keep that no single file of it shows (sections 2.1.2, 2.1.3, 2.2.3, 3)."""
    if not (bag.folder / DATA_FOLDER).is_dir() or (bag.folder / DATA_FOLDER).is_symlink():
        say(DATA_FOLDER, "missing", "every bag has a folder data")
    if not bag.declaration.strict:
        return  # drafts before it were content with one manifest that lists a file
    listed = {path for manifest in bag.payload for path in manifest.entries}
    for manifest in bag.payload if len(bag.payload) > 1 else ():
        for path in sorted(listed - set(manifest.entries)):
            say(path, "unlisted", f"{manifest.name} does not list it; every payload manifest has to")
    for path in sorted(expected.fetched - listed):
        say("fetch.txt", "changed", f"it names {path}, which no payload manifest lists")


def _oxum(bag: Bag, expected: Expected, say: _Say) -> None:
    oxum = bag.oxum
    if oxum is None or expected.fetched:
        return
    payload = {
        path: size
        for path, size in expected.lying.files.items()
        if path.startswith(DATA) and (path in expected.files or not is_of_system(bag.folder, path))
    }
    found = (sum(payload.values()), len(payload))
    if found != oxum:
        say(
            DATA_FOLDER,
            "changed",
            f"bag-info.txt counts {oxum[1]:,} files and {oxum[0]:,} bytes; {found[1]:,} files and "
            f"{found[0]:,} bytes are there",
        )
