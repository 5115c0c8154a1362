"""Panels that breathe: questions under headings, what every use needs first, places as lists."""

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLabel, QLineEdit, QPushButton, QScrollArea

from moss_step.desk.benches.choice import fits
from moss_step.steps.catalogue import GROUPS, catalogue
from moss_step.steps.declare import extra, in_text, on_screen
from moss_step.study.draft import DRAFT
from tests.desk.driving import check_it_shows_its_result_or_what_it_needs, named, pixel, press, texts, type_in

STEP_BENCHES = ("gather", "surface", "shape", "water", "sight", "classes")


def test_every_step_stands_under_a_heading_of_its_bench():
    for kind in catalogue().values():
        assert kind.group in GROUPS[kind.bench], kind.kind
    used = {(k.bench, k.group) for k in catalogue().values()}
    assert used == {(bench, group) for bench, groups in GROUPS.items() for group in groups}
    assert all(2 <= len(groups) <= 6 for groups in GROUPS.values())


@pytest.mark.parametrize("bench", STEP_BENCHES)
def test_a_bench_opens_on_its_questions_without_scrolling(estate, settle, bench):
    window = estate
    window.work.choose("")
    window.resize(1280, 800)
    settle(window)
    QTest.mouseClick(window.header.benches[bench], Qt.MouseButton.LeftButton)
    settle(window)
    shown = window.benches[bench]
    for group in GROUPS[bench]:
        assert any(w.text() == group and w.isVisible() for w in shown.findChildren(QLabel)), group
    for kind in shown.choosable:
        assert named(shown, f"Step: {kind.title}", QPushButton).isEnabled()
    assert shown.findChild(QScrollArea).verticalScrollBar().maximum() == 0


@pytest.mark.thorough
@pytest.mark.parametrize("bench", GROUPS)
def test_no_panel_scrolls_where_there_is_ground_without_places(estate, settle, bench):
    """Each step of a bench shows its result at once, or says in words what it still needs."""
    window = estate
    window.resize(1280, 800)
    if bench == "classes":  # what several of its steps take
        window.work.add_step("slope", {"dem": window.work.study.steps[0].id}, {})
        window.work.add_step("threshold", {"surface": window.work.chosen_id}, {"above": 20.0})
        settle(window)
    for kind in [k for k in catalogue().values() if k.bench == bench and not k.opens]:
        window.work.choose("")
        window.begin_step(kind.kind)
        settle(window)
        check_it_shows_its_result_or_what_it_needs(window, kind)


def test_no_panel_scrolls_while_the_pointer_is_followed_and_a_line_is_judged(estate, settle):
    """What follows the pointer takes lines of its own."""
    window = estate
    window.resize(1280, 800)
    for kind, place, given in (
        ("flow_path", (412_900.0, 5_871_000.0), {}),
        ("sight_line", None, {"ends": [412_420.0, 5_871_750.0, 413_600.0, 5_870_500.0]}),
        ("viewshed", None, {"at": ((413_330.0, 5_871_520.0), (412_880.0, 5_870_660.0))}),
    ):
        window.work.choose("")
        window.begin_step(kind)
        settle(window)
        bench = window.benches[window.bench]
        for name, value in given.items():
            bench.panel.form.control(name).fill(value)
        bench.panel.update_draft()
        if place is not None:
            QTest.mouseMove(window.plan.view, pixel(window, *place))
        settle(window)
        assert bench.findChild(QScrollArea).verticalScrollBar().maximum() == 0, kind


