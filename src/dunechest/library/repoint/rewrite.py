"""Write new references into a file, and believe it only when they can be read back.

A text file is not taken apart and put together again, which would change what a person or an application
wrote in its own way: where an old reference stands as a whole, the new one is put. Then the file is read as
before; if what comes is not exactly what was wanted, the file stays as it was.
"""

from __future__ import annotations

import json
import os
import re
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import quote, unquote
from xml.sax.saxutils import escape

from dunechest.library.formats.base import Raw, UnreadableError
from dunechest.library.formats.bibliographies import RIS_FIELDS, bibtex_fields
from dunechest.library.formats.markup import css_addresses
from dunechest.library.formats.typeset import COMMAND as LATEX_COMMAND
from dunechest.library.kinds.schema import References
from dunechest.library.references.reading import READERS
from dunechest.library.repoint.tables import rewrite_sqlite
from dunechest.regex import late
from dunechest.transfer import patient, safe

_MOST = 64 << 20


class NotRewrittenError(Exception):
    """Why a file could not be rewritten, in words; it is as it was."""


#: What the new text of each reference is, by where it is and its old text.
Wanted = Mapping[tuple[str, str], str]


def rewrite(path: Path, spec: References, wanted: Wanted) -> list[tuple[str, str, str]]:
    """Write new references into a file.

    Parameters
    ----------
    path : Path
        The file; it is replaced at the last moment, if at all. Its time becomes the present.
    spec : References
        How they are written.
    wanted : mapping
        New text by spot and old text.

    Returns
    -------
    list of tuple
        Spot and text of those that could not be written, and why.

    Raises
    ------
    NotRewrittenError
        If none could be.
    OSError
        If the system refuses.
    """
    if spec.form == "sqlite":
        try:
            return rewrite_sqlite(path, spec, wanted)
        except UnreadableError as error:
            raise NotRewrittenError(str(error)) from error
    try:
        content = safe.read_bounded(path, _MOST)
        before = list(READERS[spec.form](path, spec))
    except (OSError, ValueError, UnreadableError) as error:
        raise NotRewrittenError(str(error)) from error
    encoding = "utf-16" if content.startswith((b"\xff\xfe", b"\xfe\xff")) else "utf-8"
    errors = "strict" if encoding == "utf-16" else "surrogateescape"
    try:
        text = content.decode(encoding, errors)
    except UnicodeDecodeError as error:
        raise NotRewrittenError("it is neither UTF-8 nor UTF-16") from error
    new, left = _replaced(text, before, spec, wanted)
    if spec.form in ("json", "ipynb"):
        again = _json_anew(text, _cells if spec.form == "ipynb" else _keys, spec, wanted)
        new, left = (again, []) if again else (new, left)
    failed = {(spot, old) for spot, old, _ in left}
    expected = [
        reference.text if (key := (reference.spot, reference.text)) in failed else wanted.get(key, reference.text)
        for reference in before
    ]
    _replace(path, spec, new.encode(encoding, errors), list(zip(before, expected, strict=True)))
    return left


def _replace(path: Path, spec: References, content: bytes, expected: Sequence[tuple[Raw, str]]) -> None:
    """Write a file's new content beside it, and let it take its place if each reference in it reads as is expected."""
    beside = path.with_name(path.name[:200] + ".repointing")
    mode = path.stat().st_mode & 0o777
    try:
        safe.write_file(beside, content, mode=mode | 0o600)
        after = list(READERS[spec.form](beside, spec))
        for (old, text), now in zip(expected, after, strict=True):
            if now.text != text or now.spot != old.spot:
                raise NotRewrittenError("what was written did not come back as it should have")
        os.chmod(beside, mode)
        patient.replace(beside, path)
    except (ValueError, UnreadableError) as error:
        raise NotRewrittenError("what was written could not be read back") from error
    finally:
        patient.unlink(beside, missing_ok=True)


