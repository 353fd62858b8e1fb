"""Make docs/screenshots/ again: each main command on the sample data, in a real terminal window.

Needs Xvfb, xterm, ImageMagick's `import` and Chromium (Debian: xvfb, xterm, imagemagick, chromium, chromium-driver), and for the
office postgresql and openssh-server. Shows only made-up data.
"""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from dunechest.demo.office import COMPUTERS, OfficeWorld, make_office, servers
from dunechest.demo.world import World, damage, make_world, wipe

OUT = Path(__file__).resolve().parents[1] / "docs" / "screenshots"
DISPLAY = ":97"
SCREEN = "1280x800"
#: Columns and rows that fill the screen, by the size of the letters.
GRIDS = {11: "142x44", 10: "160x50", 9: "182x57", 8: "182x61"}
WORLD = Path(tempfile.gettempdir()) / "marram-point"
OFFICE = Path(tempfile.gettempdir()) / "marram-office"


class Stage:
    """A screen that nobody sees, with the sample world to play on."""

    def __init__(self, world: World | OfficeWorld) -> None:
        self.world = world
        folder = str(Path(sys.executable).parent)
        self._path = folder + os.pathsep + os.environ["PATH"]

    def _environment(self, machine: str) -> dict[str, str]:
        environment = self.world.environment(machine)
        return {**environment, "DISPLAY": DISPLAY, "PATH": self._path, "PS1": "", "TERM": "xterm-256color"}

    def run(self, machine: str, *lines: str) -> None:
        """Run commands without a picture."""
        for line in lines:
            subprocess.run(
                ["bash", "-c", line],
                cwd=self.world.folder,
                env=self._environment(machine),
                check=False,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )

    def shoot(self, name: str, machine: str, *lines: str, wait: float = 0.0, size: int = 11) -> None:
        """Run commands in a terminal window and take a picture of it when they are done (or after `wait`).

        `size` is that of the letters: everything from the first command on must fit.
        """
        done = Path(tempfile.gettempdir()) / f"shot-{os.getpid()}"
        done.unlink(missing_ok=True)
        script = ["clear"]
        for line in lines:
            script.append(f"printf '\\033[1;34m%s$\\033[0m %s\\n' {machine} {shlex.quote(line)}")
            script += [line, "echo"]
        script += [f"touch {done}", "tput civis", "sleep 60"]
        window = subprocess.Popen(
            ["xterm", "-fa", "DejaVu Sans Mono", "-fs", str(size), "-geometry", f"{GRIDS[size]}+0+0", "-bg", "#fbfaf7",
             "-fg", "#22252a", "-bw", "0", "-tn", "xterm-256color", "-e", "bash", "-c", "; ".join(script)],
            cwd=self.world.folder,
            env=self._environment(machine),
        )  # fmt: skip
        try:
            begun = time.monotonic()
            while not done.exists() and time.monotonic() - begun < (wait or 40):
                time.sleep(0.05)
            time.sleep(0.0 if wait else 0.6)
            target = OUT / f"{name}.png"
            subprocess.run(
                ["import", "-display", DISPLAY, "-window", "root", "-colors", "64", str(target)], check=True
            )
        finally:
            window.kill()
            window.wait()
            done.unlink(missing_ok=True)

    def page(self, name: str, path: str, part: str = "") -> None:
        """Take a picture of a page in a browser, from its beginning or from the element with some id."""
        from selenium import webdriver
        from selenium.webdriver.chrome.service import Service

        target = OUT / f"{name}.png"
        options = webdriver.ChromeOptions()
        options.binary_location = str(shutil.which("chromium"))
        for word in ("--headless=new", "--no-sandbox", "--disable-gpu", "--hide-scrollbars"):
            options.add_argument(word)
        with webdriver.Chrome(options=options, service=Service(str(shutil.which("chromedriver")))) as browser:
            size = {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}
            browser.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
            browser.get((self.world.folder / path).as_uri())
            if part:
                browser.execute_script("document.getElementById(arguments[0]).scrollIntoView()", part)
            browser.save_screenshot(str(target))
        subprocess.run(["convert", str(target), "-colors", "64", str(target)], check=True)