def test_typing_on_a_bench_leaves_what_fits_and_return_takes_the_first(estate, settle):
    window = estate
    window.work.choose("")
    window.go_to_bench("water")
    field = named(window.benches["water"], "Find a step of this bench", QLineEdit)
    QTest.keyClicks(field, "drains to a place")
    listed = list(window.benches["water"].choice.buttons)
    assert listed == ["catchment"]
    field.clear()
    QTest.keyClicks(field, "no such thing")
    assert "Ctrl+K looks on all benches" in texts(window.benches["water"])
    field.clear()
    QTest.keyClicks(field, "drains to a")
    QTest.keyClick(field, Qt.Key.Key_Return)
    settle(window)
    assert window.benches["water"].panel.kind.kind == "catchment"
    press(window.benches["water"], "All questions")
    assert window.benches["water"].panel is None and window.work.draft is None


def test_what_was_used_last_stands_on_top(estate, settle):
    window = estate
    window.work.add_step("wetness", {"dem": window.work.study.shading.ground}, {}, choose=False)
    window.work.choose("")
    window.go_to_bench("water")
    settle(window)
    heads = [w.text() for w in window.benches["water"].choice.findChildren(QLabel) if w.isVisible()]
    assert heads[0] == "Used last" and next(iter(window.benches["water"].choice.buttons)) == "wetness"


def test_a_filter_reads_title_trade_words_and_question():
    kind = catalogue()["viewshed"]
    assert fits("", kind) and fits("views", kind) and fits("how many", kind) and fits("SEEN", kind)
    assert not fits("seen water", kind)


def test_settings_that_few_need_fold_away_and_their_changes_are_counted(estate, settle):
    window = estate
    window.begin_step("slope")
    settle(window)
    panel = window.benches["shape"].panel
    control = panel.form.control("z_factor")
    assert not control.isVisible() and panel.more.head.text() == "More"
    press(panel, "More")
    assert control.isVisible() and panel.more.head.text() == "Less"
    control.set_value(2.0)
    panel.update_draft()
    assert panel.more.head.text() == "Less · 1 changed"
    press(panel, "Less · 1 changed")
    assert panel.more.head.text() == "More · 1 changed"
    settle(window)
    assert window.work.outcome(DRAFT).value.range[1] > 60.0  # what is folded away counts all the same


def test_figures_and_the_main_action_are_in_view_whatever_is_unfolded(estate, settle):
    window = estate
    window.resize(1280, 800)
    window.begin_step("viewshed")
    panel = window.benches["sight"].panel
    panel.form.control("at").fill(((413_330.0, 5_871_520.0), (412_880.0, 5_870_360.0)))
    settle(window)
    press(panel, "More")
    settle(window)
    bench = window.benches["sight"]
    for part in (named(panel.foot, "Keep this step"), panel.facts):
        corner = part.mapTo(bench, part.rect().topLeft())
        assert 0 < corner.y() < bench.height() - 10, part
    assert panel.facts.mapTo(bench, panel.facts.rect().topLeft()).y() >= panel.foot.y()
    action = panel.keep_button.mapTo(panel.foot, panel.keep_button.rect().bottomLeft()).y()
    assert action < panel.foot.height(), "figures and buttons do not overlap"


def test_figures_that_come_lie_over_no_button_not_for_one_picture(estate, settle):
    window = estate
    window.begin_step("viewshed")
    settle(window)
    panel = window.benches["sight"].panel
    panel.form.control("at").fill(((413_330.0, 5_871_520.0), (412_880.0, 5_870_360.0)))
    settle(window)
    high, wanted = panel.foot.height(), panel.figures.height()
    panel.figures.give(20)
    settle(window)
    assert panel.foot.height() == high - wanted + 20
    panel.figures.give(wanted)
    assert panel.foot.height() == panel.foot.sizeHint().height() == high


def test_settings_are_as_wide_beside_a_bar_as_without_one(estate, settle):
    """Else what fits without a bar might not fit beside it, and a bar that was needed for a moment would stay."""
    window = estate
    window.begin_step("slope")
    bench = window.benches["shape"]
    settle(window)
    panel, wide, high = bench.panel, bench.panel.width(), bench.panel.form.height()
    (bar,) = (
        area.verticalScrollBar() for area in bench.findChildren(QScrollArea) if area.isAncestorOf(panel)
    )
    assert not bar.isVisible()
    tall = QLabel()
    tall.setFixedHeight(bench.height())
    panel.layout().addWidget(tall)
    settle(window)
    assert bar.isVisible() and (panel.width(), panel.form.height()) == (wide, high)
    tall.hide()
    settle(window)
    assert not bar.isVisible() and panel.width() == wide


