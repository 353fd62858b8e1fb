"""Markup: Markdown and HTML links, XMP properties; and XML read so that no entity can swell."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from html.parser import HTMLParser
from pathlib import Path
from typing import Any
from xml.etree.ElementTree import Element, ParseError

from dunechest.library.kinds import References
from dunechest.library.references.base import MOST, Raw, Unread, text_of
from dunechest.transfer import safe

#: Properties of XMP that name a file: stRef:filePath, stMfs:reference, and their like.
_XMP_FIELDS = ("filePath", "reference", "SidecarForFile")
_HTML_ATTRIBUTES = frozenset({"href", "src", "poster", "data", "xlink:href"})


def xml_events(path: Path) -> Iterator[tuple[str, Element]]:
    """Yield local name and element of an XML file as each ends, and forget it.

    Raises
    ------
    Unread
        If it is not XML, is too large, or declares entities.
    """
    import defusedxml
    from defusedxml.ElementTree import iterparse

    try:
        with os.fdopen(safe.open_regular(path), "rb") as file:
            if os.fstat(file.fileno()).st_size > MOST:
                raise Unread(f"it is larger than {MOST:,} bytes")
            for _, element in iterparse(file, forbid_dtd=False):
                yield element.tag.rpartition("}")[2], element
                element.clear()
    except OSError as error:
        raise Unread(f"it cannot be read: {error.strerror}") from error
    except defusedxml.DefusedXmlException as error:
        raise Unread("it declares entities, which no such file needs") from error
    except (ParseError, ValueError, LookupError) as error:
        raise Unread(f"it is not XML: {error}") from error


def read_xmp(path: Path, spec: References) -> Iterator[Raw]:
    """Read an XMP sidecar: properties that name a file, as elements or attributes (ISO 16684-1)."""
    wanted = spec.fields or _XMP_FIELDS
    for name, element in xml_events(path):
        for attribute, value in element.attrib.items():
            local = attribute.rpartition("}")[2]
            if local in wanted and value.strip():
                yield Raw(local, value.strip())
        if name in wanted and (element.text or "").strip():
            yield Raw(name, (element.text or "").strip())


class _Links(HTMLParser):
    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.found: list[Raw] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        for name, value in attrs:
            if name in _HTML_ATTRIBUTES and value and value.strip() and not value.startswith("#"):
                self.found.append(Raw(f"line {self.getpos()[0]}", value.strip(), True))


def read_html(path: Path, spec: References) -> Iterator[Raw]:
    """Read the links and sources of an HTML or SVG file."""
    return _html(text_of(path))


def _html(text: str, first: int = 0) -> Iterator[Raw]:
    parser = _Links()
    try:
        parser.feed(text)
        parser.close()
    except (ValueError, AssertionError) as error:
        raise Unread(f"it is not HTML: {error}") from error
    for raw in parser.found:
        yield raw._replace(spot=f"line {int(raw.spot[5:]) + first}")


def read_markdown(path: Path, spec: References) -> Iterator[Raw]:
    """Read the links and images of a Markdown file (CommonMark), and the HTML in it."""
    from markdown_it import MarkdownIt

    parser = MarkdownIt("commonmark")
    # Which addresses a page may link to is a page's concern; here all are only looked at.
    parser.validateLink = lambda url: True  # type: ignore[method-assign]
    for token in parser.parse(text_of(path)):
        first = token.map[0] if token.map else 0
        for inner in [token, *(token.children or ())]:
            yield from _markdown_token(inner, first)


def _markdown_token(token: Any, first: int) -> Iterator[Raw]:
    if token.type in ("html_block", "html_inline"):
        yield from _html(token.content, first)
        return
    target = token.attrGet("href") or token.attrGet("src")
    if isinstance(target, str) and target and not target.startswith("#"):
        yield Raw(f"line {first + 1}", re.sub(r"\s+", " ", target), True)
