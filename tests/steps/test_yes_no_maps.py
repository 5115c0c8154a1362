"""A formula that asks gives a map of two named classes; where a surface is wanted it is one of 1 and 0."""

import json

import numpy as np
import pytest
import rasterio

from moss_step.cli import main
from moss_step.model.class_map import ClassMap
from moss_step.model.progress import silent
from moss_step.model.surface import Surface
from moss_step.science.sample import tilted
from moss_step.steps.catalogue import step_kind
from moss_step.study.declared import run_declared
from moss_step.study.graph import Step, Study


def asked(text, **inputs):
    return run_declared(step_kind("formula"), {"expression": text}, inputs, silent())


def test_a_question_gives_two_named_classes_with_their_areas():
    dem = tilted()
    outcome = asked("dem > 3", dem=dem)
    value = outcome.value
    assert isinstance(value, ClassMap) and [c.name for c in value.classes] == ["no", "yes"]
    assert (value.codes == (dem.values > 3)).all()
    areas = {f.of: f.value for f in outcome.findings if f.name == "area_m2"}
    assert areas["yes"] == pytest.approx((dem.values > 3).sum() * dem.frame.dx * dem.frame.dy)
    assert outcome.figure == f"{(dem.values > 3).mean():.1%} yes"
    assert isinstance(asked("dem * 2", dem=dem).value, Surface)


def test_the_answers_feed_a_formula_and_statistics_as_1_and_0():
    dem = tilted()
    low, high = asked("dem > 1", dem=dem).value, asked("dem < 5", dem=dem).value
    both = asked("low and high", low=low, high=high).value
    assert (both.codes == ((dem.values > 1) & (dem.values < 5))).all()
    weighed = run_declared(step_kind("weigh"), {"weights": (1.0, 1.0)}, {"a": low, "b": high}, silent()).value
    assert isinstance(weighed, Surface) and set(np.unique(weighed.values)) <= {0.0, 0.5, 1.0}


def test_what_a_study_declares_follows_the_expression():
    question = Step(id="f", kind="formula", settings={"expression": "a > 1"})
    sum_ = question.model_copy(update={"id": "g", "settings": {"expression": "a + 1"}})
    study = Study(steps=(question, sum_))
    assert study.result("f").gives == "classes" and study.result("g").gives == "surface"
    assert study.first_row("f").hidden == (0,) and study.first_row("g").hidden == ()


def test_the_file_has_names_and_colours(tmp_path, capsys):
    from moss_step.formats.raster_write import write_surface

    dem, out = tmp_path / "dem.tif", tmp_path / "high.tif"
    write_surface(dem, tilted(), "dem")
    assert main(["do", "formula", "expression=dem > 3", f"dem={dem}", "-o", str(out), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["findings"]
    with rasterio.open(out) as file:
        assert file.dtypes == ("uint8",) and (file.read(1) == (tilted().values > 3)).all()
    chained = tmp_path / "again.tif"
    words = ["expression=high and dem < 7", f"high={out}", f"dem={dem}", "-o", str(chained)]
    assert main(["do", "formula", *words]) == 0
    with rasterio.open(chained) as file:
        assert (file.read(1) == ((tilted().values > 3) & (tilted().values < 7))).all()