def _replaced(
    text: str, raws: Sequence[Raw], spec: References, wanted: Wanted
) -> tuple[str, list[tuple[str, str, str]]]:
    """Put new texts where old ones stand as a whole; return those that stand nowhere, too."""
    left = []
    pairs = {raw.text: wanted[raw.spot, raw.text] for raw in raws if (raw.spot, raw.text) in wanted}
    for raw in raws:
        key = (raw.spot, raw.text)
        if key in wanted and pairs.get(raw.text, "") != wanted[key]:
            left.append((raw.spot, raw.text, "it occurs twice in the file and would need two different values"))
            pairs.pop(raw.text, None)
    marks: dict[str, str] = {}
    for old, new in pairs.items():
        for spelling, other in _spellings(old, new, spec.form):
            marks.setdefault(spelling, other)
    if not marks:
        return text, left
    put = _putting(marks, spec.form)
    areas = _areas(text, spec)
    if areas is None:
        return put(text), left
    # Elsewhere a path is only mentioned: in a note, a remark, a title.
    pieces, place = [], 0
    for start, end in areas:
        pieces += [text[place:start], put(text[start:end])]
        place = end
    return "".join([*pieces, text[place:]]), left


def _putting(marks: Mapping[str, str], form: str) -> Callable[[str], str]:
    """Return what puts each new text where the old one stands as a whole."""
    alternatives = "|".join(re.escape(mark) for mark in sorted(marks, key=len, reverse=True))
    before, after = _BOUNDS[form]
    pattern = re.compile(f"{before}({alternatives}){after}", re.MULTILINE)
    return lambda piece: pattern.sub(lambda found: marks[found.group(1)], piece)


def _areas(text: str, spec: References) -> list[tuple[int, int]] | None:
    """Return where in a text references can stand; None for anywhere."""
    if spec.form == "bibtex":
        return list(bibtex_fields(text, spec))
    if spec.form == "ris":
        tags = "|".join(map(re.escape, spec.fields or RIS_FIELDS))
        return [found.span() for found in re.finditer(rf"^\s*(?:{tags})  ?-.*$", text, re.MULTILINE)]
    if spec.form in ("html", "svg"):
        values = [found.span(1) for found in _HTML_VALUE.finditer(text)]
        if spec.form == "svg":
            values += [span[:2] for span in css_addresses(text) if not any(a <= span[0] < b for a, b in values)]
        return sorted(values)
    if spec.form == "css":
        return [span[:2] for span in css_addresses(text)]
    if spec.form == "latex":
        return [found.span(2) for found in LATEX_COMMAND.finditer(text)]
    return None


_HTML_VALUE = late(
    r"""(?<![\w:-])(?:href|src|poster|data|xlink:href)\s*=\s*("[^"]*"|'[^']*'|[^\s>"']+)""", re.IGNORECASE
)


def _json_anew(text: str, change: Callable[[Any, References, Wanted], None], spec: References, wanted: Wanted) -> str:
    """Write a JSON text again where only the references change; empty if its way of writing is not known.

    So a text that stands elsewhere, too, in a history for example, stays there as it is.
    """
    lines = "\r\n" if text.count("\r\n") == text.count("\n") > 0 else "\n"
    text = text.replace(lines, "\n")
    try:
        document = json.loads(text)
    except (ValueError, RecursionError):
        return ""
    for indent in (None, 1, 2, 3, 4, "\t"):
        for compact in ((", ", ": "), (",", ":")) if indent is None else ((",", ": "),):
            for plain in (True, False):
                style = {"indent": indent, "separators": compact, "ensure_ascii": plain}
                made = json.dumps(document, **style)  # type: ignore[arg-type]
                if made == text.rstrip("\r\n"):
                    ending = text[len(made) :]
                    change(document, spec, wanted)
                    return (json.dumps(document, **style) + ending).replace("\n", lines)  # type: ignore[arg-type]
    return ""


def _keys(document: Any, spec: References, wanted: Wanted) -> None:
    """Put new texts where the keys of a kind lead."""
    for key in spec.keys:
        _put(document, tuple(key.split(".")), (), wanted)


def _cells(document: Any, spec: References, wanted: Wanted) -> None:
    """Put new texts into the cells of a notebook, into each what belongs there."""
    by_cell: dict[str, dict[str, str]] = {}
    for (spot, old), new in wanted.items():
        for spelling, other in _spellings(old, new, "markdown" if "," in spot else "lines"):
            by_cell.setdefault(spot.partition(",")[0], {}).setdefault(spelling, other)
    for number, cell in enumerate(document["cells"], start=1):
        if marks := by_cell.get(f"cell {number}"):
            source = cell["source"]
            put = _putting(marks, "ipynb")
            cell["source"] = [put(line) for line in source] if isinstance(source, list) else put(source)