def play(stage: Stage) -> None:
    """Go through the commands in an order in which each has something to show."""
    office, laptop = "office-pc", "new-laptop"
    world = stage.world
    stage.shoot("find", office, "dunechest find office-pc/home/tern office-pc/second-drive")
    stage.run(office, "dunechest chest new drives/blue --label blue", "dunechest chest new drives/sand --label sand")
    holder = subprocess.Popen(
        [sys.executable, "-m", "dunechest.demo.applications", "glasswort", "open", "--hold", "60"],
        env=world.environment(office),
        stdout=subprocess.PIPE,
    )
    assert holder.stdout is not None
    holder.stdout.readline()
    stage.shoot("look", office, "dunechest look dune-survey --on blue")
    holder.kill()
    holder.communicate()
    (world.photos / ".glasswort-open").unlink(missing_ok=True)
    stage.run(office, "dunechest kinds draft marram-papers --name papers --write papers.toml")
    stage.shoot("kinds-try", office, "dunechest kinds try papers.toml marram-papers")
    stage.shoot("archive", office, "dunechest archive dune-survey tidewrack winter-games --to blue")
    stage.run(office, "dunechest archive dune-survey --to sand", "dunechest drill blue tidewrack")
    stage.run(office, "dunechest archive marram-papers --to blue")
    for what in (
        "echo '% looked through in spring' >> papers.bib",
        'mkdir papers.files/birds; for f in papers.files/*tern*; do mv "$f" papers.files/birds/; done',
        'rm "$(ls papers.files/*marram* | head -1)"; echo more > papers.files/ring-counts.txt',
    ):
        stage.run(
            office, f"cd '{world.papers}'; {what}", "dunechest archive marram-papers --to blue --ignore mass-change"
        )
    stage.shoot(
        "editions", office,
        "dunechest editions list blue marram-papers",
        "dunechest editions drop blue marram-papers --retain 'the last 2' --plan",
        "dunechest compare marram-papers blue/marram-papers --edition 2",
        size=9,
    )  # fmt: skip
    victim = sorted((world.blue / "dune-chest/bags/dune-survey/data").rglob("*.jpg"))[3]
    damage(victim)
    flawed = world.blue / "dune-chest/bags/winter-games/manifest-sha512.txt"
    damage(flawed)
    stage.shoot("verify", office, "dunechest verify blue", "dunechest mend blue dune-survey --from sand", size=10)
    damage(flawed)
    stage.run(office, "dunechest verify blue", "dunechest chest place sand 'with grandmother'")
    stage.shoot("chest-show", office, "dunechest chest list", "dunechest chest show blue")
    stage.shoot("status", office, "dunechest status", size=10)
    stage.run(office, "dunechest chest new drives/shell --label shell")
    stage.shoot("copy", office, "dunechest copy blue shell", "dunechest compare blue shell")
    stage.shoot(
        "search",
        office,
        "dunechest search ring counts",
        "dunechest search 'marram-0000*.jpg' --larger 200kB --on sand",
    )
    routine = "dunechest routine add nightly marram-papers tidewrack --to blue --to sand --when 'every day at 22:00'"
    four_days_ago = time.time() - 4 * 86_400
    stage.run(
        office,
        f"{routine} --verify 5min --no-notify --scheduler none",
        f"sed -i 's/^added = .*/added = {four_days_ago}/' office-pc/dunechest/routines/nightly.toml",
        "mv drives/sand drives/drawer",
    )
    stage.shoot("routine", office, "dunechest routine run --due", "dunechest routine list", "dunechest release blue")
    stage.run(office, "mv drives/drawer drives/sand", "dunechest routine remove nightly")
    stage.shoot(
        "rehome", office,
        "dunechest rehome winter-games --to drives/shell",
        "python -m dunechest.demo.applications cuttlebone open",
        "dunechest status | grep -A 3 '^winter-games'",
        "dunechest reclaim winter-games --yes",
        size=10,
    )  # fmt: skip
    stage.run(office, "dunechest archive shore-recordings --to blue --to sand")
    stage.shoot(
        "reclaim", office, "dunechest reclaim shore-recordings --plan", "dunechest reclaim shore-recordings --yes"
    )
    wipe(world, office)
    places = f"--map {world.folder}/office-pc/second-drive={world.folder}/new-laptop/second-drive"
    stage.run(laptop, "dunechest chest show drives/blue", "dunechest computers mine office-pc")  # it would ask
    stage.shoot(
        "restore-plan", laptop,
        "dunechest restore drives/blue dune-survey --plan",
    )  # fmt: skip
    stage.run(laptop, "dunechest restore drives/blue tidewrack")
    stage.shoot(
        "restore", laptop,
        f"dunechest restore drives/blue winter-games {places} --yes",
        "dunechest restore drives/sand dune-survey --yes",
        "python -m dunechest.demo.applications glasswort open",
    )  # fmt: skip
    stage.run(laptop, f"rm -r '{world.laptop_home}/Pictures/Dune Survey/originals/2022'")
    stage.shoot(
        "join-and-undo", laptop,
        "dunechest restore drives/sand dune-survey --yes",
        "dunechest restore drives/sand dune-survey --if-exists merge --yes",
        "dunechest undo --yes",
    )  # fmt: skip


