"""The marram papers: a BibTeX file and its companion folder of PDFs."""

from __future__ import annotations

import random
from pathlib import Path

HEADER = "% Seaholly references"

_SUBJECTS = ("Roots of marram", "Tern counts", "Sand budget", "Slack ponds", "Wrack and beetles", "Old fences")
_GROUPS = ("Plants", "Birds", "Plants, Sand", "Sand")
_AUTHORS = ("Quill, A.", "Ostrow, B.", "Fenner-Dray, C.", "Halm, D.")


def make(library: Path, home: Path, rng: random.Random, count: int) -> None:
    """Make a bibliography of so many papers, each with its PDF; the last one's lies outside the library."""
    files = library / "papers.files"
    files.mkdir(parents=True)
    entries = [HEADER, ""]
    for number in range(1, count + 1):
        year = rng.randint(1988, 2025)
        subject = rng.choice(_SUBJECTS)
        key = f"paper{number:04d}"
        pdf = files / f"{key} {subject.lower()}.pdf"
        title = f"{subject}, part {number}"
        attached = f"papers.files/{pdf.name}"
        if number == count:  # one was read from where it was downloaded to, and stayed there
            pdf = home / "Documents" / "loose papers" / pdf.name
            pdf.parent.mkdir(parents=True)
            attached = f"../loose papers/{pdf.name}"
        pdf.write_bytes(_pdf(title, rng))
        entries += [
            f"@article{{{key},",
            f"  author = {{{rng.choice(_AUTHORS)}}},",
            f"  title = {{{title}}},",
            "  journal = {Proceedings of the Windy Headland Society},",
            f"  year = {{{year}}},",
            f"  keywords = {{{_GROUPS[number % len(_GROUPS)]}}},",
            f"  file = {{{attached}}},",
            "}",
            "",
        ]
    (library / "papers.bib").write_text("\n".join(entries), encoding="utf-8")
    index = library / "papers.index"
    index.mkdir()
    (index / "terms.dat").write_bytes(rng.randbytes(90_000))


def _pdf(title: str, rng: random.Random) -> bytes:
    """Return a small valid PDF with one line of text and an unused stream that gives it a paper's size."""
    text = f"BT /F1 24 Tf 72 720 Td ({title}) Tj ET".encode("ascii")
    filler = rng.randbytes(rng.randint(60_000, 240_000))
    objects = [
        b"<< /Type /Catalog /Pages 2 0 R >>",
        b"<< /Type /Pages /Kids [3 0 R] /Count 1 >>",
        b"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents 4 0 R "
        b"/Resources << /Font << /F1 5 0 R >> >> >>",
        b"<< /Length %d >>\nstream\n" % len(text) + text + b"\nendstream",
        b"<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>",
        b"<< /Length %d >>\nstream\n" % len(filler) + filler + b"\nendstream",
    ]
    out = bytearray(b"%PDF-1.4\n")
    places = []
    for number, body in enumerate(objects, start=1):
        places.append(len(out))
        out += b"%d 0 obj\n" % number + body + b"\nendobj\n"
    table = len(out)
    out += b"xref\n0 %d\n0000000000 65535 f \n" % (len(objects) + 1)
    for place in places:
        out += b"%010d 00000 n \n" % place
    out += b"trailer\n<< /Size %d /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n" % (len(objects) + 1, table)
    return bytes(out)
