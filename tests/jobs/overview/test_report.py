"""The report: true to what was archived, valid, readable in a browser of any width, and harmless whatever a name says."""

from __future__ import annotations

import os
import re
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import html5lib
import msgspec
import pytest

import dunechest
from dunechest import clock
from dunechest.ledger import catalogue
from dunechest.ledger.folder import state_folder
from dunechest.names import shown
from tests.support.editions import archive
from tests.support.runs import Command

DAY = 86_400.0
NASTY = '<script>alert(1)</script> & "$x^2$" \'--> \u202e日本 '
BROWSER, DRIVER = shutil.which("chromium"), shutil.which("chromedriver")


@pytest.fixture
def years(library: Path, drive: Path, monkeypatch: pytest.MonkeyPatch) -> dunechest.Chest:
    """A chest with the editions of some months: each brings a file of 100 kB, and before the last most files went."""
    chest = dunechest.create_chest(drive, "blue")
    now = clock.now()
    for at, days in enumerate((200, 160, 120, 80, 40)):
        monkeypatch.setattr(clock, "now", lambda days=days: now - days * DAY)
        (library / f"log {at}.bin").write_bytes(os.urandom(100_000))
        if days == 40:
            for path in library.glob("*.bin"):
                path.unlink()
            shutil.rmtree(library / "rafters")
            for number in range(30):
                (library / f"new {number}").write_text("new")
        dunechest.archive(library, chest, dunechest.ArchiveOptions(ignore={"mass-change"}))
    monkeypatch.setattr(clock, "now", lambda: now)
    return chest


def test_it_is_true_to_what_was_archived(years: dunechest.Chest) -> None:
    told = dunechest.overview()
    (history,), (drive,) = told.histories, told.drives
    listed = dunechest.list_editions(years, "shed").editions
    assert [(e.edition, e.file_count, e.size_bytes, e.first) for e in history.editions] == [
        (e.edition, e.file_count, e.size_bytes, e.changes is None) for e in listed
    ]
    for past, edition in zip(history.editions[1:], listed[1:], strict=True):
        assert edition.changes is not None
        for name in ("added_count", "changed_count", "moved_count", "dropped_count", "added_bytes"):
            assert getattr(past, name) == getattr(edition.changes, name)
    assert sum(role.file_count for role in history.roles) == listed[-1].file_count
    assert sum(role.size_bytes for role in history.roles) == listed[-1].size_bytes
    sizes = [size for _, size in drive.growths]
    assert sizes == sorted(sizes)
    assert sizes[-1] == listed[0].size_bytes + sum(e.changes.added_bytes for e in listed if e.changes is not None)
    assert drive.daily_bytes == pytest.approx((sizes[-1] - sizes[0]) / 200)
    assert drive.free_bytes and drive.total_bytes and drive.free_bytes < drive.total_bytes
    assert drive.full_at is None, "there is room for far more than twenty years"


def test_the_day_a_drive_is_full(years: dunechest.Chest, monkeypatch: pytest.MonkeyPatch) -> None:
    from dunechest.jobs.overview import growth as module
    from dunechest.ledger.ledger import PastRoom

    monkeypatch.setattr(module, "_room", lambda chest: PastRoom(600_000, 10_000_000, clock.now()))
    (drive,) = dunechest.overview().drives
    assert drive.daily_bytes is not None and drive.full_at is not None
    assert (drive.full_at - clock.now()) / DAY == pytest.approx(600_000 / drive.daily_bytes)
    page = dunechest.write_report(Path(os.environ["HOME"]) / "r.html").read_text()
    assert "blue, full 20" in page


def test_a_drive_in_a_drawer_is_as_full_as_it_was(years: dunechest.Chest) -> None:
    before = dunechest.overview().drives[0]
    years.folder.parent.rename(years.folder.parent.with_name("away"))
    after = dunechest.overview().drives[0]
    assert (after.total_bytes, after.last_seen_at is not None) == (before.total_bytes, True)
    assert (
        after.last_seen_at is not None
        and before.last_seen_at is not None
        and after.last_seen_at <= before.last_seen_at
    )


