"""Restore several libraries, or all of a chest: what is there and where it would go; plans that are kept and followed."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import msgspec
from blake3 import blake3

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.errors import DuneChestError, Refused, WordsOff
from dunechest.findings import Finding, weightiest_first
from dunechest.jobs.landing import Landing, RestoreChoice, land, today
from dunechest.jobs.meeting import nothing_in
from dunechest.jobs.restore import RestorePlan, plan_restore
from dunechest.ledger import memory
from dunechest.ledger.folder import state_folder
from dunechest.library.kinds.load import load_kinds
from dunechest.library.kinds.schema import PLAIN_KIND
from dunechest.machine.identity import this_machine
from dunechest.machine.volumes import identity
from dunechest.names import from_wire, shown
from dunechest.progress import Progress, silent
from dunechest.transfer import safe

FORMAT = 1
_MOST = 1 << 28


@dataclass(frozen=True, slots=True)
class Offer:
    """A library that a chest holds, and where it would go on this machine.

    `editions` are their numbers; `existing` says whether something is in that place; `why_not` why it cannot be
    restored, if it cannot.
    """

    entry: BagEntry
    editions: tuple[int, ...]
    landing: Landing
    existing: bool
    why_not: str = ""


def offers(chest: Chest, choice: RestoreChoice) -> tuple[Offer, ...]:
    """Say what a chest holds that could be restored, and where each would go. Nothing is read but its records."""
    kinds = load_kinds(state_folder())
    found = []
    for entry in chest.bags():
        record = entry.library
        if record is None:
            whys = {
                "damaged": entry.why,
                "unfinished": "its archive was cut off before it was whole",
                "unusable": entry.why,
            }
            why = whys.get(entry.state, "Dune Chest did not make it; it comes as files, with --into FOLDER")
            found.append(Offer(entry, (), Landing(None, "unknown"), False, why))
            continue
        landing = land(record, kinds.get(record.kind, PLAIN_KIND), choice)
        place = landing.place
        existing = place is not None and place.exists() and not (place.is_dir() and nothing_in(place))
        found.append(Offer(entry, entry.records.numbers(record.edition), landing, existing))
    return tuple(found)


def plan_many(
    chest: Chest, libraries: Sequence[str], choice: RestoreChoice, *, progress: Progress = silent
) -> tuple[RestorePlan, ...]:
    """Plan to restore several libraries; whether there is room counts all of them together.

    Raises
    ------
    WordsOff
        If a choice can only be made for one library, or means nothing.
    Refused
        If one of them cannot be restored at all.
    """
    if not choice.day:
        choice = msgspec.structs.replace(choice, day=today())
    names = list(dict.fromkeys(libraries))
    if len(names) > 1:
        for word, given in (("--into", choice.into), ("--edition", choice.edition), ("--part", choice.parts)):
            if given:
                raise WordsOff(f"{word} is for one library; restore the others by themselves.")
    plans: list[RestorePlan] = []
    taken: dict[Path, str] = {}
    promised: dict[int, int] = {}
    settings: dict[tuple[Path, str], str] = {}
    for name in names:
        plan = plan_restore(chest, name, choice=choice, progress=progress)
        extra: list[Finding] = []
        if plan.place is not None:
            if plan.place in taken:
                extra.append(
                    Finding(
                        "same-place",
                        "stop",
                        f"{shown(plan.bag)} and {shown(taken[plan.place])} would both go to {shown(str(plan.place))}.",
                        "Restore one of them by itself, elsewhere, with --into FOLDER.",
                    )
                )
            taken[plan.place] = plan.bag
            before = promised.get(plan.device, 0)
            if before and plan.need <= plan.free < before + plan.need:
                extra.append(
                    Finding(
                        "no-room",
                        "stop",
                        f"With those before it, {before + plan.need:,} bytes are needed where the library goes, and "
                        f"{plan.free:,} are free: {before + plan.need - plan.free:,} bytes are missing.",
                        "Free that much, or restore some of them to another drive with --into FOLDER.",
                    )
                )
            promised[plan.device] = before + plan.need
        # Of two libraries of one kind only one can be what the application's setting names.
        kept = [s for s in plan.settings if settings.setdefault((s.file, s.key), plan.bag) == plan.bag]
        plans.append(replace(plan, settings=tuple(kept), findings=weightiest_first((*plan.findings, *extra))))
    return tuple(plans)


def decisions(plan: RestorePlan) -> dict[str, Any]:
    """Return all that a plan decides, as JSON values: two plans with the same do the same."""
    meeting = plan.meeting
    actions = {
        "new": [file.path for file in meeting.writes],
        "already here": [file.path for file in (*meeting.same, *meeting.anew_already)],
        "left as it is here": [file.path for file in meeting.kept],
        "replaced": [file.path for file in meeting.replaced],
        "under another name": [f"{file.path} -> {other}" for file, other in meeting.beside],
        "joined": [file.path for file in meeting.joined],
    }
    proofs = sorted((file.path, file.source, file.size, file.proof[1].hex()) for file in plan.files)
    return {
        "library": plan.bag,
        "archived": plan.record.archived,
        "edition": plan.record.edition,
        "place": str(plan.place) if plan.place is not None else None,
        "in the way": meeting.mode,
        "set aside": [[str(old), str(new)] for old, new in meeting.set_aside],
        "files": {what: len(paths) for what, paths in actions.items()},
        "each file": _digest([proofs, {what: sorted(paths) for what, paths in actions.items()}]),
        "outside files": [[stray.origin, str(stray.place), stray.there] for stray in plan.strays],
        "links": _digest([list(map(list, plan.links)), list(map(list, plan.folders))]),
        "references": _digest([[r.source, r.spot, r.old, r.new] for r in plan.references.anew]),
        "references to write": len(plan.references.anew),
        "settings": [[str(s.file), s.key, s.old, s.new] for s in plan.settings],
        "stops": sorted(f"{f.code}: {f.what}" for f in plan.findings if f.weight == "stop"),
    }


def _digest(value: Any) -> str:
    return blake3(json.dumps(value, sort_keys=True, ensure_ascii=True).encode()).hexdigest()


class KeptPlan(msgspec.Struct, frozen=True):
    """A plan as it is kept in a file: for which chest and machine, what was chosen, and all that was decided."""

    format: int
    chest: str
    machine: str
    choice: RestoreChoice
    decisions: list[dict[str, Any]]


def kept_plan(chest: Chest, plans: Sequence[RestorePlan]) -> KeptPlan:
    """Return what is to be kept of plans, so that they can be followed later."""
    machine = this_machine(state_folder())
    return KeptPlan(FORMAT, chest.id, machine.id, plans[0].choice, [decisions(plan) for plan in plans])


def follow(chest: Chest, path: Path, *, progress: Progress = silent) -> tuple[RestorePlan, ...]:
    """Plan just what a kept plan says, or refuse because the world is another one.

    Parameters
    ----------
    chest : Chest
        The chest it was made for.
    path : Path
        The kept plan: what ``restore --plan --json`` printed.
    progress : Progress
        Told how far the comparing is.

    Raises
    ------
    WordsOff
        If the file is no kept plan.
    Refused
        If the chest, this machine, or anything the plan decided about is not as it was.
    """
    try:
        document = msgspec.json.decode(safe.read_bounded(path, _MOST))
        kept = msgspec.convert(document["kept"], KeptPlan)
        names = [str(one["library"]) for one in kept.decisions]
    except (OSError, ValueError, KeyError, TypeError, RecursionError, msgspec.MsgspecError) as error:
        raise WordsOff(
            f"{shown(str(path))} is no kept plan ({shown(str(error))}). One is made with: dunechest restore ... --plan --json"
        ) from error
    if kept.format > FORMAT:
        raise WordsOff(f"{shown(str(path))} is of a newer version of Dune Chest. Nothing was changed.")
    if kept.chest != chest.id:
        raise Refused("The plan was made for another chest. Nothing was changed.")
    if kept.machine != this_machine(state_folder()).id:
        raise Refused("The plan was made on another machine. Nothing was changed; make one here.")
    plans = plan_many(chest, names, kept.choice, progress=progress)
    for plan, then in zip(plans, kept.decisions, strict=True):
        now = decisions(plan)
        other = [key for key in now if now[key] != then.get(key)]
        if other:
            raise Refused(
                f"The world is not as the plan has it, so nothing was changed. In {shown(plan.bag)} these differ now: "
                f"{', '.join(other)}. Make a new plan and read it."
            )
    return plans


def check_names(chest: Chest, names: Iterable[str]) -> None:
    """Refuse names that a chest has not, before anything is planned."""
    for name in names:
        chest.bag(name)


def restorable(chest: Chest) -> tuple[str, ...]:
    """Return the names of all libraries of a chest that can be restored to a place of their own.

    Raises
    ------
    DuneChestError
        If there is none.
    """
    found = tuple(entry.name for entry in chest.bags() if entry.library is not None)
    if not found:
        raise DuneChestError(f"The chest {shown(chest.label)} holds no library that can be restored.")
    return found


def left_behind(chest: Chest) -> tuple[tuple[str, str], ...]:
    """Return what of a chest's libraries `restorable` leaves out, and why: each is one that a person may be missing."""
    found = []
    there = set()
    for entry in chest.bags():
        there.add(entry.name)
        if entry.library is None and entry.state != "foreign":
            found.append((entry.name, entry.why or entry.state))
    gone = memory.libraries_of(chest.id, identity(chest.folder)).keys() - there
    found += [(name, "it was archived in this chest, and its folder is gone") for name in sorted(gone)]
    return tuple(found)


def origin_folder(plan: RestorePlan) -> str:
    """Return the folder that the library was in on its machine."""
    return from_wire(plan.record.origin.path).replace("\\", "/").rstrip("/").rpartition("/")[0]
