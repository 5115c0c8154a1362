"""A cloud in the window: opened, drawn by height and class, read under the pointer, to bare ground and a grid."""

from pathlib import Path

import numpy as np
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox

from tests.desk.driving import named, pixel
from tests.desk.jobs import keep

CLOUD = Path(__file__).parents[1] / "data/lambert93.laz"
FULL = CLOUD.with_name("autzen_trim.laz")


def test_a_cloud_is_opened_drawn_and_read(window, settle):
    window.resize(1280, 800)
    window.files.open_path(FULL)
    settle(window)
    step = window.work.chosen_id
    assert window.bench == "points" and window.work.state(step) == "done", window.work.reason(step)
    cloud = window.work.outcome(step).value
    image = window.plan.view.grab().toImage()
    colors = {
        image.pixel(x, y) for x in range(0, image.width(), 7) for y in range(60, image.height() - 80, 7)
    }
    assert len(colors) > 50, "the points are drawn"
    middle = float(np.median(cloud.x)), float(np.median(cloud.y))
    QTest.mouseMove(window.plan.view, pixel(window, *middle))
    settle(window)
    said = " ".join(r.text for r in window.plan.reading.rows)
    assert " ft · " in said and ("Ground" in said or "Unassigned" in said) and "return 1 of" in said, said


def test_a_cloud_is_explained_by_its_classes(window, settle):
    window.files.open_path(CLOUD)
    settle(window)
    step = window.work.chosen_id
    picture = window.work.picture(step)
    legend = picture.legend(
        window.work.study.first_row(step).model_copy(update={"column": "classification"}), None, ""
    )
    assert [n for n, _ in legend.classes][:2] == ["Unassigned", "Ground"] and "Own class 65" in [
        n for n, _ in legend.classes
    ]
    assert {"z", "classification", "density", "intensity", "return_number"} <= set(picture.columns)


def test_ground_and_a_grid_are_made_in_the_window(window, settle):
    window.files.open_path(CLOUD)
    settle(window)
    window.begin_step("ground_points")
    settle(window)
    bare = keep(window, settle)
    assert window.work.state(bare) == "done", window.work.reason(bare)
    window.begin_step("grid_points")
    settle(window)
    panel = window.benches["points"].panel
    box = named(panel, "Cloud", QComboBox)
    box.setCurrentIndex(box.findData(bare))
    settle(window)
    grid = keep(window, settle)
    assert window.work.state(grid) == "done", window.work.reason(grid)
    surface = window.work.outcome(grid).value
    assert surface.valid_count > 1000 and surface.quantity == "elevation"