def test_the_command(
    library: Path, years: dunechest.Chest, tmp_path: Path, command: Command, monkeypatch: Any
) -> None:
    monkeypatch.chdir(tmp_path)
    ran = command("report")
    assert (ran.status, ran.out.split("\n")[0]) == (1, "NOT SAFE: 1 of 1 library not protected.")
    page = tmp_path / "dune-chest-report.html"
    assert "dune-chest-report.html" in ran.out
    before = page.read_bytes()
    assert command("report").status == 1, "a report is replaced by the next one"
    document = command("report", "--json", "--write", tmp_path / "other.html").json
    assert document["path"] == str(tmp_path / "other.html")
    assert document["histories"] == dunechest.overview().to_dict()["histories"]
    page.unlink()
    assert command("report", "--json").json["path"] is None
    assert not page.exists()
    mine = tmp_path / "mine.html"
    mine.write_text("<!DOCTYPE html><p>my own page")
    for wrong in (mine, tmp_path, tmp_path / "no such folder" / "r.html"):
        assert command("report", "--write", wrong).status == 2
    assert mine.read_text() == "<!DOCTYPE html><p>my own page"
    page.symlink_to(mine)
    assert command("report").status == 2, "it does not write where a link leads"
    assert len(before) > 10_000


def test_a_lost_catalogue_leaves_the_rest(years: dunechest.Chest, tmp_path: Path) -> None:
    place = state_folder() / catalogue.NAME
    place.unlink()
    place.mkdir()
    told = dunechest.overview()
    assert "Delete it; it is filled again" in told.note
    page = dunechest.write_report(tmp_path / "r.html", told).read_text()
    assert "it is filled again" in page
    assert "NOT SAFE" in page


class _Outside:
    """Tells of everything in a page that would be fetched, run or followed."""

    def __init__(self, page: bytes) -> None:
        self.tree = html5lib.HTMLParser(strict=True, namespaceHTMLElements=False).parse(page)
        self.names = {str(node.tag).rpartition("}")[2] for node in self.tree.iter() if isinstance(node.tag, str)}

    def references(self) -> Iterator[str]:
        for node in self.tree.iter():
            for name, value in node.attrib.items():
                if name.rpartition("}")[2] in ("href", "src", "action", "data") or name.startswith("on"):
                    yield value


