"""What a chest on a server costs: the page says what is reckoned, and what is reckoned is near what is done."""

from __future__ import annotations

from pathlib import Path

from dunechest.jobs.copy.traffic import check, monthly, reckon
from dunechest.words import size

PAGE = Path(__file__).resolve().parents[2] / "docs" / "how-to" / "servers.md"
FILES, BYTES = 200_000, 10**12


def table() -> str:
    """Return the table of the page."""
    lines = [
        "| server | first copy: sent and received, requests | a month, if 1 % changes | to check every byte |",
        "|---|---|---|---|",
    ]
    for kind in ("sftp", "webdav", "s3"):
        first, month, whole = (
            reckon(kind, FILES, BYTES, BYTES // (16 << 20)),
            monthly(kind, FILES, BYTES),
            check(kind, FILES, BYTES),
        )
        lines.append(
            f"| {kind} | {size(first.sent_bytes)} each way, {first.request_count:,} | {size(month.sent_bytes)} each way, {month.request_count:,} "
            f"| {size(whole.received_bytes)} received, {whole.request_count:,} |"
        )
    return "\n".join(lines) + "\n"


def test_the_page_says_what_is_reckoned() -> None:
    text = PAGE.read_text(encoding="utf-8")
    assert text.partition("<!-- costs -->\n")[2].partition("<!-- end of costs -->")[0] == table()


if __name__ == "__main__":
    told = PAGE.read_text(encoding="utf-8")
    head, rest = told.split("<!-- costs -->\n")
    PAGE.write_text(
        head + "<!-- costs -->\n" + table() + rest[rest.index("<!-- end of costs -->") :], encoding="utf-8"
    )
