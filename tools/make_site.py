"""Build the pages: ``python tools/make_site.py FOLDER``. Each step is run on the demo, for its page and its
picture.
"""

from __future__ import annotations

import json
import os
import shlex
import shutil
import sys
import tempfile
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
from PIL import Image
from PySide6.QtGui import QImage
from site_pages import fields_page, python_page, step_page
from sphinx.cmd.build import build_main

from moss_step.demo.samples import write_samples
from moss_step.desk.app import make_app
from moss_step.desk.trail.thumbnail import thumbnail
from moss_step.kinds.registry import kind_of
from moss_step.model.outcome import Outcome
from moss_step.model.progress import silent
from moss_step.model.surface import Surface
from moss_step.scene.kinds.surface import SurfacePicture
from moss_step.scene.pictures import picture_of, picture_types
from moss_step.steps.catalogue import catalogue
from moss_step.steps.declare import StepKind
from moss_step.steps.example import example_of
from moss_step.study.direct import do_step
from moss_step.study.graph import KeyRow, Shading

ROOT = Path(__file__).resolve().parent.parent
WIDTH, HEIGHT = 440, 300
BENCHES = ("gather", "points", "surface", "shape", "water", "sight", "earthwork", "classes", "sheet", "plan")


def main() -> int:
    """Gather the sources in a room of their own, and build them."""
    target = Path(sys.argv[1]).resolve()
    with tempfile.TemporaryDirectory() as room:
        source = Path(room) / "source"
        shutil.copytree(ROOT / "docs", source)
        for shot in (source / "screenshots").glob("*.png"):
            lighten(shot)
        for name in ("CHANGELOG.md", "SECURITY.md"):
            shutil.copy(ROOT / name, source / name.lower())
        make_pages(source)
        code = build_main(["-q", "-b", "html", "-W", "--keep-going", str(source), str(Path(room) / "site")])
        if code == 0:
            shutil.rmtree(target, ignore_errors=True)
            shutil.copytree(
                Path(room) / "site", target, ignore=shutil.ignore_patterns(".doctrees", ".buildinfo")
            )
    return code


def make_pages(source: Path) -> None:
    """Write what is made from the declarations into the folder of sources."""
    app = make_app()
    steps = json.loads((ROOT / "src/moss_step/line/catalogue.json").read_text())
    (source / "steps").mkdir()
    (source / "pictures").mkdir()
    by_column: dict[str, list[str]] = {}
    with tempfile.TemporaryDirectory() as samples:
        write_samples(Path(samples))
        os.chdir(samples)
        for step in steps:
            kind = catalogue()[step["kind"]]
            outcomes = run_example(kind)
            image = picture(kind, outcomes[""])
            if image is not None:
                image.save(str(source / "pictures" / f"step-{kind.kind}.png"))
                lighten(source / "pictures" / f"step-{kind.kind}.png")
            for outcome in outcomes.values():
                columns = kind_of(outcome.value).columns
                for column in columns(outcome)[0] if columns else ():
                    by_column.setdefault(column, []).append(kind.kind)
            (source / "steps" / f"{kind.kind}.md").write_text(step_page(step, outcomes, image is not None))
        os.chdir(ROOT)
    (source / "fields.md").write_text(fields_page(by_column))
    (source / "functions.md").write_text(python_page())
    (source / "index.md").write_text(index(steps))
    app.quit()


def lighten(path: Path) -> None:
    """Have a picture of the window take a quarter of the room: 256 colours are enough for it."""
    image = Image.open(path).convert("RGB")
    image.quantize(256, method=Image.Quantize.FASTOCTREE).save(path)


def run_example(kind: StepKind) -> dict[str, Outcome]:
    """All results of a step's example, by name."""
    words = shlex.split(example_of(kind))[2:]
    given = dict(w.split("=", 1) for k, w in enumerate(words) if w != "-o" and words[k - 1] != "-o")
    return {n: outcome for n, (outcome, _) in do_step(kind, given, silent(), kind.results).items()}


def picture(kind: StepKind, outcome: Outcome) -> QImage | None:
    """A result as a card of the trail shows it, larger."""
    value = outcome.value
    shown = picture_of(value)
    row = KeyRow(step=kind.kind, **{**kind.look, **(dict(kind.draws(_settings(kind))) if kind.draws else {})})
    high = isinstance(value, Surface) and value.quantity == "elevation"
    ground = shown if high and isinstance(shown, SurfacePicture) else None
    if kind_of(value).name not in picture_types():
        return None
    return thumbnail(shown, row, Shading(), ground, WIDTH, HEIGHT)


def _settings(kind: StepKind) -> object:
    words = shlex.split(example_of(kind))[2:]
    given = dict(w.split("=", 1) for w in words if "=" in w)
    return kind.checked(
        {n: v for n, v in given.items() if kind.input(n) is None and n in kind.settings.model_fields}
    )


def index(steps: list[dict[str, str]]) -> str:
    """The first page: guides, walks, every step by bench, and what lies beneath."""

    def tree(title: str, pages: list[str]) -> str:
        return (
            f"```{{toctree}}\n:caption: {title}\n:maxdepth: 1\n:titlesonly:\n\n"
            + "\n".join(pages)
            + "\n```\n"
        )

    def of_bench(bench: str) -> str:
        """Links, as a hundred steps in the margin of every page would hide the guides."""
        links = [f"[{s['title']}](steps/{s['kind']}.md)" for s in steps if s["bench"] == bench]
        return f"## Steps: {bench.capitalize()}\n\n" + " · ".join(links) + "\n"

    benches = list(dict.fromkeys(s["bench"] for s in steps))
    parts = [
        "# Moss Step\n\nFrom elevation grids to slope, water, sight, classes and areas: in a window, on the "
        "command line, and in Python. F1 in the window opens the page of what is shown.\n\n"
        "![The window](screenshots/classes.png)\n",
        tree(
            "From a question to a sheet",
            [f"tutorials/{p.stem}" for p in sorted((ROOT / "docs/tutorials").glob("*.md"))],
        ),
        tree("Guides", [*BENCHES, "command-line", "python", "study", "troubleshooting", "glossary"]),
        *(of_bench(b) for b in benches),
        tree(
            "Reference",
            [
                "grounds",
                "fields",
                "functions",
                "steps",
                "references",
                "benchmarks",
                "scale",
                "every-step",
                "reliability",
                "pictures",
                "architecture",
                "contributing",
                "changelog",
                "security",
            ],
        ),
    ]
    return "\n".join(parts)


if __name__ == "__main__":
    sys.exit(main())
