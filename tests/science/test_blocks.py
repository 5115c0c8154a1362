"""Clouds block by block: every point in one block, and surfaces that do not show where the blocks meet."""

import numpy as np
import pytest

from moss_step.demo import DATA
from moss_step.formats.las import read_cloud
from moss_step.model.cloud import Cloud
from moss_step.model.progress import silent
from moss_step.model.units import METRE
from moss_step.science.points import blocks, grids, objects
from moss_step.science.points.blocks import blocks_of
from moss_step.science.points.grids import frame_for, grid_points
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared

UTM = "EPSG:32628"


def scattered(n: int = 20_000, across: float = 300.0, up: float = 100.0) -> Cloud:
    rng = np.random.default_rng(3)
    x, y = rng.uniform(1000, 1000 + across, n), rng.uniform(2000, 2000 + up, n)
    return Cloud(x, y, 50.0 + 0.1 * x + np.sin(y / 7.0), {}, UTM, METRE)


@pytest.mark.parametrize("margin", [0.0, 12.0, 150.0])
def test_each_point_is_in_one_block_and_the_margin_holds_what_is_near(margin):
    cloud = scattered()
    laid = blocks_of(cloud, 1500)
    assert len(laid) > 8
    seen = np.zeros(len(cloud), int)
    for block in laid.around(margin):
        own = block.rows[block.own]
        seen[own] += 1
        assert own.size <= 3000
        xmin, ymin, xmax, ymax = block.box
        inside = (
            (cloud.x >= xmin - margin)
            & (cloud.x <= xmax + margin)
            & (cloud.y >= ymin - margin)
            & (cloud.y <= ymax + margin)
        )
        np.testing.assert_array_equal(np.sort(block.rows), np.flatnonzero(inside))
    assert (seen == 1).all()


def test_a_dense_corner_is_cut_finer():
    rng = np.random.default_rng(5)
    x = np.concatenate([rng.uniform(0, 1000, 2000), rng.uniform(0, 50, 18_000)])
    y = np.concatenate([rng.uniform(0, 1000, 2000), rng.uniform(0, 50, 18_000)])
    laid = blocks_of(Cloud(x, y, np.zeros(20_000), {}, UTM, METRE), 2500)
    assert np.diff(laid.starts).max() <= 5000 and laid.starts[-1] == 20_000


@pytest.mark.parametrize("between", ["triangles", "inverse_distance"])
def test_ground_laid_in_blocks_is_that_laid_at_once(between, monkeypatch):
    cloud = scattered(8000)
    frame = frame_for(cloud, 2.0)
    whole = grid_points(cloud, frame, "ground", 8.0, between).values
    for module in (blocks, grids):
        monkeypatch.setattr(module, "MOST", 900)
    monkeypatch.setattr(grids, "blocks_of", lambda c: blocks_of(c, 900))
    parts = grid_points(cloud, frame, "ground", 8.0, between).values
    assert np.array_equal(np.isnan(whole), np.isnan(parts))
    np.testing.assert_allclose(parts, whole, rtol=1e-6, atol=1e-4)


def test_ground_points_found_in_blocks_are_those_found_at_once(monkeypatch):
    cloud, _ = read_cloud(DATA / "harrow_survey.laz")

    def codes():
        return run_declared(catalogue()["ground_points"], {}, {"cloud": cloud}, silent()).value.attributes[
            "classification"
        ]

    whole = codes()
    monkeypatch.setattr(objects, "MOST", 40_000)
    monkeypatch.setattr(objects, "blocks_of", lambda c: blocks_of(c, 40_000))
    parts = codes()
    assert (whole != parts).mean() < 2e-3
    noise = [(c[..., None] == (7, 18)).any() for c in (whole, parts)]
    assert all(noise)


def test_noise_found_in_blocks_is_that_found_at_once(monkeypatch):
    cloud, _ = read_cloud(DATA / "harrow_survey.laz")

    def codes():
        return run_declared(catalogue()["noise_points"], {}, {"cloud": cloud}, silent()).value.attributes[
            "classification"
        ]

    whole = codes()
    monkeypatch.setattr(objects, "MOST", 40_000)
    monkeypatch.setattr(objects, "blocks_of", lambda c: blocks_of(c, 40_000))
    assert (codes() != whole).mean() < 1e-4


@pytest.mark.parametrize("method", ["grid", "likelihood"])
def test_objects_found_in_blocks_are_those_found_at_once(method, monkeypatch):
    cloud, _ = read_cloud(DATA / "harrow_survey.laz")

    def codes():
        outcome = run_declared(catalogue()["object_points"], {"method": method}, {"cloud": cloud}, silent())
        return outcome.value.attributes["classification"]

    whole = codes()
    monkeypatch.setattr(objects, "MOST", 60_000)
    monkeypatch.setattr(objects, "blocks_of", lambda c: blocks_of(c, 60_000))
    assert (codes() != whole).mean() < 5e-3


def test_measures_found_in_blocks_are_those_found_at_once(monkeypatch):
    cloud, _ = read_cloud(DATA / "harrow_survey.laz")

    def measured():
        given = {"measures": "planarity,echo_ratio,intensity", "radii": "1,3"}
        return run_declared(catalogue()["shape_measures"], given, {"cloud": cloud}, silent()).value.attributes

    whole = measured()
    monkeypatch.setattr(objects, "MOST", 60_000)
    monkeypatch.setattr(objects, "blocks_of", lambda c: blocks_of(c, 60_000))
    for name, values in measured().items():
        np.testing.assert_allclose(values, whole[name], rtol=1e-5, atol=2e-5, err_msg=name)
