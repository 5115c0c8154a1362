import numpy as np
import pytest

from moss_step.model.errors import MossError, StoppedError
from moss_step.model.progress import Progress
from moss_step.steps.classes import ClassifySettings
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from tests.conftest import write_tif


@pytest.fixture
def study(hills_tif) -> Study:
    return Study(steps=(
        Step(id="g", kind="open_grid", settings={"source": str(hills_tif)}),
        Step(id="s", kind="slope", inputs={"dem": "g"}),
        Step(id="a", kind="aspect", inputs={"dem": "g"}),
        Step(id="c", kind="classify", inputs={"surface": "s"}, settings={"rules": "fao_slope"}),
    ))  # fmt: skip


def ran(engine: Engine, study: Study, targets=("c", "a")) -> list[str]:
    told: list[str] = []
    engine.run(study, targets, began=told.append)
    return told


def test_only_what_a_change_touches_runs_again(study):
    engine = Engine()
    assert ran(engine, study) == ["g", "s", "a", "c"]
    assert ran(engine, study) == []
    changed = study.changing("s", lambda s: s.model_copy(update={"settings": {"unit": "percent"}}))
    assert engine.state(changed, "s") == engine.state(changed, "c") == "waiting"
    assert engine.state(changed, "a") == "done"
    assert ran(engine, changed) == ["s", "c"]
    assert ran(engine, study) == [], "undo finds the old results"


def test_a_name_is_no_reason_to_run_again(study):
    engine = Engine()
    ran(engine, study)
    assert ran(engine, study.changing("s", lambda s: s.model_copy(update={"name": "Steepness"}))) == []


def test_other_content_of_the_source_is(study, hills_tif, hills):
    engine = Engine()
    ran(engine, study)
    before = engine.outcome(study, "s").value.values.copy()
    write_tif(hills_tif, hills * 2, unit="metre")
    assert ran(engine, study) == ["g", "s", "a", "c"]
    assert not np.array_equal(engine.outcome(study, "s").value.values, before)


def test_a_failed_step_keeps_its_reason_and_stops_what_follows(study):
    engine = Engine()
    wrong = study.changing("c", lambda s: s.model_copy(update={"inputs": {"surface": "a"}}))
    ran(engine, wrong)
    assert engine.state(wrong, "c") == "failed"
    assert "FAO slope classes need a slope" in engine.failure(wrong, "c").reason
    assert engine.state(wrong, "a") == "done"
    with pytest.raises(MossError, match="FAO slope classes need a slope"):
        engine.run_or_raise(wrong, "c")


def test_a_missing_source_is_told_apart(study, tmp_path):
    engine = Engine()
    lost = study.changing(
        "g", lambda s: s.model_copy(update={"settings": {"source": str(tmp_path / "lost.tif")}})
    )
    ran(engine, lost)
    assert engine.failure(lost, "g").missing_source.endswith("lost.tif")
    assert "has no result to work from" in engine.failure(lost, "s").reason


def test_a_fault_inside_shows_on_its_step(study, monkeypatch):
    monkeypatch.setattr(ClassifySettings, "rule_set", lambda *_: 1 / 0)
    engine = Engine()
    ran(engine, study)
    assert "went wrong inside Moss Step (ZeroDivisionError" in engine.failure(study, "c").reason


def test_stopping_keeps_what_was_done(study):
    engine, progress = Engine(), Progress()

    def told(step_id: str) -> None:
        if step_id == "a":
            progress.stop()

    with pytest.raises(StoppedError):
        engine.run(study, ["c", "a"], progress, told)
    assert engine.state(study, "s") == "done" and engine.state(study, "a") == "waiting"


def test_memory_is_kept_within_its_bound_but_never_under_a_run(study, hills):
    engine = Engine(most_bytes=int(hills.nbytes * 2.5))
    assert ran(engine, study) == ["g", "s", "a", "c"]
    kept = [o for i in "gsac" if (o := engine.outcome(study, i)) is not None]
    assert engine.outcome(study, "c") is not None
    assert sum(o.value.nbytes for o in kept) <= hills.nbytes * 2.5


def test_a_slope_cannot_be_the_ground(study):
    wrong = study.changing("a", lambda s: s.model_copy(update={"inputs": {"dem": "s"}}))
    engine = Engine()
    ran(engine, wrong)
    assert "dem must be elevation, and this is slope" in engine.failure(wrong, "a").reason
