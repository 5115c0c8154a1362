"""Steps that give several named results: worked out once, kept, fed on, shelved, written, and found where older studies had them."""

import json
import time

import numpy as np
import pytest

from moss_step.cli import main
from moss_step.formats.raster import read_surface
from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import read_shapes
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.steps.catalogue import catalogue, step_kind
from moss_step.study.engine import Engine
from moss_step.study.graph import KeyRow, Step, Study
from moss_step.study.record import lineage
from moss_step.study.saving import WITHOUT_PAGES, as_data, from_data, load_study, save_study
from moss_step.study.shelf import Shelf
from tests.cases import as_is, given_for
from tests.grounds import metric, relief

GROUND = metric(relief(21))


@pytest.fixture
def grid(tmp_path):
    write_surface(tmp_path / "g.tif", GROUND, "Ground")
    return tmp_path / "g.tif"


def study_of(grid, *steps: Step) -> Study:
    return Study(steps=(Step(id="g", kind="open_grid", settings={"source": str(grid)}), *steps))


def pond(**more: object) -> Step:
    kind = catalogue()["pond"]
    given = {n: v for n, v in given_for(kind, as_is(GROUND), GROUND).items() if n in ("line", "crest")}
    return Step(id="p", kind="pond", inputs={"dem": "g"}, settings=given, **more)


def test_every_run_gives_what_its_step_declares():
    from tests.cases import RESULTS, run

    for name in RESULTS:
        if "." in name:
            kind, _, result = name.partition(".")
            made, spec = run(name, GROUND, as_is(GROUND)), catalogue()[kind].result(result)
            assert made.figure and spec.title and spec.help.endswith("."), name
    with pytest.raises(AskedWronglyError, match="pond gives no 'curves'"):
        catalogue()["pond"].result("curves")


def test_one_run_gives_all_usual_results(grid):
    engine, study, began = Engine(), study_of(grid, pond()), []
    engine.run(study, ["p", "p.curve"], began=began.append)
    assert began == ["g", "p"]
    depth, curve = engine.outcome(study, "p"), engine.outcome(study, "p.curve")
    assert dict(curve.value.columns)["volume_m3"][-1] == pytest.approx(
        next(f.value for f in depth.findings if f.name == "volume_m3")
    )
    engine.run(study, ["p.curve"], began=began.append)
    assert began == ["g", "p"] and not depth.beside, (
        "nothing runs again, and nothing holds on to what it was made of"
    )


def test_a_result_that_is_seldom_wanted_is_worked_out_when_it_is_asked_for(grid):
    fill = Step(id="f", kind="fill_depressions", inputs={"dem": "g"})
    study = study_of(grid, fill)
    engine, began = Engine(), []
    engine.run(study, study.refs(asked=False), began=began.append)
    assert "f.change" not in study.refs(asked=False) and engine.state(study, "f.change") == "waiting"
    engine.run(study, ["f.change"], began=began.append)
    assert began == ["g", "f", "f"]
    filled, change = (engine.outcome(study, ref).value.values for ref in ("f", "f.change"))
    assert np.nanmax(np.abs(filled - GROUND.values - change)) < 1e-3 and np.nanmax(change) > 0
    fed = (
        study.adding(Step(id="a", kind="absolute", inputs={"surface": "f.change"}))
        if "absolute" in catalogue()
        else study
    )
    assert fed is study or "f.change" in fed.refs(asked=False)


def test_a_named_result_feeds_a_step_and_goes_with_its_own(grid):
    contours = Step(id="c", kind="slope", inputs={"dem": "f"})
    study = study_of(grid, Step(id="f", kind="breach", inputs={"dem": "g"}), contours, Step(id="k", kind="classify", inputs={"surface": "f.change"},
                     settings={"rules": "equal_interval"}))  # fmt: skip
    engine = Engine()
    made = engine.run_or_raise(study, "k")
    assert made.value.frame.shape == GROUND.frame.shape
    assert study.followers("f") == ["c", "k"] and [s.id for s in study.needs(["k"])] == ["g", "f", "k"]
    assert {s.id for s in study.removing("f").steps} == {"g"}
    assert "change" in study.name_of("f.change") and study.name_of("f.change").startswith(study.name_of("f"))
    named = study.renaming("f.change", "Cut by the channels")
    assert named.name_of("f.change") == "Cut by the channels" and named.name_of("f") == study.name_of("f")
    assert named.renaming("f.change", "") == study
    assert "from surface: Cut by the channels" in lineage(named, "k", engine)
    assert "- result change, change: " in lineage(study, "k", engine)


