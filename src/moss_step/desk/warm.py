"""Compiles every kernel once, by driving the real window off screen: ``python -m moss_step.desk.warm``."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import shapely

from moss_step.demo import DATA
from moss_step.demo.samples import coarse_ground
from moss_step.desk.block.eye import Eye, extent_metres, height_at, under_pixel
from moss_step.desk.rest import settle
from moss_step.formats.raster import read_surface
from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import read_shapes
from moss_step.kernels import mark, sweep
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.science.earthwork.outline import Heights, Outline
from moss_step.science.interpolate.kriging import ALL_AT_ONCE
from moss_step.science.interpolate.surfaces import METHODS
from moss_step.science.sight.heights import mast_heights
from moss_step.science.sight.observer import Observer, prepare_sight
from moss_step.science.sight.viewshed import seen_fast, viewshed
from moss_step.science.water import trace
from moss_step.science.water.basins import divided
from moss_step.science.water.drainage import prepare
from moss_step.science.water.kernels.trace import longest_up, path_down
from moss_step.steps.catalogue import step_kind
from moss_step.study.autosave import Autosave
from moss_step.study.declared import run_declared
from moss_step.study.saving import load_study, save_study

if TYPE_CHECKING:
    from moss_step.desk.window import MainWindow


def main() -> None:
    """Compile on two cores: surfaces between places, water, and what tiles run, in a process beside this one;
    what is compiled stays in the cache, with a mark of these sources: with that nothing is left to be done.
    """
    done = mark()
    if done.exists():
        sys.stdout.write("Kernels are compiled already.\n")
        return
    if "--water" in sys.argv:
        _between_places()  # first: meanwhile the other compiles what every window needs
        _drive(lambda bench: bench == "water", follow=True)
        _in_tiles()
        return
    with subprocess.Popen([sys.executable, "-m", "moss_step.desk.warm", "--water"]) as other:
        _drive(lambda bench: bench != "water", follow=False)
    if other.returncode:
        sys.exit(other.returncode)
    done.touch()
    sweep()
    sys.stdout.write("Kernels are compiled.\n")


def _drive(wanted: Callable[[str], bool], follow: bool) -> None:
    """Open the demo, and derive each thing of some benches once; ``follow`` the pointer, too, or look at each
    step of the demo.
    """
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtCore import QPointF

    from moss_step.desk.app import make_app
    from moss_step.desk.window import MainWindow
    from moss_step.desk.work import Work
    from moss_step.steps.catalogue import catalogue

    _app = make_app()
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_STATE_HOME"] = os.environ["XDG_CACHE_HOME"] = folder
        window = MainWindow(Work(autosave=Autosave(Path(folder))))
        window.show()
        window.files.open_demo()
        settle(window)
        window.plan.view.pin(QPointF(300, 300))
        for step_id in [] if follow else [s.id for s in window.work.study.steps]:
            window.work.choose(step_id)
            settle(window)
            window.grab()
        window.work.open(_in_coarse_cells(Path(folder)))
        settle(window)
        for bench in [] if follow else ["shape", "classes"]:
            window.work.choose("")
            window.go_to_bench(bench)
        for kind in [
            k for k, declared in catalogue().items() if not declared.file_settings and wanted(declared.bench)
        ]:
            window.work.choose("")
            settle(window)
            window.begin_step(kind)
            settle(window)
            window.grab()
        if follow:
            _follow_the_pointer()
        else:
            _look_at_points(window)
            _sort_points()
            _earthwork()
        window.work.close()


def _in_coarse_cells(folder: Path) -> Path:
    """The demo on a sixteenth of its cells: a kernel is compiled for the sorts of what it is given, not for
    how much that is.
    """
    write_surface(folder / "coarse.tif", coarse_ground(4), "coarse")
    source = {"settings": {"source": str(folder / "coarse.tif")}}
    study = load_study(DATA / "harrow_moss.moss")
    save_study(study.changing("ground", lambda s: s.model_copy(update=source)), folder / "coarse.moss")
    return folder / "coarse.moss"


def _between_places() -> None:
    """What steps between measured places run, on the soundings of the tarn: no step of the demo does."""

    def made(kind: str, given: dict[str, Any], **inputs: Value) -> Outcome:
        return run_declared(step_kind(kind), given, inputs, silent())

    points = made("open_table", {"source": str(DATA / "harrow_soundings.csv"), "crs": "EPSG:32628"}).value
    shore, bed = read_shapes(DATA / "harrow_tarn.gpkg"), {"column": "height", "edge_value": 0.0}
    for method in METHODS:
        found = made("interpolate", {**bed, "method": method}, points=points, area=shore)
        if method != "tin":
            found.beside["residuals"]()
    stated = {"variogram": "exponential", "sill": 4.0, "range": 60.0, "cell": 4.0}
    for nugget in (0.0, 0.1):
        found = made("interpolate", {**bed, **stated, "nugget": nugget}, points=points, area=shore)
        found.beside["error"](), found.beside["variogram"]()
    many = np.random.default_rng(1).random((ALL_AT_ONCE + 1, 2)) * 100.0
    near = Shapes(np.asarray(shapely.points(many)), {"z": many[:, 0]}, "EPSG:32628")
    found = made("interpolate", {**stated, "column": "z", "nugget": 0.1}, points=near)
    found.beside["error"](), found.beside["residuals"]()
    made("compare_methods", {"column": "height"}, points=points)
    made("variogram", {"column": "height", "directions": True}, points=points).beside["pairs"]()
    tin = made("triangulate", bed, points=points, area=shore).value
    surface = made("tin_grid", {}, tin=tin).value
    held = made("storage", {"level": 0.0}, surface=surface, tin=tin)
    held.beside["curve"](), held.beside["shoreline"]()
    made("coverage", {"spacing": 3.0}, points=points, area=shore)


def _in_whole_tens() -> Surface:
    """The ground of the demo in steps: level ground lies across the rims of all tiles."""
    ground, _ = read_surface(DATA / "harrow_ground.tif")
    return replace(ground, values=np.round(ground.values, -1))


def _in_tiles() -> None:
    """What a ground that is too large for one piece runs, on that of the demo."""
    ground = {"id": "ground", "kind": "open_grid", "settings": {"source": str(DATA / "harrow_ground.tif")}}
    asked: dict[str, dict[str, Any]] = {
        "slope": {}, "contours": {"interval": 20.0}, "fill_depressions": {}, "flow_directions": {},
        "flow_accumulation": {}, "flow_length": {}, "streams": {}, "basins": {}, "stream_basins": {},
        "drain_height": {}, "depressions": {},
    }  # fmt: skip
    steps = [
        {"id": kind, "kind": kind, "settings": given, "inputs": {"dem": "ground"}}
        for kind, given in asked.items()
    ]
    for ref, kind, more in (
        ("several", "flow_accumulation", {"method": "freeman"}),
        ("risen", "fill_depressions", {"gradient": 0.001}),
        ("up", "flow_path", {"start": "413300,5871300", "side": "up"}),
    ):
        steps.append({"id": ref, "kind": kind, "inputs": {"dem": "ground"}, "settings": more})
    steps.append({"id": "level", "kind": "open_grid", "settings": {"source": "level.tif"}})
    steps.append({"id": "spread", "kind": "flow_accumulation", "inputs": {"dem": "level"}})
    with tempfile.TemporaryDirectory() as folder:
        write_surface(Path(folder) / "level.tif", _in_whole_tens(), "level")
        study = Path(folder) / "tiles.moss"
        study.write_text(json.dumps({"moss_step_study": 2, "name": "tiles", "steps": [ground, *steps]}))
        out = str(Path(folder) / "out")
        words = [
            sys.executable,
            "-m",
            "moss_step",
            "run",
            str(study),
            "-o",
            out,
            "-q",
            "--tile-cells",
            "100000",
        ]
        subprocess.run(words, check=True)  # noqa: S603 - this program itself


def _earthwork() -> None:
    """What earthwork runs on the bed of the tarn, with bases of every sort, and what follows a drag."""

    def made(kind: str, given: dict[str, Any], **inputs: Value) -> Value:
        return run_declared(step_kind(kind), given, inputs, silent()).value

    outline = read_shapes(DATA / "harrow_tarn.gpkg")
    points = made("open_table", {"source": str(DATA / "harrow_soundings.csv"), "crs": "EPSG:32628"})
    tin = made("triangulate", {"column": "height", "edge_value": 0.0}, points=points, area=outline)
    surface = as_kind(made("tin_grid", {}, tin=tin), Surface)
    for against in ("edge", "plane", "lowest", "surface"):
        inputs: dict[str, Value] = {"surface": surface, "area": outline}
        if against == "surface":
            inputs["base"] = surface
        run_declared(step_kind("cut_fill"), {"against": against}, inputs, silent())
    run_declared(step_kind("balance"), {}, {"surface": surface, "area": outline}, silent())
    pair: dict[str, Value] = {"before": surface, "after": surface, "stable": outline, "area": outline}
    run_declared(step_kind("survey_change"), {"offset": "mean"}, pair, silent())
    run_declared(step_kind("survey_change"), {"simulated": 50, "reach": 9.0}, pair, silent()).beside[
        "patches"
    ]()
    area = Outline(surface.frame, shapely.union_all(outline.geometry))
    _designs(surface, area)
    base: float | np.ndarray
    for base in (0.0, surface.values):
        Heights(surface.values, base).inside(area)


def _designs(surface: Surface, area: Outline) -> None:
    """Pads, roads and bunds, on heights in both precisions."""
    xmin, ymin, xmax, ymax = shapely.bounds(area.areas).tolist()
    across = ((xmin, ymin), ((xmin + xmax) / 2.0, (ymin + ymax) / 2.0), (xmax, ymax))
    whole = np.where(np.isnan(surface.values), 0.0, surface.values)
    for values in (whole.astype(np.float32), whole.astype(np.float64)):
        ground: dict[str, Value] = {"surface": Surface(values, surface.frame, surface.unit)}
        middle = (xmin + xmax) / 2.0, (ymin + ymax) / 2.0
        box = shapely.box(*middle, middle[0] + 9.0, middle[1] + 9.0)
        corners = tuple(map(tuple, shapely.get_coordinates(box)[:-1].tolist()))
        asked: dict[str, Any] = {"outline": corners, "lies": "at_level", "level": 1.0}
        run_declared(step_kind("pad"), asked, dict(ground), silent()).beside["works"]()
        asked = {"path": across, "lies": "grade", "start": 0.0}
        run_declared(step_kind("road"), asked, dict(ground), silent())
        run_declared(step_kind("bund"), {"path": across, "crest": 1.0}, dict(ground), silent())


def _look_at_points(window: MainWindow) -> None:
    """What runs over a cloud alone."""
    from moss_step.steps.catalogue import catalogue

    window.files.open_path(DATA / "harrow_survey.laz")
    settle(window)
    for kind in [
        k for k, declared in catalogue().items() if any(i.accepts == "cloud" for i in declared.inputs)
    ]:
        window.begin_step(kind)
        settle(window)
    window.grab()


def _sort_points() -> None:
    """What learned classes run, on a corner of the survey: nothing has taught one while the window starts."""

    def made(kind: str, given: dict[str, Any], **inputs: Value) -> Outcome:
        return run_declared(step_kind(kind), given, inputs, silent())

    box = (412_900.0, 5_870_500.0, 413_000.0, 5_870_660.0)
    cloud = made("open_cloud", {"source": str(DATA / "harrow_survey.laz"), "box": box}).value
    for weigh in ("forest", "gaussian"):
        sorted_out = made(
            "object_points", {"method": "likelihood", "weigh": weigh, "water": True}, cloud=cloud
        )
    bare = sorted_out.value
    for given in ({"method": "distance", "classes": (4, 6), "intensity": 1.0}, {"classes": (4, 6)}):
        made("segments", given, cloud=bare)
    every = ("echo_ratio", "height_range", "intensity")
    made("shape_measures", {"measures": every, "best": True}, cloud=bare)
    for code, what in ((6, "buildings"), (4, "centre_lines")):
        made("outlines_of", {"of_class": code, "what": what}, cloud=bare)


def _follow_the_pointer() -> None:
    """Kernels that run only while the pointer or a slider moves; some only where much lies upstream."""
    ground, _ = read_surface(DATA / "harrow_ground.tif")
    drainage = prepare(ground)
    middle = drainage.frame.rows // 2
    cell = drainage.frame.cols * middle + middle
    path_down(drainage.ways, cell)
    longest_up(drainage.ways, drainage.metres, cell)
    trace.mark_catchment(drainage, int(np.argmax(drainage.cells)), 1, np.zeros(drainage.ways.shape, np.uint8))
    divided(drainage, 1.0)
    sight = prepare_sight(ground)
    at = Observer(drainage.frame.x_of(middle), drainage.frame.y_of(middle))
    seen_fast(sight, at)
    viewshed(sight, [at])
    mast_heights(sight, [at])
    eye, extent = Eye(30.0, 35.0, 4000.0), extent_metres(drainage.frame)
    height_at(np.zeros((1, 2)), ground.values, extent)
    under_pixel(eye, (100.0, 100.0), (200, 200), ground.values.copy(), extent)


if __name__ == "__main__":
    main()
