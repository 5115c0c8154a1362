"""One snapshot a change: the parts of the window compare themselves with it, and ask the engine for little beside."""

from collections import Counter

import pytest

from moss_step.study.engine import Engine
from moss_step.study.graph import KeyRow

ASKED = ("key", "outcome", "said", "all_said", "away", "failure", "failures", "state")


@pytest.fixture
def asks(monkeypatch):
    """How often the window asks the engine, by question."""
    counted: Counter[str] = Counter()

    def counting(name):
        answer = getattr(Engine, name)

        def asked(*args, **kwargs):
            counted[name] += 1
            return answer(*args, **kwargs)

        return asked

    for name in ASKED:
        monkeypatch.setattr(Engine, name, counting(name))
    return counted


def test_a_change_of_how_a_result_is_drawn_asks_the_engine_little(demo, settle, asks):
    """It was 358 times for one change of the demo; what a question asks in turn is counted, too."""
    asks.clear()
    row = demo.work.study.key_row("classes") or KeyRow(step="classes")
    demo.work.do(demo.work.study.with_key_row(row.model_copy(update={"opacity": 0.5})), "Opacity")
    settle(demo)
    assert 0 < sum(asks.values()) < 180, asks


def test_all_that_is_shown_at_a_moment_is_of_one_snapshot(demo, settle):
    published = []
    demo.work.published.connect(lambda: published.append(demo.work.now))
    before = demo.work.now
    demo.work.choose("slope")
    assert demo.work.now is not before and demo.work.now is demo.work.now
    settle(demo)
    assert before.chosen_ref == "classes" and published[-1].chosen_ref == "slope", (
        "what was published is not altered"
    )
    assert demo.plan.view.scene is demo.work.now.scene


def test_a_burst_of_changes_is_published_once(demo, settle):
    published = []
    demo.work.published.connect(lambda: published.append(demo.work.study))
    for number in range(20):
        demo.work.rename("slope", f"Slope {number}")
    settle(demo)
    assert published[-1].name_of("slope") == "Slope 19" and len(published) < 8
