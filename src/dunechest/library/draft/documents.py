"""Which texts of a library hold references: playlists, bibliographies, sidecars, pages, and keys of any document."""

from __future__ import annotations

import json
import re
from collections import defaultdict
from collections.abc import Iterator
from typing import Any

from dunechest.library.draft.observing import LOOKED_INTO, Ground, Observation, Sureness, ending, pattern_of, sort_of
from dunechest.library.formats.base import Raw, UnreadableError
from dunechest.library.formats.keyed import document_of
from dunechest.library.kinds.schema import Form, References
from dunechest.library.references.reading import READERS
from dunechest.regex import late
from dunechest.words import number

_BY_ENDING: dict[str, Form] = {
    ".m3u8": "m3u8",
    ".m3u": "m3u8",
    ".xspf": "xspf",
    ".bib": "bibtex",
    ".ris": "ris",
    ".xmp": "xmp",
    ".md": "markdown",
    ".markdown": "markdown",
    ".html": "html",
    ".htm": "html",
    ".svg": "html",
}
_KEYED: dict[str, Form] = {".json": "json", ".toml": "toml", ".ini": "ini", ".cfg": "ini", ".conf": "ini"}
_ENOUGH = 0.5
# What a basic string of TOML must not hold as it is; odd bytes of names become U+FFFD.
_TO_ESCAPE = late(r'["\\\x00-\x1f\x7f-\x9f]')


def text_references(ground: Ground) -> list[Observation]:
    """Find the files of known open formats that lead to files."""
    by_form: dict[tuple[Form, str], list[str]] = defaultdict(list)
    for path, file in ground.files.items():
        form = _BY_ENDING.get(ending(path))
        if form is not None and not file.placeholder and file.size <= LOOKED_INTO:
            by_form[form, ending(path)].append(path)
    found = []
    for (form, last), paths in sorted(by_form.items()):
        holding: list[str] = []
        hits = tried = 0
        for path in sorted(paths)[:500]:
            spec = References(form, (path,))
            try:
                raws = list(READERS[form](ground.folder / path, spec))
            except UnreadableError:
                continue
            states = [ground.resolver.resolve(raw, path.rpartition("/")[0]) for raw in raws]
            here = [t for t in states if t is not None and t.state not in ("missing", "away")]
            tried += sum(t is not None and t.state != "away" for t in states)
            hits += len(here)
            if here:
                holding.append(path)
        if holding:
            # The pattern is for all of the sort: one without references today may have some tomorrow.
            keys = (("from", form), ("files", [sort_of(sorted(paths))]))
            sureness: Sureness = "sure" if hits > tried * 0.9 else "likely"
            why = f"{hits} of {tried} references in {number(len(paths), last + ' file')} lead to a file"
            found.append(Observation("references", keys, sureness, why))
    return found


def keyed_references(ground: Ground) -> list[Observation]:
    """Find the keys of JSON, TOML and INI files whose values are paths, whatever the ending of the file."""
    groups: dict[tuple[str, Form], list[str]] = defaultdict(list)
    documents: dict[str, tuple[Form, Any]] = {}
    for path, file in sorted(ground.files.items()):
        read = _document(ground, path) if 0 < file.size <= 4 << 20 and not file.placeholder else None
        if read is not None and not is_bibliography(read[1]):  # that has a reader of its own
            documents[path] = read
            # Files of one name in many folders are of one sort, and so are those of one ending in one folder.
            groups[_sort(ground, path), read[0]].append(path)
    found: list[Observation] = []
    for (_, form), paths in sorted(groups.items()):
        found += _group(ground, form, paths, documents)
    return found


def _sort(ground: Ground, path: str) -> str:
    folder, _, name = path.rpartition("/")
    above = folder.rpartition("/")[0]
    return f"{above}//{name}" if ground.names[name] > 1 else f"{folder}//*{ending(path)}"


def _document(ground: Ground, path: str) -> tuple[Form, Any] | None:
    form = _KEYED.get(ending(path))
    if ending(path) in _BY_ENDING:
        return None
    if form is None:
        head = ground.head(path, 400)
        if b"\0" in head or not re.search(rb"^\s*[\w\"-]+\s*=", head, re.MULTILINE):
            return None
        form = "toml"
    try:
        return form, document_of(ground.folder / path, form)
    except UnreadableError:
        return None


