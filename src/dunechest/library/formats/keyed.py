"""Keys of JSON, TOML and INI files whose values are paths."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from dunechest.library.formats.base import LONGEST, MOST, Raw, UnreadableError, text_of
from dunechest.library.kinds.schema import References

_MOST_SETTINGS = 4 << 20


def read_keyed(path: Path, spec: References) -> Iterator[Raw]:
    """Read the values of the keys that the kind file names."""
    document = document_of(path, spec.form)
    for key in spec.keys:
        for spot, value in values(document, tuple(key.split(".")), ()):
            yield Raw(spot, value)


def document_of(path: Path, form: str) -> Any:
    """Read a whole JSON, TOML or INI file into plain values.

    Raises
    ------
    UnreadableError
        If it is not what it should be.
    """
    import configparser

    text = text_of(path, MOST if form == "json" else _MOST_SETTINGS)
    try:
        if form == "json":
            return json.loads(text)
        if any(len(line) > LONGEST for line in text.split("\n")):
            raise UnreadableError("it has a line too long for anything that is written by hand")
        if form == "toml":
            import tomllib

            return tomllib.loads(text)
        parser = configparser.RawConfigParser(strict=False, allow_no_value=True)
        parser.optionxform = str  # type: ignore[assignment, method-assign]
        parser.read_string(text)
        return {section: dict(parser[section]) for section in parser.sections()}
    except (ValueError, RecursionError, configparser.Error) as error:
        raise UnreadableError(f"it is not {form.upper()}: {str(error).splitlines()[0]}") from error


def values(document: Any, key: tuple[str, ...], above: tuple[str, ...]) -> Iterator[tuple[str, str]]:
    """Yield where, and the text, of every value that a key with dots and stars leads to."""
    if not key:
        if isinstance(document, str) and document.strip():
            yield ".".join(above), document
        elif isinstance(document, list):
            for index, inner in enumerate(document, start=1):
                if isinstance(inner, str) and inner.strip():
                    yield ".".join((*above, str(index))), inner
        return
    head, *rest = key
    if head == "**":
        yield from _anywhere(document, above)
        return
    if isinstance(document, dict):
        chosen = document.items() if head == "*" else [(head, document[head])] if head in document else []
        for name, inner in chosen:
            yield from values(inner, tuple(rest), (*above, str(name)))
    elif isinstance(document, list) and head == "*":
        for index, inner in enumerate(document, start=1):
            yield from values(inner, tuple(rest), (*above, str(index)))


def _anywhere(document: Any, above: tuple[str, ...]) -> Iterator[tuple[str, str]]:
    """Yield where, and the text, of every value at any depth."""
    if isinstance(document, str):
        if document.strip() and len(document) <= LONGEST:
            yield ".".join(above), document
    elif isinstance(document, dict):
        for name, inner in document.items():
            yield from _anywhere(inner, (*above, str(name)))
    elif isinstance(document, list):
        for index, inner in enumerate(document, start=1):
            yield from _anywhere(inner, (*above, str(index)))