def office(folder: Path) -> None:
    """Show an office of three computers, with a chest in another town."""
    world = make_office(folder)
    stage = Stage(world)
    papers = shlex.quote(str(world.home("office-pc") / "Documents" / "Marram Papers"))
    notes = shlex.quote(str(world.home("new-laptop") / "Tide Notes"))
    python = shlex.quote(sys.executable)
    with servers() as both:
        stage.run("hut-pc", f"dunechest office set-up '{both.ledger}'")
        for name in COMPUTERS:
            secret = f"{python} -m dunechest.demo.password {name}"
            stage.run("hut-pc", f"dunechest office add '{both.ledger}' {name} --secret-from '{secret}'")
            stage.run(name, f"dunechest office join '{both.ledger_for(name)}' --password-from '{secret}'")
        stage.run(
            "office-pc", "dunechest chest new drives/blue --label blue", f"dunechest archive {papers} --to blue"
        )
        stage.run(
            "new-laptop", "dunechest chest new drives/sand --label sand", f"dunechest archive {notes} --to sand"
        )
        stage.run("office-pc", f"dunechest chest new '{both.barn}' --label barn")
        stage.run("office-pc", "dunechest copy blue barn", "dunechest verify barn")
        stage.run("hut-pc", f"dunechest office remove '{both.ledger}' new-laptop")
        stage.shoot(
            "office",
            "hut-pc",
            "dunechest status --office",
            "dunechest search notes.tide --office",
            "dunechest office show",
            size=10,
        )


#: Works for most of a year at Marram Point: archives, checks, and one day on which much was deleted.
YEAR = """
import os, time
from pathlib import Path
from dunechest import clock
from dunechest.cli.app import run

home = Path(os.environ["HOME"])
papers = home / "Documents" / "Marram Papers" / "papers.files"


def at(days, *words):
    clock.now = lambda: time.time() - days * 86400
    run([*words, "--quiet", *(("--ignore", "mass-change") if words[0] == "archive" else ())])


for label in ("blue", "sand", "shell"):
    at(300, "chest", "new", f"drives/{label}", "--label", label)
at(300, "find", str(home), "office-pc/second-drive")
at(299, "archive", "dune-survey", "tidewrack", "marram-papers", "winter-games", "--to", "blue")
at(290, "archive", "dune-survey", "tidewrack", "--to", "sand")
for days in range(280, 9, -30):
    (papers / f"ring counts {days}.pdf").write_bytes(os.urandom(150_000 + 3_000 * days))
    (home / ".tidewrack" / f"drawing {days}.png").write_bytes(os.urandom(400_000))
    if days == 100:
        for path in sorted(papers.iterdir())[4:24]:
            path.unlink()
    at(days, "archive", "marram-papers", "tidewrack", "--to", "blue", "--to", "sand")
at(9, "verify", "sand")
at(8, "chest", "place", "sand", "with grandmother")
at(7, "copy", "blue", "shell", "winter-games")
at(1, "archive", "shore-recordings", "sign-shop", "--to", "blue", "--to", "sand")
at(0, "report", "--write", "report.html")
"""


def main() -> None:
    for tool in ("Xvfb", "xterm", "import", "chromium", "chromedriver"):
        if shutil.which(tool) is None:
            raise SystemExit(f"{tool} is not installed")
    OUT.mkdir(parents=True, exist_ok=True)
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", f"{SCREEN}x24"], stderr=subprocess.DEVNULL)
    try:
        time.sleep(1.5)
        play(Stage(make_world(WORLD)))
        world = make_world(WORLD)
        subprocess.run(
            [sys.executable, "-c", YEAR], cwd=world.folder, env=world.environment("office-pc"), check=True,
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        office(OFFICE)
        Stage(world).page("report", "report.html")
        Stage(world).page("report-figures", "report.html", "drives")
    finally:
        screen.kill()
        screen.wait()
        shutil.rmtree(WORLD, ignore_errors=True)
        shutil.rmtree(OFFICE, ignore_errors=True)


if __name__ == "__main__":
    main()
