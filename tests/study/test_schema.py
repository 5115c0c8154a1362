"""The form of a study file: its JSON schema (draft 2020-12, checked by the library jsonschema), and what is said of typos."""

import json
from pathlib import Path

import jsonschema
import pytest
from hypothesis import given
from hypothesis import strategies as st

from moss_step.cli import main
from moss_step.demo import DATA
from moss_step.model.errors import MossError
from moss_step.steps.catalogue import catalogue
from moss_step.study.graph import KeyRow, Step, Study
from moss_step.study.saving import as_data, load_study, save_study
from moss_step.study.schema import schema
from tests.cases import KINDS, as_is, given_for
from tests.conftest import surface
from tests.steps.test_any_ground import PLAIN

FORM = jsonschema.Draft202012Validator(schema())
DOCS = Path(__file__).parent.parent.parent / "docs"


def wrong(data):
    return [e.message[:200] for e in FORM.iter_errors(data)]


def test_it_is_a_schema_and_the_one_that_is_shipped():
    jsonschema.Draft202012Validator.check_schema(schema())
    assert json.loads((DOCS / "study.schema.json").read_text()) == json.loads(json.dumps(schema())), (
        "run tools/from_catalogue.py"
    )


def test_the_demo_meets_it():
    assert wrong(json.loads((DATA / "harrow_moss.moss").read_text())) == []


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_every_step_that_is_written_meets_it(kind, tmp_path):
    ground = surface(PLAIN)
    declared = KINDS[kind]
    inputs = {i.name: "g" for i in declared.inputs if not i.optional}
    if declared.further is not None:
        inputs |= {"a": "g", "b": "g"}
    source = Step(id="g", kind="open_grid", settings={"source": "g.tif"})
    step = Step(
        id="s",
        kind=kind,
        inputs=inputs,
        settings=json.loads(json.dumps(given_for(declared, as_is(ground), ground))),
    )
    study = Study(steps=(source, step), key=(KeyRow(step="s"),), pins=((1.0, 2.0),), length_unit="foot")
    assert wrong(json.loads(json.dumps(as_data(study)))) == []


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"kind": "slop"}, "Did you mean slope?"),
        ({"inputs": {"dme": "g"}}, "Did you mean dem?"),
        ({"inputs": {"dem": "gg"}}, "works from 'gg', which no step gives"),
        ({"settings": {"unti": "percent"}}, "Did you mean unit?"),
        ({"settings": {"unit": "persent"}}, "'persent' is not possible"),
        ({"nmae": "Slope"}, "Did you mean name?"),
    ],
)
def test_a_typo_is_refused_by_schema_and_program_and_the_nearest_named(tmp_path, capsys, change, said):
    steps = [
        {"id": "g", "kind": "open_grid", "settings": {"source": "g.tif"}},
        {"id": "s", "kind": "slope", "inputs": {"dem": "g"}} | change,
    ]
    data = {"moss_step_study": 2, "steps": steps}
    if "gg" not in json.dumps(change):
        assert wrong(data)
    file = tmp_path / "typo.moss"
    file.write_text(json.dumps(data))
    with pytest.raises(MossError) as caught:
        load_study(file)
    assert said in str(caught.value)
    assert main(["check", str(file)]) == 2
    assert said in capsys.readouterr().out


def test_a_study_written_by_hand_needs_no_version(tmp_path, capsys, hills_tif):
    file = tmp_path / "mine.moss"
    steps = [
        {"id": "g", "kind": "open_grid", "settings": {"source": str(hills_tif)}},
        {"id": "s", "kind": "slope", "inputs": {"dem": "g"}},
    ]
    file.write_text(json.dumps({"steps": steps}))
    assert [s.id for s in load_study(file).steps] == ["g", "s"]
    assert main(["check", str(file)]) == 0 and "2 steps, in order" in capsys.readouterr().out
    hills_tif.unlink()
    assert main(["check", str(file)]) == 2 and "was not found" in capsys.readouterr().out


def test_the_schema_is_printed(capsys):
    assert main(["schema"]) == 0
    assert json.loads(capsys.readouterr().out) == json.loads(json.dumps(schema()))


rows = st.builds(
    KeyRow,
    step=st.just("g"),
    opacity=st.floats(0, 1),
    cut=st.floats(0, 49),
    count=st.integers(2, 24),
    hidden=st.lists(st.integers(0, 9), max_size=3).map(tuple),
)


@given(key=st.lists(rows, max_size=3), name=st.text(st.characters(exclude_categories=["Cs"]), max_size=20))
def test_whatever_is_saved_meets_it_and_comes_back(tmp_path_factory, key, name):
    study = Study(
        name=name, steps=(Step(id="g", kind="open_grid", settings={"source": "/a/g.tif"}),), key=tuple(key)
    )
    file = tmp_path_factory.mktemp("s") / "a.moss"
    save_study(study, file)
    assert wrong(json.loads(file.read_text())) == []
    assert load_study(file) == study


def test_each_kind_has_a_part_of_its_own():
    assert {f"step_{kind}" for kind in catalogue()} <= set(schema()["$defs"])
