"""Markup: links of Markdown, HTML, SVG and CSS, XMP properties; and XML read so that no entity can swell."""

from __future__ import annotations

import functools
import os
import re
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from dunechest.library.formats.base import MOST, PATIENCE, Raw, UnreadableError, lines_of, text_of
from dunechest.library.kinds.schema import References
from dunechest.regex import late
from dunechest.transfer import safe
from dunechest.transfer.beginnings import beginnings

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

#: Properties of XMP that name a file: stRef:filePath, stMfs:reference, and their like.
_XMP_FIELDS = ("filePath", "reference", "SidecarForFile")
_MOST_HTML, _MOST_MARKDOWN = 32 << 20, 8 << 20
#: Characters that are parsed at once.
_PIECE = 32 << 10
#: Bytes of a sidecar that is glanced at before it is parsed.
_GLANCE = 1 << 20
#: Bytes of one that is read together with others.
_SHORT = 64 << 10
_HTML_ATTRIBUTES = frozenset({"href", "src", "poster", "data", "xlink:href"})


def xml_events(path: Path) -> Iterator[tuple[str, Element]]:
    """Yield local name and element of an XML file as each ends, and forget it.

    Raises
    ------
    UnreadableError
        If it is not XML, is too large, or declares entities.
    """
    from xml.etree.ElementTree import ParseError

    import defusedxml
    from defusedxml.ElementTree import iterparse

    try:
        with os.fdopen(safe.open_regular(path), "rb") as file:
            if os.fstat(file.fileno()).st_size > MOST:
                raise UnreadableError(f"it is larger than {MOST:,} bytes")
            for _, element in iterparse(file, forbid_dtd=False):
                yield element.tag.rpartition("}")[2], element
                element.clear()
    except OSError as error:
        raise UnreadableError(f"it cannot be read: {error.strerror}") from error
    except defusedxml.DefusedXmlException as error:
        raise UnreadableError("it declares entities, which no such file needs") from error
    except (ParseError, ValueError, LookupError) as error:
        raise UnreadableError(f"it is not XML: {error}") from error


def name_nothing(sidecars: Sequence[tuple[str, int]], spec: References) -> list[bool]:
    """Return of XMP sidecars, given by full path and bytes, whether a look at all their bytes shows that they name no file.

    Read together, a hundred thousand of them take a fraction of the time, most of all on a drive that turns.
    """
    wanted = [field.encode() for field in spec.fields or _XMP_FIELDS]
    short = [(path, size + 1) for path, size in sidecars if 0 < size <= _SHORT]
    contents = dict(zip([path for path, _ in short], beginnings(short), strict=True))
    return [
        len(content := contents.get(path, b"")) == size > 0
        and b"\0" not in content[:64]
        and not any(field in content for field in wanted)
        for path, size in sidecars
    ]


def read_xmp(path: Path, spec: References) -> Iterator[Raw]:
    """Read an XMP sidecar: properties that name a file, as elements or attributes (ISO 16684-1)."""
    wanted = spec.fields or _XMP_FIELDS
    # Most of a hundred thousand sidecars name no file; a look at the bytes costs a tenth of parsing them.
    try:
        content = safe.read_bounded(path, _GLANCE)
    except ValueError:
        content = b""
    except OSError as error:
        raise UnreadableError(f"it cannot be read: {error.strerror}") from error
    utf8 = content and b"\0" not in content[:64]
    if utf8 and not any(field.encode() in content for field in wanted):
        return
    for name, element in xml_events(path):
        for attribute, value in element.attrib.items():
            local = attribute.rpartition("}")[2]
            if local in wanted and value.strip():
                yield Raw(local, value.strip())
        if name in wanted and (element.text or "").strip():
            yield Raw(name, (element.text or "").strip())


def read_html(path: Path, spec: References) -> Iterator[Raw]:
    """Read the links and sources of an HTML or SVG file."""
    return _html(text_of(path, _MOST_HTML))


