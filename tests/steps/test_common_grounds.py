"""Every step on grounds that are the same ground in another guise: what is measured goes with the ground (mathematics).

The steps come from the catalogue, so that a new one is tried as soon as it is declared. A ground mirrored or turned over gives the result
mirrored or turned over; laid into a larger frame of no-data it gives the same; heights in feet, or on a base of 4,000 m in double precision,
are the same heights.
"""

from dataclasses import replace

import numpy as np
import pytest
import shapely

from moss_step.model.class_map import ClassMap
from moss_step.model.cloud import Cloud
from moss_step.model.errors import MossError
from moss_step.model.outcome import Outcome
from moss_step.model.point_model import PointModel
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.model.tin import Tin
from moss_step.model.units import FOOT, METRE
from moss_step.steps.declare import StepKind
from tests.cases import KINDS, RESULTS, as_is, given_for, run
from tests.grounds import GROUNDS, TURNS, Turn, metric, relief

BASE = metric(relief(21))
COORDINATES = ("x", "y", "_x", "_y")
ORDERED = (
    "basin",
    "line",
    "link",
    "from_node",
    "to_node",
    "node",
    "patch",
    "path",
    "stretch",
    "zone",
    "bearing",
    "rank",
    "depression",
    "name",
)
"""Columns that number the rows in an order of the grid, or name them by it."""