def _group(
    ground: Ground, form: str, paths: list[str], documents: dict[str, tuple[Form, Any]]
) -> Iterator[Observation]:
    values: dict[tuple[str, ...], list[tuple[str, str]]] = defaultdict(list)
    for path in paths:
        for key, value in _strings(documents[path][1], ()):
            values[key].append((path, value))
    by_base: dict[str, list[tuple[str, int, int]]] = defaultdict(list)
    for key, pairs in sorted(values.items()):
        for written in ("", "."):
            hits = 0
            for path, value in pairs:
                base = path.rpartition("/")[0] if not written else ""
                hits += _is_path(value) and ground.leads(value, base) is not None
            if hits and hits >= len(pairs) * _ENOUGH:
                by_base[written].append((".".join(key), hits, len(pairs)))
                break
    for written, keys in by_base.items():
        lines: list[tuple[str, object]] = [("from", form), ("files", [pattern_of(paths)])]
        lines.append(("keys", [key for key, _, _ in keys]))
        if written:
            lines.append(("base", written))
        hits, tried = sum(k[1] for k in keys), sum(k[2] for k in keys)
        sureness: Sureness = "sure" if hits > tried * 0.9 and hits > 3 else "likely"
        yield Observation("references", tuple(lines), sureness, f"{hits} of {tried} values lead to a file")


def _is_path(value: str) -> bool:
    return 0 < len(value) < 4000 and ("/" in value or "\\" in value or "." in value.strip("."))


def _strings(document: Any, above: tuple[str, ...]) -> Iterator[tuple[tuple[str, ...], str]]:
    """Yield every text of a document with its key; lists, and tables of like tables, become a star."""
    if isinstance(document, str):
        yield above, document
    elif isinstance(document, list):
        for inner in document[:2000]:
            yield from _strings(inner, above if isinstance(inner, str) else (*above, "*"))
    elif isinstance(document, dict):
        inner_tables = [v for v in document.values() if isinstance(v, dict)]
        alike = len(inner_tables) == len(document) > 1 and len({frozenset(t) for t in inner_tables}) == 1
        texts = len(document) > 0 and above and all(isinstance(v, str) for v in document.values())
        for name, inner in list(document.items())[:2000]:
            if "." in str(name) and not alike:
                continue  # such a key cannot be said with dots
            star = alike or (texts and len(document) > 8)
            yield from _strings(inner, (*above, "*" if star else str(name)))


def is_bibliography(document: Any) -> bool:
    """Whether a JSON document is a list of CSL items: each a table with an id and a type."""
    return (
        isinstance(document, list)
        and bool(document)
        and all(isinstance(item, dict) and "id" in item and "type" in item for item in document[:50])
    )


def csl_references(ground: Ground) -> list[Observation]:
    """Find bibliographies in CSL-JSON."""
    found = []
    for path, file in sorted(ground.files.items()):
        if ending(path) != ".json" or file.placeholder or file.size > LOOKED_INTO:
            continue
        try:
            document = json.loads((ground.folder / path).read_bytes())
        except (OSError, ValueError, RecursionError):
            continue
        if is_bibliography(document):
            raws: list[Raw] = list(READERS["csl-json"](ground.folder / path, References("csl-json", (path,))))
            hits = sum(ground.leads(raw.text, path.rpartition("/")[0], uri=raw.uri) is not None for raw in raws)
            if hits:
                keys = (("from", "csl-json"), ("files", [path]))
                why = f"{hits} of {len(raws)} attachments lead to a file"
                found.append(Observation("references", keys, "sure", why))
    return found


def toml_text(value: object) -> str:
    """Return a value as TOML: text, or a list of texts."""
    if isinstance(value, str):
        value = re.sub("[\ud800-\udfff]", "\ufffd", value)
        return '"' + _TO_ESCAPE.sub(lambda found: f"\\u{ord(found.group()):04x}", value) + '"'
    if isinstance(value, (list, tuple)):
        return "[" + ", ".join(toml_text(item) for item in value) + "]"
    return str(value)