def test_a_result_that_fails_leaves_the_others(grid):
    """A horizon of single bearings is a chart, and no line."""
    at = [[GROUND.frame.x_of(20), GROUND.frame.y_of(18)]]
    settings = {"at": at, "bearings": 4, "bearing_from": 0.0, "bearing_to": 45.0}
    study, engine = (
        study_of(grid, Step(id="h", kind="horizon", inputs={"dem": "g"}, settings=settings)),
        Engine(),
    )
    engine.run(study, study.refs())
    assert engine.state(study, "h") == "done" and engine.state(study, "h.skyline") == "failed"
    assert "more bearings" in engine.failure(study, "h.skyline").reason and engine.failure(study, "h") is None


def test_when_the_step_fails_all_its_results_say_why(grid):
    study, engine = (
        study_of(grid, pond().model_copy(update={"settings": {"line": [0, 0, 1, 1], "crest": 1.0}})),
        Engine(),
    )
    engine.run(study, study.refs())
    assert engine.state(study, "p.curve") == "failed" and engine.failure(study, "p.curve") == engine.failure(
        study, "p"
    )
    with pytest.raises(MossError):
        engine.run_or_raise(study, "p.curve")


def test_results_beside_lie_on_the_shelf_too(grid, tmp_path, monkeypatch):
    monkeypatch.setattr("moss_step.study.engine.WORTH_SHELVING", -1.0)
    monkeypatch.setattr("moss_step.study.engine.SHELF_SPEED", 1e15)
    study, first = study_of(grid, pond()), Engine(shelf=Shelf(tmp_path / "shelf"))
    first.run(study, ["p", "p.curve"])
    end = time.monotonic() + 20
    while len(list((tmp_path / "shelf").glob("*.result"))) < 3 and time.monotonic() < end:
        time.sleep(0.02)
    first.close()
    again, began = Engine(shelf=Shelf(tmp_path / "shelf")), []
    again.run(study, ["p.curve"], began=began.append)
    assert (
        began == []
        and again.outcome(study, "p.curve").value.columns.keys()
        == first.outcome(study, "p.curve").value.columns.keys()
    )
    again.close()


OLDER = [
    ("pond_curve", {}, "pond", "curve"),
    ("sight_stretches", {}, "sight_line", "stretches"),
    ("horizon_line", {}, "horizon", "skyline"),
    ("fill_depressions", {"result": "change"}, "fill_depressions", "change"),
    ("breach", {"result": "change"}, "breach", "change"),
    ("streams", {"result": "nodes"}, "streams", "nodes"),
]


@pytest.mark.parametrize(
    ("old", "switch", "kind", "result"), OLDER, ids=lambda v: v if isinstance(v, str) else ""
)
def test_a_study_of_an_earlier_version_has_the_same_results(old, switch, kind, result, grid, tmp_path):
    """Written as version 1 wrote it: the Key, the name and what feeds on it go along, and the figures are those of the step run alone."""
    given = given_for(catalogue()[kind], as_is(GROUND), GROUND)
    data = {
        "moss_step_study": 1,
        "steps": [
            {"id": "g", "kind": "open_grid", "settings": {"source": "g.tif"}},
            {
                "id": "old",
                "kind": old,
                "inputs": {"dem": "g"},
                "settings": {**json.loads(json.dumps(given)), **switch},
                "name": "As it was",
            },
        ],
        "key": [{"step": "old", "opacity": 0.5}],
    }
    (tmp_path / "old.moss").write_text(json.dumps(data))
    study = load_study(tmp_path / "old.moss")
    ref = f"old.{result}"
    assert (
        study.step("old").kind == kind
        and study.name_of(ref) == "As it was"
        and study.key == (KeyRow(step=ref, opacity=0.5),)
    )
    made = Engine().run_or_raise(study, ref)
    from tests.cases import run

    expected = run(f"{kind}.{result}", GROUND, as_is(GROUND))
    assert made.figure == expected.figure and [f.value for f in made.findings] == pytest.approx(
        [f.value for f in expected.findings], nan_ok=True
    )
    save_study(study, tmp_path / "new.moss")
    assert load_study(tmp_path / "new.moss") == study and as_data(study)["moss_step_study"] == WITHOUT_PAGES


