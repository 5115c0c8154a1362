"""Fixtures: an application with our look, a window on its own state folder, grids that are easy to reason about."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
import pytest
import rasterio
from hypothesis import settings
from rasterio.transform import from_origin

from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import METRE, Unit

# The same cases at each run, so that a change is to blame for a failure; EXPLORE=1 draws new ones.
settings.register_profile("same", derandomize=not os.environ.get("EXPLORE"), deadline=None)
settings.load_profile("same")

UTM = "EPSG:32628"


def surface(
    values: object, dx: float = 2.0, dy: float | None = None, crs: str | None = UTM, unit: Unit = METRE
) -> Surface:
    """A surface of given values with its upper left corner at 412000, 5872000."""
    grid = np.array(values, np.float32)
    frame = Frame(grid.shape[0], grid.shape[1], 412_000.0, 5_872_000.0, dx, dy or dx, crs)
    return Surface(grid, frame, unit)


def plane(
    rows: int, cols: int, east: float, north: float, dx: float = 2.0, dy: float | None = None
) -> Surface:
    """A plane that rises by ``east`` and ``north`` metres per metre."""
    r, c = np.mgrid[0:rows, 0:cols]
    return surface(500.0 + c * dx * east - r * (dy or dx) * north, dx, dy)


def write_tif(path: Path, values: np.ndarray, **profile: object) -> Path:
    """Write a raster with the general library alone."""
    values = np.atleast_3d(values) if values.ndim == 2 else np.moveaxis(values, 0, 2)
    settings: dict[str, object] = {"crs": UTM, "transform": from_origin(412_000, 5_872_000, 2, 2)}
    settings.update(profile)
    unit = settings.pop("unit", None)
    with rasterio.open(
        path, "w", driver="GTiff", height=values.shape[0], width=values.shape[1], count=values.shape[2],
        dtype=values.dtype, **settings,
    ) as file:  # fmt: skip
        file.write(np.moveaxis(values, 2, 0))
        if unit:
            file.units = (unit,) * values.shape[2]
    return path


@pytest.fixture
def hills() -> np.ndarray:
    """A rough float32 ground of 90 x 120 cells."""
    rng = np.random.default_rng(3)
    from scipy.ndimage import gaussian_filter

    return (gaussian_filter(rng.random((90, 120)), 5) * 900).astype(np.float32)


@pytest.fixture
def hills_tif(tmp_path: Path, hills: np.ndarray) -> Path:
    """The same ground as a GeoTIFF in metres."""
    return write_tif(tmp_path / "hills.tif", hills, unit="metre")


@pytest.fixture(autouse=True)
def own_state(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> None:
    """Keep autosaves, recent studies and results out of the person's own folders."""
    own = tmp_path_factory.mktemp("own")
    for name in ("cache", "config", "state"):
        (own / name).mkdir()
        monkeypatch.setenv(f"XDG_{name.upper()}_HOME", str(own / name))


@pytest.fixture(autouse=True)
def garbage() -> Iterator[None]:
    """Look for garbage where the window would: once there is an application, Python itself no longer does."""
    yield
    if "moss_step.desk.collector" in sys.modules:
        sys.modules["moss_step.desk.collector"].collect_due()


@pytest.fixture(scope="session")
def qapp() -> object:
    """The application with our look."""
    from moss_step.desk.app import make_app

    return make_app()


@pytest.fixture
def window(qtbot) -> Iterator[object]:
    """The real main window at 1280 x 800, empty."""
    from moss_step.desk.window import MainWindow

    made = MainWindow()
    qtbot.addWidget(made, before_close_func=lambda w: setattr(w.files, "may_leave", lambda: True))
    made.show()
    qtbot.waitExposed(made)
    yield made
    made.work.close()


def come_to_rest(window: object, most: float = 60.0) -> None:
    """Wait until nothing runs in a window, and all of it shows what there is."""
    from moss_step.desk import rest

    assert rest.settle(window, most), "the window never came to rest"


@pytest.fixture
def settle(qapp) -> Callable[[object], None]:
    """Wait until nothing runs in a window, and all of it shows what there is."""
    return come_to_rest


@pytest.fixture
def estate(window, settle):
    """The estate's ground, boundary and bogs, opened as files."""
    from moss_step.demo import DATA

    for name in ("harrow_ground.tif", "harrow_boundary.gpkg", "harrow_bogs.gpkg"):
        window.files.open_path(DATA / name)
    settle(window)
    return window


_LONG = (
    "desk/test_window_thread", "test_soak", "science/test_docstrings", "steps/test_memory",
    "steps/test_common_grounds", "steps/test_any_ground", "study/test_lineage_handed_on", "desk/test_measures_jobs",
    "reference/test_earthwork", "steps/test_tarn", "large/test_running", "large/test_water", "practice/test_elevation",
    "desk/test_page_by_hand", "scene/test_bundle", "formats/test_service", "desk/test_point_jobs",
)  # fmt: skip
"""Modules that take longest: they are begun first, so that no process waits for the last of them at the end."""


def pytest_addoption(parser: pytest.Parser) -> None:
    """Let what takes long be asked for."""
    parser.addoption("--thorough", action="store_true", help="also what is marked as thorough")


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Put the longest modules first; all others stay in their order. What is thorough is left out unless it
    is asked for.
    """
    if not config.getoption("thorough"):
        left = [item for item in items if item.get_closest_marker("thorough")]
        items[:] = [item for item in items if not item.get_closest_marker("thorough")]
        config.hook.pytest_deselected(items=left)
    root = Path(__file__).parent
    place = {root / f"{name}.py": k for k, name in enumerate(_LONG)}
    items.sort(key=lambda item: place.get(item.path, len(place)))