def numbers(columns: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
    """Numeric columns as sets: sorted, without coordinates and numbers of rows."""
    kept = {
        n: v
        for n, v in columns.items()
        if v.dtype.kind in "iuf" and n not in ("x", "y", *ORDERED) and not n.endswith(COORDINATES[2:])
    }
    return {n: np.sort(v.astype(float)) for n, v in kept.items()}


def close(found: np.ndarray, expected: np.ndarray, what: str, share: float = 2e-3) -> None:
    assert found.shape == expected.shape, what
    assert np.array_equal(np.isnan(found), np.isnan(expected)), f"{what}: other cells are no-data"
    scale = float(np.nanstd(expected)) if expected.size and not np.isnan(expected).all() else 0.0
    with np.errstate(invalid="ignore"):
        far = np.abs(found - expected) > share * np.abs(expected) + share * max(scale, 1e-9)
    assert not far.any(), (
        f"{what}: {np.count_nonzero(far)} of {far.size} differ, such as {found[far][:3]} for {expected[far][:3]}"
    )


def same_points(one: Cloud, other: Cloud, factor: float) -> None:
    """Hold the classes and attributes of two clouds against each other, whatever the order of the points."""
    assert len(one) == len(other)
    codes = [np.bincount(c.attributes["classification"], minlength=20) for c in (one, other)]
    assert np.abs(codes[0] - codes[1]).sum() <= 0.01 * len(other), "points fall in other classes"
    if "height_above" in other.attributes:
        above, wanted = (np.sort(c.attributes["height_above"].astype(float)) for c in (one, other))
        np.testing.assert_allclose(above * factor, wanted, rtol=5e-3, atol=5e-3)
    for measure in ("planarity", "verticality", "share"):
        if measure in other.attributes:
            pair = (np.sort(c.attributes[measure].astype(float)) for c in (one, other))
            np.testing.assert_allclose(*pair, atol=2e-3)
    if "segment" in other.attributes:
        pair = (np.sort(np.bincount(c.attributes["segment"])) for c in (one, other))
        np.testing.assert_array_equal(*pair)


def same(
    found: Outcome, expected: Outcome, turn: Turn | None, rise: float = 0.0, factor: float = 1.0
) -> None:
    """Whether two outcomes say the same, the first of a ground in another guise; heights are ``rise`` higher and ``factor`` times as large."""
    one, other = found.value, expected.value
    if isinstance(one, Surface) and isinstance(other, Surface):
        values = np.asarray(turn.back(one.values) if turn else one.values, np.float64)
        if other.cyclic:
            wanted = np.where(
                other.values < 0, other.values, turn.bearing(other.values) if turn else other.values
            )
            assert np.array_equal(np.isnan(values), np.isnan(wanted))
            apart = np.abs((values - wanted + 180.0) % 360.0 - 180.0)
            assert np.nanmax(apart) < 0.1
            return
        if other.unit.kind == "length" and factor != 1.0:
            values = values * (one.unit.factor / other.unit.factor if one.unit.kind == "length" else 1.0)
        if other.quantity == "elevation":
            values = values - rise
        close(values, other.values.astype(np.float64), "values")
    elif isinstance(one, ClassMap) and isinstance(other, ClassMap):
        codes = turn.back(one.codes) if turn else one.codes
        assert codes.shape == other.codes.shape
        assert (codes == other.codes).mean() > 0.995, "cells fall in other classes"
    elif isinstance(one, Shapes) and isinstance(other, Shapes):
        assert len(one) == len(other)
        heights = (
            "elevation",
            "z",
            "lowest",
            "highest",
            "outlet_height",
            "level",
            "from_height",
            "to_height",
            "height",
            "mean",
            "min",
            "max",
            "median",
            "measured",
            "foretold",
            "ground",
            "design",
        )
        theirs = numbers(dict(other.columns))
        for name, values in numbers(dict(one.columns)).items():
            values = values * factor if one.symbols.get(name) == "ft" else values  # noqa: PLW2901 - in the unit of the other
            if name in heights and one.symbols.get(name, "") in ("", "m", "ft"):
                values = np.sort(values - rise)  # noqa: PLW2901 - as if the ground lay as low as the other
            close(values, theirs[name], name)
    elif isinstance(one, Tin) and isinstance(other, Tin):
        assert len(one) == len(other)
        close(np.sort(one.z * factor - rise), np.sort(other.z), "z")
    elif isinstance(one, Cloud) and isinstance(other, Cloud):
        same_points(one, other, factor)
    elif isinstance(one, PointModel) and isinstance(other, PointModel):
        assert one.measures == other.measures
        np.testing.assert_allclose(one.arrays["mean"], other.arrays["mean"], rtol=2e-2, atol=2e-3)
    else:
        assert isinstance(one, Table) and isinstance(other, Table)
        theirs = numbers(dict(other.columns))
        for name, values in numbers(dict(one.columns)).items():
            length = one.unit(name).kind == "length"
            inside = values * (
                one.unit(name).factor / other.unit(name).factor if length else 1.0
            )  # in its unit
            if name in ("semivariance", "model"):
                inside = inside * factor**2  # squares of heights
            heights = (
                "z",
                "foretold",
                "height",
                "stage",
                "threshold",
                "value",
                "ground",
                "top",
                "ray",
                "design",
                "a",
                "b",
            )
            close(np.sort(inside - (rise if name in heights else 0.0)), theirs[name], name)


ANCHORED = {
    "tessellate": "tiles are laid from the upper left corner",
    "tile_values": "tiles are laid from the upper left corner",
    "reproject": "the new grid is laid from its own upper left corner",
    "resample": "the new grid is laid from the upper left corner",
    "horizon": "bearings begin in the north: see the tests of the horizon",
    "horizon.skyline": "bearings begin in the north: see the tests of the horizon",
    "suitability": "bearings begin in the north: its own test turns them",
    "several_lights": "the lamps stand where they stand",
    "hillshade": "the lamp stands where it stands",
    "road.sections": "left and right of a line change sides in a mirror: its own test turns them",
    "road.heights": "left and right of a line change sides in a mirror: its own test turns them",
    "best_places": "equal gains are taken in order",
    "ground_points.changes": "of equally low points of a cell the first counts: ground_points itself is held to one point in a hundred",
}
"""Steps whose result does depend on which way is up, with the reason; their own tests turn lamp and grid along."""
NOT_IN_A_LARGER_FRAME = {
    "tessellate",
    "tile_values",
    "crop",
    "rasterize",
    "merge",
    "reproject",
    "resample",
    "hypsometry",
    "grid_points",
    "height_above",
    "lake_volume",
}
"""Steps that give the frame itself, so that a larger one is another answer; hypsometry is tried below. Between the last cells and the rim
height_above carries the ground on, and beside no-data it takes the cells that exist."""


def kind_of_case(name: str) -> StepKind:
    return KINDS[name.partition(".")[0]]


def tried(name: str, guise: str) -> bool:
    """Whether a step's result must go with a guise of the ground."""
    if guise == "laid into no-data":
        return name not in NOT_IN_A_LARGER_FRAME
    return (
        name not in ANCHORED and "bearing" not in kind_of_case(name).settings.listed()
    )  # a bearing that is asked for stays as it is


@pytest.mark.parametrize(("name", "guise"), [(n, g) for n in RESULTS for g in sorted(TURNS) if tried(n, g)])
def test_what_is_measured_goes_with_the_ground(name, guise):
    turn, kind = TURNS[guise], kind_of_case(name)
    base = metric(relief(21), 20.0, 5.0)
    more = {"target_height": 0.0} if "target_height" in kind.settings.listed() else {}
    expected = run(name, base, as_is(base), **more)
    turned = turn.of(base)

    def place(at: tuple[float, float]) -> tuple[float, float]:
        return as_is(turned)(turn.cell(at, base.frame))

    found = run(name, turned, place, **more)
    if name == "crop":  # its figure tells rows and columns, which change places
        assert np.array_equal(turn.back(found.value.values), expected.value.values)
    else:
        same(found, expected, turn)


@pytest.mark.parametrize("name", RESULTS)
def test_heights_in_feet_are_the_same_heights(name):
    """A foot is 0.3048 m by definition; results in feet are turned to metres before they are compared."""
    feet = Surface((BASE.values.astype(np.float64) / 0.3048).astype(np.float32), BASE.frame, FOOT)
    found, expected = run(name, feet, as_is(BASE)), run(name, BASE, as_is(BASE))
    if isinstance(found.value, Surface) and found.value.unit == FOOT:
        found = replace(
            found, value=replace(found.value, values=found.value.values * np.float32(0.3048), unit=METRE)
        )
    if name in ("weigh", "zone_statistics"):
        return  # numbers in the unit of the surface, which is said
    same(found, expected, None, factor=0.3048)


@pytest.mark.parametrize("name", RESULTS)
def test_small_relief_on_a_large_base_is_the_same_relief(name):
    """Relief of a few millimetres at 4,000 m, in double precision, against the same relief at 0."""
    kind = kind_of_case(name)
    small = relief(21) * 1e-4
    low, high = metric(small), replace(metric(small), values=small + 4000.0)
    given = given_for(kind, as_is(low), low)
    raised = given_for(kind, as_is(high), high)
    try:
        expected = run(name, low, as_is(low), **{n: v for n, v in given.items() if n in raised})
    except MossError as error:
        with pytest.raises(MossError, match=error.what.split()[0]):
            run(name, high, as_is(high))
        return
    found = run(name, high, as_is(high))
    if name == "weigh":
        found = replace(found, value=replace(found.value, quantity="elevation"))
        expected = replace(expected, value=replace(expected.value, quantity="elevation"))
    same(found, expected, None, rise=4000.0)


@pytest.mark.parametrize("name", RESULTS)
def test_a_step_answers_or_refuses_in_words_on_every_common_ground(name):
    for ground in sorted(GROUNDS):
        check_it_answers_or_refuses(name, ground)


def check_it_answers_or_refuses(name, ground):
    dem = GROUNDS[ground]
    try:
        outcome = run(name, dem, as_is(dem))
    except MossError as error:
        allowed = {
            "reproject",
            "resample",
            "tessellate",
            "tile_values",
            "merge",
            "pond",
            "pond.curve",
            "breach",
            "ridges_valleys",
            "basins",
            "classify",
            "stream_basins",
        }
        plain = ground.startswith("degrees") and name.startswith(("ground_points", "noise_points"))
        assert name in allowed or plain or ground == "small relief on a large base", (
            f"{name} on {ground}: {error}"
        )
        assert error.what.endswith(".")
        return
    assert outcome.figure
    if isinstance(outcome.value, Surface):
        assert not np.isinf(outcome.value.values).any()
        inside = ~np.isnan(dem.values)
        if outcome.value.frame == dem.frame:
            assert not (~np.isnan(outcome.value.values) & ~inside).any() or name in (
                "fill_voids",
                "interpolate",
                "interpolate.error",
                "tin_grid",
                "coverage",
            ), "no-data is never ground"
    if isinstance(outcome.value, Shapes) and outcome.value.kind == "areas":
        assert shapely.is_valid(outcome.value.geometry).all()
