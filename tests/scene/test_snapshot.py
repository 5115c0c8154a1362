"""A moment of the work without a window: states, surfaces and what is drawn come from it alone."""

from moss_step.model.progress import silent
from moss_step.scene.pictures import prepared_picture
from moss_step.scene.snapshot import Snapshot, drawable
from moss_step.study.draft import DRAFT, Draft
from moss_step.study.engine import Engine, Failure
from moss_step.study.graph import KeyRow, Shading, Step, Study


def test_a_snapshot_says_states_and_draws_without_asking(hills_tif):
    ground = Step(id="g", kind="open_grid", settings={"source": str(hills_tif)})
    slope = Step(id="s", kind="slope", inputs={"dem": "g"})
    study = Study(
        steps=(ground, slope, Step(id="w", kind="aspect", inputs={"dem": "g"})),
        key=(KeyRow(step="s"),),
        shading=Shading(ground="g"),
    )
    engine = Engine()
    engine.run(study, ["g", "s"], silent())
    said = {ref: s for ref, s in engine.all_said(study).items() if s is not None}
    pictures = {ref: prepared_picture(engine.outcome(study, ref).value) for ref in drawable(study, "s", None)}
    frame = engine.outcome(study, "g").value.frame
    now = Snapshot(
        study, study, None, "s", frame, said, {"w": Failure("it cannot", "it cannot")}, frozenset(), pictures
    )
    assert now.states == {"g": "done", "s": "done", "w": "failed"}
    assert now.surfaces() == ["g", "s"] and now.surfaces("slope") == ["s"]
    assert [la.step for la in now.scene.layers] == ["s"] and now.scene is now.scene
    assert now.scene.ground is pictures["g"].surface
    running = Snapshot(study, study, None, "", None, said, {}, frozenset({"s"}))
    assert running.state("s") == "running" and running.state("w") == "waiting" and running.scene.layers == ()


def test_what_may_be_drawn_holds_the_draft_and_what_it_works_from():
    study = Study(
        steps=(Step(id="g", kind="open_grid"), Step(id="p", kind="pond", inputs={"dem": "g"})),
        key=(KeyRow(step="g"),),
    )
    draft = Draft(Step(id=DRAFT, kind="sight_line", inputs={"dem": "g"}))
    assert drawable(study, "p", draft) == {"g", "p", "p.curve", DRAFT, f"{DRAFT}.stretches"}
    assert drawable(study, "gone", None) == {"g"}
