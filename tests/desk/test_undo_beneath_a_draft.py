"""What is undone while a step is being made from it: the step goes with it, and the window stays whole."""

from moss_step.demo import DATA
from tests.desk.test_earth_jobs import person  # noqa: F401 - a fixture


def test_a_step_being_made_goes_when_what_it_is_made_from_is_undone(person, settle):  # noqa: F811
    window = person.window
    person.drop(DATA / "harrow_slip_before.tif", DATA / "harrow_slip_after.tif")
    window.begin_step("survey_change")
    settle(window)
    assert window.work.draft is not None
    while window.work.history.undo_text:
        window.work.undo()
        window.grab()
    settle(window)
    window.grab()
    assert window.work.draft is None and not window.work.study.steps
