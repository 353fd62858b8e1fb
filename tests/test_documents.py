"""The Python in the README and in docs/ runs as it stands, in a made-up home with a made-up drive."""

from __future__ import annotations

import re
import shlex
import subprocess
import sys
import tomllib
from pathlib import Path

import click
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


def _commands_in(text: str) -> list[str]:
    """Return the command lines of shell blocks and indented blocks."""
    blocks = re.findall(r"```sh\n(.*?)```", text, re.DOTALL)
    blocks += re.findall(r"(?:^(?: {4}|\t)+dunechest .*\n?)+", text, re.MULTILINE)
    lines = [line.strip() for block in blocks for line in block.splitlines()]
    return [line for line in lines if line.startswith("dunechest ")]


def test_commands_that_documents_show_are_ones(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """Each line is taken apart as the command line would, and nothing is run."""
    from dunechest.cli.app import cli

    monkeypatch.chdir(tmp_path)
    for name in ("letters.toml", "rings.toml"):
        (tmp_path / name).touch()
    monkeypatch.setattr(click.Command, "invoke", lambda self, context: None)
    seen = 0
    for page in (ROOT / "README.md", *sorted((ROOT / "docs").rglob("*.md"))):
        if page.name == "commands.md":
            continue
        for line in _commands_in(page.read_text(encoding="utf-8")):
            words = shlex.split(line.partition(" | ")[0], comments=True)[1:]
            try:
                cli.main(words, prog_name="dunechest", standalone_mode=False)
            except click.exceptions.Exit:
                pass
            except click.ClickException as error:
                pytest.fail(f"{page.name}: {line}: {error.format_message()}")
            seen += 1
    assert seen > 50


@pytest.mark.slow
def test_the_site_builds_and_asks_no_network_for_anything(tmp_path: Path) -> None:
    mkdocs = [sys.executable, "-m", "mkdocs", "build", "--strict", "--quiet", "-d", tmp_path / "site"]
    ran = subprocess.run(mkdocs, cwd=ROOT, capture_output=True, text=True, check=False)
    assert (ran.returncode, ran.stderr) == (0, ""), ran.stderr
    pages = sorted((tmp_path / "site").rglob("*.html"))
    assert len(pages) > 20
    fetched = re.compile(r"<(?:script|link|img|iframe)[^>]+(?:src|href)=[\"']?(?:https?:)?//", re.IGNORECASE)
    for page in pages:
        assert not fetched.search(page.read_text(encoding="utf-8")), page
    for style in (tmp_path / "site").rglob("*.css"):
        assert not re.search(r"url\([\"']?(?:https?:)?//|@import", style.read_text(encoding="utf-8")), style


@pytest.mark.parametrize("script", ["schemas.py", "json_reference.py", "python_reference.py", "command_reference.py"])
def test_references_are_up_to_date(script: str) -> None:
    ran = subprocess.run(
        [sys.executable, ROOT / "scripts" / script, "--check"], capture_output=True, text=True, check=False
    )
    assert ran.returncode == 0, ran.stderr


def test_the_windows_python_gets_all_that_is_needed() -> None:
    project = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))["project"]
    needed = {re.split(r"[<>=\[;]", line)[0].lower() for line in project["dependencies"]}
    wheels = {
        name.lower()
        for name in re.findall(
            r'"([\w-]+)(?:==[\d.]+)?"', (ROOT / "scripts" / "windows.py").read_text(encoding="utf-8")
        )
    }
    assert not needed - wheels
