"""Join two catalogues, bibliographies or indexes."""

from __future__ import annotations

import codecs
import configparser
import json
import re
from collections.abc import Collection
from pathlib import Path
from typing import Any

import msgspec

from dunechest.library.formats.base import UnreadableError, text_of
from dunechest.library.formats.bibliographies import bibtex_spans
from dunechest.library.formats.keyed import document_of
from dunechest.library.join import rows
from dunechest.library.join.rows import join_rows
from dunechest.library.kinds.patterns import Patterns
from dunechest.library.kinds.schema import Joins, Kind
from dunechest.transfer import safe


class Joined(msgspec.Struct, frozen=True):
    """What joining brought: things `added`, and things that are in both and differ, by name."""

    added: int
    differ: tuple[str, ...] = ()


class NotMergedError(Exception):
    """Why two files cannot be made one, in words; neither was changed."""


def joins_of(kind: Kind, path: str) -> Joins | None:
    """Return how a file of a library can be joined; None if the kind does not say."""
    return next((item for item in kind.joins if Patterns(item.files).match(path)), None)


def join(
    kind: Kind, spec: Joins, here: Path, other: Path, parts: Collection[str], files: Collection[str], *, theirs: bool
) -> Joined:
    """Bring what `other` holds into `here`.

    Parameters
    ----------
    kind : Kind
        The library's kind.
    spec : Joins
        How such files are joined.
    here, other : Path
        Two files; `here` is changed, `other` is not.
    parts : collection of str
        Names of the parts that are brought along; everything if empty.
    files : collection of str
        The paths of those parts' files in the library.
    theirs : bool
        Whether `other` wins where both have a thing and it differs.

    Raises
    ------
    NotMergedError
        If one of them is not what it should be.
    """
    try:
        if spec.form == "sqlite":
            return Joined(*join_rows(kind, spec, here, other, parts, theirs=theirs))
        if spec.form == "bibtex":
            return _bibliography(kind, here, other, parts, theirs=theirs)
        if spec.form == "json":
            return _json(spec, here, other, files if parts else None, theirs=theirs)
        return _ini(spec, here, other, theirs=theirs)
    except (UnreadableError, OSError, ValueError) as error:
        raise NotMergedError(str(error)) from error


def only_parts(kind: Kind, spec: Joins, path: Path, parts: Collection[str], files: Collection[str]) -> int:
    """Take from a file what belongs to other parts; return how many things went.

    Raises
    ------
    NotMergedError
        If it is not what it should be; it was not changed.
    """
    try:
        if spec.form == "sqlite":
            return rows.only_parts(kind, spec, path, parts)
        if spec.form == "bibtex":
            return _only_entries(kind, path, parts)
        return _only_keys(spec, path, files) if spec.form == "json" else 0
    except (UnreadableError, OSError, ValueError) as error:
        raise NotMergedError(str(error)) from error


def without_parts(
    kind: Kind, spec: Joins, path: Path, parts: Collection[str], files: Collection[str], stay: Collection[str]
) -> int:
    """Take from a file what belongs to some parts and to nothing else; return how many things went.

    The inverse of `join`: what other parts have, too, stays.

    Parameters
    ----------
    kind, spec, path
        As for `only_parts`.
    parts : collection of str
        Names of the parts.
    files : collection of str
        The files that go with them.
    stay : collection of str
        Spots of a database that lead to files which stay.

    Raises
    ------
    NotMergedError
        If it is not what it should be; it was not changed.
    """
    try:
        if spec.form == "sqlite":
            return rows.without_parts(kind, spec, path, parts, stay)
        if spec.form == "bibtex":
            return _without_entries(kind, path, parts)
        return _without_keys(spec, path, files) if spec.form == "json" else _without_lines(spec, path, files)
    except (UnreadableError, OSError, ValueError) as error:
        raise NotMergedError(str(error)) from error


def _without_entries(kind: Kind, path: Path, parts: Collection[str]) -> int:
    field = next((part.field for part in kind.parts if part.form == "bibtex"), "")
    text = text_of(path)
    kept, place, gone = [], 0, 0
    for entry, start, end in bibtex_spans(text):
        names = {name.strip() for name in entry.fields.get(field.lower(), "").split(",")} - {""}
        if field and names and names <= set(parts):
            kept.append(text[place:start])
            place = end
            gone += 1
    if gone:
        _write(path, "".join([*kept, text[place:]]))
    return gone


def _without_keys(spec: Joins, path: Path, files: Collection[str]) -> int:
    document = document_of(path, "json")
    gone = 0
    for key in spec.keys:
        table = _table(document, key)
        for name in [name for name, value in table.items() if any(text in files for text in _texts(value))]:
            del table[name]
            gone += 1
    if gone:
        _write_json(path, document)
    return gone


def _without_lines(spec: Joins, path: Path, files: Collection[str]) -> int:
    document, text = document_of(path, "ini"), text_of(path)
    gone = 0
    for section in spec.keys:
        for name, value in document.get(section, {}).items():
            if str(value) in files:
                text, count = re.subn(
                    rf"^{re.escape(name)}[ \t]*[=:][ \t]*{re.escape(str(value))}[ \t]*\r?\n?",
                    "",
                    text,
                    flags=re.MULTILINE,
                )
                gone += count
    if gone:
        _write(path, text)
    return gone


def _only_entries(kind: Kind, path: Path, parts: Collection[str]) -> int:
    field = next((part.field for part in kind.parts if part.form == "bibtex"), "")
    text = text_of(path)
    kept, place, gone = [], 0, 0
    for entry, start, end in bibtex_spans(text):
        names = {name.strip() for name in entry.fields.get(field.lower(), "").split(",")}
        if field and names.isdisjoint(parts):
            kept.append(text[place:start])
            place = end
            gone += 1
    if gone:
        _write(path, "".join([*kept, text[place:]]))
    return gone


