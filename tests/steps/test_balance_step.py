"""The level that balances, as a step: net within a thousandth, factors, feet, several outlines."""

import numpy as np
import pytest
import shapely

from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.units import FOOT
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared
from tests.steps.test_cut_fill import AROUND, cone, found, grid


def run(settings, **inputs):
    return run_declared(catalogue()["balance"], settings, inputs, silent())


@pytest.mark.parametrize("shrink", [0.8, 1.0, 1.2])
def test_the_fill_is_the_cut_once_compacted(shrink):
    told = found(run({"outline": AROUND, "shrink": shrink}, surface=grid(cone)))
    total = told["cut"] + told["fill"]
    assert abs(shrink * told["cut"] - told["fill"]) < 1e-3 * total
    assert 198.0 < told["balance_level"] < 206.0


def test_feet_balance_at_the_same_height():
    metres = found(run({"outline": AROUND}, surface=grid(cone)))
    feet = found(run({"outline": AROUND}, surface=grid(cone, unit=FOOT)))
    assert feet["balance_level"] * 0.3048 == pytest.approx(metres["balance_level"], rel=1e-9)
    assert feet["cut"] == pytest.approx(metres["cut"], rel=1e-6)


def test_several_outlines_share_one_level_and_the_curve_crosses_there():
    areas = Shapes(
        np.array([shapely.box(10, 10, 40, 40), shapely.box(55, 55, 90, 90)], object), {}, "EPSG:32628"
    )
    outcome = run({}, surface=grid(cone), area=areas)
    told, curve = found(outcome), outcome.beside["curve"]().value.columns
    at = np.interp(0.0, (curve["fill_m3"] - curve["cut_m3"]), curve["stage"])
    assert at == pytest.approx(told["balance_level"], abs=0.1)
    assert abs(told["net"]) < 1e-3 * (told["cut"] + told["fill"])


def test_the_record_names_the_ground_and_the_level(tmp_path):
    from moss_step.formats.raster_write import write_surface
    from moss_step.study.direct import do_step

    write_surface(tmp_path / "heap.tif", grid(cone), "heap")
    outline = ";".join(f"{x},{y}" for x, y in AROUND)
    given = {"surface": str(tmp_path / "heap.tif"), "outline": outline}
    results = do_step(catalogue()["balance"], given, silent(), ("", "record", "outlines"))
    rows = results["record"][0].value.columns
    said = dict(zip(rows["what"], rows["value"], strict=True))
    level = found(results[""][0])["balance_level"]
    assert said["ground"] == "heap" and float(said["level"].split()[0]) == pytest.approx(level, abs=0.01)
    assert results["outlines"][0].value.columns["against"][0] == "level"