def _html(text: str, first: int = 0) -> Iterator[Raw]:
    from html.parser import HTMLParser  # it and its table of names take longer to load than this whole module

    found: list[Raw] = []

    class Links(HTMLParser):
        def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
            for name, value in attrs:
                if name in _HTML_ATTRIBUTES and value and value.strip() and not value.startswith("#"):
                    found.append(Raw(f"line {self.getpos()[0]}", value.strip(), True))

    parser = Links(convert_charrefs=True)
    until = time.monotonic() + PATIENCE
    try:
        for place in range(0, len(text), _PIECE):
            parser.feed(text[place : place + _PIECE])
            if time.monotonic() > until:
                raise UnreadableError("it takes too long to read")
        # It is not closed: what hangs unfinished at the end is no link, and going over it costs much.
    except (ValueError, AssertionError) as error:
        raise UnreadableError(f"it is not HTML: {error}") from error
    for raw in found:
        yield raw._replace(spot=f"line {int(raw.spot[5:]) + first}")


_CSS = late(
    r"""url\(\s*(?:"([^"\n]*)"|'([^'\n]*)'|([^\s"'()]+))\s*\)|@import\s+(?:"([^"\n]*)"|'([^'\n]*)')""", re.IGNORECASE
)


def css_addresses(text: str) -> Iterator[tuple[int, int, str]]:
    """Yield from where to where, and what, the addresses in a style sheet are (CSS Values and Units, section 4.5)."""
    for found in _CSS.finditer(text):
        group = next((number for number in range(1, 6) if found.group(number)), 0)
        if group and not found.group(group).startswith(("data:", "#")):
            yield *found.span(group), found.group(group)


def read_css(path: Path, spec: References) -> Iterator[Raw]:
    """Read the addresses in a style sheet: ``url(...)`` and ``@import``."""
    for number, line in lines_of(path):
        for _, _, address in css_addresses(line):
            yield Raw(f"line {number}", address.strip(), True)


def read_svg(path: Path, spec: References) -> Iterator[Raw]:
    """Read what an SVG drawing links to: ``href``, ``xlink:href``, and the addresses in its styles."""
    text = text_of(path, _MOST_HTML)
    yield from _html(text)
    for number, line in enumerate(text.split("\n"), start=1):
        for _, _, address in css_addresses(line):
            yield Raw(f"line {number}", address.strip(), True)


def read_markdown(path: Path, spec: References) -> Iterator[Raw]:
    """Read the links and images of a Markdown file (CommonMark), the HTML in it, and links by name (``[[Page]]``)."""
    text = text_of(path, _MOST_MARKDOWN)
    # Thousands of notes have nothing but links by name and plain ones: to find these takes no parser.
    if not _OTHER_LINKS.search(text):
        return _wiki_links(text)
    plain = plain_links(text)
    return markdown_links(text) if plain is None else iter(plain)


_OTHER_LINKS = late(r"\]\(|^ {0,3}\[[^\]\n]+\]:|<[A-Za-z]", re.MULTILINE)


#: A link or an image on one line whose text has no brackets; its target, and perhaps a title.
_PLAIN = late(
    r"""(?<=\[)[^\[\]\n]*\]\((?:<([^<>\n]*)>|([^\s()<>]*(?:\([^\s()<>]*\)[^\s()<>]*)*))(?:[ ]+(?:"[^"\n]*"|'[^'\n]*'))?\)"""
)
#: What makes Markdown more than paragraphs with links: code, HTML, escapes, labels, a link in an indented line.
_NOT_PLAIN = late(r"[`\\&\t]|~~~|\]:|\[\[[^\[\]\n]*[*_]")