def _only_keys(spec: Joins, path: Path, files: Collection[str]) -> int:
    document = document_of(path, "json")
    gone = 0
    for key in spec.keys:
        table = _table(document, key)
        for name in [name for name, value in table.items() if not any(text in files for text in _texts(value))]:
            del table[name]
            gone += 1
    if gone:
        _write_json(path, document)
    return gone


def _write_json(path: Path, document: Any) -> None:
    """Write a JSON document the way the old one was written."""
    text = text_of(path)
    indent = re.search(r"^[{\[]\r?\n([ \t]+)", text)
    made = json.dumps(document, ensure_ascii=text.isascii(), indent=indent.group(1) if indent else None)
    _write(path, made + ("\n" if text.endswith("\n") else ""))


def _write(path: Path, text: str) -> None:
    """Write a text in place of an old one, with the mark at its beginning (BOM) if that had one."""
    mode = path.stat().st_mode & 0o777
    with path.open("rb") as file:
        mark = codecs.BOM_UTF8 if file.read(3) == codecs.BOM_UTF8 else b""
    safe.write_file(path, mark + text.encode("utf-8", "surrogateescape"), mode=mode | 0o600)


def _line_end(text: str) -> str:
    """Return how the lines of a text end: as most programs of one system write them."""
    return "\r\n" if "\r\n" in text else "\n"


def _bibliography(kind: Kind, here: Path, other: Path, parts: Collection[str], *, theirs: bool) -> Joined:
    text = text_of(here)
    known = {entry.key: text[start:end] for entry, start, end in bibtex_spans(text)}
    theirs_text = text_of(other)
    field = next((part.field for part in kind.parts if part.form == "bibtex"), "")
    added, differ = [], []
    for entry, start, end in bibtex_spans(theirs_text):
        names = {name.strip() for name in entry.fields.get(field.lower(), "").split(",")} if field else set()
        if parts and names.isdisjoint(parts):
            continue
        written = theirs_text[start:end]
        if entry.key not in known:
            added.append(written)
            known[entry.key] = written
        elif known[entry.key].split() != written.split():
            differ.append(entry.key)
            if theirs:
                text = text.replace(known[entry.key], written, 1)
                known[entry.key] = written
    if added or (theirs and differ):
        lines_end = _line_end(text)
        tail = "" if not added else ("" if text.endswith("\n") or not text else "\n") + "\n".join(["", *added]) + "\n"
        _write(here, text + re.sub(r"\r?\n", lines_end, tail))
    return Joined(len(added), tuple(differ))


def _json(spec: Joins, here: Path, other: Path, files: Collection[str] | None, *, theirs: bool) -> Joined:
    document, arriving = document_of(here, "json"), document_of(other, "json")
    added, differ = 0, []
    for key in spec.keys:
        mine, others = _table(document, key), _table(arriving, key)
        for name, value in others.items():
            # Of a part only what speaks of its files is included.
            if files is not None and not any(text in files for text in _texts(value)):
                continue
            if name not in mine:
                mine[name] = value
                added += 1
            elif mine[name] != value:
                differ.append(name)
                if theirs:
                    mine[name] = value
    if added or (theirs and differ):
        _write_json(here, document)
    return Joined(added, tuple(differ))


def _table(document: Any, key: str) -> dict[str, Any]:
    for name in key.split("."):
        if not isinstance(document, dict):
            break
        document = document.setdefault(name, {})
    if not isinstance(document, dict):
        raise ValueError(f"{key} is not a table in both files")
    return document


def _texts(value: Any) -> list[str]:
    if isinstance(value, str):
        return [value]
    inner = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
    return [text for item in inner for text in _texts(item)]


def _ini(spec: Joins, here: Path, other: Path, *, theirs: bool) -> Joined:
    document, arriving = document_of(here, "ini"), document_of(other, "ini")
    text = text_of(here)
    end = _line_end(text)
    added, differ = 0, []
    for section in spec.keys:
        mine, others = document.get(section, {}), arriving.get(section, {})
        lines = []
        for name, value in others.items():
            if name not in mine:
                lines.append(f"{name} = {value}{end}")
            elif mine[name] != value:
                differ.append(name)
                if theirs:
                    text = _with_value(text, section, name, str(mine[name]), str(value))
        added += len(lines)
        if lines:
            header = re.search(rf"^\[{re.escape(section)}\][^\n]*\n", text, re.MULTILINE)
            if header is None:
                text += ("" if text.endswith("\n") or not text else end) + f"[{section}]{end}" + "".join(lines)
            else:
                text = text[: header.end()] + "".join(lines) + text[header.end() :]
    if added or (theirs and differ):
        check = configparser.RawConfigParser(strict=False, allow_no_value=True)
        check.read_string(text)
        _write(here, text)
    return Joined(added, tuple(differ))


def _with_value(text: str, section: str, name: str, old: str, new: str) -> str:
    """Put a value in place of another one in one section; how the lines end stays as it is."""
    header = re.search(rf"^\[{re.escape(section)}\][^\n]*\n", text, re.MULTILINE)
    if header is None:
        return text
    following = re.compile(r"^\[", re.MULTILINE).search(text, header.end())
    last = following.start() if following is not None else len(text)
    pattern = re.compile(rf"^({re.escape(name)}[ \t]*[=:][ \t]*){re.escape(old)}(?=[ \t]*\r?$)", re.MULTILINE)
    inner = pattern.sub(lambda found: f"{found.group(1)}{new}", text[header.end() : last])
    return text[: header.end()] + inner + text[last:]
