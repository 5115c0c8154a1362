"""The step that says where nothing was measured, on the demo's tarn and on small grounds."""

import numpy as np
import pytest
import shapely

from moss_step.demo import DATA
from moss_step.demo.sounder import Sounder
from moss_step.formats.vector import read_shapes
from moss_step.model.errors import MossError
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared

UTM = "EPSG:32628"


def run(settings, **inputs):
    return run_declared(catalogue()["coverage"], settings, inputs, silent())


def points(*places, crs=UTM):
    return Shapes(np.asarray(shapely.points(np.array(places, float))), {}, crs)


def found(outcome):
    return {f.name: f.value for f in outcome.findings}


def test_half_of_the_tarn_is_left_and_the_next_line_begins_beside_the_last():
    """The demo's boat after half of its lines of 3 m: about half is covered, the next line runs north or south, 3 m on."""
    shore, way = read_shapes(DATA / "harrow_tarn.gpkg"), Sounder(rate=4.0).track()
    half = way[way[:, 0] <= way[0, 0] + 3.0 * round((way[-1, 0] - way[0, 0]) / 6.0) + 0.01]
    outcome = run({"spacing": 3.0}, points=points(*half), area=shore)
    told = found(outcome)
    assert 0.4 < told["covered"] < 0.65
    assert min(told["line_bearing"] % 180, 180 - told["line_bearing"] % 180) < 2.0
    line = shapely.get_coordinates(outcome.beside["line"]().value.geometry)
    assert abs(line[0, 0] - half[-1, 0]) == pytest.approx(3.0, abs=0.8)
    assert shapely.within(shapely.linestrings(line), shapely.union_all(shore.geometry).buffer(0.5))
    whole = run({"spacing": 3.2}, points=points(*way), area=shore)
    assert found(whole)["covered"] > 0.95


def test_a_covered_ground_asks_for_no_line():
    grid = [(x, y) for x in range(0, 21, 2) for y in range(0, 21, 2)]
    outcome = run({"spacing": 4.0}, points=points(*grid))
    assert found(outcome)["covered"] == 1.0 and "no line is needed" in " ".join(outcome.warnings)
    assert len(outcome.beside["line"]().value) == 0


def test_an_island_is_not_to_be_covered():
    ring = shapely.Polygon([(0, 0), (40, 0), (40, 40), (0, 40)], [[(10, 10), (30, 10), (30, 30), (10, 30)]])
    outcome = run({"spacing": 4.0}, points=points((5, 5)), area=Shapes(np.array([ring], object), {}, UTM))
    values, frame = outcome.value.values, outcome.value.frame
    assert np.isnan(values[frame.cell_at(20.0, 20.0)]) and np.isfinite(values[frame.cell_at(35.0, 35.0)])


@pytest.mark.parametrize(
    ("places", "words"), [([(0, 0)], "one line"), ([(0, 0), (5, 5), (9, 9)], "one line")]
)
def test_what_encloses_nothing_is_refused(places, words):
    with pytest.raises(MossError, match=words):
        run({}, points=points(*places))


def test_degrees_lie_as_metres_do():
    """The same places on a metric system and as degrees, carried by pyproj: distances alike."""
    from moss_step.model.frame import carried

    way = np.random.default_rng(1).uniform(0, 300, (40, 2)) + np.array([500_000, 6_500_000])
    lon, lat = carried(UTM, "EPSG:4326", way[:, 0], way[:, 1])
    metres = found(run({"spacing": 40.0}, points=points(*way)))
    degrees = found(run({"spacing": 40.0}, points=points(*zip(lon, lat, strict=True), crs="EPSG:4326")))
    assert degrees["largest_gap"] == pytest.approx(metres["largest_gap"], rel=0.06)
    assert degrees["covered"] == pytest.approx(metres["covered"], abs=0.03)
