"""A cloud in the window: opened, drawn by height and class, read under the pointer, to bare ground and a grid."""

from pathlib import Path

import numpy as np
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox

from moss_step.scene.camera import Camera
from tests.desk.driving import named, pixel
from tests.desk.jobs import keep

CLOUD = Path(__file__).parents[1] / "data/lambert93.laz"
FULL = CLOUD.with_name("autzen_trim.laz")


def _colors(window):
    """Colours that the plan shows, at some of its pixels."""
    image = window.plan.view.grab().toImage()
    return {image.pixel(x, y) for x in range(0, image.width(), 7) for y in range(60, image.height() - 80, 7)}


def test_a_cloud_is_opened_drawn_and_read(window, settle):
    window.resize(1280, 800)
    window.files.open_path(FULL)
    settle(window)
    step = window.work.chosen_id
    assert window.bench == "points" and window.work.state(step) == "done", window.work.reason(step)
    cloud = window.work.outcome(step).value
    assert len(_colors(window)) > 50, "the points are drawn"
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


def test_points_are_drawn_one_by_one_near_by_and_each_is_read(window, settle):
    window.resize(1280, 800)
    window.files.open_path(FULL)
    settle(window)
    step = window.work.chosen_id
    cloud, picture = window.work.outcome(step).value, window.work.picture(step)
    point = len(cloud) // 2
    x, y = float(cloud.x[point]), float(cloud.y[point])
    frame = picture.frame
    camera = Camera(x, y, 12.0 / frame.dx, 1.0, 401, 301)
    pixels = np.zeros((301, 401), np.uint32)
    row = window.work.study.first_row(step).model_copy(update={"column": "color"})
    picture.paint(row, None, camera, 1.0, pixels)
    drawn = pixels != 0
    assert 0.2 < drawn.mean() <= 1.0 and len(np.unique(pixels[drawn])) > 100, (
        "disks in the colours of the points"
    )
    near = np.hypot(cloud.x - x, cloud.y - y) < 3.0 * frame.dx
    highest = np.flatnonzero(near)[np.argmax(cloud.z[near])]
    at = camera.pixel(float(cloud.x[highest]), float(cloud.y[highest]))
    shown = int(pixels[round(at[1]), round(at[0])])
    own = [int(cloud.attributes[n][highest]) for n in ("red", "green", "blue")]
    own = [
        v >> 8 if max(cloud.attributes["red"].max(), 256) > 255 and cloud.attributes["red"].max() > 255 else v
        for v in own
    ]
    assert [(shown >> s) & 255 for s in (16, 8, 0)] == own, "the highest lies over the others"
    assert (
        picture.nearest(x, y) == point
        or np.hypot(cloud.x[picture.nearest(x, y)] - x, cloud.y[picture.nearest(x, y)] - y) == 0.0
    )
    said = picture.text_at(float(cloud.x[highest]), float(cloud.y[highest]))
    held = cloud.attributes
    assert (
        f"intensity {int(held['intensity'][highest])}" in said
        and f"colour {int(held['red'][highest])}" in said
    )


def test_a_cloud_far_away_and_one_out_of_view_are_painted_too(window, settle):
    window.files.open_path(CLOUD)
    settle(window)
    picture = window.work.picture(window.work.chosen_id)
    row = window.work.study.first_row(window.work.chosen_id)
    frame = picture.frame
    for column in ("z", "classification", "density", "intensity"):
        far, aside = np.zeros((80, 90), np.uint32), np.zeros((80, 90), np.uint32)
        by = row.model_copy(update={"column": column})
        picture.paint(by, None, Camera(width=90, height=80).fitted(frame.box), 1.0, far)
        picture.paint(by, None, Camera(frame.x0 - 1e4, frame.y0, 50.0 / frame.dx, 1.0, 90, 80), 1.0, aside)
        assert (far != 0).any() and not (aside != 0).any(), column


def test_a_large_cloud_is_drawn_from_some_of_its_points_while_it_is_read(window, settle, monkeypatch):
    import threading

    from moss_step.formats import cloud_source

    go, read = threading.Event(), cloud_source.read_cloud
    monkeypatch.setattr(cloud_source, "_LARGE", 1000)
    monkeypatch.setattr(cloud_source, "_TASTE", 40)

    def slowly(*given):
        assert go.wait(20)
        return read(*given)

    monkeypatch.setattr(cloud_source, "read_cloud", slowly)
    window.files.open_path(CLOUD)
    step = window.work.study.steps[-1].id
    for _ in range(400):
        QTest.qWait(10)
        if window.work.picture(step) is not None:
            break
    picture = window.work.picture(step)
    assert (
        picture is not None
        and window.work.outcome(step) is None
        and window.work.state(step) in ("waiting", "running")
    )
    assert 300 < len(picture.value) <= 16 * 40
    QTest.qWait(100)
    assert [layer.step for layer in window.plan.view.scene.layers] == [step], "it is on the plan"
    go.set()
    settle(window)
    assert len(window.work.picture(step).value) == 37_805 and len(window.work.outcome(step).value) == 37_805


def test_another_colour_is_worked_out_beside_the_window_and_then_drawn(window, settle):
    window.files.open_path(FULL)
    settle(window)
    step = window.work.chosen_id
    window.plan.key._toggle(step)
    settle(window)
    box = named(window.plan.key, "Coloured by", QComboBox)
    assert box.findData("color") >= 0 and box.findData("intensity") >= 0
    box.setCurrentIndex(box.findData("color"))
    settle(window)
    assert window.work.study.key_row(step).column == "color"
    assert "color" in window.work.picture(step)._made


def test_points_are_drawn_as_they_come(window, settle, monkeypatch):
    """After the first points from all over the file, each second those that were read by then."""
    import threading

    from moss_step.desk import runner
    from moss_step.formats import cloud_source, las

    turns, chunks = threading.Semaphore(0), las._chunks

    def slowly(*given):
        for points in chunks(*given):
            for first in range(0, len(points), 5000):
                yield points[first : first + 5000]
                assert turns.acquire(timeout=60)

    monkeypatch.setattr(las, "_chunks", slowly)
    monkeypatch.setattr(runner, "_SHOW_EVERY", 0.0)
    monkeypatch.setattr(runner, "_WORK_BETWEEN", 0.0)
    monkeypatch.setattr(cloud_source, "_LARGE", 1000)
    monkeypatch.setattr(cloud_source, "_TASTE", 40)
    window.files.open_path(CLOUD)
    step, seen, drawn = window.work.study.steps[-1].id, [], []
    for _ in range(1500):
        QTest.qWait(5)
        picture = window.work.picture(step)
        if picture is not None and (not seen or len(picture.value) != seen[-1]):
            seen.append(len(picture.value))
            drawn.append(len(_colors(window)))
            turns.release()
        if len(seen) >= 4:
            break
    assert len(seen) >= 4 and seen == sorted(seen) and seen[0] <= 16 * 40 and seen[2] - seen[1] == 5000, seen
    assert drawn[-1] > 5, f"the plan shows where they lie: {drawn}"
    box = window.work.picture(step).value.bounds[0]
    for _ in range(20):
        turns.release()
    settle(window)
    whole = window.work.outcome(step).value
    assert len(whole) == 37_805 and box[2] - box[0] > 0.95 * np.ptp(whole.x), (
        "from west to east from the first"
    )