def test_it_is_valid_and_nothing_in_it_acts(
    library: Path, years: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    nasty = tmp_path / NASTY.strip().replace("/", "_")
    nasty.mkdir()
    (nasty / "papers.bib").write_text("@book{a, title={Tides}}")
    command("find", tmp_path)
    told = dunechest.overview()
    # What a record on a drive says is believed even less than what it may say.
    (own,), (chest,) = told.status.libraries, told.status.chests
    copies = [msgspec.structs.replace(copy, label=NASTY, kept_at_place=NASTY) for copy in own.copies]
    own = msgspec.structs.replace(
        own, name=NASTY, kind=NASTY, computer=NASTY, on_this_computer=False, copies=tuple(copies)
    )
    steps = (*told.status.steps, dunechest.model.NextStep(NASTY, f"dunechest verify {NASTY}"))
    chests = (msgspec.structs.replace(chest, label=NASTY),)
    told = msgspec.structs.replace(
        told,
        computer=NASTY,
        note=NASTY,
        status=msgspec.structs.replace(told.status, libraries=(own,), steps=steps, chests=chests),
        histories=tuple(msgspec.structs.replace(item, name=NASTY, label=NASTY) for item in told.histories),
        drives=tuple(msgspec.structs.replace(drive, label=NASTY) for drive in told.drives),
    )
    page = dunechest.write_report(tmp_path / "r.html", told).read_bytes()
    read = _Outside(page)
    assert read.names & {"script", "link", "img", "iframe", "object", "form", "base", "a"} == set()
    assert all(value.startswith("#") for value in read.references())
    assert b"url(" not in re.sub(rb"url\(#[\w-]+\)", b"", page)
    text = "".join(read.tree.itertext())
    assert text.count(shown(NASTY).strip()) > 8
    assert "\u202e" not in text
    known = re.findall(rb'\bid="([^"]+)"', page)
    assert len(known) == len(set(known))
    for figure in read.tree.iter("figure"):
        assert figure.find(".//table") is not None, "every figure has its table"
        for svg in (node for node in figure.iter() if str(node.tag).endswith("svg")):
            (words,) = (node for node in svg.iter() if node.attrib.get("id") == svg.attrib["aria-labelledby"])
            assert words.text and len(words.text) > 30


def test_hundreds_of_libraries_and_editions_make_a_page(tmp_path: Path) -> None:
    from dunechest.ledger.catalogue_rows import PastEdition, PastRole
    from dunechest.model.overview import DriveRoom, Growth, LibraryHistory, Overview, Status

    now = clock.now()
    editions = tuple(
        PastEdition(n, now - n * DAY, 10**n, 1 << 62, n == 1, n, n, n, n, 1, n % 50 == 0) for n in range(1, 300)
    )
    odd = PastEdition(1, 1e18, 0, 0, True, 0, 0, 0, 0, 0, True)
    histories = [LibraryHistory(f"library {n}", "blue", f"bag {n}", editions[: n * 9], ()) for n in range(33)]
    histories += [
        LibraryHistory("odd", "blue", "odd", (odd,), (PastRole("other", 1, 1 << 62), PastRole("essential", 0, 0)))
    ]
    drives = (
        DriveRoom("full", "a", "", now, 0, 100, (Growth(now, 5),), 1.0, now),
        DriveRoom("lies", "b", "", now, 1 << 60, 5, (Growth(1e18, 5), Growth(-1e18, 7)), 0.0, 1e18),
        DriveRoom("empty", "c", "", now, 0, 0, (), None, None),
        DriveRoom("unknown", "d", "", None, None, None, (), None, None),
    )
    told = Overview(now, "office", Status((), (), (), ()), tuple(histories), drives, "")
    page = dunechest.write_report(tmp_path / "r.html", told).read_bytes()
    assert _Outside(page).names >= {"svg", "table"}
    assert b"earlier editions" in page


@pytest.mark.slow
@pytest.mark.skipif(not BROWSER or not DRIVER, reason="needs chromium and chromedriver")
def test_in_a_browser(library: Path, years: dunechest.Chest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from selenium import webdriver
    from selenium.common.exceptions import WebDriverException
    from selenium.webdriver.chrome.service import Service

    sand = tmp_path / "sand"
    sand.mkdir()
    archive(library, dunechest.create_chest(sand, "sand"))
    page = dunechest.write_report(tmp_path / "r.html")
    options = webdriver.ChromeOptions()
    options.binary_location = str(BROWSER)
    words = ("--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage")
    for word in (*words, f"--user-data-dir={tmp_path / 'profile'}"):
        options.add_argument(word)
    try:
        started = webdriver.Chrome(options=options, service=Service(str(DRIVER)))
    except WebDriverException as error:
        pytest.skip(f"the browser cannot be started here: {error.msg}")
    with started as browser:
        for width, dark in ((1280, False), (1280, True), (390, False), (390, True)):
            scheme = [{"name": "prefers-color-scheme", "value": "dark" if dark else "light"}]
            browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": scheme})
            size = {"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": width < 500}
            browser.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
            browser.get(page.as_uri())
            seen = browser.execute_script(_LOOK)
            if min(seen["letters"]) < 5:
                pytest.skip("the browser has no font here")
            assert browser.get_log("browser") == []
            assert seen["wide"] <= width, "nothing is cut off at the side"
            assert seen["figures"] == 4
            assert seen["outside"] == [], "no text of a figure leaves it"
            assert seen["small"] == [], "every text can be read"
            assert seen["pale"] == [], "every text stands out from its ground"
            assert (seen["ground"] < 60) == dark


#: Looks at the page as it is shown: sizes, places and contrast of all text.
_LOOK = """
const light = c => { const [r, g, b] = c.match(/[\\d.]+/g).map(Number).map(v => v / 255).map(
  v => v <= 0.03928 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4); return 0.2126 * r + 0.7152 * g + 0.0722 * b; };
const ground = getComputedStyle(document.body).backgroundColor;
const found = {wide: document.documentElement.scrollWidth, figures: 0, outside: [], small: [], pale: []};
found.ground = Number(ground.match(/\\d+/)[0]);
const letters = document.createElement("span");
letters.textContent = "mmmm";
document.body.append(letters);
found.letters = [letters.offsetWidth, letters.offsetHeight];
letters.remove();
for (const svg of document.querySelectorAll("figure svg")) {
  const box = svg.getBoundingClientRect();
  if (box.width > 200 && box.height > 40) found.figures += 1;
  for (const text of svg.querySelectorAll("text")) {
    const own = text.getBoundingClientRect();
    if (own.left < box.left - 1 || own.right > box.right + 1 || own.top < box.top - 1 || own.bottom > box.bottom + 1)
      found.outside.push(text.textContent);
    if (own.height < 9) found.small.push(text.textContent);
  }
}
for (const node of document.querySelectorAll("h1, h2, p, li, th, td, code, small, span, bdi, figcaption, svg text")) {
  if (!node.textContent.trim()) continue;
  const style = getComputedStyle(node);
  let under = node; let back = "rgba(0, 0, 0, 0)";
  while (under && (back === "rgba(0, 0, 0, 0)" || back === "transparent")) {
    back = getComputedStyle(under).backgroundColor; under = under.parentElement; }
  const [a, b] = [light(node.closest("svg") ? style.fill : style.color), light(back)].sort((x, y) => y - x);
  if ((a + 0.05) / (b + 0.05) < 4.5) found.pale.push(node.textContent.trim().slice(0, 40));
}
return found;
"""
