"""Opening clouds, ground points, grids and heights above ground as steps: what they say, write and refuse."""

from pathlib import Path

import laspy
import numpy as np
import pytest

from moss_step.cli import main
from moss_step.formats.las import read_cloud
from moss_step.formats.raster import read_surface
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.progress import silent
from moss_step.model.units import FOOT
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared
from tests.cases import found

DATA = Path(__file__).parents[1] / "data"


def run(kind: str, settings=None, **inputs):
    return run_declared(catalogue()[kind], settings or {}, inputs, silent())


def test_an_opened_cloud_says_what_it_is():
    outcome = run("open_cloud", {"source": str(DATA / "lambert93.laz")})
    held = laspy.read(DATA / "lambert93.laz")
    assert found(outcome, "points") == len(held.points) == 37_805
    assert found(outcome, "highest") == pytest.approx(float(held.z.max()))
    classes = outcome.beside["classes"]().value
    codes, counts = np.unique(np.asarray(held.classification), return_counts=True)
    assert (
        classes.columns["class"].tolist() == codes.tolist()
        and classes.columns["count"].tolist() == counts.tolist()
    )
    assert classes.columns["name"].tolist()[-1] == "Own class 65"
    autzen = run("open_cloud", {"source": str(DATA / "autzen_trim.laz")})
    assert autzen.value.unit == FOOT and any("heights is not stated" in w for w in autzen.warnings)
    stated = run("open_cloud", {"source": str(DATA / "autzen_trim.laz"), "height_unit": "metre"})
    assert any(
        "Heights are in metre, and the plan is not" in w or "plan is not" in w for w in stated.warnings
    )


def test_parts_of_a_cloud_and_wrong_words():
    some = run("open_cloud", {"source": str(DATA / "lambert93.laz"), "classes": "2,9", "every": 2})
    assert set(np.unique(some.value.attributes["classification"])) == {2}
    for wrong in ("2,x", "300", "-1"):
        with pytest.raises(AskedWronglyError, match="classes"):
            catalogue()["open_cloud"].checked({"source": "a.laz", "classes": wrong})


def test_a_cloud_goes_from_file_to_ground_grid_and_heights_on_the_command_line(tmp_path, capsys):
    source = str(DATA / "lambert93.laz")
    bare, dtm = tmp_path / "bare.laz", tmp_path / "dtm.tif"
    assert (
        main(
            [
                "do",
                "ground_points",
                f"cloud={source}",
                "-o",
                str(bare),
                "-o",
                f"changes={tmp_path / 'c.csv'}",
                "--quiet",
            ]
        )
        == 0
    ), capsys.readouterr().err
    before, after = laspy.read(source), laspy.read(bare)
    for name in before.point_format.dimension_names:
        if name != "classification":
            np.testing.assert_array_equal(np.asarray(after[name]), np.asarray(before[name]), err_msg=name)
    assert {1, 2} <= set(np.unique(after.classification))
    rows = np.genfromtxt(tmp_path / "c.csv", delimiter=",", names=True, dtype=None, encoding="utf-8")
    assert rows["count"].sum() == len(before.points)
    assert main(["do", "grid_points", f"cloud={bare}", "cell=2", "-o", str(dtm), "--quiet"]) == 0, (
        capsys.readouterr().err
    )
    surface = read_surface(dtm)[0]
    low, high = surface.range
    assert before.header.mins[2] <= low < high <= before.header.maxs[2]
    assert (
        main(
            [
                "do",
                "height_above",
                f"cloud={bare}",
                f"ground={dtm}",
                "-o",
                str(tmp_path / "above.laz"),
                "--quiet",
            ]
        )
        == 0
    )
    above = laspy.read(tmp_path / "above.laz")
    on_ground = np.asarray(above.classification) == 2
    assert abs(np.nanmedian(np.asarray(above["height_above"])[on_ground])) < 0.1


def test_ground_in_feet_is_found_as_in_metres():
    """The real cloud in feet: most points that its makers called ground are ground."""
    cloud, _ = read_cloud(DATA / "autzen_trim.laz")
    outcome = run("ground_points", {"terrain": "flat"}, cloud=cloud)
    theirs, ours = cloud.attributes["classification"] == 2, outcome.value.attributes["classification"] == 2
    assert ours[theirs].mean() > 0.97
    assert found(outcome, "ground_share") == pytest.approx(ours.mean())
    changes = outcome.beside["changes"]().value
    assert changes.columns["count"].sum() == len(cloud)


def test_what_there_is_no_ground_for_is_said():
    cloud, _ = read_cloud(DATA / "lambert93.laz")
    none = cloud.part(cloud.attributes["classification"] == 5)
    with pytest.raises(AskedWronglyError, match="No point is left of: ground"):
        run("grid_points", {"what": "ground"}, cloud=none)
    with pytest.raises(AskedWronglyError, match="intensity"):
        from dataclasses import replace

        run("grid_points", {"what": "intensity", "cell": 5.0}, cloud=replace(none, attributes={}))
    grid = run("grid_points", {"what": "highest", "cell": 5.0}, cloud=cloud).value
    far = type(grid)(
        grid.values, type(grid.frame)(*grid.frame.shape, 0.0, 0.0, 5.0, 5.0, grid.frame.crs), grid.unit
    )
    with pytest.raises(MossError, match="No point lies over the ground"):
        run("height_above", {}, cloud=cloud, ground=far)