def plain_links(text: str) -> list[Raw] | None:
    """Return the links of a Markdown text that is no more than paragraphs; None if it takes a parser to tell."""
    if len(text) > _PIECE or _NOT_PLAIN.search(text) or text.count("<") != text.count("](<"):
        return None
    from markdown_it.common.normalize_url import normalizeLink

    found: list[Raw] = []
    for number, line in enumerate(text.split("\n"), start=1):
        if "    " in line and ("](" in line or "[[" in line):
            return None
        if "](" in line:
            links = list(_PLAIN.finditer(line))
            if len(links) != line.count("]("):
                return None
            for link in links:
                target = normalizeLink(link.group(1) or link.group(2) or "")
                if target and not target.startswith("#"):
                    found.append(Raw(f"line {number}", re.sub(r"\s+", " ", target), True))
        if "[[" in line:
            found += _by_name(line, number)
    return found


def _wiki_links(text: str) -> Iterator[Raw]:
    """Yield the links by name of a Markdown text without others; what is in code is none."""
    fence = ""
    for number, line in enumerate(text.split("\n"), start=1):
        mark = re.match(r" {0,3}(```+|~~~+)", line)
        if mark and not fence:
            fence = mark.group(1)
        elif mark and mark.group(1).startswith(fence):
            fence = ""
        elif not fence and "[[" in line and not line.startswith(("    ", "\t")):
            yield from _by_name(re.sub(r"(`+).+?\1", " ", line), number)


def _by_name(text: str, line: int) -> Iterator[Raw]:
    for found in _WIKI.finditer(text):
        yield Raw(f"line {line}", found.group(1).strip(), False, (".md", ".markdown"), anywhere=True)


def markdown_links(text: str) -> Iterator[Raw]:
    """Yield the links and images of a Markdown text, and those of the HTML in it.

    Raises
    ------
    UnreadableError
        If it takes too long.
    """
    parser = _parser()
    until = time.monotonic() + PATIENCE
    for above, piece in _markdown_pieces(text):
        for token in parser.parse(piece):
            first = above + (token.map[0] if token.map else 0)
            for inner in [token, *(token.children or ())]:
                yield from _markdown_token(inner, first)
        if time.monotonic() > until:
            raise UnreadableError("it takes too long to read")


@functools.cache
def _parser() -> Any:
    from markdown_it import MarkdownIt

    parser = MarkdownIt("commonmark")
    # Which addresses a page may link to is a page's concern; here all are only looked at.
    parser.validateLink = lambda url: True  # type: ignore[method-assign]
    return parser


def _markdown_pieces(text: str) -> Iterator[tuple[int, str]]:
    """Cut a long text at blank lines outside of fenced code; yield the number of lines before a piece, and it.

    Raises
    ------
    UnreadableError
        If a piece is longer than anybody writes without a blank line.
    """
    if len(text) <= _PIECE:
        yield 0, text
        return
    fence, begun, size = "", 0, 0
    piece: list[str] = []
    for number, line in enumerate(text.splitlines(keepends=True)):
        mark = re.match(r" {0,3}(```+|~~~+)", line)
        if mark and not fence:
            fence = mark.group(1)
        elif mark and mark.group(1).startswith(fence):
            fence = ""
        piece.append(line)
        size += len(line)
        if size > 2 * _PIECE and not fence:
            raise UnreadableError(
                f"its lines {begun + 1} to {number + 1} have no blank line between them and are too long"
            )
        if size > _PIECE // 2 and not fence and not line.strip():
            yield begun, "".join(piece)
            piece, begun, size = [], number + 1, 0
    yield begun, "".join(piece)


#: A link by the name of a page or an attachment: ``[[Page]]``, ``![[picture.png]]``, ``[[Page#heading|in words]]``.
_WIKI = late(r"\[\[([^\[\]\n|#]{1,400})(?:#[^\[\]\n|]*)?(?:\|[^\[\]\n]*)?\]\]")


def _markdown_token(token: Any, first: int) -> Iterator[Raw]:
    if token.type in ("html_block", "html_inline"):
        yield from _html(token.content, first)
        return
    if token.type == "text" and "[[" in token.content:
        yield from _by_name(token.content, first + 1)
        return
    target = token.attrGet("href") or token.attrGet("src")
    if isinstance(target, str) and target and not target.startswith("#"):
        yield Raw(f"line {first + 1}", re.sub(r"\s+", " ", target), True)
