"""A link takes a folder's place in one moment, and is told from other links."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import pytest

from dunechest.machine import _exchange_macos, _exchange_other, _folder_links_windows, folder_links
from dunechest.machine.drives import DRIVES, drive_identity, drive_of
from dunechest.names import from_line, to_line


def test_two_names_change_places_or_nothing_happens(tmp_path: Path) -> None:
    (tmp_path / "folder").mkdir()
    (tmp_path / "folder" / "a").write_text("a")
    folder_links.make_link(tmp_path / "link", "/nowhere")
    done = folder_links.exchange(tmp_path / "folder", tmp_path / "link")
    there = tmp_path / ("link" if done else "folder")
    assert (there / "a").read_text() == "a"
    assert folder_links.is_link_to(tmp_path / ("folder" if done else "link"), "/nowhere")
    assert not folder_links.exchange(tmp_path / "folder", tmp_path / "missing")
    assert sys.platform == "darwin" or not _exchange_macos.exchange(str(tmp_path / "folder"), str(tmp_path / "link"))
    assert not _exchange_other.exchange(str(tmp_path / "folder"), str(tmp_path / "link"))


def test_only_the_link_goes(tmp_path: Path) -> None:
    (tmp_path / "target").mkdir()
    (tmp_path / "target" / "a").write_text("a")
    folder_links.make_link(tmp_path / "link", tmp_path / "target")
    assert folder_links.target_of(tmp_path / "link") == str(tmp_path / "target")
    assert folder_links.target_of(tmp_path / "target") == folder_links.target_of(tmp_path / "nothing") == ""
    assert not folder_links.is_link_to(tmp_path / "link", "") and not folder_links.is_link_to(tmp_path / "target", "")
    folder_links.remove_link(tmp_path / "link")
    assert not os.path.lexists(tmp_path / "link") and (tmp_path / "target" / "a").is_file()
    with pytest.raises(OSError, match="exist"):
        folder_links.make_link(tmp_path / "target", "elsewhere")
    assert _folder_links_windows.target_of(str(tmp_path / "target")) == ""


@pytest.mark.parametrize("path", ["/a/b", "/odd \udcff/x", "/base64:/y", "/line\nbreak", "/ä\u0301"])
def test_paths_become_one_line_and_paths_again(path: str) -> None:
    assert from_line(to_line(path)) == path
    assert to_line(path).encode("utf-8")


def test_a_text_that_is_no_path_of_ours_stays_as_it_is() -> None:
    assert from_line("base64:???") == "base64:???" and from_line("") == ""


def test_a_named_folder_is_a_drive(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "media" / "sand" / "deep").mkdir(parents=True)
    monkeypatch.setenv(DRIVES, os.pathsep.join([str(tmp_path / "media"), str(tmp_path / "media" / "sand")]))
    assert drive_of(tmp_path / "media" / "sand" / "deep") == tmp_path / "media" / "sand"
    assert drive_of(tmp_path / "media") == tmp_path / "media"
    assert drive_identity(tmp_path / "media" / "sand" / "deep") != drive_identity(tmp_path)
    monkeypatch.delenv(DRIVES)
    assert os.path.ismount(drive_of(tmp_path))
    assert drive_identity(tmp_path / "missing") == ""
