"""Learned classes as JSON: the same answers after a file, and none from one that is damaged or hostile."""

import json

import numpy as np
import pytest

from moss_step.formats.point_model import read_model, write_model
from moss_step.learned import FOLDER, objects
from moss_step.model.cloud import PointClass
from moss_step.model.errors import MossError
from moss_step.model.point_model import REST, PointModel
from moss_step.science.points.learning import ForestSet, learn_forest, learned, reach_of, shares_of

RNG = np.random.default_rng(8)
VALUES = RNG.normal(size=(900, 5)).astype(np.float32)
CODES = (VALUES[:, 0] + 0.5 * VALUES[:, 1] > 0.3).astype(int)


def taught(method="forest"):
    low, high = reach_of(VALUES[CODES == 0])
    arrays = {**learned(VALUES, CODES, method, ForestSet(12)), "low": low, "high": high}
    names = tuple(f"planarity_{k}00cm" for k in range(1, 6))
    own = PointClass(70, "Wälle, trocken", "#8A5A2B")
    return PointModel("Walls", method, (own, REST), names, (1.0, 2.0), arrays, {"training": "900 points"})


@pytest.mark.parametrize("method", ["forest", "gaussian"])
def test_a_class_gives_the_same_answers_after_a_file(tmp_path, method):
    model = taught(method)
    write_model(tmp_path / "walls.class.json", model)
    again = read_model(tmp_path / "walls.class.json")
    np.testing.assert_array_equal(shares_of(again, VALUES), shares_of(model, VALUES))
    assert (again.classes, again.measures, again.radii, again.about) == (
        model.classes,
        model.measures,
        model.radii,
        model.about,
    )
    for name, array in model.arrays.items():
        np.testing.assert_array_equal(again.arrays[name], array)


def test_a_file_says_the_same_whatever_the_order_of_bytes(tmp_path):
    """Numbers are decimal text: a machine of the other byte order reads the same ones."""
    model = taught()
    write_model(tmp_path / "a.class.json", model)
    text = (tmp_path / "a.class.json").read_text()
    assert text.isascii() and "base64" not in text
    turned = PointModel(
        model.name, model.method, model.classes, model.measures, model.radii,
        {n: a.astype(a.dtype.newbyteorder()) for n, a in model.arrays.items()}, model.about,
    )  # fmt: skip
    write_model(tmp_path / "b.class.json", turned)
    assert (tmp_path / "b.class.json").read_text() == text


def test_the_kept_trees_answer_as_those_that_grew():
    """Held against scikit-learn's own forest: bounds of single precision do not move a point to another side."""
    from sklearn.ensemble import RandomForestClassifier

    how = ForestSet(20, 3, 200, 900)
    grown = RandomForestClassifier(
        20, min_samples_leaf=3, max_leaf_nodes=200, class_weight="balanced", max_samples=1.0, random_state=5
    ).fit(VALUES, CODES)
    arrays = learn_forest(VALUES, CODES, how)
    model = PointModel("m", "forest", (REST, REST), tuple("abcde"), (), arrays)
    probe = RNG.normal(size=(4000, 5)).astype(np.float32)
    np.testing.assert_allclose(shares_of(model, probe), grown.predict_proba(probe), atol=2e-4)


def test_gaussians_answer_as_a_general_library():
    from sklearn.discriminant_analysis import QuadraticDiscriminantAnalysis

    model = PointModel("m", "gaussian", (REST, REST), tuple("abcde"), (), learned(VALUES, CODES, "gaussian"))
    wanted = (
        QuadraticDiscriminantAnalysis(priors=[0.5, 0.5])
        .fit(VALUES.astype(float), CODES)
        .predict_proba(VALUES.astype(float))
    )
    np.testing.assert_allclose(shares_of(model, VALUES), wanted, atol=0.02)


def test_shipped_classes_say_how_they_were_taught_and_where_their_limits_are():
    for view in ("air", "air_single", "drone"):
        for method in ("forest", "gaussian"):
            model = objects(view, method)
            assert {6, 5, 14, 1} == {c.code for c in model.classes}
            assert "simulated" in model.about["training"] and len(model.about["limits"]) > 30
    assert sum(p.stat().st_size for p in FOLDER.glob("*.json")) < 3e6


def damage(plain, how):
    trees = plain["arrays"]
    match how:
        case "newer version":
            plain["version"] = 99
        case "a loop":
            inner = next(k for k, m in enumerate(trees["measure"]["values"]) if m >= 0)
            trees["below"]["values"][inner] = inner
        case "a node beyond the end":
            inner = next(k for k, m in enumerate(trees["measure"]["values"]) if m >= 0)
            trees["above"]["values"][inner] = 10**6
        case "a measure beyond the end":
            inner = next(k for k, m in enumerate(trees["measure"]["values"]) if m >= 0)
            trees["measure"]["values"][inner] = 77
        case "a root before the start":
            trees["roots"]["values"][0] = -4
        case "numbers that are missing":
            del trees["bound"]["values"][-1]
        case "a shape of many numbers":
            trees["weight"]["shape"] = [100_000_000]
        case "half a node":
            trees["below"]["values"][0] = 0.5
        case "an array that is not ours":
            trees["code"] = trees["weight"]
        case "a word for a number":
            trees["weight"]["values"][0] = "__import__('os').system('id')"
        case "a class twice":
            plain["classes"][1]["code"] = plain["classes"][0]["code"]
        case "a name of several lines":
            plain["classes"][0]["name"] = "Wall\nPrecision: 100 %"
        case "a code beyond a byte":
            plain["classes"][0]["code"] = 300
        case "a colour that is none":
            plain["classes"][0]["color"] = "red; url(http://example)"
        case "a field that is not ours":
            plain["run"] = "rm"


HURT = [
    "newer version", "a loop", "a node beyond the end", "a measure beyond the end", "a root before the start",
    "numbers that are missing", "a shape of many numbers", "half a node", "an array that is not ours", "a word for a number", "a class twice",
    "a name of several lines", "a code beyond a byte", "a colour that is none", "a field that is not ours",
]  # fmt: skip


@pytest.mark.parametrize("how", HURT)
def test_a_damaged_or_hostile_file_is_refused_in_words(tmp_path, how):
    path = tmp_path / "walls.class.json"
    write_model(path, taught())
    plain = json.loads(path.read_text())
    damage(plain, how)
    path.write_text(json.dumps(plain))
    with pytest.raises(MossError) as caught:
        read_model(path)
    assert caught.value.what.endswith(".") and caught.value.do


@pytest.mark.parametrize(
    "text", ["", "null", "[1]", "{", "[" * 100_000, '{"format": "moss-step point classes"}', "NaN"]
)
def test_what_is_no_file_of_classes_is_refused(tmp_path, text):
    (tmp_path / "x.json").write_text(text)
    with pytest.raises(MossError):
        read_model(tmp_path / "x.json")
    with pytest.raises(MossError):
        read_model(tmp_path / "none.json")


def test_a_file_that_is_cut_off_anywhere_is_refused(tmp_path):
    path = tmp_path / "walls.class.json"
    write_model(path, taught())
    text = path.read_text()
    for end in RNG.integers(0, len(text) - 2, 60):
        path.write_text(text[:end])
        with pytest.raises(MossError):
            read_model(path)
