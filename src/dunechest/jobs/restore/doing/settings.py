"""Update the application's setting that names the library."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

from blake3 import blake3

from dunechest.jobs.restore.doing.folders import make_above
from dunechest.ledger.past_changes import Made, OpenChange, Rewritten, Working
from dunechest.library.kinds.schema import References
from dunechest.library.repoint.rewrite import NotRewrittenError, rewrite
from dunechest.library.settings import form_of, setting_in
from dunechest.model.restore import SettingChange
from dunechest.names import shown, to_wire
from dunechest.transfer import disk, patient, safe
from dunechest.transfer.digest_files import digest_of


def write_setting(change: SettingChange, past_change: OpenChange) -> str:
    """Have an application's setting name the library; return why not, or nothing.

    Its file is made if there is none, since a freshly installed application has none before its first start.
    """
    file = Path(os.path.realpath(change.file))  # a link to where somebody keeps all settings stays one
    try:
        if setting_in(file, change.key) != change.old_text:
            return f"{shown(str(file))} has changed meanwhile; it is left alone"
        if not os.path.lexists(file):
            make_above(file.parent, past_change)
            content = _new_settings(form_of(file), change.key, change.new)
            past_change.will(Made(to_wire(str(file)), len(content), -1, blake3(content).hexdigest()))
            safe.write_file(file, content)
            return ""
        info = file.stat()
        kept = past_change.keep(file)
        beside = file.with_name(file.name[:200] + ".repointing")
        past_change.will(Working(to_wire(str(beside))))
        try:
            safe.write_file(beside, file.read_bytes(), mode=info.st_mode & 0o777)
            _set(beside, form_of(file), change)
            step = Rewritten(
                to_wire(str(file)), kept, info.st_mode & 0o7777, info.st_mtime_ns, digest_of(beside), "setting"
            )
            past_change.will(step)
            patient.replace(beside, file)
            disk.flush_folder(file.parent)
        finally:
            patient.unlink(beside, missing_ok=True)
    except (OSError, NotRewrittenError, ValueError) as error:
        return f"{shown(str(file))} could not be written ({error}); choose the library in the application's settings"
    return ""


def _set(file: Path, form: str, change: SettingChange) -> None:
    if change.old_text:
        # One value among others a person may have written: only that one is changed.
        spec = References(form=form, files=(file.name,), keys=(change.key,))  # type: ignore[arg-type]
        left = rewrite(file, spec, {(change.key, change.old_text): change.new})
        if left:
            raise NotRewrittenError(left[0][2])
        return
    text = file.read_text(encoding="utf-8")
    if form == "json":
        document = json.loads(text) if text.strip() else {}
        _put(document, change.key.split("."), change.new)
        text = json.dumps(document, indent=2, ensure_ascii=False) + "\n"
    else:
        text = _with_key(text, form, change.key, change.new)
    safe.write_file(file, text.encode(), mode=file.stat().st_mode & 0o777)
    if setting_in(file, change.key, form) != change.new:
        raise NotRewrittenError("the key could not be added")


def _put(document: Any, names: list[str], value: str) -> None:
    for name in names[:-1]:
        document = document.setdefault(name, {})
    if not isinstance(document, dict):
        raise NotRewrittenError("the key is in something that is not a table")
    document[names[-1]] = value


def _with_key(text: str, form: str, key: str, value: str) -> str:
    *tables, name = key.split(".")
    line = f"{name} = {json.dumps(value, ensure_ascii=False) if form == 'toml' else value}\n"
    if not tables:
        return line + text
    header = f"[{'.'.join(tables)}]"
    lines = text.splitlines(keepends=True)
    for at, item in enumerate(lines):
        if item.strip() == header:
            return "".join([*lines[: at + 1], line, *lines[at + 1 :]])
    return text + ("" if text.endswith("\n") or not text else "\n") + f"{header}\n{line}"


def _new_settings(form: str, key: str, value: str) -> bytes:
    if form == "json":
        document: dict[str, Any] = {}
        _put(document, key.split("."), value)
        return (json.dumps(document, indent=2, ensure_ascii=False) + "\n").encode()
    return _with_key("", form, key if "." in key or form == "toml" else f"settings.{key}", value).encode()
