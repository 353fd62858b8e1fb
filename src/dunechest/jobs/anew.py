"""Write references and settings anew, keep what was there before, and write down each."""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from blake3 import blake3

from dunechest.jobs.repointing import ByHand, Repoint, SettingChange, form_of, said
from dunechest.ledger.deeds import Made, MadeFolder, OpenDeed, Rewritten, Working
from dunechest.library.formats.base import Unread
from dunechest.library.kinds.schema import Kind, References
from dunechest.library.references.reading import READERS
from dunechest.library.repoint.rewrite import NotRewritten, rewrite
from dunechest.names import shown, to_wire
from dunechest.transfer import safe


def digest_of(path: Path) -> str:
    """Return a file's BLAKE3 digest in hexadecimal."""
    whole = blake3()
    with os.fdopen(safe.open_regular(path), "rb") as file:
        while piece := file.read(1 << 20):
            whole.update(piece)
    return whole.hexdigest()


@dataclass(frozen=True, slots=True)
class Anew:
    """What was written anew in files, and what has to be done by hand."""

    done: tuple[Repoint, ...]
    by_hand: tuple[ByHand, ...]
    steps: tuple[Rewritten, ...]


def write_references(
    kind: Kind,
    wanted: Iterable[Repoint],
    at: Callable[[str], Path | None],
    final: Callable[[str], Path],
    deed: OpenDeed,
) -> Anew:
    """Write the references of files anew.

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
    deed : OpenDeed
        Keeps the files as they were.

    Returns
    -------
    Anew
        The steps are not yet written down: the file may still be on its way to its place.
    """
    by_file: dict[tuple[str, int], list[Repoint]] = {}
    for one in wanted:
        by_file.setdefault((one.source, one.spec), []).append(one)
    done: list[Repoint] = []
    by_hand: list[ByHand] = []
    before: dict[str, tuple[str, int, int]] = {}
    for (source, spec), ones in by_file.items():
        path = at(source)
        if path is None:
            continue
        try:
            if source not in before:
                info = path.stat()
                before[source] = (deed.keep(path), info.st_mode & 0o7777, info.st_mtime_ns)
            there = {(raw.spot, raw.text) for raw in READERS[kind.references[spec].form](path, kind.references[spec])}
            ones = [one for one in ones if (one.spot, one.old) in there]
            left = rewrite(path, kind.references[spec], {(one.spot, one.old): one.new for one in ones})
        except (NotRewritten, Unread, OSError) as error:
            why = f"the file could not be rewritten ({error})"
            by_hand += [ByHand(source, one.spot, one.old, f"{why}; it should be: {one.new}") for one in ones]
            continue
        failed = {(spot, text): why for spot, text, why in left}
        for one in ones:
            why = failed.get((one.spot, one.old), "")
            if why:
                by_hand.append(ByHand(source, one.spot, one.old, f"{why}; it should be: {one.new}"))
            else:
                done.append(one)
    steps = []
    for source, (kept, mode, mtime_ns) in before.items():
        path = at(source)
        assert path is not None
        steps.append(Rewritten(to_wire(str(final(source))), kept, mode, mtime_ns, digest_of(path), "references"))
    return Anew(tuple(done), tuple(by_hand), tuple(steps))


def write_setting(change: SettingChange, deed: OpenDeed) -> str:
    """Have an application's setting name the library; return why not, or nothing.

    Its file is made if there is none, since a freshly installed application has none before its first start.
    """
    file = Path(os.path.realpath(change.file))  # a link to where somebody keeps all settings stays one
    try:
        if said(file, change.key) != change.old:
            return f"{shown(str(file))} says something else by now; it is left alone"
        if not os.path.lexists(file):
            make_above(file.parent, deed)
            content = _new_settings(form_of(file), change.key, change.new)
            deed.will(Made(to_wire(str(file)), len(content), -1, blake3(content).hexdigest()))
            safe.write_file(file, content)
            return ""
        info = file.stat()
        kept = deed.keep(file)
        beside = file.with_name(file.name[:200] + ".repointing")
        deed.will(Working(to_wire(str(beside))))
        try:
            safe.write_file(beside, file.read_bytes(), mode=info.st_mode & 0o777)
            _set(beside, form_of(file), change)
            step = Rewritten(
                to_wire(str(file)), kept, info.st_mode & 0o7777, info.st_mtime_ns, digest_of(beside), "setting"
            )
            deed.will(step)
            os.replace(beside, file)
        finally:
            beside.unlink(missing_ok=True)
    except (OSError, NotRewritten, ValueError) as error:
        return f"{shown(str(file))} could not be written ({error}); choose the library in the application's settings"
    return ""


def make_above(folder: Path, deed: OpenDeed) -> None:
    """Make a folder and those above it that are not there."""
    missing = []
    while not folder.is_dir():
        missing.append(folder)
        folder = folder.parent
    for one in reversed(missing):
        deed.will(MadeFolder(to_wire(str(one))))
        one.mkdir()


def _set(file: Path, form: str, change: SettingChange) -> None:
    if change.old:
        # One value among others a person may have written: only that one is changed.
        spec = References(form=form, files=(file.name,), keys=(change.key,))  # type: ignore[arg-type]
        left = rewrite(file, spec, {(change.key, change.old): change.new})
        if left:
            raise NotRewritten(left[0][2])
        return
    text = file.read_text(encoding="utf-8")
    if form == "json":
        document = json.loads(text) if text.strip() else {}
        _put(document, change.key.split("."), change.new)
        text = json.dumps(document, indent=2, ensure_ascii=False) + "\n"
    else:
        text = _with_key(text, form, change.key, change.new)
    safe.write_file(file, text.encode(), mode=file.stat().st_mode & 0o777)
    if said(file, change.key, form) != change.new:
        raise NotRewritten("the key could not be put in")


def _put(document: Any, names: list[str], value: str) -> None:
    for name in names[:-1]:
        document = document.setdefault(name, {})
    if not isinstance(document, dict):
        raise NotRewritten("the key lies in something that is no table")
    document[names[-1]] = value


def _with_key(text: str, form: str, key: str, value: str) -> str:
    *tables, name = key.split(".")
    line = f"{name} = {json.dumps(value, ensure_ascii=False) if form == 'toml' else value}\n"
    if not tables:
        return line + text
    header = f"[{'.'.join(tables)}]"
    lines = text.splitlines(keepends=True)
    for at, one in enumerate(lines):
        if one.strip() == header:
            return "".join([*lines[: at + 1], line, *lines[at + 1 :]])
    return text + ("" if text.endswith("\n") or not text else "\n") + f"{header}\n{line}"


def _new_settings(form: str, key: str, value: str) -> bytes:
    if form == "json":
        document: dict[str, Any] = {}
        _put(document, key.split("."), value)
        return (json.dumps(document, indent=2, ensure_ascii=False) + "\n").encode()
    return _with_key("", form, key if "." in key or form == "toml" else f"settings.{key}", value).encode()
