"""What follows the pointer over a large ground: the window goes on, the newest question counts, and what is late is not drawn over it."""

import threading
import time

import pytest

from moss_step.desk.follower import LARGE, Follower
from moss_step.model.errors import MossError


@pytest.fixture
def follower(qapp):
    made = Follower()
    yield made
    made.close()


def test_a_small_answer_is_there_at_once_and_a_large_one_does_not_hold_the_window(follower, qtbot):
    found, own = [], threading.current_thread()
    follower.ask(threading.current_thread, found.append, 10)
    assert found == [own]
    may_end = threading.Event()
    follower.ask(lambda: (may_end.wait(60.0), threading.current_thread())[1], found.append, LARGE + 1)
    assert found == [own] and follower.busy
    may_end.set()
    qtbot.waitUntil(lambda: len(found) == 2, timeout=60_000)
    assert found[1] is not own and not follower.busy


def test_of_many_questions_the_newest_is_answered(follower, qtbot):
    found, worked = [], []

    def work(k: int) -> int:
        worked.append(k)
        time.sleep(0.05)
        return k

    for k in range(30):
        follower.ask(lambda k=k: work(k), found.append, LARGE + 1)
    qtbot.waitUntil(lambda: not follower.busy, timeout=60_000)
    assert found[-1] == 29 and len(worked) <= 3 and found == sorted(found)


def test_a_small_answer_is_never_drawn_over_by_an_older_large_one(follower, qtbot):
    found = []
    follower.ask(lambda: (time.sleep(0.2), "old")[1], found.append, LARGE + 1)
    follower.ask(lambda: "new", found.append, 1)
    qtbot.waitUntil(lambda: not follower.busy, timeout=60_000)
    assert found[-1] == "new"


def test_nothing_is_drawn_after_the_pointer_left(follower, qtbot):
    found = []
    follower.ask(lambda: time.sleep(0.1), found.append, LARGE + 1)
    follower.drop()
    qtbot.waitUntil(lambda: not follower.busy, timeout=60_000)
    qtbot.wait(50)
    assert found == []


@pytest.mark.parametrize("cells", [1, LARGE + 1])
@pytest.mark.parametrize("fault", [MossError("no ground"), MemoryError(), ValueError("x")])
def test_a_fault_is_an_answer_in_words(follower, qtbot, cells, fault):
    found = []

    def work() -> None:
        raise fault

    follower.ask(work, found.append, cells)
    qtbot.waitUntil(lambda: len(found) == 1, timeout=60_000)
    assert isinstance(found[0], MossError)


def test_the_catchment_of_the_pointer_on_a_large_ground_is_drawn_when_it_is_there(
    window, settle, monkeypatch, hills_tif
):
    from moss_step.desk import follower as module

    monkeypatch.setattr(module, "LARGE", 0)
    window.files.open_path(hills_tif)
    settle(window)
    window.begin_step("catchment")
    settle(window)
    panel, (xmin, ymin, xmax, ymax) = window.benches["water"].panel, window.work.frame.box
    for _ in range(2):  # the ground is prepared at the first
        panel.follow(((xmin + xmax) / 2, (ymin + ymax) / 2))
        settle(window)
    assert "drain to the pointer" in panel.said.text() and window.plan.view.live.veil is not None
    panel.follow(None)
    settle(window)
    assert window.plan.view.live is None or window.plan.view.live.veil is None
