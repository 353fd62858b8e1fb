"""Libraries of open formats, made by hand or by the programs that keep them."""

from __future__ import annotations

import json
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

JPEG, PNG = b"\xff\xd8\xff\xe0" + b"j" * 90, b"\x89PNG\r\n\x1a\n" + b"p" * 90


def _put(folder: Path, **files: bytes | str) -> None:
    for name, content in files.items():
        path = folder / name.replace("__", "/").replace("_DOT_", ".")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content.encode() if isinstance(content, str) else content)


def pictures(folder: Path) -> None:
    for number in range(12):
        (folder / "2025").mkdir(exist_ok=True)
        (folder / "2025" / f"IMG_{number:04}.JPG").write_bytes(JPEG)
    (folder / "map.png").write_bytes(PNG)
    (folder / "list.txt").write_text("terns")


def music(folder: Path) -> None:
    for number in range(6):
        (folder / f"{number} song.mp3").write_bytes(b"ID3" + bytes(90))
    (folder / "evening.m3u").write_text("0 song.mp3\n")


def bibliography(folder: Path) -> None:
    (folder / "papers.bib").write_text("@article{a, file={:a.pdf:PDF}}")
    (folder / "a.pdf").write_bytes(b"%PDF-1.7")


def notes(folder: Path) -> None:
    for number in range(6):
        (folder / f"{number}.md").write_text(f"# {number}\n[next]({number + 1}.md)\n")
    (folder / "tern.png").write_bytes(PNG)


def maildir(folder: Path) -> None:
    for name in ("cur", "new", "tmp"):
        (folder / name).mkdir()
    (folder / "cur" / "1.a:2,S").write_text("Subject: terns\n\nkree-ar")


def mailboxes(folder: Path) -> None:
    for box in ("inbox", "sent"):
        (folder / box).mkdir()
        maildir(folder / box)


def mbox(folder: Path) -> None:
    (folder / "Inbox.mbox").write_text("From tern@marram.example Mon Jan  5 10:00:00 2026\nSubject: a\n\nb\n")


def git(folder: Path, *words: str) -> str:
    settings = ("-c", "user.name=Tern", "-c", "user.email=tern@marram.example", "-c", "protocol.file.allow=always")
    done = subprocess.run(["git", *settings, "-C", folder, *words], capture_output=True, text=True, check=True)
    return done.stdout + done.stderr


def repository(folder: Path) -> None:
    git(folder, "init", "-q", "-b", "main")
    (folder / "shore.txt").write_text("terns")
    git(folder, "add", ".")
    git(folder, "commit", "-qm", "terns")


def bare_repository(folder: Path) -> None:
    git(folder, "init", "-q", "--bare")


def typeset(folder: Path) -> None:
    (folder / "thesis.tex").write_text("% terns\n\\documentclass{book}\n\\includegraphics{map}\n")
    for number in range(20):
        (folder / f"{number}.png").write_bytes(PNG)


def drawings(folder: Path) -> None:
    for number in range(4):
        (folder / f"{number}.svg").write_text("<svg/>")


def notebooks(folder: Path) -> None:
    (folder / "terns.ipynb").write_text(json.dumps({"cells": [], "nbformat": 4}))


def website(folder: Path) -> None:
    _put(folder, index_DOT_html="<html><img src='a.png'></html>", **{"css__look_DOT_css": "a{}"})


def accounts(folder: Path) -> None:
    _put(folder, main_DOT_journal="include 2025.journal\n", **{"2025_DOT_journal": "2025-01-01 opening\n"})


def environment(folder: Path) -> None:
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", folder], check=True)


def databases(folder: Path) -> None:
    with sqlite3.connect(folder / "app.db") as connection:
        connection.execute("CREATE TABLE a (b)")
    connection.close()


def database_server(folder: Path) -> None:
    _put(folder, PG_VERSION="16\n", **{"base__1__112": b"x", "global__pg_control": b"x"})


def keyed_store(folder: Path) -> None:
    _put(folder, data_DOT_mdb=bytes(4096), lock_DOT_mdb=bytes(64))


def log_store(folder: Path) -> None:
    _put(folder, CURRENT="MANIFEST-000004\n", **{"MANIFEST-000004": b"m", "000005_DOT_ldb": b"x"})


MADE: dict[str, Callable[[Path], None]] = {
    function.__name__.replace("_", "-"): function
    for function in (
        pictures, music, bibliography, notes, maildir, mailboxes, mbox, repository, bare_repository, typeset, drawings,
        notebooks, website, accounts, environment, databases, database_server, keyed_store, log_store,
    )
}  # fmt: skip


def bundle(folder: Path) -> Path:
    inner = folder / "Shore.draftbook"
    _put(inner, **{"Contents__page1": b"x", "metadata_DOT_json": b"{}"})
    return inner