def test_the_help_of_a_setting_is_said_while_it_has_the_keyboard(estate, settle):
    window = estate
    window.begin_step("contours")
    settle(window)
    panel = window.benches["shape"].panel
    window.activateWindow()
    panel.form.control("interval").findChild(QLineEdit).setFocus()
    QTest.qWait(20)
    assert panel.help.text() == on_screen(panel.kind.settings.model_fields["interval"].description)


def test_help_speaks_of_buttons_on_screen_and_of_words_on_the_command_line():
    said = "`mean_absolute`: their mean[[; as text a=b]]. Nothing else."
    assert on_screen(said) == "Mean absolute: their mean. Nothing else."
    assert in_text(said) == "mean_absolute: their mean; as text a=b. Nothing else."
    for kind in catalogue().values():
        for name, field in kind.settings.listed().items():
            shown = on_screen(field.description or "")
            assert "`" not in shown and "[[" not in shown and "x,y" not in shown and "x1,y1" not in shown
            assert shown[:1].isupper() or shown[:1].isdigit(), (kind.kind, name, shown)


def test_places_are_a_list_with_names_that_are_typed_on_them(estate, settle):
    window = estate
    window.begin_step("catchment")
    settle(window)
    panel = window.benches["water"].panel
    panel.form.control("at").fill(((413_000.0, 5_871_000.0), (412_800.0, 5_871_400.0)))
    settle(window)
    type_in(named(panel, "Place 2: name", QLineEdit), "Upper Gill")
    settle(window)
    assert panel.settings()["names"] == "2=Upper Gill"
    assert window.work.outcome(DRAFT).value.names()[1] == "Upper Gill"
    press(panel, "Take place 1 away")
    settle(window)
    assert panel.settings()["names"] == "1=Upper Gill" and len(panel.settings()["at"]) == 1
    type_in(named(panel, "Place 1: place", QLineEdit), "here")
    settle(window)
    assert "'here' is no place" in texts(panel) and panel.settings()["at"] == ((412_800.0, 5_871_400.0),)
    type_in(named(panel, "Place 1: place", QLineEdit), "413 000, 5 871 000")
    settle(window)
    assert panel.settings()["at"] == ((413_000.0, 5_871_000.0),)
    press(panel, "Show place 1 on the plan")
    assert (window.plan.view.camera.x, window.plan.view.camera.y) == (413_000.0, 5_871_000.0)


def test_names_and_coordinates_stand_nowhere_as_one_text(estate, settle):
    """No field of a form holds a list of places or names."""
    window = estate
    for kind in catalogue().values():
        listed = {extra(f, "control") for f in kind.settings.listed().values()}
        if not listed & {"points", "line", "names", "observers"} or kind.keeps:
            continue
        window.begin_step(kind.kind)
        panel = window.benches[window.bench].panel
        for name, field in kind.settings.listed().items():
            if extra(field, "control") in ("points", "line", "names", "observers"):
                control = panel.form.control(name)
                assert not hasattr(control, "edit"), (kind.kind, name)


def test_the_observers_table_opens_in_a_drawer_and_closes_with_the_panel(estate, settle):
    window = estate
    window.begin_step("viewshed")
    panel = window.benches["sight"].panel
    panel.form.control("at").fill(((413_330.0, 5_871_520.0),))
    settle(window)
    press(panel, "Whole table")
    settle(window)
    table = panel.form.control("own").table
    assert table.isVisible() and table.width() > 700
    press(panel.foot, "Not now")
    settle(window)
    assert not window.views.is_open("lent")
