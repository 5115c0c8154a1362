"""Whole jobs on points: a raw cloud to buildings and plants by two methods, compared; dry-stone walls from two examples to centre lines."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest

from moss_step.demo import DATA
from moss_step.demo.lidar import SIDE
from moss_step.desk.picks import PicksControl
from moss_step.scene.sketch import Sketch
from tests.desk.driving import pixel
from tests.desk.jobs import keep


@pytest.fixture
def flown(window, settle):
    """The survey of Harrow Moss in a window of its own."""
    window.resize(1280, 800)
    window.files.open_path(DATA / "harrow_survey.laz")
    settle(window)
    return window.work.chosen_id


def begin(window, settle, kind, settings=None, **inputs):
    window.work.choose("")
    window.begin_step(kind)
    settle(window)
    bench = window.benches["points"]
    if inputs:
        bench.take_inputs(inputs)
    if settings:
        bench.take_settings(settings)
    settle(window)
    return bench.panel


def done(window, step):
    assert window.work.state(step) == "done", window.work.reason(step)
    return window.work.outcome(step)


def figure(outcome, name):
    return next(f.value for f in outcome.findings if f.name == name)


def test_a_raw_cloud_to_buildings_and_plants_by_two_methods_that_are_compared(window, settle, flown):
    begin(window, settle, "object_points", cloud=flown)
    by_grid = keep(window, settle)
    begin(window, settle, "object_points", {"method": "likelihood"}, cloud=flown)
    by_likelihood = keep(window, settle)
    for step in (by_grid, by_likelihood):
        cloud = done(window, step).value
        truth, codes = np.asarray(cloud.attributes["truth"]), cloud.attributes["classification"]
        assert ((truth == 6) & (codes == 6)).sum() > 0.95 * (truth == 6).sum()
    begin(window, settle, "cloud_changes", before=by_grid, after=by_likelihood)
    step = keep(window, settle)
    compared = done(window, step)
    assert figure(compared, "agreement") > 0.97 and figure(compared, "kappa") > 0.9
    changed = compared.value.attributes["changed"]
    assert figure(compared, "changed_points") == changed.sum() > 0
    picture = window.work.picture(window.work.chosen_ref)
    assert {
        n for n, _ in picture.legend(window.work.study.first_row(window.work.chosen_id), None, "").classes
    } <= {"Yes", "No"}
    counts = window.work.outcome(f"{step}.counts").value.columns
    assert counts["points_before"].sum() == counts["points_after"].sum() == len(changed)


def in_segments(window, settle, flown):
    """The survey's ground, and segments of what stands on it by their distance: the step and its points."""
    begin(window, settle, "ground_points", cloud=flown)
    ground = keep(window, settle)
    begin(window, settle, "segments", {"method": "distance"}, cloud=ground)
    parted = keep(window, settle)
    return parted, done(window, parted).value


def click(window, settle, cloud, segment, at=0.5):
    """Click a point of a segment that nothing lies on."""
    rows = np.flatnonzero(cloud.attributes["segment"] == segment)
    row = rows[int(len(rows) * at)]
    QTest.mouseClick(
        window.plan.view,
        Qt.MouseButton.LeftButton,
        pos=pixel(window, float(cloud.x[row]), float(cloud.y[row])),
    )
    settle(window)


