"""Draw the layers of the package, and how many imports go from one to another, as docs/layers.png.

With --check nothing is drawn; the exit status is 1 if an import goes up.
"""

from __future__ import annotations

import ast
import sys
from collections import Counter
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
SOURCE = ROOT / "src" / "dunechest"
PICTURE = ROOT / "docs" / "layers.png"

#: From the top; packages of one row do not import each other.
LAYERS = (
    ("cli",),
    ("report", "demo", "testing"),
    ("jobs",),
    ("model",),
    ("remote",),
    ("chest", "library"),
    ("bag", "machine", "ledger"),
    ("transfer",),
    ("values",),
    ("table",),
    ("document",),
    ("errors, names, words ...",),
)
BASE = LAYERS[-1][0]


def imports() -> Counter[tuple[str, str]]:
    """Count the imports between packages."""
    known = {name for row in LAYERS for name in row}
    found: Counter[tuple[str, str]] = Counter()
    for path in SOURCE.rglob("*.py"):
        top = path.relative_to(SOURCE).parts[0].removesuffix(".py")
        source = top if top in known else BASE
        if top in ("__init__", "__main__") or path.with_suffix(".pyi").exists():
            continue
        tree = ast.parse(path.read_text(encoding="utf-8"))
        # What is imported for type checkers alone is no import.
        tree.body = [
            node for node in tree.body if not (isinstance(node, ast.If) and "TYPE_CHECKING" in ast.unparse(node.test))
        ]
        for node in ast.walk(tree):
            if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("dunechest"):
                names = (
                    [node.module or ""] if node.module != "dunechest" else [f"dunechest.{a.name}" for a in node.names]
                )
                for name in names:
                    inner = name.split(".")[1]
                    target = inner if inner in known else BASE
                    if source != target:
                        found[source, target] += 1
    return found


def draw(found: Counter[tuple[str, str]]) -> None:
    """Draw the picture."""
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib import pyplot as plt

    figure, axes = plt.subplots(figsize=(11, 7.4), dpi=100)
    places: dict[str, tuple[float, float]] = {}
    for row, names in enumerate(LAYERS):
        for at, name in enumerate(names):
            places[name] = ((at + 1) * 10 / (len(names) + 1), float(len(LAYERS) - row))
    most = max(found.values())
    for (source, target), count in found.items():
        (x, y), (x2, y2) = places[source], places[target]
        colour = "#b03030" if y2 >= y else "#3a6ea5"
        axes.annotate(
            "",
            xy=(x2, y2 + 0.22),
            xytext=(x, y - 0.22),
            arrowprops={
                "arrowstyle": "-|>",
                "color": colour,
                "lw": 0.6 + 3.4 * count / most,
                "alpha": 0.55,
                "connectionstyle": f"arc3,rad={0.16 if abs(y - y2) > 1 else 0.0}",
                "shrinkA": 0,
                "shrinkB": 0,
            },
        )
    for name, (x, y) in places.items():
        out = sum(count for (source, _), count in found.items() if source == name)
        into = sum(count for (_, target), count in found.items() if target == name)
        text = f"{name}\n{out} down, {into} from above" if name != BASE else f"{name}\n{into} from above"
        box = {"boxstyle": "round,pad=0.5", "facecolor": "#f6f1e4", "edgecolor": "#555555"}
        axes.text(x, y, text, ha="center", va="center", fontsize=10, bbox=box, zorder=5)
    axes.set_xlim(0, 10)
    axes.set_ylim(0.4, len(LAYERS) + 0.6)
    axes.axis("off")
    axes.set_title("Layers of dunechest: every import goes down; the wider the arrow, the more imports", fontsize=12)
    figure.tight_layout()
    figure.savefig(PICTURE, metadata={"Software": ""})
    plt.close(figure)


def main() -> int:
    """Draw, or check."""
    found = imports()
    level = {name: row for row, names in enumerate(LAYERS) for name in names}
    up = [(source, target) for source, target in found if level[target] <= level[source]]
    for source, target in up:
        print(f"{source} imports {target}, which lies beside or above it", file=sys.stderr)
    if "--check" not in sys.argv:
        draw(found)
    return 1 if up else 0


if __name__ == "__main__":
    sys.exit(main())