def _put(document: Any, key: tuple[str, ...], above: tuple[str, ...], wanted: Wanted) -> None:
    """Put new texts where a key with dots and stars leads; the reverse of `keyed.values`."""
    head, *rest = key
    if isinstance(document, dict):
        chosen: list[Any] = list(document) if head in ("*", "**") else [head] if head in document else []
    elif isinstance(document, list) and head in ("*", "**"):
        chosen = list(range(len(document)))
    else:
        return
    for name in chosen:
        inner = document[name]
        spot = (*above, str(name + 1 if isinstance(document, list) else name))
        if head == "**":
            if isinstance(inner, str):
                document[name] = wanted.get((".".join(spot), inner), inner)
            else:
                _put(inner, key, spot, wanted)
        elif rest:
            _put(inner, tuple(rest), spot, wanted)
        elif isinstance(inner, str):
            document[name] = wanted.get((".".join(spot), inner), inner)
        elif isinstance(inner, list):
            for at, text in enumerate(inner):
                if isinstance(text, str):
                    inner[at] = wanted.get((".".join((*spot, str(at + 1))), text), text)


#: What must stand before and after a reference, for it to be a whole one.
_BOUNDS = {
    "m3u8": (r"(?:(?<=^)|(?<=^\ufeff))", r"(?=[ \t]*\r?$)"),
    "ris": (r"(?<=[-; ])", r"(?=[ \t]*(?:;|\r?$))"),
    "ini": (r"(?<=[=:\s])", r"(?=[ \t]*\r?$)"),
    "bibtex": (r"(?<=[{\";:\s=])", r"(?=[}\";:,\s])"),
    "json": ('(?<=")', '(?=")'),
    "csl-json": ('(?<=")', '(?=")'),
    "toml": (r"(?<=[\"'])", r"(?=[\"'])"),
    "xspf": (r"(?<=[>\s])", r"(?=[<\s])"),
    "xmp": (r"(?<=[>\"'\s])", r"(?=[<\"'\s])"),
    "html": (r"(?:(?<=[\"'\s])|\A)", r"(?=[\"'\s]|\Z)"),
    "svg": (r"(?:(?<=[\"'\s])|\A)", r"(?=[\"'\s]|\Z)"),
    "css": (r"\A", r"(?=\s*\Z)"),
    "latex": (r"(?:(?<=[,\"\s])|\A)", r"(?=[,\"\s]|\Z)"),
    "pls": (r"(?<=[=\s])", r"(?=[ \t]*\r?$)"),
    "includes": (r"(?<=[\s\"'<])", r"(?=[\s\"'>;]|$)"),
    "lines": (r"(?:(?<=^)|(?<=: ))", r"(?=[ \t]*\r?$)"),
    "ipynb": (r"(?<=[\"'(<=\s])", r"(?=[\\\"')>\s])"),
    "markdown": (r"(?<=[(<\"'\s=\[])", r"(?=[)>\"'\s\]|#])"),
}


def _spellings(old: str, new: str, form: str) -> list[tuple[str, str]]:
    """Return the ways in which the old text may stand in the file, each with the new one spelled likewise."""
    spellings: list[Callable[[str], str]] = [lambda text: text]
    if form in ("json", "csl-json", "ipynb"):
        spellings = [
            lambda text: json.dumps(text, ensure_ascii=False)[1:-1],
            lambda text: json.dumps(text)[1:-1],
            lambda text: json.dumps(text)[1:-1].replace("/", "\\/"),
            lambda text: json.dumps(text, ensure_ascii=False)[1:-1].replace("/", "\\/"),
        ]
    elif form == "toml":
        spellings.insert(0, lambda text: json.dumps(text, ensure_ascii=False)[1:-1])
    elif form in ("xspf", "xmp", "html", "svg"):
        spellings = [
            lambda text: escape(text, {'"': "&quot;", "'": "&apos;"}),
            lambda text: escape(text, {'"': "&quot;"}),
            escape,
            lambda text: text,
        ]
    elif form == "bibtex":
        spellings.append(lambda text: re.sub(r"([:;\\])", r"\\\1", text))
    elif form == "markdown":
        spellings += [
            unquote,
            lambda text: text.replace("%20", " "),
            lambda text: quote(unquote(text), safe="/:@!$&'()*+,;=~-._#?"),
        ]
    found: dict[str, str] = {}
    for spell in spellings:
        if spell(old):
            found.setdefault(spell(old), spell(new))
    return list(found.items())