def test_dry_stone_walls_from_two_examples_to_centre_lines(window, settle, flown):
    parted, cloud = in_segments(window, settle, flown)
    segment, wall = cloud.attributes["segment"], np.asarray(cloud.attributes["truth"]) == 64
    size = np.bincount(segment)
    share = np.bincount(segment, weights=wall) / np.maximum(size, 1)
    walls = [n for n in range(1, len(size)) if share[n] > 0.9][:2]
    barns = [
        n
        for n in range(1, len(size))
        if (np.asarray(cloud.attributes["truth"])[segment == n] == 6).mean() > 0.9
    ][:2]

    panel = begin(window, settle, "train_class", {"name": "Dry-stone wall"}, cloud=parted)
    panel.arm()
    yes, no = (panel.form.control(n, PicksControl) for n in ("yes", "no"))
    assert yes.pick.isChecked() and not no.pick.isChecked()
    for one in walls:
        click(window, settle, cloud, one)
    assert len(yes.value()) == 2
    no.pick.click()
    assert no.pick.isChecked() and not yes.pick.isChecked()
    for one in barns:
        click(window, settle, cloud, one)
    click(window, settle, cloud, barns[0], 0.4)  # a second click takes it out
    assert len(no.value()) == 1
    click(window, settle, cloud, barns[0])
    assert len(no.value()) == 2 and len(yes.value()) == 2
    settle(window)
    assert window.plan.view.live is not None and len(window.plan.view.live.lines) == 8
    taught = keep(window, settle)
    outcome = done(window, taught)
    assert figure(outcome, "recall") > 0.5 and figure(outcome, "examples") == 2
    for name, column in (
        ("by_class", "recall"),
        ("confusion", "given"),
        ("by_example", "right_share"),
        ("measures", "contributes"),
    ):
        window.work.choose(f"{taught}.{name}")
        settle(window)
        assert column in window.work.outcome(f"{taught}.{name}").value.columns

    window.work.choose("")
    settle(window)
    window.work.choose(taught)
    settle(window)
    assert window.plan.view.live is not None and len(window.plan.view.live.lines) == 8, (
        "kept examples are drawn"
    )

    begin(window, settle, "use_class", cloud=parted, model=taught)
    marked = keep(window, settle)
    found = done(window, marked).value
    codes = found.attributes["classification"]
    assert 2.0 * (wall & (codes == 64)).sum() / (wall.sum() + (codes == 64).sum()) >= 0.85
    assert found.class_name(64) == "Dry-stone wall"

    wrong = np.flatnonzero((codes == 64) & ~wall)
    x, y = float(found.x[wrong[0]]), float(found.y[wrong[0]])
    outline = tuple((x + a, y + b) for a, b in ((-0.3, -0.3), (-0.3, 0.3), (0.3, 0.3), (0.3, -0.3)))
    begin(window, settle, "edit_classes", {"to_class": 3, "classes": (64,), "outline": outline}, cloud=marked)
    mended = keep(window, settle)
    assert done(window, mended).value.attributes["classification"][wrong[0]] == 3

    begin(window, settle, "outlines_of", {"of_class": 64}, cloud=mended)
    lines = done(window, keep(window, settle))
    assert lines.value.kind == "lines"
    assert figure(lines, "lines_length") == pytest.approx(453.0, rel=0.06)
    assert SIDE > lines.value.columns["length_m"].max() > 100.0


def test_segments_are_picked_in_the_section_and_in_the_block(window, settle, flown):
    parted, cloud = in_segments(window, settle, flown)
    panel = begin(window, settle, "train_class", cloud=parted)
    panel.arm()
    yes = panel.form.control("yes", PicksControl)
    rows = np.flatnonzero(np.asarray(cloud.attributes["truth"]) == 6)
    barn = int(np.bincount(cloud.attributes["segment"][rows]).argmax())
    rows = np.flatnonzero(cloud.attributes["segment"] == barn)
    x, y = float(np.median(cloud.x[rows])), float(np.median(cloud.y[rows]))

    window.views.show_view("section")
    window.views.section.show_line((x - 20.0, y, x + 20.0, y), window.plan.view.scene)
    settle(window)
    chart = window.views.section.chart
    drawn = next(b for b in chart.points if b.step == parted)
    place = next(k for k, row in enumerate(drawn.rows) if cloud.attributes["segment"][row] == barn)
    at = chart.plot.getViewBox().mapViewToScene(
        QPointF(float(drawn.along[place]), float(drawn.heights[place]))
    )
    QTest.mouseClick(chart.plot.viewport(), Qt.MouseButton.LeftButton, pos=chart.plot.mapFromScene(at))
    settle(window)
    assert len(yes.value()) == 1
    assert panel.segmented().numbers[rows[0]] == barn == panel._segment(panel.segmented(), yes.value()[0])

    window.views.show_view("block")
    window.plan.view.show_box((x - 40.0, y - 40.0, x + 40.0, y + 40.0))
    window.views.block.look("top")
    settle(window)
    block = window.views.block
    pixels = [QPoint(px, py) for px in range(20, block.width(), 6) for py in range(20, block.height(), 6)]
    near = min(pixels, key=lambda p: np.hypot(*(np.array(block.place_at(QPointF(p)) or (0.0, 0.0)) - (x, y))))
    QTest.mouseClick(block, Qt.MouseButton.LeftButton, pos=near)
    settle(window)
    assert not yes.value(), "the second click took it out"


def test_an_outline_adds_the_segments_inside_it(window, settle, flown):
    parted, cloud = in_segments(window, settle, flown)
    panel = begin(window, settle, "train_class", cloud=parted)
    truth = np.asarray(cloud.attributes["truth"])
    x, y = cloud.x[truth == 6], cloud.y[truth == 6]
    corners = [
        (x.min() - 2, y.min() - 2),
        (x.min() - 2, y.max() + 2),
        (x.max() + 2, y.max() + 2),
        (x.max() + 2, y.min() - 2),
    ]
    panel._control("no").pick.click()
    panel._draw_outline()
    panel.pick_inside(Sketch("areas").adding(corners))
    settle(window)
    picked = {panel._segment(panel.segmented(), p) for p in panel._control("no").value()}
    inside = (
        (cloud.x > corners[0][0])
        & (cloud.x < corners[2][0])
        & (cloud.y > corners[0][1])
        & (cloud.y < corners[1][1])
    )
    assert picked == {int(n) for n in np.unique(cloud.attributes["segment"][inside]) if n}
    assert panel._control("yes").value() is None
