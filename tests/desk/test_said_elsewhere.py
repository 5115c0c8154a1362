"""What is changed beside a panel - in the table, by undo - stays when the panel is used next."""

import numpy as np

from moss_step.scene.kinds.surface import SurfacePicture
from moss_step.scene.ramps import ramp, usual_ramp
from moss_step.study.graph import KeyRow
from tests.desk.driving import press
from tests.desk.jobs import by_name, fill


def test_names_typed_into_the_basins_table_stay_at_the_next_change(estate, settle):
    window = estate
    basins = window.work.add_step("basins", {"dem": by_name(window, "Harrow ground")}, {"min_area": 50_000.0})
    settle(window)
    window.work.choose(basins)
    window.show_drawer("table")
    settle(window)
    window.table.model.renamed.emit(0, "Upper Gill")
    settle(window)
    fill(window, settle, "min_area", 60_000.0)
    press(window.benches["water"], "Apply the change")
    settle(window)
    settings = window.work.study.step(basins).settings
    assert settings["names"] == "1=Upper Gill" and settings["min_area"] == 60_000.0
    window.work.undo()
    window.work.undo()
    settle(window)
    assert "names" not in window.work.study.step(basins).settings
    assert window.benches["water"].panel.settings().get("names") in (None, "")


def test_a_kept_hillshade_is_light_where_it_is_lit(estate, settle):
    """Brightness by the weights of Rec. 709 (ITU-R BT.709), against the values of the shade."""
    window = estate
    shade = window.work.add_step("hillshade", {"dem": by_name(window, "Harrow ground")}, {})
    settle(window)
    picture = window.work.picture(shade)
    assert isinstance(picture, SurfacePicture) and usual_ramp(picture.value) == "lamp"
    light = ramp("lamp") @ np.array([0.2126, 0.7152, 0.0722])
    assert (np.diff(light) >= 0).all() and light[-1] > light[0] + 200
    legend = picture.legend(KeyRow(step=shade), None, "")
    assert tuple(legend.ramp.colors[-1]) == (255, 255, 255)


def test_an_open_range_says_whether_its_bound_belongs_to_it():
    from moss_step.model.rules import Rule, RuleSet

    rules = (Rule(None, 10.0, 1, "low", "#111111"), Rule(90.0, None, 2, "high", "#222222"))
    assert [e.text for e in RuleSet(rules, "upper").entries] == ["up to 10", "over 90"]
    assert [e.text for e in RuleSet(rules, "lower").entries] == ["below 10", "from 90"]


def test_only_cells_are_counted_in_cells():
    from tests.cases import RESULTS, as_is, run
    from tests.grounds import metric, relief

    ground = metric(relief(21))
    of_cells = {"cells", "cells_filled", "changed_cells", "count", "unclassified_count", "yes_count"}
    of_cells |= {"lowest", "highest", "mean"}  # of an accumulation, whose values are cells
    for name in RESULTS:
        for finding in run(name, ground, as_is(ground)).findings:
            assert finding.unit.key != "cells" or finding.name in of_cells, f"{name}: {finding.name}"
