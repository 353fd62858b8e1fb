"""The Python in the README and in docs/ runs as it stands, in a made-up home with a made-up drive."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

import dunechest

ROOT = Path(__file__).resolve().parents[1]


@pytest.mark.parametrize("page", ["README.md", "docs/python.md"])
def test_the_examples_run(page: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    text = (ROOT / page).read_text(encoding="utf-8")
    blocks = re.findall(r"```python\n(.*?)```", text, re.DOTALL)
    assert blocks
    survey = tmp_path / "home" / "tern" / "Pictures" / "Dune Survey"
    survey.mkdir(parents=True)
    (survey / "terns.jpg").write_bytes(b"not really a picture")
    drive = tmp_path / "media" / "blue"
    drive.mkdir(parents=True)
    dunechest.create_chest(drive, "blue")
    for block in blocks:
        code = block.replace('"/home/', f'"{tmp_path}/home/').replace('"/media/', f'"{tmp_path}/media/')
        exec(compile(code, page, "exec"), {})
    assert "True" in capsys.readouterr().out
    assert (tmp_path / "home" / "tern" / "back" / "terns.jpg").is_file()


def test_paths_that_documents_name_are_there() -> None:
    for page in (ROOT / "README.md", ROOT / "CONTRIBUTING.md", *(ROOT / "docs").glob("*.md")):
        text = page.read_text(encoding="utf-8")
        for path in re.findall(r"`((?:tests|scripts|benchmarks|examples|docs|src)/[\w/.-]+\.\w+)`", text):
            assert (ROOT / path).exists(), f"{page.name}: {path}"
    tree = (ROOT / "docs" / "architecture.md").read_text(encoding="utf-8")
    for path in re.findall(r"`((?:jobs|chest|library|machine|transfer|ledger|bag)/[\w/]+\.py)`", tree):
        assert (ROOT / "src" / "dunechest" / path).is_file(), path
