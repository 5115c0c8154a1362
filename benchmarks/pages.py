"""Pages: a frame of one that is edited, a PDF, and an atlas, against copying and packing as many pixels.

Run: python -m benchmarks.pages
"""

from __future__ import annotations

import os
import statistics
import tempfile
import time
import zlib
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
import rasterio
from PySide6.QtCore import QPointF
from PySide6.QtGui import QImage
from rasterio.transform import from_origin
from scipy.ndimage import gaussian_filter

from benchmarks.measure import Line, best
from moss_step.desk.app import make_app
from moss_step.desk.sheet.output import write_sheets
from moss_step.desk.sheet.press import Wanted
from moss_step.desk.sheet.view import PageView, Pull
from moss_step.desk.work import Work
from moss_step.scene.sheet.layouts import LAYOUTS, told_by_area
from moss_step.scene.sheet.moment import moment
from moss_step.scene.sheet.rows import columns_of
from moss_step.scene.sheet.sheet import Sheet, sheets_of
from moss_step.scene.snapshot import Snapshot
from moss_step.study.engine import Engine
from moss_step.study.graph import Shading, Step, Study
from moss_step.study.pages import Atlas, Page, changed

SIDE, AREA, PAGES = 4000, 3e3, 50


def ground(folder: Path) -> Path:
    """A rough ground of 16 million cells of a metre."""
    rng = np.random.default_rng(5)
    small = gaussian_filter(rng.random((SIDE // 8, SIDE // 8)), 6)
    values = np.kron(small, np.ones((8, 8))) * 900 + gaussian_filter(rng.random((SIDE, SIDE)), 3) * 20
    path = folder / "ground.tif"
    with rasterio.open(
        path, "w", driver="GTiff", height=SIDE, width=SIDE, count=1, dtype="float32", crs="EPSG:32628",
        transform=from_origin(412_000, 5_872_000, 1, 1), tiled=True,
    ) as file:  # fmt: skip
        file.write(values.astype(np.float32), 1)
        file.units = ("metre",)
    return path


def study_of(path: Path) -> Study:
    """Ground, slope, contours and basins."""
    steps = (
        Step(id="ground", kind="open_grid", settings={"source": str(path)}),
        Step(id="slope", kind="slope", inputs={"dem": "ground"}),
        Step(id="lines", kind="contours", inputs={"dem": "ground"}, settings={"interval": 25.0}),
        Step(id="basins", kind="basins", inputs={"dem": "ground"}, settings={"min_area": AREA}),
    )
    study = Study(name="Pages", steps=steps, shading=Shading(ground="ground"))
    for ref in ("slope", "lines"):
        study = study.with_key_row(study.first_row(ref))
    return study


def frames(sheet: Sheet) -> list[Line]:
    """Frames of a page while a part is moved, a plan is resized, and its ground is moved."""
    view = PageView(Work())
    view.resize(956, 608)
    view.show_sheet(sheet)
    view.grab()
    key, plan = sheet.page.part("key"), sheet.page.part("plan")
    assert key is not None and plan is not None
    image, plain = QImage(956, 608, QImage.Format.Format_RGB32), np.zeros((608, 956), np.uint32)
    copied = best(plain.copy, 25)
    found = []
    for words, pull in (
        ("a part is moved", Pull(QPointF(), {"key": key})),
        ("its plan is resized", Pull(QPointF(), {"plan": plan}, handle=4)),
        ("the ground of its plan is moved", Pull(QPointF(), {"plan": plan}, ground=True)),
    ):
        took = _median_frame(view, pull, image)
        found.append(
            Line(
                f"a page over {SIDE} x {SIDE} cells, a frame while {words}", f"{1000 * took:.1f} ms",
                f"{took / copied:.0f} times copying its pixels", "33 ms", took <= 0.033,
            )
        )  # fmt: skip
    view.work.close()
    return found


def _median_frame(view: PageView, pull: Pull, image: QImage) -> float:
    seconds = []
    for k in range(25):
        start = time.perf_counter()
        view._follow(pull, QPointF(-0.7 * k, -0.25 * k), False)
        view.render(image)
        seconds.append(time.perf_counter() - start)
    return statistics.median(seconds)


def lines() -> list[Line]:
    """Measure everything."""
    make_app()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        study, engine = study_of(ground(folder)), Engine()
        page = LAYOUTS["plan_key"].page(Snapshot(study, study), "Page", (), "")
        now = moment(engine, study, page)
        sheet = sheets_of(now, page, digest=engine.file_hash)[0]
        found = [*frames(sheet), _pdf(sheet, folder), _atlas(study, page, engine, folder)]
        engine.close()
    return found


def _pdf(sheet: Sheet, folder: Path) -> Line:
    """Against packing as many random pixels as its plan has."""
    took = best(lambda: write_sheets([sheet], folder / "p.pdf", Wanted(300)), 3)
    plan = sheet.page.plan()
    assert plan is not None
    count = int(plan.width * plan.height * (300 / 25.4) ** 2 * 3)
    pixels = np.random.default_rng(0).integers(0, 255, count, np.uint8).tobytes()
    packed = best(lambda: zlib.compress(pixels, 6), 1)
    return Line(
        "a page as PDF at 300 dpi", f"{took:.2f} s",
        f"{took / packed:.1f} times packing random pixels of its plan", "within 3 s", took <= 3.0,
    )  # fmt: skip


def _atlas(study: Study, page: Page, engine: Engine, folder: Path) -> Line:
    atlas = page.model_copy(update={"atlas": Atlas(areas="basins")})
    atlas = atlas.changing(["plan"], lambda p: changed(p, scale=5000))
    now = moment(engine, study, atlas)
    atlas = told_by_area(atlas, *columns_of(Sheet(now, atlas), "basins"))
    sheets = sheets_of(now, atlas, digest=engine.file_hash)[:PAGES]
    start = time.perf_counter()
    write_sheets(sheets, folder / "a.pdf", Wanted(300))
    took = time.perf_counter() - start
    size = (folder / "a.pdf").stat().st_size / 1e6
    return Line(
        f"an atlas of {len(sheets)} pages at 300 dpi", f"{took:.1f} s, {size:.0f} MB",
        f"{took / len(sheets):.2f} s a page",
        "50 pages within 60 s", took <= 60.0 and len(sheets) == PAGES,
    )  # fmt: skip


if __name__ == "__main__":
    for line in lines():
        print(f"{line.what}: {line.measured}; {line.against}; {line.wanted}: {'yes' if line.holds else 'NO'}")
