"""Names on the plan keep clear of the Key, the bars, the pins and each other, and no line crosses one."""

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QImage, QPainter

from moss_step.desk.plan import lettering
from moss_step.desk.plan.lettering import Room, draw_name
from moss_step.desk.plan.live import Live
from moss_step.scene.colors import WATER


@pytest.fixture
def written(demo, settle, monkeypatch):
    """What is written on the plan when it is painted: names with their boxes."""
    boxes = {}

    def paint():
        boxes.clear()
        plain = lettering.draw_name

        def listening(painter, mark, name, gap, room):
            before = len(room.taken)
            plain(painter, mark, name, gap, room)
            if len(room.taken) > before:
                boxes[name] = room.taken[-1]

        monkeypatch.setattr(lettering, "draw_name", listening)
        demo.plan.view.grab()
        monkeypatch.setattr(lettering, "draw_name", plain)
        return dict(boxes)

    return paint


def clear_of(boxes, other):
    return [n for n, b in boxes.items() if b.intersects(other)]


def test_names_keep_clear_of_the_key_the_bars_and_each_other(demo, settle, written):
    for width, height in ((1280, 800), (960, 540), (640, 400)):
        demo.resize(width, height)
        settle(demo)
        boxes = written()
        assert boxes, "at least some places are named"
        for card in demo.plan.view.cards:
            if card.isVisible():
                assert not clear_of(boxes, QRectF(card.geometry())), card.accessibleName()
        names = list(boxes)
        pairs = [(a, b) for k, a in enumerate(names) for b in names[:k] if boxes[a].intersects(boxes[b])]
        assert not pairs
        window = QRectF(demo.plan.view.rect())
        assert all(window.contains(b) for b in boxes.values()), "none is cut by the edge"
        assert not clear_of(boxes, QRectF(window.width() - 150, window.height() - 30, 140, 20)), (
            "the scale bar"
        )


def test_names_keep_clear_of_the_reading_and_do_not_jump_for_it(demo, settle, written):
    xmin, ymin, xmax, ymax = demo.work.frame.box
    before = written()
    for share in (0.1, 0.5, 0.9):
        demo.plan.read((xmin + share * (xmax - xmin), ymin + share * (ymax - ymin)))
        settle(demo)
        boxes = written()
        assert demo.plan.reading.isVisible() and boxes == before
        assert not clear_of(boxes, QRectF(demo.plan.reading.geometry()))
    demo.resize(900, 600)
    settle(demo)
    demo.plan.read(((xmin + xmax) / 2, (ymin + ymax) / 2))
    settle(demo)
    assert not clear_of(written(), QRectF(demo.plan.reading.geometry())), "in two lines, too"


def test_a_name_gives_way_to_a_pin_and_its_reading(demo, settle, written):
    place = np.array([g.coords[0] for g in demo.work.outcome("places").value.geometry])[1]
    before = written()
    demo.work.do(
        demo.work.study.model_copy(update={"pins": ((float(place[0]) + 60, float(place[1])),)}), "Pin"
    )
    settle(demo)
    after = written()
    cards = list(demo.plan.view._pin_cards.values())
    assert cards and not any(clear_of(after, c) for c in cards)
    assert before != after, "the pin stands where a name was"


def test_folding_the_key_gives_names_their_room_back(demo, settle, written):
    demo.resize(900, 560)
    settle(demo)
    demo.plan.view.show_camera(demo.plan.view.camera.zoomed(1.6, 500, 250))
    settle(demo)
    before = written()
    demo.plan.key.fold()
    settle(demo)
    after = written()
    assert len(after) >= len(before) and not clear_of(after, QRectF(demo.plan.key.geometry()))


def test_a_line_drawn_live_lies_below_the_names(demo, settle, written):
    """Where a name stands, the plan with a line over the place looks the same as without it."""
    boxes = written()
    name, box = next(iter(boxes.items()))
    view = demo.plan.view
    inner = box.toRect().adjusted(4, 3, -4, -3)
    plain = view.grab(inner).toImage()
    ends = [
        view.camera.world(box.left() - 80, box.center().y()),
        view.camera.world(box.right() + 80, box.center().y()),
    ]
    view.show_live(Live(((np.array(ends), WATER),)))
    crossed = view.grab(inner).toImage()
    beside = view.grab(box.toRect().adjusted(-40, 8, -int(box.width()) - 20, -8)).toImage()
    assert beside.pixelColor(5, beside.height() // 2) != plain.pixelColor(5, 2), "the line is drawn"
    differ = [
        (x, y)
        for x in range(0, inner.width(), 2)
        for y in range(inner.height())
        if abs(plain.pixelColor(x, y).lightness() - crossed.pixelColor(x, y).lightness()) > 40
    ]
    assert not differ, name


boxes_of = st.tuples(st.floats(0, 380), st.floats(0, 280), st.floats(1, 90), st.floats(1, 60))


@given(taken=st.lists(boxes_of, max_size=40), at=st.tuples(st.floats(0, 400), st.floats(0, 300)))
def test_a_name_stands_only_where_nothing_is(taken, at):
    """Against the plain test of each box by the library's rectangles."""
    rects = [QRectF(*t) for t in taken]
    room = Room(400, 300, rects)
    image = QImage(400, 300, QImage.Format.Format_RGB32)
    painter = QPainter(image)
    draw_name(painter, QPointF(*at), "Sheepfold", 9.0, room)
    painter.end()
    placed = room.taken[len(rects) :]
    assert len(placed) <= 1
    for box in placed:
        assert not any(box.intersects(r) for r in rects) and QRectF(0, 0, 400, 300).contains(box)


def test_many_marks_do_not_slow_the_names_down(qapp):
    """A hundred thousand marks are looked through at once, not one by one: names are few."""
    rng = np.random.default_rng(1)
    at = rng.random((100_000, 2)) * [4000, 3000]
    room = Room(4000, 3000)
    room.take_all(np.concatenate([at - 3, at + 3], axis=1))
    tree = shapely.STRtree(shapely.box(*(at - 3).T, *(at + 3).T))
    for x, y in rng.random((200, 2)) * [3800, 2900] + 5:
        box = QRectF(x, y, 12, 5)
        found = tree.query(shapely.box(x, y, x + 12, y + 5), predicate="intersects")
        assert room.is_free(box) == (found.size == 0)
