"""Charts in the window: they have no place on the plan, and all their curves are drawn."""

from PySide6.QtWidgets import QApplication

from moss_step.study.graph import KeyRow
from tests.desk.driving import texts


def a_sight_line(window) -> str:
    xmin, ymin, xmax, ymax = window.work.frame.box
    ends = [
        xmin + 0.3 * (xmax - xmin),
        ymin + 0.3 * (ymax - ymin),
        xmin + 0.7 * (xmax - xmin),
        ymin + 0.7 * (ymax - ymin),
    ]
    return window.work.add_step("sight_line", {"dem": "ground"}, {"ends": ends})


def test_what_has_no_place_on_the_plan_is_not_offered_in_the_key(demo, settle):
    made = demo.work.add_step("hypsometry", {"dem": "ground"}, {})
    settle(demo)
    assert demo.work.study.key_row(made) is None and "Hypsometr" not in texts(demo.plan.key)
    card = demo.trail.cards[made]
    keep = next(a for a in card.menu().actions() if a.text().startswith("Take into the Key"))
    assert not keep.isEnabled()
    card.toggle_key()
    assert demo.work.study.key_row(made) is None and "no place on the plan" in demo.plan.message.text
    demo.work.do(demo.work.study.with_key_row(KeyRow(step=made)), "As an older study has it")
    settle(demo)
    assert "Hypsometr" not in texts(demo.plan.key)


def test_all_curves_of_a_chart_are_drawn_each_as_high_as_it_is(demo, settle):
    demo.work.choose(a_sight_line(demo))
    settle(demo)
    demo.show_drawer("table")
    settle(demo)
    QApplication.processEvents()
    settle(demo)
    view = demo.table.curves
    assert len(view.shown) == 3 and view.shown[0] == "ground" and len(view.plot._items) == 3
    (low, high) = view.plot.plot.getViewBox().viewRange()[1]
    heights = demo.work.outcome(demo.work.chosen_id).value.columns["ground"]
    assert low > 0.5 * heights.min() and low < heights.min() and high > heights.max()
    demo.work.choose("slope_classes" if demo.work.study.has("slope_classes") else "classes")
    settle(demo)
    assert view.isHidden(), "what has no curves shows none"


def test_how_many_times_heights_are_drawn_follows_the_room_that_there_is(estate, settle):
    estate.views.show_view("section")
    west, south, east, north = estate.work.frame.box
    middle = (south + north) / 2
    estate.section.show_line((west + 200, middle, east - 200, middle), estate.plan.view.scene)
    settle(estate)
    chart, said = estate.section.chart, []
    for high in (150, 400):
        estate.views.setSizes([800 - high, 0, high, 0])
        settle(estate)
        assert f"heights drawn {chart.exaggeration:.1f} times" in estate.section.said.text()
        said.append(chart.exaggeration)
    assert said[1] > 1.5 * said[0]
