"""Write `constraints.txt`: the newest versions that pyproject.toml allows, as one fresh environment gets them."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
FILE = ROOT / "constraints.txt"
#: What is no dependency, or comes with the environment.
_NOT = ("dunechest", "pip", "setuptools", "wheel")


def main() -> None:
    """Make an environment, install everything, and write down what that was."""
    head = [line for line in FILE.read_text(encoding="utf-8").splitlines() if line.startswith("#")]
    with tempfile.TemporaryDirectory() as folder:
        subprocess.run([sys.executable, "-m", "venv", folder], check=True)
        python = Path(folder) / ("Scripts" if sys.platform == "win32" else "bin") / "python"
        pip = [str(python), "-m", "pip", "--quiet", "--disable-pip-version-check"]
        subprocess.run([*pip, "install", "--no-compile", "--editable", f"{ROOT}[dev,servers]"], check=True)
        frozen = subprocess.run([*pip, "list", "--format=freeze"], check=True, capture_output=True, text=True).stdout
    lines = [line for line in frozen.splitlines() if line.partition("==")[0].lower() not in _NOT]
    FILE.write_text("\n".join([*head, *lines, ""]), encoding="utf-8")
    print(f"{FILE.name}: {len(lines)} packages")


if __name__ == "__main__":
    main()
