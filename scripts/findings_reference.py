"""Make docs/findings.md from the catalogue of findings; --check only compares."""

from __future__ import annotations

import re
import sys
from itertools import groupby
from pathlib import Path

from _pages import keep

from dunechest.cli.hints import HINTS
from dunechest.model.findings import FINDINGS

PAGE = Path(__file__).resolve().parents[1] / "docs" / "findings.md"

HEAD = """\
# Findings

Made by `make docs` from the catalogue. What a look at a library, a drive or a plan has to say is a finding: a code that stays, how
serious it is, what was found, and what to do. One that **blocks** refuses the job; those marked with * are overruled by
`--ignore CODE`. In the texts, names in italics stand for what was found. What a person can do is shown as the command line says it.
"""

_SPEC = re.compile(r"\{(\w+)(?:!q)?(?::([^}]*))?\}")


def readable(text: str) -> str:
    """Return a text of the catalogue for reading."""

    def told(found: re.Match[str]) -> str:
        name, spec = found.group(1).replace("_", " "), found.group(2) or ""
        if spec.startswith("?"):
            return spec[1:].replace("|", "/")
        if spec and spec != "bytes":
            return f"*so many* {spec.partition('|')[2] or spec + 's'}"
        return f"*{name}*"

    return _SPEC.sub(told, text).replace("|", "\\|")


def page() -> str:
    """Return the whole page."""
    lines = [HEAD]
    for code, keys in groupby(
        sorted(FINDINGS, key=lambda key: (key.partition("/")[0], key)), lambda key: key.partition("/")[0]
    ):
        lines += [f"## {code}", "", "| | what was found | what to do |", "|---|---|---|"]
        for key in keys:
            saying = FINDINGS[key]
            mark = "*" if saying.can_be_ignored else ""
            lines.append(
                f"| {saying.severity}{mark} | {readable(saying.message)} | {readable(HINTS.get(key, saying.action))} |"
            )
        lines.append("")
    return "\n".join(lines).rstrip() + "\n"


def main() -> int:
    """Write the page, or compare it."""
    return keep(PAGE.parent, ".md", {PAGE.name: page()})


if __name__ == "__main__":
    sys.exit(main())
