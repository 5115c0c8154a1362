"""Heights held against check points: the figures of the standards, groups, units, and what cannot be used."""

import numpy as np
import pytest
import shapely

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import FOOT, METRE
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared

UTM = "EPSG:32628"
FRAME = Frame(50, 60, 0.0, 100.0, 2.0, 2.0, UTM)


def plane(unit=METRE) -> Surface:
    rows, cols = np.mgrid[0:50, 0:60]
    z = 100.0 + 0.1 * (cols + 0.5) * 2.0 + 0.05 * (100.0 - (rows + 0.5) * 2.0)
    return Surface((z / unit.factor).astype(np.float32), FRAME, unit, "elevation")


def checks(errors, column="z", **columns) -> Shapes:
    """Places on the plane whose heights are too low by the errors."""
    rng = np.random.default_rng(4)
    x, y = rng.uniform(2, 118, len(errors)), rng.uniform(2, 98, len(errors))
    z = 100.0 + 0.1 * x + 0.05 * y - np.asarray(errors)
    return Shapes(np.asarray(shapely.points(x, y)), {column: z, **columns}, UTM)


def run(settings=None, **inputs):
    return run_declared(catalogue()["check_heights"], settings or {}, inputs, silent())


def test_figures_are_those_of_the_standards():
    """FGDC-STD-007.3-1998, 3.2.2: 1.9600 times the RMSE; ASPRS 2014: the 95th percentile of the absolute errors."""
    errors = np.random.default_rng(1).normal(0.02, 0.1, 400)
    columns = run(surface=plane(), points=checks(errors)).value.columns
    assert columns["count"][0] == 400 and columns["group"][0] == "All"
    assert columns["mean_error"][0] == pytest.approx(errors.mean(), abs=1e-4)
    assert columns["rmse"][0] == pytest.approx(np.sqrt(np.mean(errors**2)), abs=1e-4)
    assert columns["nssda_95"][0] == pytest.approx(1.96 * np.sqrt(np.mean(errors**2)), abs=2e-4)
    assert columns["percentile_95"][0] == pytest.approx(np.percentile(np.abs(errors), 95), abs=1e-4)
    assert columns["spread"][0] == pytest.approx(np.std(errors, ddof=1), abs=1e-4)
    inside = np.abs(errors) <= columns["nssda_95"][0]
    assert 0.92 < inside.mean() < 0.98, "of normal errors 95 in 100 lie within"


def test_each_land_cover_has_its_row_and_each_point_its_error():
    errors = np.where(np.arange(60) % 2, 0.3, -0.1)
    cover = np.where(np.arange(60) % 2, "wood", "grass").astype(object)
    outcome = run({"group": "cover"}, surface=plane(), points=checks(errors, cover=cover))
    columns = outcome.value.columns
    assert columns["group"].tolist() == ["All", "grass", "wood"] and columns["count"].tolist() == [60, 30, 30]
    assert columns["mean_error"] == pytest.approx([0.1, -0.1, 0.3], abs=1e-4)
    points = outcome.beside["points"]().value
    assert points.columns["error"] == pytest.approx(errors, abs=1e-4)
    assert "RMSE" in outcome.figure and outcome.warnings == ()


def test_units_and_columns_are_told_or_guessed():
    errors = np.full(40, 0.5)
    feet = run(surface=plane(FOOT), points=checks(errors, "Height"), settings={"unit": "metre"}).value
    assert feet.columns["rmse"][0] == pytest.approx(0.5 / 0.3048, abs=1e-3) and feet.unit("rmse") == FOOT
    named = checks(errors, "n")
    drawn = Shapes(named.geometry, {"name": np.array([f"{z:.3f}" for z in named.columns["n"]], object)}, UTM)
    assert run(surface=plane(), points=drawn).value.columns["rmse"][0] == pytest.approx(0.5, abs=1e-3)
    solid = Shapes(
        np.asarray(shapely.points(*shapely.get_coordinates(named.geometry).T, named.columns["n"])), {}, UTM
    )
    assert run(surface=plane(), points=solid).value.columns["rmse"][0] == pytest.approx(0.5, abs=1e-3)


def test_points_of_another_system_and_outside_are_said():
    from moss_step.formats.vector import in_system

    points = checks(np.zeros(40))
    far = Shapes(
        np.append(points.geometry, shapely.Point(500, 500)), {"z": np.append(points.columns["z"], 1.0)}, UTM
    )
    outcome = run(surface=plane(), points=far)
    assert outcome.value.columns["count"][0] == 40 and any(
        "1 check points have no height" in w for w in outcome.warnings
    )
    assert any("few" in w for w in run(surface=plane(), points=checks(np.zeros(5))).warnings)
    assert any("lean" in w for w in run(surface=plane(), points=checks(np.full(40, 0.2))).warnings)
    moved = in_system(Shapes(points.geometry, points.columns, UTM), "EPSG:32628")
    assert run(surface=plane(), points=moved).value.columns["rmse"][0] < 1e-4


def test_what_cannot_be_used_ends_in_words():
    points = checks(np.zeros(4))
    with pytest.raises(AskedWronglyError, match="no column 'zz'"):
        run({"column": "zz"}, surface=plane(), points=points)
    with pytest.raises(AskedWronglyError, match="unit"):
        run({"unit": "meter"}, surface=plane(), points=points)
    with pytest.raises(AskedWronglyError, match="no column of heights"):
        run(surface=plane(), points=Shapes(points.geometry, {}, UTM))
    with pytest.raises(MossError, match="No check point lies"):
        run(surface=plane(), points=Shapes(np.array([shapely.Point(900, 900)]), {"z": np.zeros(1)}, UTM))
