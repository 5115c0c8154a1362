"""Charts: curves with units, through files and back."""

import numpy as np
import pytest
from numpy.testing import assert_allclose

from moss_step.kinds.registry import all_kinds, kind_named, kind_of
from moss_step.model.chart import Chart
from moss_step.model.errors import MossError
from moss_step.model.outcome import Outcome
from moss_step.model.progress import silent
from moss_step.model.table import Table
from moss_step.model.units import CUBIC_METRE, METRE
from moss_step.scene.pictures import picture_types
from moss_step.steps.catalogue import catalogue


def storage() -> Chart:
    stage = np.linspace(100.0, 104.0, 9)
    units = {"stage": METRE, "volume_m3": CUBIC_METRE}
    return Chart(
        {"stage": stage, "volume_m3": (stage - 100.0) ** 3, "area_m2": 3 * (stage - 100.0) ** 2},
        units,
        "stage",
        ("volume_m3", "area_m2"),
    )


def test_a_chart_is_a_kind_of_its_own_and_still_has_rows():
    chart = storage()
    assert kind_of(chart) is kind_named("chart") and kind_of(Table({"a": np.arange(3.0)})) is kind_named(
        "table"
    )
    columns, symbols = kind_of(chart).columns(Outcome(chart, ""))
    assert list(columns) == ["stage", "volume_m3", "area_m2"] and symbols["stage"] == "m"
    assert kind_of(chart).describe(chart) == "volume_m3, area_m2 over stage at 9 points"
    assert chart.nbytes == 3 * 9 * 8


def test_curves_need_columns_of_numbers():
    with pytest.raises(MossError, match="needs numbers in 'depth'"):
        Chart({"stage": np.arange(3.0)}, {}, "stage", ("depth",))
    with pytest.raises(MossError, match="needs numbers in 'name'"):
        Chart({"stage": np.arange(2.0), "name": np.array(["a", "b"], object)}, {}, "stage", ("name",))


def test_a_chart_comes_back_from_its_file(tmp_path):
    chart, kind = storage(), kind_named("chart")
    kind.write(Outcome(chart, ""), "Storage", tmp_path / "s.csv", None)
    back, remarks = kind.read(str(tmp_path / "s.csv"), silent())
    assert (
        back.across == "stage"
        and back.up == ("volume_m3", "area_m2")
        and "Units are not stated" in remarks[0]
    )
    for name in chart.columns:
        assert_allclose(back.columns[name], chart.columns[name], rtol=1e-9)


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "is empty"),
        ("a,b\n", "no columns"),
        ("a\n1\n", "no columns"),
        ("a,a\n1,2\n", "no columns"),
        ("a,b\n1,2\n1,x\n", "Line 3"),
        ("a,b\n1\n", "Line 2"),
    ],
)
def test_a_file_that_holds_no_curves_is_refused_with_its_line(tmp_path, text, said):
    (tmp_path / "c.csv").write_text(text)
    with pytest.raises(MossError, match=said):
        kind_named("chart").read(str(tmp_path / "c.csv"), silent())


def test_every_kind_has_a_picture_and_every_step_gives_a_kind():
    assert set(picture_types()) == set(all_kinds())
    assert {step.gives for step in catalogue().values()} <= set(all_kinds())