def test_an_older_switch_at_its_default_is_left_out_and_feeders_are_turned(tmp_path):
    data = {"moss_step_study": 1, "steps": [
        {"id": "g", "kind": "open_grid", "settings": {"source": "g.tif"}},
        {"id": "f", "kind": "fill_depressions", "inputs": {"dem": "g"}, "settings": {"result": "ground"}},
        {"id": "d", "kind": "fill_depressions", "inputs": {"dem": "g"}, "settings": {"result": "change"}},
        {"id": "c", "kind": "classify", "inputs": {"surface": "d"}, "settings": {"rules": "natural"}},
    ], "shading": {"ground": "d"}}  # fmt: skip
    study = from_data(data, tmp_path / "x.moss")
    assert (
        study.step("f").settings == {}
        and study.step("c").inputs == {"surface": "d.change"}
        and study.shading.ground == "d.change"
    )


def test_a_study_that_asks_for_a_result_that_there_is_not_is_damaged(tmp_path):
    steps = [
        {"id": "g", "kind": "open_grid", "settings": {"source": "g.tif"}},
        {"id": "s", "kind": "slope", "inputs": {"dem": "g.more"}},
    ]
    with pytest.raises(MossError, match="'g.more', which no step gives"):
        from_data({"moss_step_study": 2, "steps": steps}, tmp_path / "x.moss")


def test_an_older_kind_of_step_says_where_it_is_found():
    with pytest.raises(
        AskedWronglyError, match="'pond_curve' is a result of pond now. Run pond, with -o curve=FILE"
    ):
        step_kind("pond_curve")


def test_the_command_line_writes_each_result_that_is_named(grid, tmp_path, capsys):
    line = ",".join(f"{v:.2f}" for v in pond().settings["line"])
    words = ["do", "pond", f"dem={grid}", f"line={line}", f"crest={pond().settings['crest']}"]
    depth, curve = tmp_path / "d.tif", tmp_path / "c.csv"
    assert main([*words, "-o", str(depth), "-o", f"curve={curve}", "--json"]) == 0
    said = json.loads(capsys.readouterr().out)
    assert said["outputs"] == [str(depth), str(curve)]
    assert read_surface(depth)[0].valid_count > 0 and curve.read_text().startswith("stage,area_m2,volume_m3")
    names = [(f["name"], f.get("of", "")) for f in said["findings"]]
    assert len(set(names)) == len(names), "a number that two results say stands once"
    assert main([*words, "-o", f"curve={tmp_path / 'alone.csv'}"]) == 0
    assert (tmp_path / "alone.csv").read_text() == curve.read_text()
    for outs, wrong in ((["curves=x.csv"], "pond gives no 'curves'"), (["a.tif", "b.tif"], "goes to a.tif already"),
                        (["a.tif", "curve=a.tif"], "Two results would be one file"), (["curve=x.tif"], "cannot be written as 'x.tif'")):  # fmt: skip
        capsys.readouterr()
        assert main([*words, *(part for out in outs for part in ("-o", out))]) == 2
        assert wrong in capsys.readouterr().err


def test_a_whole_study_writes_its_usual_results(grid, tmp_path, capsys):
    save_study(
        study_of(
            grid, pond(), Step(id="s", kind="streams", inputs={"dem": "g"}, settings={"min_area": 2500.0})
        ),
        tmp_path / "w.moss",
    )
    assert main(["run", str(tmp_path / "w.moss"), "-o", str(tmp_path / "out")]) == 0
    names = sorted(p.name for p in (tmp_path / "out").iterdir())
    assert any(n.startswith("p_curve_") and n.endswith(".csv") for n in names) and not any(
        n.startswith("s_nodes") for n in names
    )
    lines = next(p for p in (tmp_path / "out").iterdir() if p.name.startswith("s_") and p.suffix == ".gpkg")
    assert len(read_shapes(lines)) > 0


def test_python_gives_results_by_name(tmp_path):
    import moss_step as ms

    made = ms.fill_depressions(GROUND)
    change = made["change"]
    assert np.nanmax(change.array) > 0 and change.name == f"{made.name}, change"
    assert change.save(tmp_path / "change.tif").exists()
    with pytest.raises(AskedWronglyError, match="has no result 'curve'"):
        made["curve"]
    assert "Beside it ['change']: a surface." in ms.fill_depressions.__doc__
