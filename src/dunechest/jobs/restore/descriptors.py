"""Descriptors that say what is in a folder, held against the folder."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path

from dunechest.library.formats.base import UnreadableError
from dunechest.library.formats.keyed import document_of, values
from dunechest.library.kinds.patterns import Patterns
from dunechest.library.kinds.schema import Kind
from dunechest.names import shown, why_unsafe


def folder_named(descriptor: Path, form: str, key: str) -> str:
    """Return the folder that a descriptor speaks of, a path in the library; empty if it names none that may be used."""
    try:
        document = document_of(descriptor, form)
    except UnreadableError:
        return ""
    folder = next((text for _, text in values(document, tuple(key.split(".")), ())), "")
    return folder if why_unsafe(folder) is None else ""


def agreements_in(
    kind: Kind, root: Path, paths: Iterable[str], sizes: Mapping[str, int], names: Mapping[str, str]
) -> list[tuple[str, str]]:
    """Return the folder of each descriptor, and what is wrong with it; nothing if the two agree."""
    found = []
    for spec in kind.agreements:
        for path in Patterns(spec.files).among(paths):
            try:
                document = document_of(root / path, spec.form)
            except UnreadableError as error:
                found.append(("", f"{shown(path)}: {error}"))
                continue
            folder = next((text for _, text in values(document, tuple(spec.folder.split(".")), ())), "")
            if not folder or why_unsafe(folder) is not None:
                found.append(("", f"{shown(path)} does not name a folder"))
                continue
            folder = names.get(folder, folder)
            inside = [size for file, size in sizes.items() if file.startswith(folder + "/")]
            said = (_number(document, spec.count), _number(document, spec.bytes))
            is_now = (len(inside) if spec.count else None, sum(inside) if spec.bytes else None)
            why = "" if said == is_now else f"{shown(folder)} does not match what {shown(path)} says"
            found.append((folder, why))
    return found


def _number(document: object, key: str) -> int | None:
    if not key:
        return None
    for name in key.split("."):
        document = document.get(name) if isinstance(document, dict) else None
    return document if isinstance(document, int) and not isinstance(document, bool) else -1
